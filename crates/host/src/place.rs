//! Where a server reads its files: whose they are to be, the command that reloads the server, and the same on another machine
//! through a program such as ssh.

use crate::error::{Error, Result};
use crate::fs::{self, File, Tag, sibling};
use crate::{platform, process};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

pub use crate::digest::sha256;
pub use crate::fs::{Leftover, deploy, recover_deployment, roll_back, settle};

/// Whose the files are to be; None leaves it as it comes.
#[derive(Clone, Debug, Default)]
pub struct Owner {
    /// User id and group id here.
    pub ids: Option<(u32, u32)>,
    /// Both as they are typed, for another machine: `user:group`.
    pub words: Option<String>,
}

fn kept(path: &Path) -> PathBuf {
    sibling(path, Tag::Old)
}

/// Where commands for another machine go: a program with its arguments, to which one more is given.
pub struct Through<'a>(pub &'a [String]);

impl Through<'_> {
    /// Runs a line there, with this on its standard input; gives what it printed. Nothing secret is in the line.
    fn say(&self, line: &str, input: &[u8]) -> Result<Vec<u8>> {
        let (program, rest) = self
            .0
            .split_first()
            .ok_or_else(|| Error::Program { program: "through".into(), said: "no program is named".into() })?;
        let mut command = Command::new(program);
        command.args(rest).arg(line);
        let failed = |said: String| Error::Program { program: self.0.join(" "), said };
        let ended = process::run(command, input, Duration::from_secs(60)).map_err(|e| failed(e.to_string()))?;
        match ended.code {
            Some(0) => Ok(ended.output),
            Some(n) => Err(failed(said(program, n, ended.errors.as_received()))),
            None => Err(failed("it did not end within 60 seconds".into())),
        }
    }

    /// Puts files in place there in one session: staged, sent back and compared, renamed back to back. What fails half-way, or is
    /// cut off, is removed there by that session itself.
    ///
    /// Each file is staged in a directory of ours, made for it beside its target and entered by the shell: only names in that
    /// directory are written, given away and given their mode, so that an account which owns the directory above cannot lead
    /// any of it elsewhere by a link.
    pub fn put(&self, files: &[File], owner: &Owner) -> Result<()> {
        let failed = |said: String| Error::Program { program: self.0.join(" "), said };
        let (program, rest) = self.0.split_first().ok_or_else(|| failed("no program is named".into()))?;
        let stages: Vec<Stage<'_>> = files.iter().map(|f| Stage::new(&f.path)).collect::<Result<_>>()?;
        let mut command = Command::new(program);
        command.args(rest).arg(script(files, &stages, owner.words.as_deref()));
        let all: Vec<&[u8]> = files.iter().map(|f| f.bytes.as_slice()).collect();
        let ended = process::sent_back(command, &all, b"go\n", LIMIT).map_err(|e| failed(e.to_string()))?;
        match ended.code {
            Some(0) => Ok(()),
            Some(n) => Err(failed(said(program, n, ended.errors.as_received()))),
            None => Err(failed(format!("it did not end within {} seconds", LIMIT.as_secs()))),
        }
    }

    /// Runs a program there.
    pub fn run(&self, words: &[String]) -> Result<()> {
        let line: Vec<String> = words.iter().map(|w| quoted(Path::new(w))).collect();
        self.say(&line.join(" "), b"").map(drop)
    }

    /// What stood there goes.
    pub fn settle(&self, items: &[File]) -> Result<()> {
        let old: Vec<String> = items.iter().map(|i| quoted(&kept(&i.path))).collect();
        self.say(&format!("rm -f -- {}", old.join(" ")), b"").map(drop)
    }

    /// What stood there comes back. True if there was anything.
    pub fn put_back(&self, items: &[File]) -> Result<bool> {
        let mut line = String::from("set -e");
        for item in items {
            let (place, old) = (quoted(&item.path), quoted(&kept(&item.path)));
            line.push_str(&format!("; if [ -e {old} ]; then mv -f -- {old} {place}; echo back; fi"));
        }
        Ok(!self.say(&line, b"")?.is_empty())
    }
}

/// A file staged on another machine: alone in a directory that only our account there may change.
struct Stage<'a> {
    target: &'a Path,
    /// Nobody can have made it before: it is random.
    name: String,
}

impl<'a> Stage<'a> {
    fn new(target: &'a Path) -> Result<Stage<'a>> {
        let mut random = [0; 8];
        let failed = |_| Error::Program { program: "through".into(), said: "the system gives no random bytes".into() };
        ring::rand::SecureRandom::fill(&ring::rand::SystemRandom::new(), &mut random).map_err(failed)?;
        Ok(Stage { target, name: format!(".tamga-{}", tamga_core::vocabulary::text::hex(&random)) })
    }

    fn directory(&self) -> String {
        quoted(&fs::parent(self.target).join(&self.name))
    }

    fn file(&self) -> String {
        quoted(&Path::new(".").join(self.target.file_name().unwrap_or_default()))
    }

    /// Enters the directory and sees that it is the one: ours, closed, and under its own name.
    fn entered(&self) -> String {
        let (directory, name) = (self.directory(), quoted(Path::new(&self.name)));
        format!(
            "cd -P -- {directory} && [ \"$(basename -- \"$(pwd -P)\")\" = {name} ] && \
             [ -n \"$(find . -prune -user \"$(id -u)\" -perm 700)\" ]"
        )
    }

    /// Takes so many bytes of standard input as its file, and sends them back.
    fn written(&self, length: usize, mode: u32, owner: Option<&str>) -> String {
        let (above, directory, entered) = (quoted(fs::parent(self.target)), self.directory(), self.entered());
        let file = self.file();
        let give = owner.map(|o| format!(" && chown -- {} {file}", quoted(Path::new(o)))).unwrap_or_default();
        // `set -C`: a file that is there already is not written through. `dd`: not one byte more than is meant for it.
        format!(
            "umask 022; mkdir -p -- {above}; umask 077; mkdir -- {directory}; \
             ( {entered} && set -C && dd bs=1 count={length} 2>/dev/null > {file}{give} && chmod {mode:o} {file} && cat -- {file} )"
        )
    }

    /// Keeps what is at its target, which lies beside the directory.
    fn kept(&self) -> String {
        let name = self.target.file_name().unwrap_or_default();
        let (entered, target) = (self.entered(), quoted(&Path::new("..").join(name)));
        let old = quoted(&Path::new("..").join(kept(Path::new(name)).file_name().unwrap_or_default()));
        format!(
            "( {entered} && if [ -e {target} ]; then cp -p -P -- {target} ./old && $mv -- ./old {old}; else rm -f -- {old}; fi )"
        )
    }

    /// Renamed over its target.
    fn moved(&self) -> String {
        let (entered, file) = (self.entered(), self.file());
        let target = quoted(&Path::new("..").join(self.target.file_name().unwrap_or_default()));
        format!("( {entered} && $mv -- {file} {target} )")
    }
}

/// What the other machine's shell does to put files in place: whatever ends it early, it leaves nothing and no half of a pair.
fn script(files: &[File], stages: &[Stage<'_>], owner: Option<&str>) -> String {
    // Over a link or a directory of this name, never into it.
    let mut out =
        String::from("set -e; n=-1; case $(uname) in Darwin|*BSD) mv='mv -f -h';; *) mv='mv -f -T';; esac; back() { ");
    for (i, (f, stage)) in files.iter().zip(stages).enumerate() {
        let (place, old) = (quoted(&f.path), quoted(&kept(&f.path)));
        out.push_str(&format!(
            "if [ $n -gt {i} ]; then if [ -e {old} ]; then $mv -- {old} {place}; else rm -f -- {place}; fi; \
             elif [ $n -ge 0 ]; then rm -f -- {old}; fi; rm -rf -- {}; ",
            stage.directory()
        ));
    }
    out.push_str("}; trap back EXIT; trap 'exit 1' HUP INT TERM PIPE; ");
    for (f, stage) in files.iter().zip(stages) {
        out.push_str(&stage.written(f.bytes.len(), f.mode, owner));
        out.push_str("; ");
    }
    // Only what came back whole is put in place.
    out.push_str("read -r go; [ \"$go\" = go ]; ");
    for stage in stages {
        out.push_str(&format!("{}; ", stage.kept()));
    }
    out.push_str("n=0; ");
    for (i, stage) in stages.iter().enumerate() {
        out.push_str(&format!("{}; n={}; ", stage.moved(), i + 1));
    }
    out.push_str("trap - EXIT; ");
    for stage in stages {
        out.push_str(&format!("rm -rf -- {}; ", stage.directory()));
    }
    out.push_str("sync");
    out
}

/// A word for a POSIX shell: the other machine has one between us and its programs.
fn quoted(word: &Path) -> String {
    format!("'{}'", word.to_string_lossy().replace('\'', "'\\''"))
}

/// Runs a program here, without a shell, in a process group of its own: after two minutes all of it is ended.
pub fn run(words: &[String], folder: &Path) -> Result<()> {
    let Some((program, rest)) = words.split_first() else { return Ok(()) };
    let mut command = Command::new(program);
    command.args(rest).current_dir(folder);
    let failed = |said: String| Error::Program { program: words.join(" "), said };
    let ended = process::run_grouped(command, b"", LIMIT).map_err(|e| failed(e.to_string()))?;
    match ended.code {
        Some(0) => Ok(()),
        Some(n) => Err(failed(said(program, n, ended.errors.as_received()))),
        None => Err(failed(format!("it did not end within {} seconds", LIMIT.as_secs()))),
    }
}

/// The time that a command of `run = […]` has.
const LIMIT: Duration = Duration::from_secs(120);

/// How a program ended, with its last word if it had one.
fn said(program: &str, code: i32, errors: &str) -> String {
    match errors.lines().rfind(|l| !l.trim().is_empty()) {
        Some(last) => format!("{program} ended with {code}: {}", tamga_core::vocabulary::text::harmless(last.trim())),
        None => format!("{program} ended with {code}"),
    }
}

/// The ids of an account and of a group here; what is not named is the account's own group, or ours.
///
/// Errors: there is no such account or group, or the system cannot look it up.
#[cfg(unix)]
pub fn ids(owner: Option<&str>, group: Option<&str>) -> Result<Option<(u32, u32)>> {
    if owner.is_none() && group.is_none() {
        return Ok(None);
    }
    let unknown = |typed: &str, what: &str| Error::Account {
        typed: typed.to_owned(),
        why: format!("there is no {what} of this name here"),
    };
    let (mut uid, mut gid) = platform::effective();
    if let Some(name) = owner {
        let found = platform::users::find(name)?.ok_or_else(|| unknown(name, "account"))?;
        (uid, gid) = (found.uid, found.gid);
    }
    if let Some(name) = group {
        gid = platform::users::find_group(name)?.ok_or_else(|| unknown(name, "group"))?;
    }
    Ok(Some((uid, gid)))
}

/// Windows has no ids of this kind.
#[cfg(windows)]
pub fn ids(_: Option<&str>, _: Option<&str>) -> Result<Option<(u32, u32)>> {
    Ok(None)
}

/// What of a file's owner, group or mode is not as it must be.
pub fn rights(path: &Path, mode: u32, owner: &Owner) -> Option<String> {
    let meta = std::fs::metadata(path).ok()?;
    let is = platform::mode(&meta);
    if cfg!(unix) && is != mode {
        return Some(format!("its mode is {is:04o}, and must be {mode:04o}"));
    }
    let has = platform::owner(&meta);
    let wrong = owner.ids.filter(|ids| *ids != has)?;
    Some(format!("it belongs to {}:{}, and must belong to {}:{}", has.0, has.1, wrong.0, wrong.1))
}
