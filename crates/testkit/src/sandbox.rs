//! A hermetic place in which the built program runs: its own home, data directory, machine root and environment.

use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// Set where every client must be there: a skip is then a failure.
pub const COMPLETE: &str = "TAMGA_TESTS_COMPLETE";

/// One sandbox; gone when dropped.
pub struct Sandbox {
    folder: tempfile::TempDir,
    program: PathBuf,
    path: String,
}

/// How a run ended.
pub struct Ran {
    /// The exit code.
    pub code: i32,
    /// Standard output.
    pub out: String,
    /// Standard error.
    pub err: String,
}

impl Ran {
    /// Standard output as JSON.
    ///
    /// It must fit the schema of its command.
    #[track_caller]
    pub fn json(&self) -> Value {
        let answer: Value =
            serde_json::from_str(&self.out).unwrap_or_else(|e| panic!("no JSON ({e}): {}\n{}", self.out, self.err));
        if let Some(command) = answer["command"].as_str().filter(|c| !c.is_empty()) {
            crate::schema::assert_fits(command, &answer);
        }
        answer
    }

    /// Standard output as words with one blank between them: a table breaks its cells where its width wants it.
    pub fn words(&self) -> String {
        self.out.split_whitespace().collect::<Vec<_>>().join(" ")
    }

    /// Fails the test unless the exit code is this.
    #[track_caller]
    pub fn expect(self, code: i32) -> Ran {
        assert_eq!(self.code, code, "out: {}\nerr: {}", self.out, self.err);
        self
    }
}

impl From<Output> for Ran {
    fn from(o: Output) -> Ran {
        Ran {
            code: o.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&o.stdout).into_owned(),
            err: String::from_utf8_lossy(&o.stderr).into_owned(),
        }
    }
}

impl Sandbox {
    /// A new one for the program at this path. The machine's programs are found, its files are not.
    pub fn new(program: &str) -> Sandbox {
        Sandbox::below(std::env::temp_dir(), program)
    }

    /// The same in a directory of one's choice.
    pub fn below(directory: impl AsRef<Path>, program: &str) -> Sandbox {
        let folder = tempfile::Builder::new().prefix("tamga-test-").tempdir_in(directory).unwrap();
        for sub in
            ["home", "lab", "root/etc/ssl/certs", "root/etc/ca-certificates", "root/usr/local/share/ca-certificates"]
        {
            std::fs::create_dir_all(folder.path().join(sub)).unwrap();
        }
        std::fs::write(folder.path().join("root/etc/ca-certificates.conf"), "").unwrap();
        let path = std::env::var("PATH").unwrap_or_default();
        Sandbox { folder, program: program.into(), path }
    }

    /// The same without any client: an empty PATH but for what is put into `bin`.
    #[must_use]
    pub fn without_clients(mut self) -> Sandbox {
        let bin = self.folder.path().join("bin");
        std::fs::create_dir_all(&bin).unwrap();
        self.path = bin.display().to_string();
        self
    }

    /// The same with the program in a directory that only its owner may enter; returns where it lies.
    pub fn behind_a_closed_folder(&mut self) -> PathBuf {
        use std::os::unix::fs::PermissionsExt;
        let closed = self.path("closed");
        std::fs::create_dir(&closed).unwrap();
        std::fs::set_permissions(&closed, std::fs::Permissions::from_mode(0o700)).unwrap();
        let program = closed.join("tamga");
        // By another process: a file that this one has open for writing cannot be started.
        assert!(Command::new("cp").arg(&self.program).arg(&program).status().unwrap().success());
        std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
        self.program.clone_from(&program);
        program
    }

    /// A stand-in program in `bin` and among the system's own, found before all others.
    pub fn stand_in(&mut self, name: &str, script: &str) {
        use std::os::unix::fs::PermissionsExt;
        let bin = self.folder.path().join("bin");
        // What runs as root is looked for in the system's own directories, never on the path.
        for folder in [bin.clone(), self.folder.path().join("root/usr/sbin")] {
            std::fs::create_dir_all(&folder).unwrap();
            let file = folder.join(name);
            std::fs::write(&file, script).unwrap();
            std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o755)).unwrap();
        }
        if !self.path.starts_with(&*bin.to_string_lossy()) {
            self.path = format!("{}:{}", bin.display(), self.path);
        }
    }

    /// The directories in which its programs are found, as in PATH.
    pub fn programs(&self) -> &str {
        &self.path
    }

    /// A path inside.
    pub fn path(&self, sub: &str) -> PathBuf {
        self.folder.path().join(sub)
    }

    /// The program under test.
    pub fn program(&self) -> &Path {
        &self.program
    }

    /// The directory in which commands are typed.
    pub fn lab(&self, sub: &str) -> PathBuf {
        self.path("lab").join(sub)
    }

    /// The program with these words, in the sandbox, ready to run.
    pub fn command(&self, args: &[&str]) -> Command {
        let mut c = Command::new(&self.program);
        c.args(args).current_dir(self.path("lab")).env_clear();
        c.env("PATH", &self.path).env("HOME", self.path("home")).env("TAMGA_ROOT", self.path("root"));
        c.env("TAMGA_DATA_DIR", self.path("data")).env("TMPDIR", std::env::temp_dir());
        c
    }

    /// Has programs looked for in this directory first.
    pub fn find_first(&mut self, folder: &Path) {
        self.path = format!("{}:{}", folder.display(), self.path);
    }

    /// Another program in the sandbox, which finds the one under test by its name.
    pub fn around(&self, program: &str) -> Command {
        let own = self.command(&[]);
        let folder = self.program.parent().unwrap_or(Path::new(".")).display().to_string();
        let mut c = Command::new(program);
        c.current_dir(self.path("lab")).env_clear().envs(own.get_envs().filter_map(|(k, v)| Some((k, v?))));
        c.env("PATH", format!("{folder}:{}:/usr/sbin:/sbin", self.path));
        c
    }

    /// Lets other accounts of this machine pass through the sandbox's own directories.
    pub fn open_to_others(&self) {
        use std::os::unix::fs::PermissionsExt;
        for folder in ["", "lab"] {
            std::fs::set_permissions(self.path(folder), std::fs::Permissions::from_mode(0o755)).unwrap();
        }
    }

    /// Runs the program.
    pub fn run(&self, args: &[&str]) -> Ran {
        self.command(args).output().unwrap().into()
    }

    /// Runs it with `--format json`.
    pub fn json(&self, args: &[&str]) -> Ran {
        self.command(args).args(["--format", "json"]).output().unwrap().into()
    }

    /// Every file below a directory of the sandbox, with its permission bits.
    pub fn files(&self, sub: &str) -> Vec<(PathBuf, u32)> {
        use std::os::unix::fs::PermissionsExt;
        fn walk(folder: &Path, out: &mut Vec<(PathBuf, u32)>) {
            for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
                let path = entry.path();
                // A program that was just killed may still be removing its scratch files.
                let Ok(meta) = entry.metadata() else { continue };
                if meta.is_dir() {
                    walk(&path, out);
                } else {
                    out.push((path, meta.permissions().mode() & 0o7777));
                }
            }
        }
        let mut out = Vec::new();
        walk(&self.path(sub), &mut out);
        out.sort();
        out
    }
}

/// True if the programs are installed; else the test is skipped, visibly, or fails where nothing may be skipped.
pub fn has(programs: &[&str]) -> bool {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let missing: Vec<&&str> = programs
        .iter()
        .filter(|p| !std::env::split_paths(&path).chain(["/usr/sbin".into()]).any(|f| f.join(p).is_file()))
        .collect();
    if missing.is_empty() {
        return true;
    }
    assert!(std::env::var_os(COMPLETE).is_none(), "{missing:?} must be installed here");
    eprintln!("SKIPPED: {missing:?} not installed");
    false
}

/// The directories of programs that no package of the system brings (Bun, a Python with gRPC), as TAMGA_TESTS_CLIENTS names them; None, and
/// said, where it does not.
pub fn brought() -> Option<std::ffi::OsString> {
    let named = std::env::var_os("TAMGA_TESTS_CLIENTS");
    if named.is_none() {
        eprintln!("SKIPPED: TAMGA_TESTS_CLIENTS names no directories with bun and a python3 with grpcio");
    }
    named
}
