//! Roots on machines beyond this one: real sshd servers, each with a file system of its own.

mod check;

use crate::sandbox;
use serde_json::Value;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::server::{ClosedPort, free_port, is_root};

/// Machines that run while this value is kept.
struct Farm {
    s: Sandbox,
    folder: PathBuf,
}

const SCRIPT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../testkit/farm.sh");

impl Farm {
    /// One machine of each kind; None where they cannot be made.
    fn start(kinds: &[&str]) -> Option<Farm> {
        if !has(&["sshd", "ssh", "ssh-keygen", "unshare", "setpriv", "update-ca-certificates"]) || !is_root() {
            return None;
        }
        let s = sandbox();
        s.run(&["authority", "create", "saltmarsh"]).expect(0);
        let folder = s.path("farm");
        for (n, kind) in kinds.iter().enumerate() {
            let at = folder.join(format!("host{}", n + 1));
            std::fs::create_dir_all(&at).unwrap();
            std::fs::write(at.join("kind"), kind).unwrap();
        }
        let ports: Vec<String> = kinds.iter().map(|_| free_port().to_string()).collect();
        let made = Command::new("sh").arg(SCRIPT).arg("up").arg(&folder).args(&ports).stdout(Stdio::null()).status();
        assert!(made.unwrap().success());
        let mut lab = String::new();
        for n in 1..=kinds.len() {
            lab += &format!(
                "[[host]]\nname = \"host{n}\"\nssh = \"host{n}\"\nssh_config = \"{}/ssh_config\"\n\n",
                folder.display()
            );
        }
        std::fs::write(s.lab("tamga.toml"), lab).unwrap();
        Some(Farm { s, folder })
    }

    fn adds(&self, more: &str) {
        let path = self.s.lab("tamga.toml");
        let text = std::fs::read_to_string(&path).unwrap() + more;
        std::fs::write(path, text).unwrap();
    }

    /// What one of the machines says itself, asked by ssh and not by Tamga.
    fn asked(&self, host: &str, script: &str) -> String {
        let config = self.folder.join("ssh_config");
        let out = Command::new("ssh")
            .arg("-F")
            .arg(config)
            .args(["-o", "BatchMode=yes", "--", host, script])
            .output()
            .unwrap();
        String::from_utf8(out.stdout).unwrap()
    }

    fn stop(&self, host: &str) {
        let pid = std::fs::read_to_string(self.folder.join(host).join("pid")).unwrap();
        assert!(Command::new("kill").arg(pid.trim()).status().unwrap().success());
        until(|| !self.answers(host));
    }

    fn resume(&self, host: &str) {
        let config = self.folder.join(host).join("sshd_config");
        assert!(Command::new("/usr/sbin/sshd").arg("-f").arg(config).status().unwrap().success());
        until(|| self.answers(host));
    }

    fn answers(&self, host: &str) -> bool {
        self.asked(host, "echo yes").trim() == "yes"
    }

    fn json(&self, words: &[&str], code: i32) -> Value {
        self.s.json(words).expect(code).json()
    }
}

impl Drop for Farm {
    fn drop(&mut self) {
        let _ = Command::new("sh").arg(SCRIPT).arg("down").arg(&self.folder).status();
    }
}

fn until(is_so: impl Fn() -> bool) {
    for _ in 0..200 {
        if is_so() {
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    panic!("it did not come about");
}

fn row<'a>(report: &'a Value, host: &str, store: &str) -> &'a Value {
    let host = report["hosts"].as_array().unwrap().iter().find(|h| h["host"] == host).unwrap();
    host["stores"].as_array().unwrap().iter().find(|r| r["store"] == store).unwrap_or(host)
}

const IN_BUNDLE: &str =
    "grep -c BEGIN /usr/local/share/ca-certificates/tamga-*.crt; ls /etc/ssl/certs | grep -c tamga-";

#[test]
fn a_root_goes_to_every_machine_and_away_again() {
    let Some(farm) = Farm::start(&["plain", "family", "weak"]) else { return };
    let closed = ClosedPort::new();
    farm.adds(&format!("[[host]]\nname = \"down\"\nssh = \"root@127.0.0.1:{}\"\n", closed.number()));
    let before = farm.asked("host1", "sha256sum /etc/ssl/certs/ca-certificates.crt");
    let dry = farm.json(&["trust", "add", "--on", "host1", "--dry-run"], 0);
    assert!(!dry["hosts"][0]["steps"].as_array().unwrap().is_empty(), "{dry}");
    assert_eq!(farm.asked("host1", "ls /usr/local/share/ca-certificates/tamga-* 2>/dev/null"), "");
    let added = farm.json(&["trust", "add", "--on", "all", "--stores", "system,java"], 5);
    for host in ["host1", "host2"] {
        assert_eq!(
            (&row(&added, host, "system")["state"], &row(&added, host, "system")["change"]),
            (&"present".into(), &"added".into()),
            "{added}"
        );
    }
    // Seen by the machine itself: the anchor, its hash link, the bundle; and with the other family's paths.
    assert_eq!(farm.asked("host1", IN_BUNDLE).lines().collect::<Vec<_>>(), ["1", "1"]);
    let root = std::fs::read_to_string(farm.s.path("data/authorities/saltmarsh/certificate.pem")).unwrap();
    let body = root.lines().nth(3).unwrap();
    for (host, bundle) in [
        ("host1", "/etc/ssl/certs/ca-certificates.crt"),
        ("host2", "/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem"),
    ] {
        assert_eq!(farm.asked(host, &format!("grep -c -e '{body}' {bundle}")).trim(), "1", "{host}");
    }
    let weak = row(&added, "host3", "system");
    assert_eq!(weak["change"], "failed", "{added}");
    assert!(weak["remedy"].as_str().unwrap().contains("sudo = true"), "{weak}");
    assert_eq!(row(&added, "down", "system")["failure"]["code"], "host-unreached", "{added}");
    // This machine has nothing of it.
    let here = std::fs::read_dir("/usr/local/share/ca-certificates").unwrap().flatten();
    assert!(here.into_iter().all(|f| !f.file_name().to_string_lossy().starts_with("tamga-")), "on this machine");
    // A second time changes nothing; a copy that somebody took away is seen as absent and put back.
    let again = farm.json(&["trust", "add", "--on", "host1,host2", "--stores", "system"], 0);
    assert_eq!(row(&again, "host1", "system")["change"], "none");
    farm.asked("host2", "rm /etc/pki/ca-trust/source/anchors/tamga-* && update-ca-trust extract");
    let seen = farm.json(&["trust", "status", "--on", "host1,host2", "--stores", "system"], 5);
    assert_eq!(
        (&row(&seen, "host1", "system")["state"], &row(&seen, "host2", "system")["state"]),
        (&"present".into(), &"absent".into())
    );
    farm.json(&["trust", "add", "--on", "host2", "--stores", "system"], 0);
    let removed = farm.json(&["trust", "remove", "--on", "host1", "--stores", "system"], 0);
    assert_eq!(row(&removed, "host1", "system")["change"], "removed");
    assert_eq!(farm.asked("host1", "sha256sum /etc/ssl/certs/ca-certificates.crt"), before);
    // What is left goes with `leave`, without the file that described the machines. One that was never reached is not asked for again; one
    // that has a root and is down keeps the data directory, and is cleared when it is back.
    std::fs::remove_file(farm.s.lab("tamga.toml")).unwrap();
    farm.stop("host2");
    let dry = farm.s.run(&["leave", "--dry-run"]).expect(0);
    assert!(dry.out.contains("ssh://host2?config=") && !dry.out.contains("127.0.0.1"), "{}", dry.out);
    let left = farm.s.run(&["leave", "--yes"]).expect(5);
    assert!(left.out.contains("roots on host2") && left.out.contains("Connection refused"), "{}", left.out);
    assert!(farm.s.path("data").exists());
    farm.resume("host2");
    let left = farm.s.run(&["leave", "--yes"]).expect(0);
    assert!(left.out.contains("removed Tamga's roots from host2"), "{}", left.out);
    assert_eq!(farm.asked("host2", "ls /etc/pki/ca-trust/source/anchors/tamga-* 2>/dev/null"), "");
    assert!(!farm.s.path("data").exists());
}

#[test]
fn a_machine_that_is_not_the_known_one_gets_nothing() {
    let Some(farm) = Farm::start(&["family", "family", "family"]) else { return };
    let known = farm.folder.join("known_hosts");
    let lines: Vec<String> = std::fs::read_to_string(&known).unwrap().lines().map(str::to_owned).collect();
    let place = |n: usize| lines[n].split_once(' ').unwrap();
    // The first is not known; the second shows another key than the one that is known.
    std::fs::write(&known, format!("{} {}\n{}\n", place(1).0, place(2).1, lines[2])).unwrap();
    // A setting that would take any key does not count.
    let config = farm.folder.join("ssh_config");
    let text = std::fs::read_to_string(&config).unwrap();
    std::fs::write(&config, format!("StrictHostKeyChecking no\n{text}")).unwrap();
    let report = farm.json(&["trust", "add", "--on", "all", "--stores", "system"], 5);
    for (host, code) in [("host1", "host-key-unknown"), ("host2", "host-key-changed")] {
        assert_eq!(row(&report, host, "system")["failure"]["code"], code, "{report}");
        let n = &host[4..];
        assert!(!farm.folder.join(format!("host{n}/etc/pki")).exists(), "{host}");
    }
    assert_eq!(row(&report, "host3", "system")["change"], "added");
}

#[test]
fn what_is_no_machine_is_refused_before_anything_is_started() {
    let s = sandbox();
    for words in [&["trust", "status", "--on", ","][..], &["check", "charts.test", "--on", ""]] {
        let ran = s.run(words).expect(2);
        assert!(ran.err.contains("the names of hosts"), "{}", ran.err);
    }
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    let trap = s.path("trap");
    for on in [
        format!("ssh://-oProxyCommand=touch {}", trap.display()),
        format!("ssh://x;touch {}", trap.display()),
        "container:--privileged".into(),
    ] {
        s.run(&["trust", "add", &format!("--on={on}")]).expect(2);
    }
    assert!(!trap.exists());
    let unknown = s.run(&["trust", "status", "--on", "charts"]).expect(3);
    assert!(unknown.err.contains("tamga.toml") && unknown.err.contains("ssh://root@charts"), "{}", unknown.err);
    std::fs::write(s.lab("tamga.toml"), "[[host]]\nname = \"charts\"\nssh = \"root@charts.saltmarsh.test\"\n").unwrap();
    let near = s.run(&["trust", "status", "--on", "chart"]).expect(3);
    assert!(near.err.contains("did you mean charts?"), "{}", near.err);
    for wrong in [
        "[[host]]\nname = \"-x\"\nlocal = true\n",
        "[[host]]\nname = \"x\"\n",
        "[[host]]\nname = \"x\"\nlocal = true\nssh = \"y\"\n",
        "[[host]]\nname = \"x\"\nssh = \"-oProxyCommand=id\"\n",
    ] {
        std::fs::write(s.lab("tamga.toml"), wrong).unwrap();
        let said = s.run(&["trust", "status", "--on", "x"]).expect(3);
        assert!(said.err.contains("line 2") || said.err.contains("line 1"), "{}", said.err);
    }
    let of_person = s.run(&["trust", "add", "--on", "ssh://root@charts", "--stores", "firefox"]).expect(2);
    assert!(of_person.err.contains("firefox-policy"), "{}", of_person.err);
    s.run(&["trust", "add", "--on", "ssh://root@charts", "--bundle", "/srv/roots.pem"]).expect(2);
    // An image is a machine of that kind too.
    std::fs::create_dir_all(s.lab("image/etc/ca-certificates/update.d")).unwrap();
    std::fs::write(s.lab("tamga.toml"), "[[host]]\nname = \"image\"\nimage = \"image\"\n").unwrap();
    let bundle = s.lab("image/srv/roots.pem");
    std::fs::create_dir_all(bundle.parent().unwrap()).unwrap();
    std::fs::write(&bundle, "").unwrap();
    let report = s.json(&["trust", "status", "--on", "image"]).json();
    assert_eq!(report["hosts"][0]["host"], "image", "{report}");
}

/// A container is reached through its own client; a stand-in here, which says how it was called.
#[test]
fn a_container_is_reached_through_its_client() {
    let mut s = sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    let called = s.path("called");
    s.stand_in("docker", &format!("#!/bin/sh\necho \"$@\" >> {}\nshift 3\nexec \"$@\"\n", called.display()));
    let report = s.json(&["trust", "status", "--on", "container:tides-web-1", "--stores", "system"]).json();
    assert_eq!(report["hosts"][0]["failure"], Value::Null, "{report}");
    assert_eq!(report["hosts"][0]["stores"][0]["store"], "system", "{report}");
    assert_eq!(std::fs::read_to_string(&called).unwrap(), "exec -i tides-web-1 sh\n");
    // One that is not there: what the client says is the reason.
    s.stand_in("docker", "#!/bin/sh\necho \"Error response from daemon: No such container: $3\" >&2\nexit 1\n");
    let gone = s.run(&["trust", "status", "--on", "container:tides-web-1"]).expect(4);
    assert!(gone.out.contains("No such container: tides-web-1"), "{}{}", gone.out, gone.err);
}
