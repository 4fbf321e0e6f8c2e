//! Files that belong together, where a server reads them: staged, verified, renamed back to back; what stood there is kept until the server
//! shows the new ones, and put back if it does not. Here, or on another machine through a program such as ssh.

use crate::error::{Error, Result};
use crate::{files, platform, process};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;
use tamga_core::text::hex;
use zeroize::Zeroizing;

/// One file.
pub struct Item {
    /// Where.
    pub path: PathBuf,
    /// What.
    pub bytes: Zeroizing<Vec<u8>>,
    /// Its permission bits.
    pub mode: u32,
}

/// Whose the files are to be; None leaves it as it comes.
#[derive(Clone, Debug, Default)]
pub struct Owner {
    /// User id and group id here.
    pub ids: Option<(u32, u32)>,
    /// Both as they are typed, for another machine: `user:group`.
    pub words: Option<String>,
}

/// How an interrupted change stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stands {
    /// All new files are in place.
    Whole,
    /// None of them is.
    Nothing,
}

/// SHA-256, lower-case hex.
pub fn sha256(bytes: &[u8]) -> String {
    hex(ring::digest::digest(&ring::digest::SHA256, bytes).as_ref())
}

fn beside(path: &Path, tag: &str) -> PathBuf {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    files::parent(path).join(format!(".{name}.tamga-{tag}"))
}

fn staged(path: &Path) -> PathBuf {
    beside(path, "new")
}

fn kept(path: &Path) -> PathBuf {
    beside(path, "old")
}

/// Puts files in place here. The caller has begun the journal's row.
///
/// Errors: a file that cannot be written; then nothing is changed.
pub fn put(items: &[Item], owner: &Owner) -> Result<()> {
    for item in items {
        files::folder(files::parent(&item.path), 0o755)?;
        let new = staged(&item.path);
        let _ = std::fs::remove_file(&new);
        // Nobody else reads it before it has its owner.
        let first = if owner.ids.is_some() { 0o600 } else { item.mode };
        let mut file = platform::new_file(&new, first).map_err(Error::file("writing", &item.path))?;
        file.write_all(&item.bytes).map_err(Error::file("writing", &item.path))?;
        if let Some(ids) = owner.ids {
            platform::give(&new, ids).map_err(Error::file("giving to its owner", &item.path))?;
            platform::set_mode(&new, item.mode).map_err(Error::file("giving to its owner", &item.path))?;
        }
        file.sync_all().map_err(Error::file("writing", &item.path))?;
    }
    for item in items {
        let stands = std::fs::read(staged(&item.path)).map(Zeroizing::new);
        if !stands.is_ok_and(|s| *s == *item.bytes) {
            take_back(items.iter().map(|i| i.path.as_path()))?;
            let source = std::io::Error::other("it does not hold what was written");
            return Err(Error::File { doing: "verifying", path: item.path.clone(), source });
        }
    }
    for item in items {
        let old = kept(&item.path);
        let _ = std::fs::remove_file(&old);
        if item.path.exists() {
            std::fs::hard_link(&item.path, &old)
                .or_else(|_| std::fs::copy(&item.path, &old).map(drop))
                .map_err(Error::file("keeping what stood at", &item.path))?;
        }
    }
    for item in items {
        std::fs::rename(staged(&item.path), &item.path).map_err(Error::file("putting in place", &item.path))?;
    }
    items.iter().try_for_each(|i| files::sync_folder(files::parent(&i.path)))
}

/// Takes away the stages.
fn take_back<'a>(paths: impl Iterator<Item = &'a Path>) -> Result<()> {
    for path in paths {
        for beside in [staged(path), kept(path)] {
            if beside.symlink_metadata().is_ok() {
                files::remove(&beside)?;
            }
        }
    }
    Ok(())
}

/// The server shows the new ones: what stood there goes.
pub fn settle<'a>(paths: impl Iterator<Item = &'a Path>) -> Result<()> {
    take_back(paths)
}

/// The server does not: what stood there comes back. True if there was anything.
pub fn put_back<'a>(paths: impl Iterator<Item = &'a Path> + Clone) -> Result<bool> {
    let mut any = false;
    for path in paths.clone() {
        let old = kept(path);
        if old.exists() {
            std::fs::rename(&old, path).map_err(Error::file("putting back", path))?;
            any = true;
        }
    }
    paths.map(files::parent).try_for_each(files::sync_folder)?;
    Ok(any)
}

/// Finishes or takes back what was interrupted, from what stands there alone: once the first is renamed it goes on.
pub fn mend(files: &[(PathBuf, String)]) -> Result<Stands> {
    let is_new = |(path, sha): &(PathBuf, String)| std::fs::read(path).is_ok_and(|b| sha256(&b) == *sha);
    let waits = |(path, sha): &(PathBuf, String)| std::fs::read(staged(path)).is_ok_and(|b| sha256(&b) == *sha);
    let begun = files.first().is_some_and(is_new);
    if begun && files.iter().all(|f| is_new(f) || waits(f)) {
        for (path, _) in files.iter().filter(|f| !is_new(f)) {
            std::fs::rename(staged(path), path).map_err(Error::file("putting in place", path))?;
            files::sync_folder(files::parent(path))?;
        }
        return Ok(Stands::Whole);
    }
    // Stopped while the old ones were put back: what is still new goes back too, or the two would not belong together.
    for (path, _) in files.iter().filter(|f| is_new(f) && kept(&f.0).exists()) {
        std::fs::rename(kept(path), path).map_err(Error::file("putting back", path))?;
        files::sync_folder(files::parent(path))?;
    }
    take_back(files.iter().map(|f| f.0.as_path()))?;
    Ok(Stands::Nothing)
}

/// Where commands for another machine go: a program with its arguments, to which one more is given.
pub struct Through<'a>(pub &'a [String]);

impl Through<'_> {
    /// Runs a line there, with this on its standard input; gives what it printed. Nothing secret stands in the line.
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
            Some(n) => Err(failed(said(program, n, &ended.errors))),
            None => Err(failed("it did not end within 60 seconds".into())),
        }
    }

    /// Puts files in place there: over standard input, read back, renamed back to back.
    pub fn put(&self, items: &[Item], owner: &Owner) -> Result<()> {
        for item in items {
            let (new, folder) = (quoted(&staged(&item.path)), quoted(files::parent(&item.path)));
            self.say(&format!("umask 077 && mkdir -p {folder} && rm -f {new} && cat > {new}"), &item.bytes)?;
            let back = Zeroizing::new(self.say(&format!("cat {new}"), b"")?);
            if *back != *item.bytes {
                let path = self.0.join(" ");
                return Err(Error::Program { program: path, said: format!("{new} does not hold what was sent") });
            }
        }
        let mut line = String::from("set -e");
        for item in items {
            let new = quoted(&staged(&item.path));
            if let Some(words) = &owner.words {
                line.push_str(&format!("; chown {} {new}", quoted(Path::new(words))));
            }
            line.push_str(&format!("; chmod {:o} {new}", item.mode));
        }
        for item in items {
            let (place, old) = (quoted(&item.path), quoted(&kept(&item.path)));
            line.push_str(&format!("; rm -f {old}; if [ -e {place} ]; then cp -p {place} {old}; fi"));
        }
        for item in items {
            line.push_str(&format!("; mv -f {} {}", quoted(&staged(&item.path)), quoted(&item.path)));
        }
        self.say(&format!("{line}; sync"), b"").map(drop)
    }

    /// Runs a program there.
    pub fn run(&self, words: &[String]) -> Result<()> {
        let line: Vec<String> = words.iter().map(|w| quoted(Path::new(w))).collect();
        self.say(&line.join(" "), b"").map(drop)
    }

    /// What stood there goes.
    pub fn settle(&self, items: &[Item]) -> Result<()> {
        let old: Vec<String> = items.iter().map(|i| quoted(&kept(&i.path))).collect();
        self.say(&format!("rm -f {}", old.join(" ")), b"").map(drop)
    }

    /// What stood there comes back. True if there was anything.
    pub fn put_back(&self, items: &[Item]) -> Result<bool> {
        let mut line = String::from("set -e");
        for item in items {
            let (place, old) = (quoted(&item.path), quoted(&kept(&item.path)));
            line.push_str(&format!("; if [ -e {old} ]; then mv -f {old} {place}; echo back; fi"));
        }
        Ok(!self.say(&line, b"")?.is_empty())
    }
}

/// A word for a POSIX shell: the other machine has one between us and its programs.
fn quoted(word: &Path) -> String {
    format!("'{}'", word.to_string_lossy().replace('\'', "'\\''"))
}

/// Runs a program here, without a shell.
pub fn run(words: &[String], folder: &Path) -> Result<()> {
    let Some((program, rest)) = words.split_first() else { return Ok(()) };
    let mut command = Command::new(program);
    command.args(rest).current_dir(folder);
    let failed = |said: String| Error::Program { program: words.join(" "), said };
    let ended = process::run(command, b"", Duration::from_secs(120)).map_err(|e| failed(e.to_string()))?;
    match ended.code {
        Some(0) => Ok(()),
        Some(n) => Err(failed(said(program, n, &ended.errors))),
        None => Err(failed("it did not end within two minutes".into())),
    }
}

/// How a program ended, with its last word if it had one.
fn said(program: &str, code: i32, errors: &str) -> String {
    match errors.lines().rfind(|l| !l.trim().is_empty()) {
        Some(last) => format!("{program} ended with {code}: {}", tamga_core::text::harmless(last.trim())),
        None => format!("{program} ended with {code}"),
    }
}

/// The ids of an account and of a group here; what is not named is the account's own group, or ours.
pub fn ids(owner: Option<&str>, group: Option<&str>) -> Result<Option<(u32, u32)>> {
    if owner.is_none() && group.is_none() {
        return Ok(None);
    }
    let unknown = |what: &str, typed: &str| Error::Program {
        program: "apply".into(),
        said: format!("there is no {what} called {typed} here"),
    };
    let table = |file: &str| std::fs::read_to_string(file).unwrap_or_default();
    let row = |text: &str, name: &str| -> Option<Vec<String>> {
        let found = text.lines().map(|l| l.split(':').map(str::to_owned).collect::<Vec<_>>());
        found.into_iter().find(|f| f.first().is_some_and(|n| n == name) || f.get(2).is_some_and(|n| n == name))
    };
    let number = |fields: &[String], at: usize| fields.get(at).and_then(|n| n.parse::<u32>().ok());
    let (mut uid, mut gid) = platform::effective();
    if let Some(name) = owner {
        let fields = row(&table("/etc/passwd"), name).ok_or_else(|| unknown("account", name))?;
        uid = number(&fields, 2).ok_or_else(|| unknown("account", name))?;
        gid = number(&fields, 3).unwrap_or(gid);
    }
    if let Some(name) = group {
        let fields = row(&table("/etc/group"), name).ok_or_else(|| unknown("group", name))?;
        gid = number(&fields, 2).ok_or_else(|| unknown("group", name))?;
    }
    Ok(Some((uid, gid)))
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

#[cfg(test)]
mod tests {
    use super::*;

    fn item(path: PathBuf, text: &str) -> Item {
        Item { path, bytes: Zeroizing::new(text.as_bytes().to_vec()), mode: 0o600 }
    }

    /// Two old files, two new ones in their place, as a server that does not take them finds them.
    fn changed(folder: &Path) -> Vec<(PathBuf, String)> {
        let (key, certificate) = (folder.join("key"), folder.join("certificate"));
        std::fs::write(&key, "old key").unwrap();
        std::fs::write(&certificate, "old certificate").unwrap();
        put(&[item(key.clone(), "new key"), item(certificate.clone(), "new certificate")], &Owner::default()).unwrap();
        vec![(key, sha256(b"new key")), (certificate, sha256(b"new certificate"))]
    }

    fn texts(files: &[(PathBuf, String)]) -> Vec<String> {
        files.iter().map(|f| std::fs::read_to_string(&f.0).unwrap()).collect()
    }

    #[test]
    fn stopped_between_two_of_the_old_files_coming_back_the_pair_is_one() {
        let folder = tempfile::tempdir().unwrap();
        let files = changed(folder.path());
        // The first is back, and then it was stopped.
        std::fs::rename(kept(&files[0].0), &files[0].0).unwrap();
        assert_eq!(mend(&files).unwrap(), Stands::Nothing);
        assert_eq!(texts(&files), ["old key", "old certificate"]);
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 2, "nothing is left beside them");
    }

    #[test]
    fn stopped_between_two_renames_it_goes_on_and_the_old_ones_stay_at_hand() {
        let folder = tempfile::tempdir().unwrap();
        let files = changed(folder.path());
        std::fs::rename(&files[1].0, staged(&files[1].0)).unwrap();
        std::fs::copy(kept(&files[1].0), &files[1].0).unwrap();
        assert_eq!(mend(&files).unwrap(), Stands::Whole);
        assert_eq!(texts(&files), ["new key", "new certificate"]);
        assert!(put_back(files.iter().map(|f| f.0.as_path())).unwrap());
        assert_eq!(texts(&files), ["old key", "old certificate"]);
    }
}
