//! Effects as data: what is to be done, in order, each with its way back.

use crate::plan::native::NativeChange;
use crate::plan::nss::NssChange;
use crate::vocabulary::text::Shown;
use std::path::PathBuf;
use zeroize::Zeroizing;

/// In what a program reads, stands for the path of its file.
pub const FILE: &str = "@FILE@";

/// One program run: never a shell line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Invocation {
    /// The program, found on the PATH or given whole.
    pub program: PathBuf,
    /// Its arguments; never a secret.
    pub arguments: Vec<String>,
    /// What it reads on standard input: the only way for a secret.
    pub input: Zeroizing<Vec<u8>>,
    /// It is stopped after so many seconds.
    pub limit_seconds: u64,
    /// Public or encrypted bytes that it wants as a file: put into one of its own for as long as it runs. Its path takes the place
    /// of [`FILE`] in what it reads, or is its last argument.
    pub file: Option<Vec<u8>>,
    /// True if it changes what is the machine's: it needs root's rights.
    pub raised: bool,
}

impl Invocation {
    /// A program with its arguments, nothing on standard input, and three minutes.
    pub fn new<A: Into<String>>(program: impl Into<PathBuf>, arguments: impl IntoIterator<Item = A>) -> Invocation {
        let arguments = arguments.into_iter().map(Into::into).collect();
        Invocation {
            program: program.into(),
            arguments,
            input: Zeroizing::default(),
            limit_seconds: 180,
            file: None,
            raised: false,
        }
    }

    /// The same with root's rights, since it changes what is the machine's.
    #[must_use]
    pub fn with_rights(mut self) -> Invocation {
        self.raised = true;
        self
    }

    /// The same with these bytes on standard input.
    #[must_use]
    pub fn reading(mut self, input: impl Into<Vec<u8>>) -> Invocation {
        self.input = Zeroizing::new(input.into());
        self
    }

    /// The same with these public bytes as a file, its last argument.
    #[must_use]
    pub fn with_file(mut self, bytes: impl Into<Vec<u8>>) -> Invocation {
        self.file = Some(bytes.into());
        self
    }
}

/// One effect.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// A directory with this mode, and its parents; nothing if it is there.
    Folder {
        /// Where.
        path: PathBuf,
        /// Permission bits.
        mode: u32,
    },
    /// A file, whole or not at all, replacing what is there.
    Write {
        /// Where.
        path: PathBuf,
        /// Its contents; public things only.
        bytes: Vec<u8>,
        /// Permission bits.
        mode: u32,
    },
    /// A file or link is taken away; nothing if it is not there.
    Remove {
        /// Where.
        path: PathBuf,
    },
    /// A program is run; it must end with 0.
    Run(Invocation),
    /// An object of an NSS database is added or taken away.
    Database(NssChange),
    /// A certificate of one of Windows' stores is added or taken away.
    Native(NativeChange),
}

impl Step {
    /// One line for `--dry-run` and the journal.
    ///
    /// ```
    /// use tamga_core::plan::step::Step;
    ///
    /// let step = Step::Write { path: "/etc/hosts".into(), bytes: Vec::new(), mode: 0o644 };
    /// assert_eq!(step.words(), "write /etc/hosts (0644)");
    /// ```
    pub fn words(&self) -> String {
        match self {
            Step::Folder { path, mode } => format!("make the directory {} ({mode:04o})", path.shown()),
            Step::Write { path, mode, .. } => format!("write {} ({mode:04o})", path.shown()),
            Step::Remove { path } => format!("remove {}", path.shown()),
            Step::Run(i) => {
                let file = if i.file.is_some() { " FILE" } else { "" };
                format!("run {} {}", i.program.shown(), i.arguments.join(" ")).trim_end().to_owned() + file
            }
            Step::Database(c) => c.words(),
            Step::Native(c) => c.words(),
        }
    }
}

/// A step with its way back: what undoes it if a later one fails.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Planned {
    /// The step.
    pub step: Step,
    /// What undoes it, in order; empty where nothing is needed.
    pub undo: Vec<Step>,
}

impl Planned {
    /// A step that needs no way back.
    pub fn plain(step: Step) -> Planned {
        Planned { step, undo: Vec::new() }
    }
}

/// A file of an identity or authority.
#[derive(Clone)]
pub struct Document {
    /// Its name in the directory.
    pub name: &'static str,
    /// Its contents; wiped when dropped, since it may be a key.
    pub bytes: Zeroizing<Vec<u8>>,
    /// Permission bits from the first byte on.
    pub mode: u32,
    /// True for an open key: where the file system does not keep the mode, it must not be written at all.
    pub secret: bool,
}

/// Files that belong together: staged, verified, then all there or none.
#[derive(Clone)]
pub struct Publication {
    /// The directory they go into.
    pub folder: PathBuf,
    /// The directory's permission bits if it is new.
    pub folder_mode: u32,
    /// The files; the one that vouches for the whole (the certificate) last.
    pub documents: Vec<Document>,
}
