//! As root for somebody else: what the user's environment and accounts say decides nothing that root does.

use crate::{lab, sandbox};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::process::Command;
use tamga_testkit::account::{NOBODY, give, mode, run_for_nobody};
use tamga_testkit::sandbox::{Ran, has};
use tamga_testkit::server::is_root;

/// A program of the user's that is called like the system's is not run as root, and the system's own gets a clean environment.
#[test]
fn what_runs_as_root_is_the_systems_own_in_a_clean_environment() {
    if !has(&["update-ca-certificates"]) || !is_root() {
        return;
    }
    let s = lab();
    let evil = s.path("evil");
    std::fs::create_dir(&evil).unwrap();
    for name in ["update-ca-certificates", "sudo", "doas", "pkexec", "chroot"] {
        let script = format!("#!/bin/sh\nid > {}/ran-{name}\n", s.path("").display());
        std::fs::write(evil.join(name), script).unwrap();
        mode(&evil.join(name), 0o755);
    }
    // What the system's own command sees: its hooks run with its environment.
    std::fs::create_dir_all(s.path("root/usr/sbin")).unwrap();
    let script = format!(
        "#!/bin/sh\nenv > {0}/environment\nexec /usr/sbin/update-ca-certificates \"$@\"\n",
        s.path("").display()
    );
    std::fs::write(s.path("root/usr/sbin/update-ca-certificates"), script).unwrap();
    mode(&s.path("root/usr/sbin/update-ca-certificates"), 0o755);
    let mut c = s.command(&["trust", "add", "--stores", "system"]);
    c.env("PATH", format!("{}:/usr/bin:/bin", evil.display()))
        .env("BASH_ENV", "x")
        .env("LD_LIBRARY_PATH", "/x")
        .env("IFS", "x");
    Ran::from(c.output().unwrap()).expect(0);
    for name in ["update-ca-certificates", "sudo"] {
        assert!(!s.path(&format!("ran-{name}")).exists(), "the user's own {name} was run as root");
    }
    let seen = std::fs::read_to_string(s.path("environment")).unwrap();
    let names: Vec<&str> = seen.lines().filter_map(|l| l.split_once('=')).map(|(n, _)| n).collect();
    for name in &names {
        assert!(
            ["PATH", "LC_ALL", "HOME", "PWD", "OLDPWD", "SHLVL", "_"].contains(name),
            "{name} reached root's program: {seen}"
        );
    }
    assert!(!seen.contains("evil"), "{seen}");
}

#[test]
fn a_caller_who_cannot_be_looked_up_is_an_error_and_never_root() {
    if !is_root() {
        eprintln!("SKIPPED: this is about root");
        return;
    }
    let s = sandbox();
    for (variable, value) in
        [("SUDO_UID", "4242424"), ("PKEXEC_UID", "4242424"), ("DOAS_USER", "no-such-account"), ("SUDO_UID", "x")]
    {
        let mut c = s.command(&["authority", "create", "saltmarsh"]);
        c.env(variable, value).env_remove("TAMGA_DATA_DIR").env("HOME", s.path("home"));
        let ran = Ran::from(c.output().unwrap()).expect(4);
        assert!(ran.err.contains("cannot be looked up") && ran.err.contains(value), "{}", ran.err);
        assert!(s.files("home").is_empty(), "something was made as root");
    }
}

/// A service's account has its home below `/var`: what belongs to it is made as that account all the same.
#[test]
fn a_home_below_var_is_a_home_first() {
    if !is_root() {
        eprintln!("SKIPPED: this is about root");
        return;
    }
    let s = sandbox();
    for folder in ["", "lab", "root"] {
        mode(&s.path(folder), 0o755);
    }
    // In a private view, so that the machine's own /var stays as it is.
    let home = s.path("service");
    std::fs::create_dir(&home).unwrap();
    give(&home);
    let script = format!(
        "mount -t tmpfs -o mode=755 t /var/cache/apt && mkdir /var/cache/apt/service && mount --bind {} /var/cache/apt/service &&",
        home.display()
    );
    let home_there = Path::new("/var/cache/apt/service");
    let Some(ran) = run_for_nobody(&s, home_there, &script, &["authority", "create", "saltmarsh"]) else { return };
    ran.expect(0);
    let made = home.join(".local/share/tamga/authorities/saltmarsh/private-key.pem");
    let meta = std::fs::metadata(&made).unwrap();
    assert_eq!((meta.uid(), meta.mode() & 0o7777), (NOBODY, 0o600));
    assert!(!Command::new("find").arg(&home).args(["-user", "root"]).output().unwrap().stdout.contains(&b'/'));
}

/// With a data directory named, root keeps its rights, but in the user's home it acts as the user, groups and all.
#[test]
fn in_the_users_home_nothing_is_made_with_roots_groups() {
    if !is_root() || !has(&["chromium"]) {
        eprintln!("SKIPPED: this is about root and a browser's database");
        return;
    }
    let s = sandbox();
    for folder in ["", "lab", "root", "home"] {
        mode(&s.path(folder), 0o755);
    }
    let home = s.path("home");
    give(&home);
    let Some(ran) = run_for_nobody(&s, &home, "", &["authority", "create", "saltmarsh"]) else { return };
    ran.expect(0);
    let ran = run_for_nobody(&s, &home, "", &["trust", "add", "--stores", "chromium"]).unwrap().expect(0);
    assert!(ran.out.contains("present"), "{}", ran.out);
    let others = Command::new("find")
        .arg(&home)
        .args(["(", "!", "-user", "nobody", "-o", "!", "-gid", "65534", ")"])
        .output()
        .unwrap();
    let others: Vec<&str> = std::str::from_utf8(&others.stdout).unwrap().lines().collect();
    assert!(others.is_empty(), "{others:?}");
}
