//! Whose rights a change is made with: none raised unasked, single steps where asked, nothing gained by what others plant.

use crate::{lab, sandbox};
use std::os::unix::fs::{MetadataExt, chown};
use tamga_testkit::account::{NOBODY, behind, give, hand_over, mode, private, run_for_nobody};
use tamga_testkit::sandbox::{Ran, Sandbox, has};
use tamga_testkit::server::is_root;

const ANCHORS: &str = "root/usr/local/share/ca-certificates";
/// Runs Tamga as the account without rights; in a view where that account may call sudo without a password, or may not.
fn as_nobody(s: &Sandbox, may_raise: bool, words: &[&str]) -> Option<Ran> {
    let rule = if may_raise { "nobody ALL=(root) NOPASSWD: ALL" } else { "" };
    let script = format!(
        "mkdir -p /etc/sudoers.d && mount -t tmpfs -o mode=0755 t /etc/sudoers.d && echo '{rule}' > /etc/sudoers.d/tamga && chmod 0440 /etc/sudoers.d/tamga"
    );
    let mut c = private(&script)?;
    let id = NOBODY.to_string();
    c.args(["setpriv", "--reuid", &id, "--regid", &id, "--clear-groups"]);
    let mut c = behind(c, s, words);
    c.env("PATH", format!("{}:/usr/sbin:/sbin", s.programs())).env("TMPDIR", s.path("lab"));
    Some(c.output().unwrap().into())
}

fn anchors(s: &Sandbox) -> Vec<std::fs::DirEntry> {
    std::fs::read_dir(s.path(ANCHORS)).unwrap().flatten().collect()
}

#[test]
fn without_rights_the_rest_is_a_command_to_type() {
    if !has(&["update-ca-certificates", "setpriv"]) || !is_root() {
        return;
    }
    let s = lab();
    hand_over(&s);
    std::fs::write(s.lab("bundle.pem"), "# the lab's\n").unwrap();
    chown(s.lab("bundle.pem"), Some(NOBODY), None).unwrap();
    let words = ["trust", "add", "--stores", "system,bundle", "--bundle", "bundle.pem"];
    let Some(ran) = as_nobody(&s, false, &words) else { return };
    let ran = ran.expect(5);
    assert!(ran.out.contains("sudo tamga trust add --scope machine"), "{}", ran.out);
    assert!(
        std::fs::read_to_string(s.lab("bundle.pem")).unwrap().contains("BEGIN CERTIFICATE"),
        "the person's own is done"
    );
    assert!(anchors(&s).is_empty());
}

#[test]
fn elevate_raises_only_the_steps_that_need_it() {
    if !has(&["update-ca-certificates", "setpriv", "sudo"]) || !is_root() {
        return;
    }
    let mut s = lab();
    hand_over(&s);
    // Found first on the person's PATH: notes what is raised, and swaps every file of the person's in the meantime.
    std::fs::write(s.path("evil.pem"), "-----BEGIN CERTIFICATE-----\nZXZpbA==\n-----END CERTIFICATE-----\n").unwrap();
    let script = format!(
        "#!/bin/sh\necho \"$@\" >> {lab}/raised\nfind {lab} -name '*.pem' -type f -exec cp {evil} {{}} \\;\nexec /usr/bin/sudo \"$@\"\n",
        lab = s.path("lab").display(),
        evil = s.path("evil.pem").display()
    );
    s.stand_in("sudo", &script);
    let root = std::fs::read_to_string(s.path("data/authorities/saltmarsh/certificate.pem")).unwrap();
    let Some(ran) = as_nobody(&s, true, &["trust", "add", "--scope", "machine", "--elevate"]) else { return };
    let ran = ran.expect(0);
    assert!(ran.out.contains("present"), "{}", ran.out);
    let found = anchors(&s);
    assert_eq!(found.len(), 1);
    let meta = found[0].metadata().unwrap();
    assert_eq!((meta.uid(), meta.mode() & 0o7777), (0, 0o644));
    assert_eq!(
        std::fs::read_to_string(found[0].path()).unwrap(),
        root,
        "the bytes that were planned, whatever was swapped"
    );
    let raised = std::fs::read_to_string(s.lab("raised")).unwrap();
    let inside = s.path("root").display().to_string();
    for line in raised.lines() {
        let program = line.split(' ').next().unwrap();
        assert!(["/usr/bin/install", "/usr/bin/mv", "/usr/sbin/update-ca-certificates"].contains(&program), "{line}");
        assert!(!line.contains("/lab/") && !line.contains("/home/") && line.contains(&inside), "{line}");
    }
    // The ledger stayed the person's.
    assert_eq!(std::fs::metadata(s.path("data/ledger.sqlite")).unwrap().uid(), NOBODY);
    as_nobody(&s, true, &["trust", "remove", "--scope", "machine", "--elevate"]).unwrap().expect(0);
    assert!(anchors(&s).is_empty());
    // Where the raiser says no, nothing is changed, and it is said.
    let refused = as_nobody(&s, false, &["trust", "add", "--scope", "machine", "--elevate"]).unwrap().expect(4);
    assert!(refused.out.contains("sudo") && refused.out.contains("do:"), "{}", refused.out);
    assert!(anchors(&s).is_empty());
}

#[test]
fn what_a_person_plants_gains_nothing_under_sudo() {
    if !is_root() {
        eprintln!("SKIPPED: only root can act for somebody else");
        return;
    }
    let s = sandbox();
    let home = s.path("home");
    for open in [s.path(""), s.path("lab"), s.path("root")] {
        mode(&open, 0o755);
    }
    let own = s.path("only-root");
    std::fs::create_dir(&own).unwrap();
    mode(&own, 0o700);
    std::fs::create_dir_all(home.join(".local/share/pki")).unwrap();
    std::os::unix::fs::symlink(&own, home.join(".local/share/pki/nssdb")).unwrap();
    std::fs::create_dir_all(home.join(".mozilla/firefox")).unwrap();
    std::os::unix::fs::symlink(&own, home.join(".mozilla/firefox/a.lab")).unwrap();
    std::fs::write(home.join(".mozilla/firefox/profiles.ini"), "[Profile0]\nIsRelative=1\nPath=a.lab\n").unwrap();
    give(&home);
    let run = |words: &[&str]| run_for_nobody(&s, &home, "", words).unwrap();
    if run_for_nobody(&s, &home, "", &["list"]).is_none() {
        return;
    }
    run(&["authority", "create", "saltmarsh"]).expect(0);
    let ran = run(&["trust", "add", "--stores", "chromium,firefox"]);
    assert!([0, 4, 5].contains(&ran.code), "{}", ran.err);
    assert_eq!(std::fs::read_dir(&own).unwrap().count(), 0, "a link led root's rights into root's folder: {}", ran.out);
    // The data directory itself as a link.
    std::fs::remove_dir_all(home.join(".local/share/tamga")).unwrap();
    std::os::unix::fs::symlink(&own, home.join(".local/share/tamga")).unwrap();
    run(&["authority", "create", "again"]).expect(4);
    assert_eq!(std::fs::read_dir(&own).unwrap().count(), 0);
}

#[test]
fn root_uses_no_data_folder_that_others_can_change() {
    if !is_root() {
        eprintln!("SKIPPED: this is about root");
        return;
    }
    let s = lab();
    mode(&s.path("data"), 0o777);
    let ran = s.json(&["issue", "archive.saltmarsh.test"]).expect(4).json();
    assert_eq!(ran["error"]["code"], "open-to-others", "{ran}");
    mode(&s.path("data"), 0o700);
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    chown(s.path("data"), Some(NOBODY), None).unwrap();
    let ran = s.run(&["trust", "add", "--stores", "chromium"]).expect(4);
    assert!(ran.err.contains("nobody") || ran.err.contains("65534"), "{}", ran.err);
    assert!(ran.err.contains("chown root"), "{}", ran.err);
    // Looking is always allowed.
    s.run(&["list"]).expect(0);
}

#[test]
fn a_full_disk_loses_nothing_and_the_others_go_on() {
    if !has(&["update-ca-certificates"]) {
        return;
    }
    let s = lab();
    std::fs::write(s.lab("bundle.pem"), "# the lab's\n").unwrap();
    let full = s.path(ANCHORS).display().to_string();
    let script = format!("mount -t tmpfs -o size=4k t {full} && head -c 4096 /dev/zero > {full}/filler");
    let Some(mut c) = private(&script) else { return };
    let words = ["trust", "add", "--stores", "system,bundle", "--bundle", "bundle.pem"];
    let own = s.command(&words);
    c.arg(own.get_program()).args(words).current_dir(s.path("lab")).env_clear();
    c.envs(own.get_envs().filter_map(|(k, v)| Some((k, v?))));
    let ran = Ran::from(c.output().unwrap()).expect(5);
    assert!(ran.out.contains("the disk is full") && ran.out.contains("free some disk space"), "{}", ran.out);
    assert!(std::fs::read_to_string(s.lab("bundle.pem")).unwrap().contains("BEGIN CERTIFICATE"), "{}", ran.out);
    s.run(&["repair"]).expect(0);
}

#[test]
fn a_held_up_hook_of_java_is_seen() {
    // The command says 0 although its hook for Java was held up by a running package manager: only a look tells.
    let mut s = lab();
    let root = s.path("root").display().to_string();
    let script = format!(
        "#!/bin/sh\ncd {root}/etc/ssl/certs\ncat ../../../usr/local/share/ca-certificates/*.crt > ca-certificates.crt\n\
         n=0; for f in {root}/usr/local/share/ca-certificates/*.crt; do b=$(basename $f .crt).pem; ln -sf $f $b; ln -sf $b 5c379c8$n.0; n=$((n+1)); done\n\
         echo 'E: /etc/ca-certificates/update.d/jks-keystore exited with code 2.' >&2\nexit 0\n"
    );
    s.stand_in("update-ca-certificates", &script);
    s.run(&["export", "charts/root.pem", "--as", "jks", "--output", "other.jks", "--passphrase-env", "NONE"]);
    std::fs::create_dir_all(s.path("root/etc/ssl/certs/java")).unwrap();
    // A store of roots with nothing in it: version 2, no entry, the digest of the usual password.
    std::fs::write(s.path("root/etc/ssl/certs/java/cacerts"), b"\xfe\xed\xfe\xed\0\0\0\x02\0\0\0\0").unwrap();
    let ran = s.run(&["trust", "add", "--stores", "system"]).expect(4);
    assert!(ran.out.contains("lacks it") && ran.out.contains("--fresh"), "{}", ran.out);
}

#[test]
fn a_folder_of_the_browser_that_may_not_be_written_is_said() {
    if !has(&["chromium", "setpriv"]) || !is_root() {
        return;
    }
    let s = lab();
    s.run(&["trust", "add", "--stores", "chromium"]).expect(0);
    s.run(&["trust", "remove", "--stores", "chromium"]).expect(0);
    hand_over(&s);
    let folder = s.path("home/.local/share/pki/nssdb");
    for file in std::fs::read_dir(&folder).unwrap().flatten() {
        mode(&file.path(), 0o444);
    }
    mode(&folder, 0o555);
    let before = s.files("home");
    let Some(ran) = as_nobody(&s, false, &["trust", "add", "--stores", "chromium"]) else { return };
    let ran = ran.expect(4);
    assert!(ran.out.contains("failed") && ran.out.contains("do:"), "{}", ran.out);
    assert_eq!(s.files("home"), before);
}
