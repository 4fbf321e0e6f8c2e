//! `tamga apply`: one file, only what differs, nothing torn wherever it is stopped.

use crate::sandbox;
use serde_json::Value;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Command;
use tamga_core::ca::authority::read_key;
use tamga_core::vocabulary::timestamp::DAY;
use tamga_host::entropy::now;
use tamga_testkit::sandbox::{Ran, Sandbox, has};
use tamga_testkit::server::{Server, free_port, is_root};
use tamga_testkit::site::of_files;
use tamga_testkit::{sample, trace};

fn file(s: &Sandbox, text: &str) {
    std::fs::write(s.lab("tamga.toml"), text).unwrap();
}

/// A sandbox in whose directories only their owner writes, as `apply` wants it of root.
fn closed(text: &str) -> Sandbox {
    let s = sandbox();
    for folder in ["", "lab"] {
        std::fs::set_permissions(s.path(folder), std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    file(&s, text);
    s
}

fn changes(ran: &Ran) -> Vec<(String, String, String)> {
    let v = ran.json();
    let word = |c: &Value, k: &str| c[k].as_str().unwrap().to_owned();
    let all = v["changes"].as_array().unwrap_or_else(|| panic!("{}", ran.out));
    all.iter().map(|c| (word(c, "what"), word(c, "about"), word(c, "change"))).collect()
}

#[track_caller]
fn nothing(s: &Sandbox) {
    let ran = s.json(&["apply"]).expect(0);
    assert_eq!(changes(&ran), [], "{}", ran.out);
    assert!(s.run(&["apply"]).expect(0).out.contains("nothing to do"));
}

/// Key and certificate at these places belong together.
#[track_caller]
fn pair(s: &Sandbox, certificate: &str, key: &str, when: &str) {
    let key = read_key(&std::fs::read(s.lab(key)).unwrap(), "key").unwrap();
    assert_eq!(*key.public(), sample::certificate(&s.lab(certificate)).key, "{when}");
}

const TWO: &str = r#"
[[authority]]
label = "saltmarsh"

[[certificate]]
label = "charts"
names = ["charts.saltmarsh.test", "localhost"]
[[certificate.place]]
certificate = "server/charts.pem"
key = "server/charts-key.pem"
run = ["true"]

[[certificate]]
label = "archive"
names = ["archive.saltmarsh.test"]
"#;

#[test]
fn the_sample_lab_is_made_and_the_second_run_has_nothing_to_do() {
    let text = include_str!("../../../core/src/deploy/lab/example.toml");
    let s = closed(text);
    assert_eq!(s.run(&["apply", "--example"]).expect(0).out.trim_end(), text.trim_end());
    let meant = s.json(&["apply", "--dry-run"]).expect(0);
    assert!(changes(&meant).iter().all(|c| c.2 == "would") && changes(&meant).len() == 7, "{}", meant.out);
    assert!(!s.path("data").exists() && !s.lab("server").exists(), "a dry run made something");
    let made = s.json(&["apply"]).expect(0);
    assert_eq!(changes(&made).len(), 7, "{}", made.out);
    assert_eq!(made.json()["certificates"].as_array().unwrap().len(), 4);
    nothing(&s);
    pair(&s, "server/charts.pem", "server/charts-key.pem", "after the first run");
    let mode = |f: &str| std::fs::metadata(s.lab(f)).unwrap().permissions().mode() & 0o777;
    assert_eq!(
        (mode("server/charts.pem"), mode("server/charts-key.pem"), mode("server/buoys.pem")),
        (0o644, 0o600, 0o600)
    );
    assert!(s.files("lab").iter().all(|(p, _)| !p.to_string_lossy().contains(".tamga-")));
}

#[test]
fn what_somebody_else_changed_is_named_and_put_right() {
    let s = closed(TWO);
    s.run(&["apply"]).expect(0);
    let before = std::fs::read(s.lab("server/charts.pem")).unwrap();
    std::fs::write(s.lab("server/charts.pem"), "broken").unwrap();
    std::fs::write(s.lab("charts/certificate.pem"), "broken too").unwrap();
    let v = s.json(&["apply"]).expect(0).json();
    let said: Vec<&str> = v["changes"].as_array().unwrap().iter().filter_map(|c| c["why"].as_str()).collect();
    let has = |end: &str| said.iter().any(|w| w.ends_with(end));
    assert!(has("server/charts.pem was changed by somebody else"), "{said:?}");
    assert!(has("charts/certificate.pem was not what was issued"), "{said:?}");
    assert_eq!(std::fs::read(s.lab("server/charts.pem")).unwrap(), before);
    std::fs::set_permissions(s.lab("server/charts-key.pem"), std::fs::Permissions::from_mode(0o644)).unwrap();
    assert!(s.run(&["apply"]).expect(0).words().contains("its mode is 0644, and must be 0600"));
    std::fs::remove_file(s.lab("archive/private-key.pem")).unwrap();
    assert_eq!(changes(&s.json(&["apply"])), [("certificate".into(), "archive".into(), "renewed".into())]);
    pair(&s, "archive/certificate.pem", "archive/private-key.pem", "renewed");
    nothing(&s);
    // Other names, another kind of key: the same label goes on.
    file(
        &s,
        &TWO.replace("\"localhost\"", "\"127.0.0.1\"")
            .replace("label = \"archive\"", "label = \"archive\"\nkey_algorithm = \"p384\""),
    );
    let said = s.run(&["apply"]).expect(0).out;
    assert!(said.contains("lacks 127.0.0.1") && said.contains("its key is to be p384"), "{said}");
    let shown = sample::certificate(&s.lab("server/charts.pem")).name_words();
    assert_eq!(shown, ["charts.saltmarsh.test", "127.0.0.1"]);
    nothing(&s);
    // What cannot be had by renewing is said, and the rest is done.
    file(&s, &TWO.replace("label = \"archive\"", "label = \"archive\"\npurpose = [\"client\"]"));
    let ran = s.json(&["apply"]).expect(1);
    assert!(changes(&ran).contains(&("certificate".into(), "archive".into(), "failed".into())), "{}", ran.out);
    assert!(changes(&ran).contains(&("certificate".into(), "charts".into(), "renewed".into())), "{}", ran.out);
}

#[test]
fn a_certificate_is_renewed_exactly_when_it_is_due() {
    for (age, more, due) in
        [(60, "", true), (59, "", false), (10, "renew = \"81d\"", true), (10, "renew = \"79d\"", false)]
    {
        // A minute to spare on either side of the day.
        let from = now().plus(-age * DAY + if due { -60 } else { 60 });
        let text = format!(
            "[[authority]]\nlabel = \"old\"\n[[certificate]]\nnames = [\"a.test\"]\nvalid_for = \"90d\"\nnot_before = \"{from}\"\n{more}\n"
        );
        let s = closed(&text);
        s.run(&["apply"]).expect(0);
        let first = sample::certificate(&s.lab("a.test/certificate.pem"));
        let ran = s.json(&["apply"]).expect(0);
        let renewed = changes(&ran) == [("certificate".to_owned(), "a.test".to_owned(), "renewed".to_owned())];
        assert_eq!(renewed, due, "{age} days, {more}: {}", ran.out);
        assert_eq!(sample::certificate(&s.lab("a.test/certificate.pem")) != first, due);
        nothing(&s);
    }
}

#[test]
fn what_is_due_and_cannot_be_renewed_is_one_line_and_exit_one() {
    let text = "[[authority]]\nlabel = \"saltmarsh\"\n[[certificate]]\nnames = [\"a.test\"]\n";
    let s = closed(text);
    s.run(&["apply"]).expect(0);
    std::fs::remove_file(s.path("data/authorities/saltmarsh/private-key.pem")).unwrap();
    file(&s, &text.replace("\"a.test\"", "\"a.test\", \"b.test\""));
    let ran = s.run(&["apply"]).expect(1);
    let lines: Vec<&str> = ran.out.lines().collect();
    // The reason takes lines of its own; everything else is once.
    assert!(
        ran.out.matches("failed").count() == 1
            && ran.out.matches("do:").count() == 1
            && lines[0].contains("failed")
            && lines[0].contains("a.test"),
        "{}",
        ran.out
    );
}

#[test]
fn a_server_that_does_not_take_it_has_the_old_pair_again() {
    let s = closed(TWO);
    s.run(&["apply"]).expect(0);
    let read =
        || (std::fs::read(s.lab("server/charts.pem")).unwrap(), std::fs::read(s.lab("server/charts-key.pem")).unwrap());
    let old = read();
    // A server that goes on showing what it showed.
    std::fs::create_dir(s.lab("shown")).unwrap();
    for name in ["certificate.pem", "private-key.pem"] {
        std::fs::copy(s.lab("charts").join(name), s.lab("shown").join(name)).unwrap();
    }
    let port = of_files(&s.lab("shown"));
    let other = TWO.replace("\"localhost\"", "\"127.0.0.1\"");
    let checked = other
        .replace("run = [\"true\"]", &format!("check = \"charts.saltmarsh.test:{port}\"\ncheck_at = \"127.0.0.1\""));
    for (text, why) in
        [(&other.replace("[\"true\"]", "[\"false\"]"), "ended with 1"), (&checked, "still shows another certificate")]
    {
        file(&s, text);
        let ran = s.json(&["apply"]).expect(1);
        let v = ran.json();
        let failed = v["changes"]
            .as_array()
            .unwrap()
            .iter()
            .find(|c| c["change"] == "failed")
            .unwrap_or_else(|| panic!("{}", ran.out))
            .clone();
        assert!(
            failed["why"].as_str().unwrap().contains(why) && failed["why"].as_str().unwrap().contains("is back"),
            "{failed}"
        );
        assert!(read() == old, "{why}: the old pair is not back");
        assert!(s.files("lab").iter().all(|(p, _)| !p.to_string_lossy().contains(".tamga-")));
    }
    // The server is fixed: the pair that was made then goes there, and no third is made.
    file(&s, &other);
    assert_eq!(changes(&s.json(&["apply"]).expect(0)).len(), 1);
    pair(&s, "server/charts.pem", "server/charts-key.pem", "in the end");
    nothing(&s);
}

#[test]
fn mistakes_are_reported_by_line_and_column_and_only_what_is_named_is_done() {
    let s = closed(&TWO.replace("certificate = \"server", "certificat = \"server"));
    let e = s.json(&["apply"]).expect(3).json()["error"].clone();
    assert!(e["what"].as_str().unwrap().contains("tamga.toml, line 9, column 1"), "{e}");
    assert!(e["remedy"].as_str().unwrap().contains("did you mean certificate?"), "{e}");
    file(&s, TWO);
    s.json(&["apply", "--only", "chart"]).expect(3);
    s.run(&["apply", "--only", "saltmarsh,archive"]).expect(0);
    assert!(s.lab("archive").exists() && !s.lab("charts").exists());
    std::fs::remove_file(s.lab("tamga.toml")).unwrap();
    let e = s.json(&["apply"]).expect(3).json()["error"].clone();
    assert!(e["code"] == "no-file" && e["remedy"].as_str().unwrap().contains("--example"), "{e}");
    assert_eq!(s.json(&["apply", "nowhere.toml"]).expect(4).json()["error"]["code"], "file-failed");
}

#[test]
fn root_refuses_a_file_that_others_could_change() {
    if !is_root() {
        return;
    }
    let s = closed(TWO);
    for (what, mode) in [("lab/tamga.toml", 0o666), ("lab", 0o777), ("", 0o777)] {
        let set = |mode| std::fs::set_permissions(s.path(what), std::fs::Permissions::from_mode(mode)).unwrap();
        set(mode);
        let ran = s.json(&["apply"]);
        set(0o755);
        assert!(ran.code != 0 && ran.json()["error"]["code"] == "open-to-others", "{what} {mode:o}: {}", ran.out);
    }
    assert!(!s.path("data/authorities").exists());
}

#[test]
fn stores_hosts_and_checks_belong_to_it() {
    let roots = "roots.pem";
    let port = free_port();
    let text = format!(
        "{TWO}\n[[trust]]\nroot = \"saltmarsh\"\nstores = [\"bundle\"]\nbundle = [\"{roots}\"]\n[hosts]\nnames = [\"charts.saltmarsh.test\"]\n[[check]]\ntarget = \"localhost:{port}\"\nclients = [\"standard\"]\nanchor = [\"charts/root.pem\"]\n"
    );
    let s = closed(&text);
    std::fs::write(s.path("root/etc/hosts"), "127.0.0.1 localhost\n").unwrap();
    std::fs::write(s.lab(roots), "").unwrap();
    let ran = s.json(&["apply"]).expect(1);
    let all = changes(&ran);
    assert!(all.iter().any(|c| c.0 == "store" && c.2 == "added"), "{all:?}");
    assert!(all.contains(&("hosts".into(), "charts.saltmarsh.test".into(), "added".into())), "{all:?}");
    assert!(all.contains(&("check".into(), format!("localhost:{port}"), "failed".into())), "nothing listens: {all:?}");
    assert!(std::fs::read_to_string(s.path("root/etc/hosts")).unwrap().contains("charts.saltmarsh.test"));
    // Without a change nobody is asked over the network.
    nothing(&s);
    let mut serve = s.command(&["serve", "charts", "--port", &port.to_string()]);
    let child = serve.stdout(std::process::Stdio::null()).spawn().unwrap();
    let _site = Ends(child);
    let held = || changes(&s.json(&["apply", "--check"])).iter().any(|c| c.0 == "check" && c.2 == "held");
    assert!((0..50).any(|_| held() || {
        std::thread::sleep(std::time::Duration::from_millis(100));
        false
    }));
}

struct Ends(std::process::Child);

impl Drop for Ends {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Stops it after every single change to a file; the next run completes.
fn at_every_point(prepare: impl Fn() -> Sandbox, labels: usize) -> usize {
    let s = prepare();
    let Some(whole) = trace::run(s.command(&["apply"]), None) else {
        eprintln!("SKIPPED: system calls are traced on x86-64 Linux only");
        return usize::MAX;
    };
    assert_eq!(whole.code, Some(0));
    let mut points = 0;
    // Between two writes of SQLite to its own log only its recovery is at stake: the first and the last of a row are stopped at.
    let all = std::env::var("TAMGA_TESTS_FAULTS").is_ok_and(|v| v == "all");
    let own = |i: usize| whole.calls.get(i).is_none_or(|c| c.path.contains("ledger.sqlite-"));
    for (i, call) in whole.calls.iter().enumerate() {
        if !all && i > 0 && (i - 1..=i + 1).all(own) {
            continue;
        }
        points += 1;
        let when = format!("stopped after {} {} {}", i + 1, call.name, call.path);
        eprintln!("  {when}");
        let s = prepare();
        trace::run(s.command(&["apply"]), Some(i + 1)).unwrap();
        // Whatever moment it is: what stands is a pair, or is not there at all, but for the instant between two renames.
        s.run(&["apply"]).expect(0);
        nothing(&s);
        pair(&s, "server/charts.pem", "server/charts-key.pem", &when);
        pair(&s, "charts/certificate.pem", "charts/private-key.pem", &when);
        assert_eq!(
            sample::certificate(&s.lab("server/charts.pem")),
            sample::certificate(&s.lab("charts/certificate.pem")),
            "{when}"
        );
        // One that was recorded and whose files were never in place is reported as abandoned: nobody ever had it.
        let rows = s.json(&["list"]).expect(0).json()["certificates"].as_array().unwrap().clone();
        let live = rows.iter().filter(|c| c["state"] == "valid").count();
        assert_eq!(live, labels, "{when}: one was issued twice: {rows:?}");
        for (path, _) in s.files("lab").into_iter().chain(s.files("data/authorities")) {
            assert!(!path.to_string_lossy().contains(".tamga-"), "{when}: {} was left", path.display());
        }
    }
    points
}

#[test]
fn stopped_anywhere_the_next_run_completes() {
    let first = at_every_point(|| closed(TWO), 2);
    let renewal = at_every_point(
        || {
            let s = closed(TWO);
            s.run(&["apply"]).expect(0);
            file(&s, &TWO.replace("\"localhost\"", "\"127.0.0.1\""));
            s
        },
        2,
    );
    eprintln!("{first} and {renewal} points");
    assert!(first >= 40 && renewal >= 20, "too few points: {first}, {renewal}");
}

#[test]
fn another_machine_gets_the_pair_over_a_real_ssh_with_nothing_secret_in_an_argument() {
    if !has(&["sshd", "ssh", "ssh-keygen"]) || !is_root() {
        return;
    }
    let s = closed("");
    let ssh = s.lab("ssh");
    std::fs::create_dir(&ssh).unwrap();
    std::fs::set_permissions(&ssh, std::fs::Permissions::from_mode(0o700)).unwrap();
    for name in ["host", "person"] {
        let made =
            Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(ssh.join(name)).status();
        assert!(made.unwrap().success());
    }
    let port = free_port();
    let at = |name: &str| ssh.join(name).display().to_string();
    let config = format!(
        "Port {port}\nListenAddress 127.0.0.1\nHostKey {}\nAuthorizedKeysFile {}\nStrictModes no\nPermitRootLogin yes\n\
         UsePAM no\nPidFile none\nPasswordAuthentication no\n",
        at("host"),
        at("person.pub")
    );
    std::fs::write(ssh.join("sshd.conf"), config).unwrap();
    std::fs::create_dir_all("/run/sshd").unwrap();
    let mut daemon = Command::new("/usr/sbin/sshd");
    daemon.args(["-D", "-e", "-f", &at("sshd.conf")]);
    let sshd = Server::start(daemon, &s.lab("sshd.log"));
    sshd.waits_for(&s.lab("sshd.log"), "Server listening");
    let client = format!(
        "Host archive\n HostName 127.0.0.1\n Port {port}\n User root\n IdentityFile {}\n StrictHostKeyChecking no\n\
         UserKnownHostsFile {}\n LogLevel ERROR\n",
        at("person"),
        at("known")
    );
    std::fs::write(ssh.join("config"), client).unwrap();
    // Every argument that passes is kept.
    let seen = s.lab("seen");
    let wrapper = format!("#!/bin/sh\nprintf '%s\\n' \"$@\" >> '{}'\nexec ssh \"$@\"\n", seen.display());
    std::fs::write(ssh.join("through"), wrapper).unwrap();
    std::fs::set_permissions(ssh.join("through"), std::fs::Permissions::from_mode(0o755)).unwrap();
    let far = s.path("far");
    let text = format!(
        "[[authority]]\nlabel = \"saltmarsh\"\n[[certificate]]\nlabel = \"archive\"\nnames = [\"archive.saltmarsh.test\"]\n\
         [[certificate.place]]\nthrough = [\"{}\", \"-F\", \"{}\", \"archive\"]\ncertificate = \"{far}/it's.pem\"\nkey = \"{far}/key.pem\"\n\
         owner = \"nobody\"\nmode = \"0640\"\nrun = [\"touch\", \"{far}/reload ed\"]\n",
        at("through"),
        at("config"),
        far = far.display()
    );
    file(&s, &text);
    s.run(&["apply"]).expect(0);
    let there = |name: &str| std::fs::read(far.join(name)).unwrap();
    assert_eq!(there("it's.pem"), std::fs::read(s.lab("archive/certificate.pem")).unwrap());
    assert_eq!(there("key.pem"), std::fs::read(s.lab("archive/private-key.pem")).unwrap());
    let meta = std::fs::metadata(far.join("key.pem")).unwrap();
    let nobody = String::from_utf8(Command::new("id").args(["-u", "nobody"]).output().unwrap().stdout).unwrap();
    assert_eq!(std::os::unix::fs::MetadataExt::uid(&meta).to_string(), nobody.trim());
    assert_eq!(meta.permissions().mode() & 0o777, 0o640);
    assert!(far.join("reload ed").exists(), "it was not run there");
    assert!(far_is_clean(&far));
    let passed = std::fs::read_to_string(&seen).unwrap();
    assert!(passed.contains("chmod") && !passed.contains("PRIVATE KEY") && !passed.contains("BEGIN"), "{passed}");
    // Nobody is called for nothing.
    std::fs::remove_file(&seen).unwrap();
    nothing(&s);
    assert!(!seen.exists(), "the other machine was asked");
    // A reload that fails there brings the old pair back there.
    let old = there("it's.pem");
    file(
        &s,
        &text
            .replace("\"archive.saltmarsh.test\"]", "\"archive.saltmarsh.test\", \"b.test\"]")
            .replace("\"touch\"", "\"false\""),
    );
    s.run(&["apply"]).expect(1);
    assert_eq!(there("it's.pem"), old);
    assert!(far_is_clean(&far));
}

fn far_is_clean(far: &Path) -> bool {
    std::fs::read_dir(far).unwrap().flatten().all(|e| !e.file_name().to_string_lossy().contains(".tamga-"))
}

/// What the file asks for and an authority does not have is noticed: wider limits, narrower ones, an issuer that there is not.
#[test]
fn limits_and_issuers_that_differ_are_noticed() {
    let s = closed(TWO);
    s.run(&["apply"]).expect(0);
    nothing(&s);
    let wider = TWO.replace("label = \"saltmarsh\"\n", "label = \"saltmarsh\"\npermit = [\"lab.example.org\"]\n");
    file(&s, &wider);
    let ran = s.json(&["apply"]).expect(0);
    assert!(changes(&ran).contains(&("authority".into(), "saltmarsh".into(), "permitted".into())), "{}", ran.out);
    let v = s.json(&["authority", "show", "saltmarsh"]).expect(0).json();
    assert!(v["authorities"][0]["permitted"].to_string().contains("lab.example.org"), "{v}");
    nothing(&s);
    // Limits cannot be revoked: it is said, and is not "nothing to do".
    file(&s, TWO);
    let ran = s.json(&["apply"]).expect(1);
    let why = ran.json()["changes"][0]["why"].as_str().unwrap().to_owned();
    assert!(why.contains("lab.example.org"), "{}", ran.out);
    let unknown = wider.replace("names = [\"archive", "issuer = \"saltmash\"\nnames = [\"archive");
    file(&s, &unknown);
    let ran = s.json(&["apply"]).expect(1);
    let row = ran.json()["changes"][0].clone();
    assert_eq!((row["about"].as_str(), row["change"].as_str()), (Some("archive"), Some("failed")), "{row}");
    assert!(row["remedy"].as_str().unwrap().contains("did you mean saltmarsh?"), "{row}");
}

/// What the file lists no more is listed until it is withdrawn; what was never of the file is left alone.
#[test]
fn what_the_file_lists_no_more_is_listed_and_withdrawn_if_asked() {
    let whole = format!(
        "{TWO}\n[[authority]]\nlabel = \"second\"\n[[trust]]\nroot = \"saltmarsh\"\nstores = [\"bundle\"]\nbundle = [\"roots.pem\"]\n[hosts]\nnames = [\"charts.saltmarsh.test\"]\n"
    );
    let whole = whole.replace("[[certificate]]\n", "[[certificate]]\nissuer = \"saltmarsh\"\n");
    let s = closed(&whole);
    std::fs::write(s.path("root/etc/hosts"), "127.0.0.1 localhost\n").unwrap();
    s.run(&["apply"]).expect(0);
    s.run(&["issue", "own.saltmarsh.test", "--issuer", "saltmarsh"]).expect(0);
    let less = whole[..whole.find("[[certificate]]\nissuer = \"saltmarsh\"\nlabel = \"archive\"").unwrap()].to_owned();
    file(&s, &less);
    for _ in 0..2 {
        let ran = s.json(&["apply"]).expect(0);
        let mut gone = changes(&ran);
        gone.sort();
        let left = |what: &str, about: &str| (what.to_owned(), about.to_owned(), "unlisted".to_owned());
        let expected = [
            left("authority", "second"),
            left("certificate", "archive"),
            left("hosts", "charts.saltmarsh.test"),
            left("store", "saltmarsh in bundle"),
        ];
        assert_eq!(gone, expected, "{}", ran.out);
    }
    let text = s.run(&["apply"]).expect(0).out;
    assert!(text.contains("nothing to do") && text.contains("tamga apply --prune"), "{text}");
    let dry = s.json(&["apply", "--prune", "--dry-run"]).expect(0);
    assert!(changes(&dry).iter().all(|c| c.2 == "would") && changes(&dry).len() == 4, "{}", dry.out);
    let ran = s.json(&["apply", "--prune"]).expect(0);
    assert!(changes(&ran).iter().all(|c| c.2 == "withdrawn") && changes(&ran).len() == 4, "{}", ran.out);
    nothing(&s);
    let listed = s.json(&["list", "--revoked"]).expect(0).json();
    assert_eq!(listed["certificates"][0]["label"], "archive");
    assert_eq!(listed["certificates"][0]["revoked"]["reason"], "cessation-of-operation");
    assert!(!std::fs::read_to_string(s.path("root/etc/hosts")).unwrap().contains("saltmarsh"));
    assert!(!std::fs::read_to_string(s.lab("roots.pem")).unwrap().contains("BEGIN CERTIFICATE"));
    let own = s.json(&["show", "own.saltmarsh.test"]).expect(0).json();
    assert_eq!(own["objects"][0]["state"], "valid", "it never was the file's");
}

/// A check that fails says why, finding by finding.
#[test]
fn a_check_that_fails_says_why() {
    let s = closed(&format!(
        "{TWO}\n[[check]]\ntarget = \"archive\"\nclients = [\"standard\"]\n[[check]]\ntarget = \"charts/certificate.pem\"\nclients = [\"standard\"]\nanchor = [\"charts/root.pem\"]\n"
    ));
    let ran = s.json(&["apply"]).expect(1);
    let v = ran.json();
    let check = |about: &str| {
        let all = v["changes"].as_array().unwrap();
        all.iter().find(|c| c["what"] == "check" && c["about"] == about).cloned().unwrap_or_default()
    };
    assert_eq!(check("archive")["change"], "failed", "{v}");
    assert!(check("archive")["why"].as_str().unwrap().starts_with("issuer-unknown: "), "{v}");
    assert!(check("archive")["remedy"].as_str().unwrap().contains("tamga trust add"), "{v}");
    assert_eq!(check("charts/certificate.pem")["change"], "held", "{v}");
}
