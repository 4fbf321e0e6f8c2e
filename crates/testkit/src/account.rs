//! The other account: `nobody`, which owns what the tests give it and nothing else.

use crate::sandbox::{Ran, Sandbox};
use crate::server::is_root;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;

/// The user and group id of the account that has no rights anywhere.
pub const NOBODY: u32 = 65_534;

/// Sets permission bits.
pub fn mode(path: &Path, bits: u32) {
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(bits)).unwrap();
}

/// Gives a file or a directory with all that is in it, links themselves included, to `nobody`.
pub fn give(path: &Path) {
    let owner = format!("{NOBODY}:{NOBODY}");
    assert!(Command::new("chown").args(["-hR", &owner]).arg(path).status().unwrap().success());
}

/// Makes `nobody` the person of a sandbox: home, lab and data directory are its own, and it may enter the rest.
pub fn hand_over(s: &Sandbox) {
    for directory in ["", "root"] {
        mode(&s.path(directory), 0o755);
    }
    for directory in ["home", "lab", "data"] {
        std::fs::create_dir_all(s.path(directory)).unwrap();
        give(&s.path(directory));
    }
}

/// A copy of a program where every account may run it: what the tests build lies behind closed directories.
pub fn reachable(s: &Sandbox, program: &Path) -> PathBuf {
    let copy = s.path(&program.file_name().unwrap().to_string_lossy());
    if !copy.exists() {
        assert!(Command::new("cp").arg(program).arg(&copy).status().unwrap().success());
        mode(&copy, 0o755);
    }
    copy
}

/// The command of a sandbox (see [`Sandbox::command`]) that is prefixed by another program and its words.
pub fn behind(mut before: Command, s: &Sandbox, words: &[&str]) -> Command {
    let own = s.command(words);
    before.arg(own.get_program()).args(words).current_dir(s.path("lab")).env_clear();
    before.envs(own.get_envs().filter_map(|(k, v)| Some((k, v?))));
    before
}

/// Runs Tamga in a sandbox as `nobody`.
pub fn run_as_nobody(s: &Sandbox, words: &[&str]) -> Ran {
    let own = s.command(words);
    let mut c = Command::new(reachable(s, Path::new(own.get_program())));
    c.args(words).current_dir(s.path("lab")).env_clear().uid(NOBODY).gid(NOBODY);
    c.envs(own.get_envs().filter_map(|(k, v)| Some((k, v?))));
    c.output().unwrap().into()
}

/// A command in a private view of the file system, prepared by a script; None, visibly, where that is not possible.
pub fn private(script: &str) -> Option<Command> {
    let mut c = Command::new("unshare");
    c.args(["-m", "sh", "-c", &format!("{script} && exec \"$@\""), "sh"]);
    let mut probe = Command::new("unshare");
    if is_root() && probe.args(["-m", "true"]).output().is_ok_and(|o| o.status.success()) {
        return Some(c);
    }
    eprintln!("SKIPPED: no private view of the file system can be made here");
    None
}

/// Runs Tamga as root, called through sudo by `nobody`, whose home is this: the system's own list of accounts says so, in a private
/// view that this script prepares further. None, visibly, where that is not possible.
pub fn run_for_nobody(s: &Sandbox, home: &Path, script: &str, words: &[&str]) -> Option<Ran> {
    let accounts = s.path("accounts");
    let list = format!("root:x:0:0:root:/root:/bin/sh\nnobody:x:{NOBODY}:{NOBODY}:nobody:{}:/bin/sh\n", home.display());
    std::fs::write(&accounts, list).unwrap();
    let mut c = behind(private(&format!("{script} mount --bind {} /etc/passwd", accounts.display()))?, s, words);
    c.env("SUDO_UID", NOBODY.to_string()).env("HOME", "/root").env_remove("TAMGA_DATA_DIR");
    c.env("PATH", "/usr/bin:/bin:/usr/sbin:/sbin");
    Some(c.output().unwrap().into())
}
