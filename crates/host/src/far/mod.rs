//! Another machine, on which nothing of Tamga is installed: looked at and changed through a shell there. A store sees no difference.

mod shell;

use crate::error::{Error, Result};
use crate::host_fault::HostFault;
use shell::{Ended, Shell, find, printing, quoted};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use tamga_core::deploy::lab::host::Host;
use tamga_core::plan::native::{NativeEntry, StoreName};
use tamga_core::plan::nss::{Library, NssFailure, NssView};
use tamga_core::plan::perform::Executor;
use tamga_core::plan::ports::{BrowserDatabases, Commands, Environment, Files, NativeStores};
use tamga_core::plan::step::{FILE, Invocation, Step};
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::timestamp::Timestamp;

/// How long the first answer may take: the connection, and a login that looks things up.
const CONNECTING: Duration = Duration::from_secs(30);
/// How long a look at a file may take.
const LOOKING: Duration = Duration::from_secs(30);

/// Another machine, connected.
pub struct Far {
    host: Host,
    shell: Mutex<Shell>,
    home: PathBuf,
    is_root: bool,
    /// What was looked at since the last change.
    seen: Mutex<BTreeMap<String, Option<Vec<u8>>>>,
    /// Why the connection broke, if it did: what is not seen is then not "absent".
    broken: Mutex<Option<HostFault>>,
}

fn held<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn path_text(path: &Path) -> String {
    quoted(&path.to_string_lossy())
}

impl std::fmt::Debug for Far {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Far({})", self.host.name)
    }
}

impl Far {
    /// Connects.
    ///
    /// Errors: it is not reached, its key is not the one that is known, or the account is not let in.
    pub fn connect(host: &Host) -> std::result::Result<Far, HostFault> {
        let words = host.shell().ok_or_else(|| HostFault::Program("nothing leads there".into()))?;
        let mut shell = Shell::start(&words)?;
        let first = shell.run(
            "LC_ALL=C; export LC_ALL; umask 022; PATH=\"$PATH:/usr/sbin:/sbin\"; printf '%s\\n%s\\n' \"$(id -u)\" \"$HOME\"",
            CONNECTING,
        )?;
        let text = String::from_utf8_lossy(&first.output).into_owned();
        // What a login prints of its own comes before.
        let mut lines = text.lines().rev();
        let (home, uid) = (lines.next().unwrap_or("/"), lines.next().unwrap_or_default());
        Ok(Far {
            host: host.clone(),
            shell: Mutex::new(shell),
            home: PathBuf::from(home),
            is_root: uid.trim() == "0",
            seen: Mutex::default(),
            broken: Mutex::default(),
        })
    }

    /// Why the connection broke meanwhile; None while it holds.
    pub fn broken(&self) -> Option<HostFault> {
        held(&self.broken).clone()
    }

    fn run(&self, script: &str, limit: Duration) -> Option<Ended> {
        if self.broken().is_some() {
            return None;
        }
        match held(&self.shell).run(script, limit) {
            Ok(ended) => Some(ended),
            Err(fault) => {
                *held(&self.broken) = Some(fault);
                None
            }
        }
    }

    /// What a script prints if it ends well; looked at once until something is changed.
    fn look(&self, script: String) -> Option<Vec<u8>> {
        if let Some(seen) = held(&self.seen).get(&script) {
            return seen.clone();
        }
        let found = self.run(&script, LOOKING).filter(|e| e.code == 0).map(|e| e.output);
        held(&self.seen).insert(script, found.clone());
        found
    }

    fn change(&self, what: &str, script: &str, limit: Duration) -> Result<Vec<u8>> {
        let done = self.run(script, limit);
        held(&self.seen).clear();
        let Some(ended) = done else {
            let fault = self.broken().unwrap_or(HostFault::Silent(limit.as_secs()));
            return Err(Error::Host { host: self.host.name.to_string(), fault });
        };
        match ended.code {
            0 => Ok(ended.output),
            code => Err(Error::Program {
                program: format!("{what} on {}", self.host.name),
                said: ended.said.unwrap_or_else(|| format!("it ended with {code}")),
            }),
        }
    }

    /// The command of an invocation, with a file of its own where it wants one, or where it answers in one.
    fn command(&self, i: &Invocation, answers_in_file: bool) -> String {
        let mut words: Vec<String> = vec![path_text(&i.program)];
        words.extend(i.arguments.iter().map(|a| quoted(a)));
        let needs_file = i.file.is_some() || answers_in_file;
        let mut script = String::new();
        if needs_file {
            script.push_str("d=$(mktemp -d) && ");
        }
        if let Some(bytes) = &i.file {
            script.push_str(&format!("{} >\"$d/file\" && ", printing(bytes)));
        }
        let reads_path = i.file.is_some() && find(&i.input, FILE.as_bytes()).is_some();
        if needs_file && !reads_path {
            words.push(if answers_in_file { "\"$d/answer\"".into() } else { "\"$d/file\"".into() });
        }
        let run = words.join(" ");
        let input = match reads_path {
            true => String::from_utf8_lossy(&i.input)
                .split(FILE)
                .map(|part| printing(part.as_bytes()))
                .collect::<Vec<_>>()
                .join("; printf '%s' \"$d/file\"; "),
            false => printing(&i.input),
        };
        script.push_str(&if i.input.is_empty() { run } else { format!("{{ {input}; }} | {run}") });
        if answers_in_file {
            script.push_str(" >&2 && cat \"$d/answer\"");
        }
        if needs_file {
            script.push_str("; r=$?; rm -rf \"$d\"; (exit $r)");
        }
        script
    }
}

impl Files for Far {
    fn read(&self, path: &Path) -> Option<Vec<u8>> {
        let path = path_text(path);
        self.look(format!("[ -f {path} ] && cat {path}"))
    }

    fn list(&self, directory: &Path) -> Vec<String> {
        let directory = path_text(directory);
        // With nothing but the shell itself, and each name whole whatever is in it.
        let script = format!(
            "for f in {directory}/* {directory}/.[!.]*; do if [ -e \"$f\" ] || [ -L \"$f\" ]; then printf '%s\\0' \"${{f##*/}}\"; fi; done"
        );
        let found = self.look(script).unwrap_or_default();
        let mut names: Vec<String> = found
            .split(|b| *b == 0)
            .filter_map(|n| String::from_utf8(n.to_vec()).ok())
            .filter(|n| !n.is_empty())
            .collect();
        names.sort();
        names
    }

    fn exists(&self, path: &Path) -> bool {
        self.look(format!("[ -e {} ]", path_text(path))).is_some()
    }

    fn link(&self, path: &Path) -> Option<PathBuf> {
        let path = path_text(path);
        let found = self.look(format!("[ -L {path} ] && readlink {path}"))?;
        Some(PathBuf::from(String::from_utf8(found).ok()?.trim_end_matches('\n')))
    }

    fn resolved(&self, path: &Path) -> PathBuf {
        let found = self.look(format!("readlink -f {}", path_text(path))).and_then(|f| String::from_utf8(f).ok());
        found
            .map(|f| f.trim_end_matches('\n').to_owned())
            .filter(|f| !f.is_empty())
            .map_or_else(|| path.to_owned(), PathBuf::from)
    }

    fn may_write(&self, directory: &Path) -> bool {
        self.look(format!("[ -w {} ]", path_text(directory))).is_some()
    }
}

impl Environment for Far {
    fn env(&self, name: &str) -> Option<String> {
        if name.is_empty() || !name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_') {
            return None;
        }
        let found = self.look(format!("printf '%s' \"${{{name}-}}\"")).and_then(|f| String::from_utf8(f).ok());
        found.filter(|f| !f.is_empty())
    }

    fn home(&self) -> PathBuf {
        self.home.clone()
    }

    fn now(&self) -> Timestamp {
        crate::entropy::now()
    }

    fn has_rights(&self) -> bool {
        self.is_root
    }

    fn store_password(&self) -> Option<Passphrase> {
        None
    }
}

impl Commands for Far {
    fn program(&self, name: &str) -> Option<PathBuf> {
        let script = match name.contains('/') {
            true => format!("[ -f {0} ] && [ -x {0} ] && printf '%s' {0}", quoted(name)),
            false => format!("command -v {}", quoted(name)),
        };
        let found = String::from_utf8(self.look(script)?).ok()?;
        // A function or a builtin of that name is no program.
        Some(found.trim_end_matches('\n')).filter(|f| f.starts_with('/')).map(PathBuf::from)
    }

    fn ask(&self, invocation: &Invocation, answers_in_file: bool) -> Option<std::result::Result<Vec<u8>, String>> {
        self.program(&invocation.program.to_string_lossy())?;
        let script = self.command(invocation, answers_in_file);
        let ended = self.run(&script, Duration::from_secs(invocation.limit_seconds))?;
        Some(match ended.code {
            0 => Ok(ended.output),
            code => Err(ended.said.unwrap_or_else(|| format!("it ended with {code}"))),
        })
    }
}

impl BrowserDatabases for Far {
    fn nss(&self, _: &Path, _: &Library) -> std::result::Result<NssView, NssFailure> {
        Err(NssFailure {
            why: "the database of a browser is not reached on another machine".into(),
            remedy: "set the browsers' policies there: --stores chromium-policy,firefox-policy".into(),
        })
    }

    fn kept_certificates(&self, _: &Path) -> Vec<(Vec<u8>, Vec<u8>)> {
        Vec::new()
    }
}

impl NativeStores for Far {
    fn native(&self, _: &StoreName) -> Option<std::result::Result<Vec<NativeEntry>, String>> {
        None
    }
}

impl Executor for Far {
    type Error = Error;

    fn execute(&self, step: &Step) -> Result<()> {
        match step {
            Step::Folder { path, mode } => {
                let path = path_text(path);
                let script = format!("[ -d {path} ] || mkdir -p -m {mode:04o} {path}");
                self.change("making a directory", &script, LOOKING).map(drop)
            }
            Step::Write { path, bytes, mode } => {
                // Beside its place, with its mode, made durable, and renamed: whole or not at all, as on this machine.
                let (folder, real) = (path_text(path.parent().unwrap_or(Path::new("/"))), path_text(path));
                let script = format!(
                    "t=$(mktemp {folder}/.tamga-XXXXXX) && {{ {} >\"$t\" && chmod {mode:04o} \"$t\" && {{ sync \"$t\" 2>/dev/null || :; }} && mv -f \"$t\" {real} || {{ rm -f \"$t\"; false; }}; }}",
                    printing(bytes)
                );
                self.change("writing a file", &script, LOOKING).map(drop)
            }
            Step::Remove { path } => {
                self.change("removing a file", &format!("rm -f {}", path_text(path)), LOOKING).map(drop)
            }
            Step::Run(i) => {
                let what = i.program.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
                let script = format!("{} >/dev/null", self.command(i, false));
                self.change(&what, &script, Duration::from_secs(i.limit_seconds)).map(drop)
            }
            Step::Database(_) | Step::Native(_) => Err(Error::Program {
                program: "a store of a person".into(),
                said: "it is not reached on another machine".into(),
            }),
        }
    }
}
