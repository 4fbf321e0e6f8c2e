//! Steps that a person takes by mistake, or twice: each is answered with what is there and what to type instead.

use crate::{lab, sandbox};
use tamga_testkit::sandbox::{Sandbox, has};

/// The codes of a status's problems.
fn problems(s: &Sandbox, code: i32) -> Vec<(String, String, String)> {
    let v = s.json(&["status"]).expect(code).json();
    let text = |p: &serde_json::Value, member: &str| p[member].as_str().unwrap_or_default().to_owned();
    let all = v["problems"].as_array().unwrap();
    all.iter().map(|p| (text(p, "code"), text(p, "about"), text(p, "remedy"))).collect()
}

fn has_problem(s: &Sandbox, code: &str, about: &str, remedy: &str) {
    let all = problems(s, 1);
    let found = all.iter().any(|(c, a, r)| c == code && a == about && r.contains(remedy));
    assert!(found, "{code} about {about}: {all:?}");
}

#[test]
fn the_status_has_what_was_revoked_retired_or_never_trusted() {
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh", "--permit", "saltmarsh.test"]).expect(0);
    has_problem(&s, "root-in-no-store", "saltmarsh", "tamga trust add saltmarsh");
    s.run(&["trust", "add", "saltmarsh", "--stores", "bundle", "--bundle", "b.pem"]).expect(0);
    assert_eq!(problems(&s, 0), [], "a bundle is a store too");
    s.run(&["issue", "charts.saltmarsh.test"]).expect(0);
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    s.run(&["revoke", "charts.saltmarsh.test", "--reason", "superseded", "--yes"]).expect(0);
    has_problem(&s, "revocation-unpublished", "saltmarsh", "tamga authority crl saltmarsh");
    let v = s.json(&["status"]).expect(1).json();
    let all = v["certificates"].as_array().unwrap();
    let revoked = all.iter().find(|c| c["label"] == "charts.saltmarsh.test").unwrap();
    assert_eq!(revoked["state"], "revoked");
    assert_eq!(v["authorities"][0]["crl_next_update"], serde_json::Value::Null);
    s.run(&["authority", "crl", "saltmarsh", "--output", "list.crl", "--valid-for", "40d"]).expect(0);
    assert_eq!(problems(&s, 0), []);
    let due = s.json(&["status"]).expect(0).json()["authorities"][0]["crl_next_update"].as_str().unwrap().to_owned();
    assert!(due.ends_with('Z'), "{due}");
    // A list in the last quarter of its life is due.
    let v = s.json(&["status", "--at", &due]).expect(1).json();
    assert_eq!(v["problems"][0]["code"], "crl-due", "{v}");
}

#[test]
fn a_retired_issuer_and_a_waiting_intermediate_get_the_command_that_helps() {
    let s = lab();
    s.run(&["authority", "create", "harbour"]).expect(0);
    s.run(&["authority", "request", "web", "--permit", "saltmarsh.test"]).expect(0);
    s.run(&["authority", "retire", "saltmarsh", "--yes"]).expect(0);
    has_problem(&s, "issuer-retired", "charts", "tamga renew charts --issuer harbour");
    has_problem(&s, "", "web", "tamga authority receive web --certificate FILE");
}

#[test]
fn a_request_that_was_made_here_is_signed_where_its_key_waits() {
    let s = lab();
    s.run(&["request", "gauge-7.saltmarsh.test"]).expect(0);
    let request = "gauge-7.saltmarsh.test/request.pem";
    let signed = s.json(&["sign", request]).expect(0).json();
    let files = &signed["certificates"][0]["files"];
    assert!(files["private_key"].as_str().unwrap().ends_with("gauge-7.saltmarsh.test/private-key.pem"));
    assert!(!s.lab(request).exists(), "it is answered");
    let certificate = "gauge-7.saltmarsh.test/certificate.pem";
    let again = s.run(&["receive", "gauge-7.saltmarsh.test", "--certificate", certificate]).expect(0);
    assert!(again.out.contains("nothing to do"), "{}", again.out);
    s.json(&["receive", "gauge-7.saltmarsh.test", "--certificate", certificate]).expect(0).json();
    // It is one certificate of the authority: it can be revoked and renewed.
    s.run(&["renew", "gauge-7.saltmarsh.test"]).expect(0);
    s.run(&["revoke", "gauge-7.saltmarsh.test", "--reason", "superseded", "--yes"]).expect(0);
    // Asked for elsewhere it is written there, and brought back by receive.
    for (n, more) in [&["--into", "back"][..], &["--label", "other"]].into_iter().enumerate() {
        let label = format!("gauge-1{n}.saltmarsh.test");
        s.run(&["request", &label]).expect(0);
        let signed = s.json(&[&["sign", &format!("{label}/request.pem")], more].concat()).expect(0).json();
        let file = signed["certificates"][0]["files"]["certificate"].as_str().unwrap().to_owned();
        s.run(&["receive", &label, "--certificate", &file]).expect(0);
        assert!(s.lab(&format!("{label}/certificate.pem")).exists());
        let all = s.json(&["list", &label]).expect(0).json();
        assert_eq!(all["certificates"].as_array().unwrap().len(), 1, "{all}");
        s.run(&["renew", &label]).expect(0);
    }
    // Signed in a second data directory and brought back, as between two machines.
    s.run(&["request", "gauge-8.saltmarsh.test"]).expect(0);
    s.run(&["--data-dir", "other", "authority", "create", "other"]).expect(0);
    s.run(&["--data-dir", "other", "sign", "gauge-8.saltmarsh.test/request.pem", "--into", "signed"]).expect(0);
    s.run(&["receive", "gauge-8.saltmarsh.test", "--certificate", "signed/certificate.pem"]).expect(0);
}

#[test]
fn a_web_address_becomes_its_host_and_a_kind_in_front_is_understood() {
    let s = lab();
    let ran = s.run(&["issue", "http://localhost:3000", "--label", "front"]).expect(0);
    assert!(ran.err.contains("using its host localhost"), "{}", ran.err);
    let names = |label: &str| s.json(&["show", label]).expect(0).json()["objects"][0]["names"].clone();
    assert_eq!(names("front").to_string(), "[\"localhost\"]");
    s.run(&["issue", "DNS:archive.saltmarsh.test", "IP:192.168.7.7", "email:lab@saltmarsh.test", "--label", "typed"])
        .expect(0);
    let typed = names("typed").to_string();
    assert!(typed.contains("archive.saltmarsh.test") && typed.contains("192.168.7.7"), "{typed}");
    s.run(&["issue", "IP:archive.saltmarsh.test"]).expect(3);
}

#[test]
fn a_second_time_says_what_is_there_and_how_to_change_it() {
    let s = lab();
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    let again = s.run(&["issue", "archive.saltmarsh.test"]).expect(3).err;
    assert!(
        again.contains("valid until") && again.contains("tamga renew archive.saltmarsh.test --add NAME"),
        "{again}"
    );
    let label = s.run(&["issue", "archive.saltmarsh.test", "--into", "elsewhere"]).expect(3).err;
    assert!(label.contains("tamga renew archive.saltmarsh.test"), "{label}");
    s.run(&["request", "gauge-7.saltmarsh.test"]).expect(0);
    let waits = s.run(&["request", "gauge-7.saltmarsh.test"]).expect(3).err;
    assert!(waits.contains("tamga receive gauge-7.saltmarsh.test --certificate FILE"), "{waits}");
    std::fs::create_dir(s.lab("foreign")).unwrap();
    std::fs::write(s.lab("foreign/certificate.pem"), "mine").unwrap();
    let foreign = s.run(&["issue", "x.saltmarsh.test", "--into", "foreign"]).expect(3).err;
    assert!(foreign.contains("not in the ledger"), "{foreign}");
    std::fs::write(s.lab("secret"), "a passphrase of several words").unwrap();
    let backup = ["authority", "backup", "--output", "lab.age", "--new-passphrase-file", "secret"];
    s.run(&backup).expect(0);
    assert!(s.run(&backup).expect(3).err.contains("never replaces it"));
}

#[test]
fn setup_never_leaves_a_server_with_an_older_certificate() {
    let s = sandbox();
    let stores = ["--stores", "bundle", "--bundle", "b.pem"];
    let setup = |more: &[&str], code: i32| {
        s.run(&[&["setup", "charts.saltmarsh.test"], &stores[..], more].concat()).expect(code)
    };
    let dry = setup(&["--dry-run"], 0).out;
    assert!(dry.contains("would make the root local"), "{dry}");
    setup(&[], 0);
    let elsewhere = setup(&["--into", "elsewhere"], 3).err;
    assert!(elsewhere.contains("tamga move charts.saltmarsh.test"), "{elsewhere}");
    setup(&["--into", "elsewhere", "--dry-run"], 3);
    let user = s.run(&["setup", "charts.saltmarsh.test", "--dry-run"]).expect(0).out;
    let foreign = if cfg!(target_os = "windows") { "macos-user" } else { "windows-user" };
    assert!(!user.contains(foreign), "{user}");
    let other = sandbox();
    let v = other.json(&["setup", "charts.example.com", "--stores", "bundle", "--bundle", "b.pem"]).expect(0).json();
    assert_eq!(v["findings"][0]["code"], "public-name");
}

#[test]
fn a_directory_is_moved_or_found_and_renewals_go_there() {
    let s = lab();
    s.run(&["move", "charts", "new/place", "--dry-run"]).expect(0);
    assert!(s.lab("charts/private-key.pem").exists());
    let moved = s.json(&["move", "charts", "new/place"]).expect(0).json();
    assert_eq!(moved["change"], "moved");
    assert!(!s.lab("charts").exists() && s.lab("new/place/private-key.pem").exists());
    assert!(s.run(&["move", "charts", "new/place"]).expect(0).out.contains("nothing to do"));
    let before = std::fs::read(s.lab("new/place/certificate.pem")).unwrap();
    s.run(&["renew", "charts"]).expect(0);
    assert_ne!(before, std::fs::read(s.lab("new/place/certificate.pem")).unwrap());
    assert!(s.run(&["move", "charts", "new/place/inner"]).expect(3).err.contains("inside the old one"));
    // Moved by hand: the ledger takes note.
    std::fs::rename(s.lab("new/place"), s.lab("byhand")).unwrap();
    assert_eq!(s.json(&["move", "charts", "byhand"]).expect(0).json()["change"], "adopted");
    std::fs::rename(s.lab("byhand"), s.lab("gone")).unwrap();
    assert!(s.run(&["move", "charts", "nowhere"]).expect(3).err.contains("nothing to move"));
    s.run(&["move", "charts", "gone"]).expect(0);
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    s.run(&["move", "charts", "archive.saltmarsh.test"]).expect(3);
}

#[test]
fn a_root_is_looked_for_where_it_was_asked_for() {
    let s = lab();
    let stores = |words: &[&str], code: i32| {
        let v = s.json(words).expect(code).json();
        v["stores"].as_array().unwrap().iter().map(|r| r["store"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert!(!stores(&["trust", "status", "--scope", "user"], 1).contains(&"system".to_owned()));
    assert!(stores(&["trust", "status", "--scope", "machine"], 1).contains(&"system".to_owned()));
    assert!(!s.run(&["trust", "status"]).out.contains("change"), "nothing was to be changed");
    for wrong in [
        &["trust", "add", "--exception", "x.test:443"][..],
        &["trust", "status", "--exception", "x.test:443"],
        &["trust", "remove", "--accept", "public-name"],
    ] {
        s.run(wrong).expect(2);
    }
}

#[test]
fn an_identity_for_a_store_of_another_system_is_refused_by_name() {
    let s = lab();
    let other = if cfg!(windows) { "macos-user" } else { "windows-user" };
    let refused = s.run(&["identity", "add", "charts", "--stores", other]).expect(3).err;
    assert!(refused.contains(other), "{refused}");
    if has(&["chromium"]) {
        let added = s.run(&["identity", "add", "charts", "--stores", "chromium"]).expect(0).out;
        assert!(added.contains("not for clients"), "{added}");
    }
}

#[test]
fn options_that_a_command_would_ignore_are_refused() {
    let s = lab();
    for words in [
        &["status", "--dry-run"][..],
        &["list", "--yes"],
        &["check", "charts", "--dry-run"],
        &["trust", "status", "--yes"],
    ] {
        let refused = s.run(words).expect(2).err;
        assert!(refused.contains("means nothing"), "{refused}");
    }
    let quiet = s.run(&["check", "charts", "--quiet"]).expect(1).out;
    assert_eq!(quiet.lines().count(), 1, "{quiet}");
    assert!(quiet.contains("charts: issuer-unknown"), "{quiet}");
    s.run(&["run", "--", "no-such-program-anywhere"]).expect(127);
    let v = s.json(&["authority", "show", "saltmarsh"]).expect(0).json();
    let permitted: Vec<&str> =
        v["authorities"][0]["permitted"].as_array().unwrap().iter().map(|p| p.as_str().unwrap()).collect();
    let distinct: std::collections::HashSet<&&str> = permitted.iter().collect();
    assert_eq!(permitted.len(), distinct.len(), "{permitted:?}");
    assert_eq!(v["authorities"][0]["permitted_names"][0]["kind"], "dns");
}

#[test]
fn the_help_is_one_screen_and_each_command_has_its_own() {
    let s = sandbox();
    let whole = s.run(&["--help"]).expect(0).out;
    assert!(whole.lines().count() <= 40 && whole.lines().all(|l| l.chars().count() <= 100), "{whole}");
    for group in ["Start", "Certificates", "Authorities", "Servers", "Lab", "Other"] {
        assert!(whole.lines().any(|l| l.starts_with(group)), "{group}");
    }
    assert_eq!(s.run(&["help", "issue"]).expect(0).out, s.run(&["issue", "--help"]).expect(0).out);
}

/// Lines as programs write them, with the finding that each comes to.
#[test]
fn lines_of_logs_are_explained_by_their_library() {
    let s = sandbox();
    let table = include_str!("../data/log-lines.tsv");
    let mut count = 0;
    for (code, line) in table.lines().filter_map(|l| l.split_once('\t')) {
        let v = s.json(&["explain", line]).expect(0).json();
        assert_eq!(v["findings"][0]["code"], code, "{line}: {v}");
        assert_eq!(v["messages"].as_array().unwrap().len(), 1, "one line has one answer: {line}: {v}");
        count += 1;
    }
    assert!(count > 30);
    let go = s.run(&["explain", "x509: certificate signed by unknown authority"]).expect(0).out;
    assert_eq!(go.matches("do:").count(), 1, "{go}");
}

/// A root that an earlier run put into a bundle is taken out by whatever takes roots out, without its path being typed again.
#[test]
fn a_bundle_of_an_earlier_run_is_not_forgotten() {
    let bundle = |s: &Sandbox| std::fs::read(s.lab("roots.pem")).unwrap_or_default();
    for last in [&["leave", "--yes"][..], &["trust", "remove", "local"], &["authority", "retire", "local", "--yes"]] {
        let s = sandbox().without_clients();
        s.run(&["setup", "charts.saltmarsh.test", "--stores", "bundle", "--bundle", "roots.pem"]).expect(0);
        assert!(!bundle(&s).is_empty());
        s.run(last).expect(0);
        assert!(bundle(&s).is_empty(), "{last:?}");
    }
    let s = sandbox().without_clients();
    s.run(&["setup", "charts.saltmarsh.test", "--stores", "bundle", "--bundle", "roots.pem"]).expect(0);
    let before = bundle(&s);
    s.run(&["authority", "permit", "local", "tides.example"]).expect(0);
    assert!(!bundle(&s).is_empty() && bundle(&s) != before, "the reissued root takes the place of the earlier one");
}

#[test]
fn an_identity_for_a_named_store_that_is_missing_is_no_success() {
    let s = sandbox().without_clients();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    s.run(&["issue", "lab-operator@saltmarsh.test", "--purpose", "client", "--label", "operator"]).expect(0);
    let v = s.json(&["identity", "add", "operator", "--stores", "chromium"]).expect(4).json();
    assert_eq!(v["stores"][0]["change"], "failed");
    assert!(v["stores"][0]["remedy"].as_str().unwrap().contains("identity add"), "{v}");
}

/// Every usage error has its three lines, on standard error alone.
#[test]
fn a_usage_error_is_three_lines() {
    let s = lab();
    for (words, what, remedy) in [
        (&["isue", "a.test"][..], "there is no command \"isue\"", "did you mean issue?"),
        (&["issue", "--intoo", "x", "a.test"], "unexpected option --intoo", "did you mean --into?"),
        (&["issue"], "tamga issue needs <NAME>...", "tamga help issue"),
        (&["revoke", "charts"], "tamga revoke needs --reason <REASON>", "tamga help revoke"),
        (&["status", "more"], "unexpected word \"more\"", "tamga help status"),
        (&["trust", "remov"], "there is no command \"remov\"", "did you mean remove?"),
        (&["issue", "a.test", "--self-signed", "--single-use-root"], "--self-signed", "leave one of them out"),
        (&["serve", "charts", "--port", "70000"], "invalid value '70000' for '--port <PORT>'", "tamga help serve"),
        (&["explain", "isuer-unknown"], "invalid finding or line of a log", "did you mean issuer-unknown?"),
        (&["show", "chart"], "nothing has the label chart", "did you mean charts?"),
    ] {
        let ran = s.run(words);
        let lines: Vec<&str> = ran.err.lines().collect();
        assert!(lines.len() == 3 && ran.out.is_empty(), "{words:?}: {}{}", ran.err, ran.out);
        assert!(lines[0].starts_with("tamga: ") && lines[0].contains(what), "{words:?}: {}", ran.err);
        assert!(lines[1].starts_with("  why: ") && lines[2].contains(remedy), "{words:?}: {}", ran.err);
        let v = s.json(words).json();
        assert!(v["error"]["what"].as_str().unwrap().contains(what), "{v}");
    }
}

#[test]
fn standard_input_is_a_file_wherever_one_is_read() {
    let s = lab();
    s.run(&["request", "gauge-7.saltmarsh.test", "--into", "waiting"]).expect(0);
    let piped = |file: &str, words: &str| -> serde_json::Value {
        let line = format!("tamga {words} --format json < {file}");
        let out = s.around("/bin/sh").args(["-c", &line]).output().unwrap();
        serde_json::from_slice(&out.stdout).unwrap_or_else(|e| panic!("{line}: {e} {out:?}"))
    };
    assert_eq!(piped("charts/certificate.pem", "show -")["objects"][0]["kind"], "certificate");
    let checked = piped("charts/certificate.pem", "check - --anchor charts/root.pem --clients standard");
    assert_eq!(checked["targets"][0]["kind"], "file", "{checked}");
    let signed = piped("waiting/request.pem", "sign - --label gauge-7 --yes");
    assert_eq!(signed["ok"], true, "{signed}");
    let received = piped("gauge-7/certificate.pem", "receive gauge-7.saltmarsh.test --certificate -");
    assert_eq!(received["ok"], true, "{received}");
    let exported = piped("charts/certificate.pem", "export - --as der --output charts.cer");
    assert_eq!(exported["ok"], true, "{exported}");
    let matched = piped("charts/private-key.pem", "match - charts/certificate.pem");
    assert_eq!(matched["groups"].as_array().unwrap().len(), 1, "{matched}");
    std::fs::write(s.lab("lab.toml"), "[[certificate]]\nnames = [\"buoy.saltmarsh.test\"]\n").unwrap();
    let applied = piped("lab.toml", "apply -");
    assert_eq!(applied["changes"][0]["about"], "buoy.saltmarsh.test", "{applied}");
    assert!(s.lab("buoy.saltmarsh.test/certificate.pem").exists());
    let trusted = piped("charts/root.pem", "trust add - --stores bundle --bundle b.pem");
    assert_eq!(trusted["stores"][0]["state"], "present", "{trusted}");
}

#[test]
fn a_key_store_gets_a_passphrase_and_a_renewal_can_write_it_again() {
    use std::os::unix::fs::PermissionsExt;
    let s = lab();
    let v = s.json(&["export", "charts", "--as", "pkcs12", "--output", "charts.p12"]).expect(0).json();
    let secret = s.lab("charts.p12.passphrase");
    assert!(v["exports"][0]["passphrase_file"].as_str().unwrap().ends_with("charts.p12.passphrase"));
    assert_eq!(std::fs::metadata(&secret).unwrap().permissions().mode() & 0o777, 0o600);
    let opened = |file: &str| s.json(&["show", file, "--passphrase-file", "charts.p12.passphrase"]).expect(0).json();
    assert_eq!(opened("charts.p12")["objects"][0]["kind"], "store");
    s.run(&[
        "export",
        "charts",
        "--as",
        "jks",
        "--alias",
        "tide",
        "--output",
        "charts.jks",
        "--new-passphrase-file",
        "charts.p12.passphrase",
    ])
    .expect(0);
    let before = std::fs::read(s.lab("charts.p12")).unwrap();
    let said = s.run(&["renew", "charts"]).expect(0).out;
    assert!(said.contains("charts.p12 still holds the earlier certificate") && said.contains("--exports"), "{said}");
    assert_eq!(std::fs::read(s.lab("charts.p12")).unwrap(), before);
    // The JKS file's passphrase is not beside it, and nobody can be asked: it is left, and said.
    let v = s.json(&["renew", "charts", "--exports"]).expect(5).json();
    assert_eq!(v["exported"][0]["form"], "pkcs12", "{v}");
    assert_eq!((v["failed"].as_array().unwrap().len(), &v["failed"][0]["code"]), (1, &"passphrase-needed".into()));
    let sha256 = v["certificates"][0]["sha256"].as_str().unwrap().to_owned();
    assert!(opened("charts.p12").to_string().contains(&sha256));
    // A passphrase beside it that does not open it is not its own: the store is left as it is.
    std::fs::write(s.lab("charts.jks.passphrase"), "another one\n").unwrap();
    let left = std::fs::read(s.lab("charts.jks")).unwrap();
    s.run(&["renew", "charts", "--exports"]).expect(5);
    assert_eq!(std::fs::read(s.lab("charts.jks")).unwrap(), left);
    std::fs::write(s.lab("mine.p12"), "mine").unwrap();
    s.run(&["export", "charts", "--as", "pkcs12", "--output", "mine.p12"]).expect(3);
    assert!(!s.lab("mine.p12.passphrase").exists(), "refused, it leaves nothing");
    std::fs::copy(&secret, s.lab("charts.jks.passphrase")).unwrap();
    let v = s.json(&["renew", "charts", "--exports"]).expect(0).json();
    let sha256 = v["certificates"][0]["sha256"].as_str().unwrap().to_owned();
    let store = opened("charts.jks").to_string();
    assert!(store.contains(&sha256) && store.contains("tide"), "{store}");
}

#[test]
fn sha1_is_there_for_windows() {
    let s = lab();
    let v = s.json(&["issue", "gauge-7.saltmarsh.test"]).expect(0).json();
    let sha1 = v["certificates"][0]["sha1"].as_str().unwrap().to_owned();
    assert!(sha1.len() == 40 && sha1.chars().all(|c| c.is_ascii_hexdigit()), "{sha1}");
    assert_eq!(s.json(&["list", "gauge-7"]).json()["certificates"][0]["sha1"], sha1.as_str());
    assert!(s.run(&["show", "gauge-7.saltmarsh.test"]).expect(0).out.contains(&sha1));
    let iis = s.run(&["issue", "web.saltmarsh.test", "--for", "iis"]).expect(0).out;
    let of = s.json(&["list", "web"]).json()["certificates"][0]["sha1"].as_str().unwrap().to_owned();
    assert!(iis.contains(&of), "{iis}");
    let prints = s.run(&["export", "gauge-7.saltmarsh.test", "--as", "fingerprint"]).expect(0).out;
    assert!(prints.contains(&sha1.to_uppercase()), "{prints}");
}

#[test]
fn a_handshake_that_fails_is_in_the_log_of_the_server() {
    use std::io::{BufRead, BufReader, Write};
    let s = lab();
    let mut child = s.command(&["serve", "charts"]).stdout(std::process::Stdio::piped()).spawn().unwrap();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines().map_while(Result::ok);
    let url = lines.find(|l| l.contains("https://localhost:")).unwrap();
    let port: u16 = url.trim().trim_end_matches('/').rsplit(':').next().unwrap().parse().unwrap();
    let mut plain = std::net::TcpStream::connect(("127.0.0.1", port)).unwrap();
    plain.write_all(b"GET / HTTP/1.1\r\nHost: localhost\r\n\r\n").unwrap();
    let line = lines.find(|l| l.contains("refused")).unwrap();
    assert!(line.contains("127.0.0.1 refused") && line.contains("plain HTTP"), "{line}");
    if has(&["curl"]) {
        let visit = std::process::Command::new("curl").args(["-sS", &format!("https://localhost:{port}/")]).output();
        assert!(!visit.unwrap().status.success());
        let line = lines.find(|l| l.contains("refused")).unwrap();
        assert!(line.contains("unknown_ca") && line.contains("does not trust the issuer"), "{line}");
    }
    let _ = child.kill();
    let _ = child.wait();
}

#[test]
fn a_check_can_count_the_clients_of_one_scope_alone() {
    let s = lab();
    let clients = |scope: &str| -> Vec<String> {
        let words = [
            "check",
            "charts",
            "--anchor",
            "charts/root.pem",
            "--clients",
            "standard,curl,firefox,node",
            "--scope",
            scope,
        ];
        let v = s.json(&words).json();
        v["targets"][0]["clients"]
            .as_array()
            .unwrap()
            .iter()
            .map(|c| c["client"].as_str().unwrap().to_owned())
            .collect()
    };
    assert_eq!(clients("user"), ["standard", "firefox"]);
    assert_eq!(clients("machine"), ["standard", "curl"]);
    assert_eq!(clients("both"), ["standard", "curl", "firefox", "node"]);
}

/// A root that somebody made and installed by hand goes by its file; another of the same name stays, byte for byte.
#[test]
fn a_home_made_root_goes_by_its_file_and_its_namesake_stays() {
    let s = sandbox().without_clients();
    let roots: Vec<String> = ["one", "two"]
        .into_iter()
        .map(|data| {
            s.run(&["authority", "create", "old", "--data-dir", data]).expect(0);
            std::fs::read_to_string(s.lab(&format!("{data}/authorities/old/certificate.pem"))).unwrap()
        })
        .collect();
    std::fs::write(s.lab("old.pem"), &roots[1]).unwrap();
    std::fs::write(s.lab("roots.pem"), format!("# ours\n{}# old\r\n{}# end", roots[0], roots[1].replace('\n', "\r\n")))
        .unwrap();
    let v = s.json(&["trust", "remove", "old.pem", "--stores", "bundle", "--bundle", "roots.pem"]).expect(0).json();
    assert_eq!(v["stores"][0]["change"], "removed", "{v}");
    let left = std::fs::read_to_string(s.lab("roots.pem")).unwrap();
    assert_eq!(left, format!("# ours\n{}# old\r\n# end", roots[0]));
    // The machine's store, where each has a file of its own.
    let anchors = s.path("root/usr/local/share/ca-certificates");
    std::fs::write(anchors.join("home-made.crt"), &roots[0]).unwrap();
    std::fs::write(anchors.join("home-made-2.crt"), &roots[1]).unwrap();
    s.json(&["trust", "remove", "old.pem", "--stores", "system"]);
    assert!(anchors.join("home-made.crt").exists() && !anchors.join("home-made-2.crt").exists());
}
