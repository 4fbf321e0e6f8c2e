//! What only a terminal shows: progress, questions before what cannot be undone, a passphrase that may be typed again.

use crate::{lab, sandbox};
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::terminal;

/// Lines of a terminal with the codes that draw over them taken out, so that each state of a line stands by itself.
fn drawn(seen: &str) -> String {
    let mut out = String::new();
    let mut rest = seen.chars();
    while let Some(c) = rest.next() {
        match c {
            '\u{1b}' => {
                // CSI: parameters, then one letter.
                if rest.next() == Some('[') {
                    rest.by_ref().find(|c| c.is_ascii_alphabetic());
                    out.push('\n');
                }
            }
            '\r' => out.push('\n'),
            c => out.push(c),
        }
    }
    out
}

#[test]
fn an_rsa_key_is_seen_while_it_is_made_and_not_in_a_pipe() {
    let s = lab();
    let words = ["issue", "gauge-7.saltmarsh.test", "--key-algorithm", "rsa4096"];
    let ran = terminal::run(s.command(&words), &[]);
    assert_eq!(ran.code, 0, "{}", ran.seen);
    assert!(drawn(&ran.seen).contains("making an rsa4096 key"), "{:?}", ran.seen);
    let piped = s.run(&["issue", "gauge-8.saltmarsh.test", "--key-algorithm", "rsa2048"]).expect(0);
    assert_eq!(piped.err, "");
    let quiet =
        terminal::run(s.command(&["issue", "gauge-9.saltmarsh.test", "--key-algorithm", "rsa2048", "--quiet"]), &[]);
    assert_eq!(drawn(&quiet.seen).trim(), "");
}

#[test]
fn a_batch_counts_in_whole_numbers() {
    let s = lab();
    let list: String = (0..40).map(|n| format!("b{n}.saltmarsh.test\n")).collect();
    std::fs::write(s.lab("hosts.txt"), list).unwrap();
    let ran = terminal::run(s.command(&["issue", "--list", "hosts.txt"]), &[]);
    let seen = drawn(&ran.seen);
    assert!(seen.contains("issuing") && seen.contains(" of 40"), "{seen}");
    let counts: Vec<&str> = seen.lines().filter(|l| l.contains(" of 40")).collect();
    assert!(counts.iter().all(|l| !l.contains('.')), "{counts:?}");
}

#[test]
fn the_table_of_setup_fills_as_clients_answer() {
    if !has(&["curl", "chromium"]) {
        return;
    }
    let s = sandbox();
    let ran = terminal::run(s.command(&["setup", "charts.saltmarsh.test", "--stores", "chromium"]), &[]);
    assert_eq!(ran.code, 0, "{}", ran.seen);
    let seen = drawn(&ran.seen);
    assert!(seen.contains("asking the clients installed here"), "{seen}");
    // Curl has answered while Chromium has not: its row says so above Chromium's, which is still empty.
    let words = seen.split_whitespace().collect::<Vec<_>>().join(" ");
    let waiting = |spinner: &str| words.contains(&format!("curl refuses {spinner} chromium "));
    assert!(["|", "/", "-", "\\"].into_iter().any(waiting), "{words}");
    // What stays on the screen begins with the answer.
    let last = seen.rfind("asking the clients").unwrap();
    assert!(seen[last..].contains("Chromium opens https://charts.saltmarsh.test without a warning."), "{seen}");
}

#[test]
fn what_cannot_be_undone_is_asked_and_without_a_terminal_needs_yes() {
    let s = lab();
    let revoke = ["revoke", "charts", "--reason", "superseded"];
    let answer = s.json(&revoke).expect(2).json();
    assert_eq!(answer["error"]["code"], "confirmation-needed");
    assert!(answer["error"]["remedy"].as_str().unwrap().contains("--yes"));
    let no = terminal::run(s.command(&revoke), &[("it cannot be undone? [y/N]", "n\n")]);
    assert!(no.code == 3 && no.seen.contains("declined"), "{}", no.seen);
    assert_eq!(s.json(&["list", "charts"]).json()["certificates"][0]["state"], "valid");
    let yes = terminal::run(s.command(&revoke), &[("it cannot be undone? [y/N]", "y\n")]);
    assert_eq!(yes.code, 0, "{}", yes.seen);
    for words in [
        &["authority", "retire", "saltmarsh"][..],
        &["authority", "retire", "saltmarsh", "--discard-key"],
        &["authority", "passphrase", "saltmarsh", "--remove"],
    ] {
        s.run(words).expect(2);
    }
    s.run(&["authority", "retire", "saltmarsh", "--yes"]).expect(0);
    // Nothing is left to be done: nothing is asked.
    assert!(s.run(&["authority", "retire", "saltmarsh"]).expect(0).out.contains("was retired already"));
}

fn locked() -> Sandbox {
    let s = sandbox();
    std::fs::write(s.lab("pass"), "three tides and a gauge\n").unwrap();
    s.run(&["authority", "create", "saltmarsh", "--new-passphrase-file", "pass"]).expect(0);
    s
}

#[test]
fn a_wrong_passphrase_may_be_typed_twice_more() {
    let s = locked();
    let ask = "passphrase of the key of saltmarsh: ";
    let issue = ["issue", "charts.saltmarsh.test"];
    let ran = terminal::run(s.command(&issue), &[(ask, "wrong\n"), (ask, "wrong again\n"), (ask, "wrong too\n")]);
    assert!(ran.code == 3 && ran.seen.matches("is wrong").count() >= 3, "{}", ran.seen);
    assert!(!ran.seen.contains("wrong again"), "never echoed: {}", ran.seen);
    let ran = terminal::run(s.command(&issue), &[(ask, "wrong\n"), (ask, "three tides and a gauge\n")]);
    assert_eq!(ran.code, 0, "{}", ran.seen);
    // One that was named is not asked for again.
    std::fs::write(s.lab("other"), "another\n").unwrap();
    s.run(&["issue", "archive.saltmarsh.test", "--passphrase-file", "other"]).expect(3);
}

/// What is typed after a wrong passphrase is not a command of the shell.
#[test]
fn the_rest_of_what_was_typed_never_reaches_the_shell() {
    if !has(&["bash"]) {
        return;
    }
    let s = locked();
    let mut shell = s.around("bash");
    shell.args(["--noprofile", "--norc", "-i"]).env("PS1", "ready> ").env("TERM", "dumb");
    let ask = "passphrase of the key of saltmarsh: ";
    let seen = terminal::run(
        shell,
        &[
            ("ready> ", "tamga issue charts.saltmarsh.test\n"),
            (ask, "one\n"),
            (ask, "two\n"),
            (ask, "three\ntouch typed-ahead\n"),
            ("ready> ", "echo at the pro''mpt\n"),
            ("at the prompt", "exit\n"),
        ],
    );
    assert!(!s.lab("typed-ahead").exists(), "{}", seen.seen);
}

#[test]
fn an_address_is_a_link_where_the_terminal_has_links() {
    let s = sandbox().without_clients();
    let setup = ["setup", "charts.saltmarsh.test", "--stores", "bundle", "--bundle", "roots.pem"];
    s.run(&setup).expect(0);
    let check = ["check", "charts.saltmarsh.test"];
    let link = "\u{1b}]8;;https://charts.saltmarsh.test\u{1b}\\";
    let mut with = s.command(&check);
    with.env("FORCE_HYPERLINK", "1");
    assert!(terminal::run(with, &[]).seen.contains(link));
    assert!(!terminal::run(s.command(&check), &[]).seen.contains("\u{1b}]8"));
    assert!(!s.run(&check).out.contains('\u{1b}'), "never in a pipe");
}

#[test]
fn apply_a_check_and_the_demonstration_say_what_they_are_doing() {
    let s = lab();
    let file = "[[certificate]]\nnames = [\"gauge-7.saltmarsh.test\"]\nkey_algorithm = \"rsa4096\"\n";
    std::fs::write(s.lab("tamga.toml"), file).unwrap();
    let seen = drawn(&terminal::run(s.command(&["apply"]), &[]).seen);
    let at = |what: &str| seen.find(what).unwrap_or_else(|| panic!("{what}: {seen}"));
    assert!(at("certificates") < at("making an rsa4096 key") && at("making an rsa4096 key") < at("issued"));
    if !has(&["curl"]) {
        return;
    }
    let check = ["check", "localhost", "--observe", "--clients", "curl", "--resolve", "localhost=127.0.0.1"];
    let site = tamga_testkit::site::of_files(&s.lab("charts"));
    let target = format!("https://localhost:{site}");
    let check: Vec<&str> = check.iter().map(|w| if *w == "localhost" { target.as_str() } else { w }).collect();
    assert!(drawn(&terminal::run(s.command(&check), &[]).seen).contains("asking the clients installed here"));
    let demo = drawn(&terminal::run(sandbox().command(&["demo"]), &[]).seen);
    assert!(demo.contains("working") && demo.contains("asking the clients installed here"), "{demo}");
}
