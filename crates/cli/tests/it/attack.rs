//! A second account that races what root writes: whatever it plants, it gets nothing of root's, and nothing of root's changes.
//!
//! `TAMGA_TESTS_RACES` says how often each is run: 40 times, and 500 times before an issue is closed.

use crate::{lab, sandbox};
use std::os::unix::fs::{MetadataExt, chown, symlink};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command};
use tamga_testkit::account::{NOBODY, give, hand_over, mode, reachable, run_as_nobody};
use tamga_testkit::sandbox::{Ran, Sandbox, has};
use tamga_testkit::server::is_root;

fn rounds() -> usize {
    std::env::var("TAMGA_TESTS_RACES").ok().and_then(|n| n.parse().ok()).unwrap_or(40)
}

/// A place of the attacker's own in a sandbox of root's, and what only root may touch.
struct Arena {
    s: Sandbox,
    /// The attacker's directory.
    theirs: PathBuf,
    secret: PathBuf,
    folder: PathBuf,
    attacker: PathBuf,
}

/// Kills the attacker when dropped.
struct Racing(Child);

impl Drop for Racing {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Arena {
    fn new(s: Sandbox) -> Option<Arena> {
        if !is_root() {
            eprintln!("SKIPPED: only root can be raced by another account");
            return None;
        }
        for open in ["", "lab"] {
            mode(&s.path(open), 0o755);
        }
        let home = s.path("theirs");
        let theirs = home.join("tls");
        std::fs::create_dir_all(&theirs).unwrap();
        give(&home);
        let (secret, folder) = (s.path("only-root-file"), s.path("only-root"));
        std::fs::write(&secret, "root's own\n").unwrap();
        mode(&secret, 0o600);
        std::fs::create_dir(&folder).unwrap();
        mode(&folder, 0o700);
        // Beside the tests' own program, which lies where another account may not go.
        let built = std::env::current_exe().unwrap();
        let example = built.parent()?.parent()?.join("examples/attacker");
        assert!(example.exists(), "{} is built with the tests", example.display());
        let attacker = reachable(&s, &example);
        Some(Arena { s, theirs, secret, folder, attacker })
    }

    fn race(&self, names: &[&str]) -> Racing {
        let mut c = Command::new(&self.attacker);
        c.arg(&self.theirs).args([&self.secret, &self.folder]).args(names).uid(NOBODY).gid(NOBODY);
        Racing(c.spawn().unwrap())
    }

    /// Fails if anything of root's was given away or changed.
    fn judge(&self, when: &str) {
        let meta = std::fs::symlink_metadata(&self.secret).unwrap();
        let secret = meta.clone();
        assert_eq!((meta.uid(), meta.mode() & 0o7777), (0, 0o600), "{when}: root's file was given away");
        assert_eq!(std::fs::read_to_string(&self.secret).unwrap(), "root's own\n", "{when}: root's file was written");
        let meta = std::fs::symlink_metadata(&self.folder).unwrap();
        assert_eq!((meta.uid(), meta.mode() & 0o7777), (0, 0o700), "{when}: root's directory was given away");
        let inside: Vec<_> = std::fs::read_dir(&self.folder).unwrap().flatten().map(|e| e.file_name()).collect();
        assert!(inside.is_empty(), "{when}: root wrote into a directory of root's for another account: {inside:?}");
        // Nothing that was written there holds what only root may read.
        for entry in std::fs::read_dir(&self.theirs).into_iter().flatten().flatten() {
            let is_file = entry.file_type().is_ok_and(|t| t.is_file());
            let text = if is_file { std::fs::read(entry.path()).unwrap_or_default() } else { Vec::new() };
            let known = entry.path().symlink_metadata().is_ok_and(|m| m.ino() == secret.ino());
            let leaked = text.windows(10).any(|w| w == b"root's own");
            assert!(known || !leaked, "{when}: {} shows root's file", entry.path().display());
        }
        // The attacker's own directory holds no second name of root's file that became the attacker's.
        for entry in std::fs::read_dir(&self.theirs).into_iter().flatten().flatten() {
            let Ok(m) = entry.path().symlink_metadata() else { continue };
            assert!(m.ino() != meta.ino() || m.uid() == 0, "{when}");
        }
    }
}

/// The names that a change of these files stages, keeps and writes.
fn around(files: &[&str]) -> Vec<String> {
    let staged = files.iter().flat_map(|f| [format!(".{f}.tamga-new"), format!(".{f}.tamga-old")]);
    staged.chain(files.iter().map(|f| (*f).to_owned())).collect()
}

#[test]
fn apply_gives_nothing_of_roots_to_the_account_that_owns_the_place() {
    let Some(a) = Arena::new(lab()) else { return };
    let tls = a.theirs.display();
    let file = format!(
        "[[authority]]\nlabel = \"saltmarsh\"\n[[certificate]]\nnames = [\"charts.saltmarsh.test\"]\n[[certificate.place]]\n\
         certificate = \"{tls}/charts.pem\"\nkey = \"{tls}/charts.key\"\nowner = \"nobody\"\n"
    );
    std::fs::write(a.s.lab("tamga.toml"), file).unwrap();
    let names = around(&["charts.pem", "charts.key"]);
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let _racing = a.race(&names);
    for round in 0..rounds() {
        // It may fail, since its files are taken away under it; it may never give anything of root's.
        let ran = a.s.run(&["apply"]);
        assert!([0, 1, 4, 5].contains(&ran.code), "{}\n{}", ran.out, ran.err);
        a.judge(&format!("apply, round {round}"));
        a.s.run(&["renew", "charts.saltmarsh.test"]);
    }
}

#[test]
fn hosts_bundles_and_exports_write_through_no_planted_link() {
    let Some(a) = Arena::new(lab()) else { return };
    let at = |name: &str| a.theirs.join(name).display().to_string();
    let (hosts, bundle, export) = (at("hosts"), at("roots.pem"), at("charts.pem"));
    let mut names = around(&["hosts", "roots.pem", "charts.pem"]);
    names.push("hosts.before-tamga".into());
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let _racing = a.race(&names);
    for round in 0..rounds() {
        let name = format!("gauge-{round}.saltmarsh.test");
        for words in [
            &["hosts", "add", &name, "--file", &hosts][..],
            &["trust", "add", "--stores", "bundle", "--bundle", &bundle],
            &["export", "charts", "--as", "combined-pem", "--output", &export, "--yes"],
            &["trust", "remove", "--stores", "bundle", "--bundle", &bundle],
        ] {
            let ran = a.s.run(words);
            assert!([0, 1, 3, 4, 5].contains(&ran.code), "{words:?}: {}\n{}", ran.out, ran.err);
            a.judge(&format!("{words:?}, round {round}"));
        }
    }
}

/// With an access-control list the group's bits are a mask: the list's entries say who may write.
#[test]
fn an_access_control_list_on_the_way_counts_too() {
    if !has(&["setfacl"]) || !is_root() {
        return;
    }
    let s = sandbox();
    mode(&s.path(""), 0o755);
    let above = s.path("above");
    let listed = |entries: &str, code: i32, who: &str| {
        std::fs::create_dir_all(&above).unwrap();
        let set = Command::new("setfacl").args(["-m", entries]).arg(&above).output().unwrap();
        assert!(set.status.success(), "{}", String::from_utf8_lossy(&set.stderr));
        let mut c = s.command(&["authority", "create", "saltmarsh"]);
        let ran = Ran::from(c.env("TAMGA_DATA_DIR", above.join("data")).output().unwrap()).expect(code);
        assert!(ran.err.contains(who), "{entries}: {}", ran.err);
        assert_eq!(above.join("data").exists(), code == 0, "{entries}");
        std::fs::remove_dir_all(&above).unwrap();
    };
    listed("u:nobody:rwx", 4, "nobody");
    listed("g:nogroup:rwx", 4, "nogroup");
    listed("u:nobody:r-x", 0, "");
    // The mask takes the permission away again; the list alone would give it.
    listed("u:nobody:rwx,m::r-x", 0, "");
    // Read and enter for the account, and write for root's own group, of which nobody else is a member.
    listed("u:nobody:r-x,g::rwx", 0, "");
    // An entry that only new files inherit says nothing about who may replace this directory's own.
    listed("d:u:nobody:rwx", 0, "");
}

/// Every directory on the way counts, and every link: anyone who may replace one decides what root does.
#[test]
fn root_uses_no_way_that_another_account_could_replace() {
    let Some(a) = Arena::new(sandbox()) else { return };
    let s = &a.s;
    let create = |data: &Path| {
        let mut c = s.command(&["authority", "create", "saltmarsh"]);
        c.env("TAMGA_DATA_DIR", data);
        c.output().unwrap().status.code().unwrap()
    };
    // The data directory itself is root's, but not the one above it.
    std::fs::create_dir(a.theirs.join("data")).unwrap();
    assert_eq!(create(&a.theirs.join("data")), 4, "the directory above is another account's");
    assert_eq!(create(&a.theirs.join("new")), 4, "and so one that is still to be made");
    std::fs::create_dir(s.path("open")).unwrap();
    mode(&s.path("open"), 0o777);
    assert_eq!(create(&s.path("open/data")), 4, "everybody may replace it");
    mode(&s.path("open"), 0o1777);
    assert_eq!(create(&s.path("open/data")), 0, "in a sticky directory nobody may");
    symlink(s.path("open"), a.theirs.join("link")).unwrap();
    std::os::unix::fs::lchown(a.theirs.join("link"), Some(NOBODY), None).unwrap();
    assert_eq!(create(&a.theirs.join("link/data")), 4, "a link of another account's leads there");
    // A group that has other members may replace it; root's own group has none.
    std::fs::create_dir(s.path("group")).unwrap();
    mode(&s.path("group"), 0o770);
    assert_eq!(create(&s.path("group/data")), 0, "root's own group");
    chown(s.path("group"), None, Some(NOBODY)).unwrap();
    assert_eq!(create(&s.path("group/other")), 4, "a group of others");
    // One of the system's groups that has no members, as /usr/local has on older systems.
    let groups = std::fs::read_to_string("/etc/group").unwrap();
    if groups.lines().any(|l| l == "staff:x:50:") {
        chown(s.path("group"), None, Some(50)).unwrap();
        assert_eq!(create(&s.path("group/staff")), 0, "a group without members");
    }
    // A link to the directory that it lies in is a way like any other.
    symlink(".", s.path("dot")).unwrap();
    assert_eq!(create(&s.path("dot/data-by-a-link")), 0);
    assert!(s.path("data-by-a-link/ledger.sqlite").exists());
    a.judge("ways");
}

#[test]
fn a_lab_file_that_another_account_can_replace_is_refused_for_a_user_too() {
    if !is_root() {
        eprintln!("SKIPPED: another account is needed");
        return;
    }
    let s = lab();
    std::fs::write(s.lab("tamga.toml"), "[[authority]]\nlabel = \"saltmarsh\"\n").unwrap();
    s.run(&["apply"]).expect(0);
    for (owner, bits, code) in [(0, 0o644, 0), (0, 0o666, 4), (NOBODY, 0o644, 4), (0, 0o664, 0)] {
        chown(s.lab("tamga.toml"), Some(owner), None).unwrap();
        mode(&s.lab("tamga.toml"), bits);
        let ran = s.run(&["apply"]).expect(code);
        assert!(code == 0 || ran.err.contains("another account could replace it"), "{}", ran.err);
    }
    // As a user without rights: the file is root's, which is as good as the user's own; one of a third account's is not.
    hand_over(&s);
    mode(&s.lab("tamga.toml"), 0o644);
    for (owner, code) in [(NOBODY, 0), (0, 0), (1, 4)] {
        chown(s.lab("tamga.toml"), Some(owner), None).unwrap();
        let ran = run_as_nobody(&s, &["apply"]);
        assert_eq!(ran.code, code, "owner {owner}: {}", ran.err);
    }
}
