//! The interface as it is written: exit codes, three lines, JSON, dry runs, harmless text.

use crate::{lab, sandbox};

#[test]
fn failures_are_three_lines_or_one_object() {
    let s = sandbox();
    let ran = s.run(&["issue", "*.test"]).expect(3);
    let lines: Vec<&str> = ran.err.lines().collect();
    assert_eq!(lines.len(), 3, "{}", ran.err);
    assert!(lines[0].starts_with("tamga: ") && lines[1].contains("why:") && lines[2].contains("do:"));
    let v = s.json(&["issue", "*.test"]).expect(3).json();
    assert_eq!((v["tamga"].as_i64(), v["command"].as_str(), v["ok"].as_bool()), (Some(1), Some("issue"), Some(false)));
    assert_eq!(v["error"]["code"], "name-refused");
}

#[test]
fn usage_is_two_and_json_says_so_too() {
    let s = sandbox();
    for words in [&["frobnicate"][..], &["issue"], &["check"], &["issue", "x.test", "--scope", "user"], &["trust"]] {
        s.run(words).expect(2);
    }
    assert_eq!(s.json(&["issue"]).expect(2).json()["error"]["code"], "usage");
    s.run(&["issue", "x.test", "--key-algorithm", "rsa512"]).expect(2);
    s.run(&["check", "localhost:0"]).expect(2);
}

#[test]
fn nothing_typed_makes_a_panic() {
    let s = lab();
    for odd in [
        "\u{202e}x",
        "a\u{1b}[31m.test",
        "::::",
        "[",
        "]",
        "https://",
        "https://[::1",
        "x:99999",
        "%",
        "🦀.test",
        "-",
        "",
    ] {
        for words in [&["issue", "--", odd][..], &["check", "--", odd], &["show", "--", odd], &["explain", "--", odd]] {
            let ran = s.run(words);
            assert!((0..=5).contains(&ran.code), "{words:?} ended with {}: {}", ran.code, ran.err);
            assert!(
                !ran.err.contains('\u{1b}') && !ran.err.contains('\u{202e}'),
                "{words:?} showed a control character"
            );
        }
    }
}

#[test]
fn a_dry_run_changes_nothing() {
    let s = sandbox();
    for words in [&["authority", "create", "saltmarsh"][..], &["setup", "charts.saltmarsh.test"], &["leave"]] {
        let ran = s.run(&[words, &["--dry-run"]].concat()).expect(0);
        assert!(!s.path("data").exists(), "{words:?}: {}", ran.out);
    }
    let s = lab();
    let before = (s.files("lab"), s.files("root"), s.files("home"));
    s.run(&["issue", "archive.saltmarsh.test", "--dry-run"]).expect(0);
    s.run(&["trust", "add", "--scope", "both", "--dry-run"]).expect(0);
    s.run(&["leave", "--dry-run", "--yes"]).expect(0);
    assert_eq!((s.files("lab"), s.files("root"), s.files("home")), before);
}

#[test]
fn list_show_and_explain_tell_what_there_is() {
    let s = lab();
    let listed = s.json(&["list"]).expect(0).json();
    let first = &listed["certificates"][0];
    assert_eq!((first["label"].as_str(), first["state"].as_str()), (Some("charts"), Some("valid")));
    assert!((396..=397).contains(&first["days_left"].as_i64().unwrap()));
    let sha = first["sha256"].as_str().unwrap().to_uppercase();
    let spaced: Vec<String> = sha.as_bytes().chunks(2).map(|c| String::from_utf8_lossy(c).into_owned()).collect();
    for spelling in [
        sha.clone(),
        spaced.join(":"),
        format!("\u{200e}{}", spaced.join(" ")),
        first["serial"].as_str().unwrap().into(),
    ] {
        let shown = s.json(&["show", &spelling]).expect(0).json();
        assert_eq!(shown["objects"][0]["label"], "charts", "{spelling}");
    }
    assert_eq!(s.json(&["show", "saltmarsh"]).expect(0).json()["objects"][0]["kind"], "authority");
    assert_eq!(s.json(&["show", "charts/certificate.pem"]).expect(0).json()["objects"][0]["kind"], "certificate");
    s.run(&["show", "nothing-of-that-name"]).expect(3);
    let all = s.json(&["explain"]).expect(0).json();
    for f in all["findings"].as_array().unwrap() {
        let one = s.run(&["explain", f["code"].as_str().unwrap()]).expect(0);
        assert!(one.out.contains("fix it by hand"));
    }
    assert!(s.run(&["explain", "issuer-unknown"]).expect(0).out.contains("net::ERR_CERT_AUTHORITY_INVALID"));
    s.run(&["explain", "no-such-code"]).expect(2);
}

#[test]
fn no_key_is_ever_printed() {
    let s = lab();
    let key = std::fs::read_to_string(s.lab("charts/private-key.pem")).unwrap();
    let secret = key.lines().nth(1).unwrap();
    for words in [
        &["show", "charts/private-key.pem"][..],
        &["show", "charts"],
        &["list"],
        &["check", "charts"],
        &["show", "charts"],
    ] {
        for ran in [s.run(words), s.json(words), s.run(&[words, &["--verbose"]].concat())] {
            assert!(!ran.out.contains(secret) && !ran.err.contains(secret), "{words:?}");
        }
    }
    let ledger = std::fs::read(s.path("data/ledger.sqlite-wal")).unwrap();
    assert!(!ledger.windows(11).any(|w| w == b"PRIVATE KEY"));
}

#[test]
fn the_findings_page_is_what_explain_says() {
    let page = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/findings.md");
    let made = sandbox().run(&["explain", "--markdown"]).expect(0).out;
    assert_eq!(std::fs::read_to_string(page).unwrap(), made, "run: just docs");
}

/// Every command with its words, as the help lists them.
pub(crate) fn commands() -> Vec<String> {
    let s = sandbox();
    let list = s.run(&["--help"]).expect(0).out;
    // The groups are in a column of their own.
    let rows = list.split("\n\n").nth(2).unwrap().lines();
    let names: Vec<String> = rows.filter_map(|l| l.get(14..)?.split_whitespace().next().map(str::to_owned)).collect();
    let below = |name: &String| -> Vec<String> {
        let list = s.run(&[name.as_str(), "--help"]).expect(0).out;
        let Some(list) = list.split("Commands:\n").nth(1) else { return vec![name.clone()] };
        let rows = list.split("\n\n").next().unwrap().lines().filter(|l| !l.starts_with("   "));
        let names = rows.filter_map(|l| l.split_whitespace().next()).filter(|n| *n != "help");
        names.map(|n| format!("{name} {n}")).collect()
    };
    names.iter().flat_map(below).collect()
}

/// Every command's help begins with what the list of commands says of it, and no option is without words.
#[test]
fn every_command_and_option_says_what_it_is_for() {
    let s = sandbox();
    let squeezed = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
    let mut seen = 0;
    for above in ["", "authority", "trust", "hosts", "enrollment", "ledger"] {
        let words = |more: &[&str]| -> Vec<String> {
            above.split_whitespace().chain(more.iter().copied()).map(str::to_owned).collect()
        };
        let help = |more: &[&str]| s.run(&words(more).iter().map(String::as_str).collect::<Vec<_>>()).expect(0).out;
        let list = help(&["--help"]);
        let commands = match above {
            // The groups are in a column of their own.
            "" => {
                let rows = list.split("\n\n").nth(2).unwrap().lines();
                rows.map(|l| l.chars().skip(14).collect::<String>() + "\n").collect::<String>()
            }
            _ => list.split("Commands:\n").nth(1).unwrap().split("\n\n").next().unwrap().to_owned(),
        };
        let names = commands.lines().filter(|l| !l.starts_with("   ")).filter_map(|l| l.split_whitespace().next());
        for name in names.filter(|n| *n != "help") {
            let own = help(&[name, "--help"]);
            let about = squeezed(own.split("\n\n").next().unwrap());
            assert!(squeezed(&commands).contains(&format!("{name} {about}")), "{above} {name}: {about}");
            let mut lines = own.lines().peekable();
            while let Some(line) = lines.next() {
                let option = line.trim_start();
                if line.len() - option.len() < 8 && option.starts_with('-') {
                    let below = lines.peek().is_some_and(|l| l.starts_with("           "));
                    assert!(option.contains("  ") || below, "{above} {name} {option} has no words");
                }
            }
            seen += 1;
        }
    }
    assert!(seen > 30, "{seen} commands");
}

#[test]
fn the_hidden_child_answers_nonsense_with_a_fault_and_without_a_panic() {
    use std::io::Write;
    use std::process::Stdio;
    let s = lab();
    for nonsense in ["", "{}", "not JSON", "{\"folder\":1}", "[]"] {
        let mut c = s.command(&["nss-child"]);
        let mut child = c.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(nonsense.as_bytes()).unwrap();
        let out = child.wait_with_output().unwrap();
        assert_eq!(out.status.code(), Some(70), "{nonsense}");
        assert!(out.stdout.is_empty() && !String::from_utf8_lossy(&out.stderr).contains("panicked"), "{nonsense}");
    }
}

#[test]
fn every_command_of_the_guide_is_one() {
    let guide = crate::guide::pages();
    let s = sandbox();
    let help = s.run(&["--help"]).expect(0).out;
    let mut seen = 0;
    for line in guide.lines().filter_map(|l| l.strip_prefix("    ")) {
        let line = line.trim_start_matches("sudo ").trim_start_matches("eval \"$(");
        let Some(rest) = line.strip_prefix("tamga ") else { continue };
        let words: Vec<&str> = rest.split([' ', ')', '"']).filter(|w| !w.is_empty()).collect();
        assert!(help.contains(&format!("  {}", words[0])), "{line}");
        // Every option that it uses is in that command's help.
        let below = ["authority", "trust", "identity", "hosts", "enrollment", "ledger"].contains(&words[0]);
        let command: Vec<&str> = words.iter().copied().take(if below { 2 } else { 1 }).chain(["--help"]).collect();
        let reply = s.run(&command).expect(0).out;
        for option in words.iter().take_while(|w| **w != "--").filter(|w| w.starts_with("--")) {
            let name = option.split('=').next().unwrap();
            assert!(reply.contains(name), "{line}: {name}");
        }
        seen += 1;
    }
    assert!(seen > 60, "only {seen} were read");
}
