//! Programs that Tamga starts: their time, their environment and descriptors, and what a failure leaves behind.

use crate::sandbox;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::{Duration, Instant};
use tamga_testkit::sandbox::{Ran, Sandbox, has};

const SECRET: &str = "the passphrase of the lab";

/// A lab of one certificate with a place; `more` is put into the place's table.
fn with_place(more: &str) -> Sandbox {
    let s = sandbox();
    for folder in ["", "lab"] {
        std::fs::set_permissions(s.path(folder), std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    let text = format!(
        "[[authority]]\nlabel = \"saltmarsh\"\n[[certificate]]\nlabel = \"charts\"\nnames = [\"charts.saltmarsh.test\"]\n\
         [[certificate.place]]\n{more}\n"
    );
    std::fs::write(s.lab("tamga.toml"), text).unwrap();
    s
}

const HERE: &str = "certificate = \"tls/charts.pem\"\nkey = \"tls/charts.key\"\n";

#[test]
fn a_command_that_leaves_another_one_running_holds_nobody_up() {
    let s = with_place(&format!("{HERE}run = [\"sh\", \"-c\", \"sleep 60 & echo done\"]"));
    let begun = Instant::now();
    s.run(&["apply"]).expect(0);
    assert!(begun.elapsed() < Duration::from_secs(15), "it waited {:?} for a grandchild", begun.elapsed());
}

#[test]
fn a_command_of_apply_may_call_tamga_itself() {
    let program = env!("CARGO_BIN_EXE_tamga");
    let run = format!("run = [\"{program}\", \"issue\", \"archive.saltmarsh.test\"]");
    let s = with_place(&format!("{HERE}{run}"));
    let begun = Instant::now();
    let ran = s.run(&["apply"]).expect(0);
    assert!(!ran.err.contains("interrupted"), "{}", ran.err);
    assert!(begun.elapsed() < Duration::from_secs(20), "it waited {:?} for the lock", begun.elapsed());
    assert!(s.lab("archive.saltmarsh.test/certificate.pem").exists());
}

#[test]
fn no_secret_and_no_descriptor_of_ours_reaches_a_program_that_we_start() {
    if !has(&["bash"]) {
        return;
    }
    let s = with_place(&format!(
        "{HERE}run = [\"sh\", \"-c\", \"env > environment; ls -l /proc/self/fd > descriptors; tr '\\\\\\\\0' ' ' < /proc/$PPID/environ > parent\"]"
    ));
    std::fs::write(s.lab("secret"), SECRET).unwrap();
    let mut c = s.around("bash");
    let line = format!(
        "exec 9<secret; NEW_WORD='{SECRET}' tamga authority create saltmarsh --new-passphrase-env NEW_WORD \
         && LAB_WORD='{SECRET}' tamga apply --passphrase-env LAB_WORD"
    );
    let ran: Ran = { c.args(["-c", &line]) }.output().unwrap().into();
    let ran = ran.expect(0);
    assert!(ran.out.contains("put"), "{}", ran.out);
    let seen = std::fs::read_to_string(s.lab("environment")).unwrap();
    assert!(seen.contains("TAMGA_DATA_DIR"), "the check sees the environment: {seen}");
    assert!(!seen.contains(SECRET) && !seen.contains("LAB_WORD"), "{seen}");
    let fds = std::fs::read_to_string(s.lab("descriptors")).unwrap();
    assert!(!fds.contains("secret") && !fds.contains("ledger") && !fds.contains("lock"), "{fds}");
    let parent = std::fs::read_to_string(s.lab("parent")).unwrap();
    assert!(!parent.contains(SECRET), "our own environment, as another program of the user reads it");
}

/// The same for the program that puts a root into the system's store, and for the child that opens a browser's database.
#[test]
fn the_stores_own_programs_see_no_passphrase_either() {
    let mut s = sandbox();
    let script = format!("#!/bin/sh\nenv > {}\nexit 1\n", s.lab("environment").display());
    s.stand_in("update-ca-certificates", &script);
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    let mut c = s.command(&["trust", "add", "--stores", "system,chromium", "--passphrase-env", "DATABASE_WORD"]);
    c.env("DATABASE_WORD", SECRET).output().unwrap();
    let seen = std::fs::read_to_string(s.lab("environment")).unwrap();
    assert!(seen.contains("PATH=") && !seen.contains(SECRET), "{seen}");
}

/// "Another machine" that is this one: the script that Tamga sends is the last word, and a shell carries it out.
fn far(s: &Sandbox, wrapper: &str) -> String {
    std::fs::create_dir_all(s.lab("far")).unwrap();
    std::fs::write(s.lab("ssh"), wrapper).unwrap();
    std::fs::set_permissions(s.lab("ssh"), std::fs::Permissions::from_mode(0o755)).unwrap();
    s.lab("ssh").display().to_string()
}

fn left(s: &Sandbox) -> Vec<PathBuf> {
    s.files("lab/far").into_iter().map(|(path, _)| path).chain(directories(s)).collect()
}

fn directories(s: &Sandbox) -> Vec<PathBuf> {
    std::fs::read_dir(s.lab("far")).unwrap().flatten().map(|e| e.path()).filter(|p| p.is_dir()).collect()
}

#[test]
fn a_place_on_another_machine_that_fails_half_way_leaves_nothing_there() {
    let place = |s: &Sandbox, certificate: &str, more: &str| {
        let wrapper = far(s, "#!/bin/sh\nexec sh -c \"$1\"\n");
        let at = s.lab("far").display().to_string();
        let text = format!(
            "[[authority]]\nlabel = \"saltmarsh\"\n[[certificate]]\nlabel = \"charts\"\nnames = [\"charts.saltmarsh.test\"]\n\
             [[certificate.place]]\nthrough = [\"{wrapper}\"]\nkey = \"{at}/charts.key\"\ncertificate = \"{at}/{certificate}\"\n{more}\n"
        );
        std::fs::write(s.lab("tamga.toml"), text).unwrap();
    };
    let s = with_place("");
    // It goes well.
    place(&s, "charts.pem", "");
    s.run(&["apply"]).expect(0);
    let names: Vec<String> = left(&s).iter().map(|p| p.file_name().unwrap().to_string_lossy().into_owned()).collect();
    assert_eq!(names, ["charts.key", "charts.pem"]);
    let before = std::fs::read(s.lab("far/charts.key")).unwrap();
    s.run(&["renew", "charts"]).expect(0);
    // The second file cannot be put there: its directory is a file.
    std::fs::write(s.lab("far/blocked"), "a file").unwrap();
    place(&s, "blocked/charts.pem", "");
    let ran = s.run(&["apply"]).expect(1);
    assert!(ran.out.contains("failed"), "{}", ran.out);
    let names: Vec<String> = left(&s).iter().map(|p| p.file_name().unwrap().to_string_lossy().into_owned()).collect();
    assert_eq!(names, ["blocked", "charts.key", "charts.pem"], "{}", ran.out);
    assert_eq!(std::fs::read(s.lab("far/charts.key")).unwrap(), before, "no half of a new pair");
    // An account that is not there: nothing is given away, and nothing stays.
    place(&s, "charts.pem", "owner = \"no-such-account\"");
    s.run(&["apply"]).expect(1);
    assert_eq!(left(&s).len(), 3);
    assert_eq!(std::fs::read(s.lab("far/charts.key")).unwrap(), before);
    // The connection is cut in the middle of a key.
    place(&s, "charts.pem", "");
    far(&s, "#!/bin/sh\nhead -c 100 | sh -c \"$1\"\n");
    s.run(&["apply"]).expect(1);
    assert_eq!(left(&s).len(), 3);
    // What comes back is not what was sent.
    far(&s, "#!/bin/sh\nsh -c \"$1\" | dd bs=1 conv=lcase 2>/dev/null\n");
    let ran = s.run(&["apply"]).expect(1);
    assert!(ran.out.contains("come back") || ran.out.contains("not what was sent"), "{}", ran.out);
    assert_eq!((left(&s).len(), std::fs::read(s.lab("far/charts.key")).unwrap()), (3, before.clone()));
    // Ourselves killed in the middle: the session there cleans up after itself, and the next run says it and goes on.
    far(&s, "#!/bin/sh\nsh -c \"$1\" | (sleep 3; cat)\n");
    let mut child = s.command(&["apply"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(700));
    child.kill().unwrap();
    child.wait().unwrap();
    let begun = Instant::now();
    while left(&s).len() > 3 && begun.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(Duration::from_millis(50));
    }
    assert_eq!(left(&s).len(), 3, "{:?}", left(&s));
    assert_eq!(std::fs::read(s.lab("far/charts.key")).unwrap(), before);
    // Killed when everything was sent: the pair is whole there, and the next run removes what was kept beside it.
    far(&s, "#!/bin/sh\n(cat; sleep 3) | sh -c \"$1\"\n");
    let mut child = s.command(&["apply"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(1000));
    child.kill().unwrap();
    child.wait().unwrap();
    far(&s, "#!/bin/sh\nexec sh -c \"$1\"\n");
    let ran = s.run(&["apply"]).expect(0);
    assert!(ran.err.contains("was interrupted") || ran.out.contains("put"), "{}{}", ran.out, ran.err);
    assert_ne!(std::fs::read(s.lab("far/charts.key")).unwrap(), before);
    assert_eq!(left(&s).len(), 3);
}

/// An account that owns the directory there plants links over what is staged: it gets nothing by it.
#[test]
fn on_another_machine_no_planted_link_is_followed() {
    if !tamga_testkit::server::is_root() {
        eprintln!("SKIPPED: only root gives files to another account");
        return;
    }
    let s = with_place("");
    let wrapper = far(&s, "#!/bin/sh\nexec sh -c \"$1\"\n");
    let at = s.lab("far").display().to_string();
    let text = format!(
        "[[authority]]\nlabel = \"saltmarsh\"\n[[certificate]]\nlabel = \"charts\"\nnames = [\"charts.saltmarsh.test\"]\n\
         [[certificate.place]]\nthrough = [\"{wrapper}\"]\nkey = \"{at}/charts.key\"\ncertificate = \"{at}/charts.pem\"\nowner = \"nobody\"\n"
    );
    std::fs::write(s.lab("tamga.toml"), text).unwrap();
    std::fs::write(s.path("root-file"), "root's own\n").unwrap();
    std::fs::create_dir(s.path("root-folder")).unwrap();
    for name in [".charts.key.tamga-new", ".charts.key.tamga-old", ".charts.pem.tamga-old", "charts.key"] {
        std::os::unix::fs::symlink(s.path("root-file"), s.lab("far").join(name)).unwrap();
    }
    std::os::unix::fs::symlink(s.path("root-folder"), s.lab("far/charts.pem")).unwrap();
    tamga_testkit::account::give(&s.lab("far"));
    s.run(&["apply"]).expect(0);
    use std::os::unix::fs::MetadataExt;
    assert_eq!(std::fs::read_to_string(s.path("root-file")).unwrap(), "root's own\n");
    assert_eq!(std::fs::metadata(s.path("root-file")).unwrap().uid(), 0);
    assert_eq!(std::fs::read_dir(s.path("root-folder")).unwrap().count(), 0);
    for name in ["charts.key", "charts.pem"] {
        let meta = std::fs::symlink_metadata(s.lab("far").join(name)).unwrap();
        assert!(meta.is_file() && meta.uid() == 65_534, "{name}");
    }
}
