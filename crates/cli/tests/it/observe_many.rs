//! `check --list --observe`: each installed client is started once for many targets, and its answers go to the right ones.

use crate::sandbox;
use serde_json::Value;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::site::Site;

/// Where a program is, by PATH.
fn found(program: &str) -> PathBuf {
    let path = std::env::var_os("PATH").unwrap();
    std::env::split_paths(&path).map(|f| f.join(program)).find(|p| p.is_file()).unwrap()
}

/// Puts programs of these names into a directory, each of which notes that it was started and becomes the real one.
fn counted(s: &Sandbox, programs: &[&str]) -> PathBuf {
    let folder = s.path("counted");
    std::fs::create_dir(&folder).unwrap();
    for program in programs {
        let script = folder.join(program);
        let log = s.path("starts");
        let text =
            format!("#!/bin/sh\necho {program} >> {}\nexec {} \"$@\"\n", log.display(), found(program).display());
        std::fs::write(&script, text).unwrap();
        std::fs::set_permissions(&script, std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    folder
}

fn checked(s: &Sandbox, folder: &Path, clients: &str) -> Value {
    let path = std::env::join_paths([folder.to_owned(), "/usr/bin".into(), "/bin".into()]).unwrap();
    let mut c = s.command(&["check", "--list", "targets", "--observe", "--clients", clients, "--format", "json"]);
    let root = s.lab("charts/root.pem");
    c.env("PATH", path)
        .env("SSL_CERT_FILE", &root)
        .env("SSL_CERT_DIR", "/nonexistent")
        .env("NODE_EXTRA_CA_CERTS", root);
    let out = c.output().unwrap();
    serde_json::from_slice(&out.stdout).unwrap_or_else(|e| panic!("{e}: {}", String::from_utf8_lossy(&out.stderr)))
}

fn observed<'a>(v: &'a Value, target: usize, client: &str) -> &'a str {
    let rows = v["targets"][target]["clients"].as_array().unwrap();
    let row = rows.iter().find(|r| r["client"] == client && r["basis"] == "observed");
    row.unwrap_or_else(|| panic!("target {target} has no row of {client}: {v}"))["verdict"].as_str().unwrap()
}

#[test]
fn each_client_is_started_once_and_every_target_has_its_own_answer() {
    if !has(&["node", "python3", "java"]) {
        return;
    }
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    s.run(&["issue", "localhost", "--label", "charts"]).expect(0);
    s.run(&["issue", "tide.saltmarsh.test", "--label", "tide"]).expect(0);
    let (good, bad) = (Site::start(&s, &["charts"]), Site::start(&s, &["tide"]));
    // The second serves a certificate for another name; nobody listens at the third.
    let list = format!("localhost:{}\nlocalhost:{}\nlocalhost:1\nlocalhost:{}\n", good.port, bad.port, good.port);
    std::fs::write(s.lab("targets"), list).unwrap();
    let folder = counted(&s, &["node", "python3", "java"]);
    let v = checked(&s, &folder, "node,python,java");
    for client in ["node", "python"] {
        let said: Vec<&str> = [0, 1, 3].map(|t| observed(&v, t, client)).to_vec();
        assert_eq!(said, ["accepts", "refuses", "accepts"], "{client}: {v}");
    }
    let refused = v["targets"][2]["clients"].as_array().unwrap();
    assert!(refused.iter().all(|r| r["basis"] != "observed"), "nobody was met: {v}");
    // Java has the root in no store: it refuses all three, each in the same words.
    assert_eq!([0, 1, 3].map(|t| observed(&v, t, "java")), ["refuses"; 3]);
    let starts = std::fs::read_to_string(s.path("starts")).unwrap();
    let mut starts: Vec<&str> = starts.lines().collect();
    starts.sort_unstable();
    assert_eq!(starts, ["java", "node", "python3"]);
}

#[test]
fn a_client_that_dies_among_the_targets_is_said_and_the_rest_of_them_is_unknown() {
    if !has(&["python3"]) {
        return;
    }
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    s.run(&["issue", "localhost", "--label", "charts"]).expect(0);
    let site = Site::start(&s, &["charts"]);
    std::fs::write(s.lab("targets"), format!("localhost:{0}\nlocalhost:{0}\nlocalhost:{0}\n", site.port)).unwrap();
    let folder = s.path("counted");
    std::fs::create_dir(&folder).unwrap();
    let script = folder.join("python3");
    std::fs::write(&script, "#!/bin/sh\necho +\necho '-certificate verify failed: made up'\nexit 3\n").unwrap();
    std::fs::set_permissions(&script, std::fs::Permissions::from_mode(0o755)).unwrap();
    let v = checked(&s, &folder, "python");
    assert_eq!([0, 1, 2].map(|t| observed(&v, t, "python")), ["accepts", "refuses", "unknown"]);
    let codes = |t: usize| v["targets"][t]["findings"].to_string();
    assert!(!codes(0).contains("prediction-differs") && codes(1).contains("prediction-differs"), "{v}");
    assert!(!codes(2).contains("prediction-differs"), "an answer that is missing differs from nothing: {v}");
}
