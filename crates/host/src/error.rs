//! What can go wrong with the world.

use std::path::{Path, PathBuf};
use tamga_core::error::{Diagnostic, Kind};
use tamga_core::vocabulary::text::Shown;

/// A failure of the surroundings, with its context.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// A file or directory could not be used.
    #[error("{doing} {} failed", path.shown())]
    File {
        /// The operation: "writing", "reading".
        doing: &'static str,
        /// What it was about.
        path: PathBuf,
        /// The operating system's word.
        source: std::io::Error,
    },
    /// A file of the machine that only root may change.
    #[error("{} was not changed", path.shown())]
    NeedsRights {
        /// The file.
        path: PathBuf,
        /// The command that does it.
        command: String,
    },
    /// Nobody answered there, or not as hoped.
    #[error("{what} could not be fetched")]
    Unreached {
        /// The address.
        what: String,
        /// Why.
        detail: String,
    },
    /// A link in an image leads out of it.
    #[error("{} would be changed outside of the image", path.shown())]
    OutOfImage {
        /// The path in the image.
        path: PathBuf,
        /// Where it leads.
        leads: PathBuf,
    },
    /// An account could not be looked up.
    #[error("the account {typed} cannot be looked up")]
    Account {
        /// Its name or number.
        typed: String,
        /// Why not.
        why: String,
    },
    /// A file or directory that another account could replace.
    #[error("{} is not used: another account could replace it", path.shown())]
    OpenToOthers {
        /// The directory or file.
        path: PathBuf,
        /// Who may change it.
        who: String,
    },
    /// A file system that does not keep a key to its owner.
    #[error("the private key cannot be kept to yourself in {}", path.shown())]
    ModeLost {
        /// The file.
        path: PathBuf,
        /// The permission bits that it got.
        mode: u32,
    },
    /// The ledger could not be used.
    #[error("the ledger {} cannot be used", path.shown())]
    Ledger {
        /// The file.
        path: PathBuf,
        /// The database's word.
        source: crate::database::SqlError,
    },
    /// The ledger's file is damaged.
    #[error("the ledger {} is damaged", path.shown())]
    LedgerDamaged {
        /// The file.
        path: PathBuf,
        /// The database's word.
        source: crate::database::SqlError,
    },
    /// The ledger's database does not answer, or refuses us.
    #[error("the ledger {} cannot be used", url.shown())]
    LedgerUnreachable {
        /// Its URL.
        url: String,
        /// The database's word.
        source: crate::database::SqlError,
        /// What else may have to do with it.
        notes: Vec<String>,
    },
    /// The ledger's database did not say whether something is recorded.
    #[error("whether the ledger {} has recorded it is not known", url.shown())]
    LedgerUnconfirmed {
        /// Its URL.
        url: String,
        /// Why.
        why: String,
    },
    /// There is no ledger where it should be.
    #[error("there is no ledger in {}", url.shown())]
    LedgerAbsent {
        /// Its URL.
        url: String,
    },
    /// Another machine took a label in the meantime.
    #[error("the label {label} is taken")]
    LabelTaken {
        /// The label.
        label: String,
    },
    /// The ledger is where it was to be moved.
    #[error("the ledger is not moved")]
    LedgerHere {
        /// Where it is.
        url: String,
    },
    /// A ledger of which this data directory is not a part.
    #[error("the ledger {} cannot be used from here", url.shown())]
    LedgerNotJoined {
        /// Its URL.
        url: String,
    },
    /// A ledger's address cannot be used.
    #[error("the ledger address {} cannot be used", url.shown())]
    LedgerUrl {
        /// The address.
        url: String,
        /// Why.
        why: String,
    },
    /// There is a ledger already where another one was to be moved.
    #[error("the ledger cannot be moved to {}", url.shown())]
    LedgerOccupied {
        /// Its URL.
        url: String,
    },
    /// Another machine has this name in a ledger.
    #[error("another machine is called {} in the ledger {}", host.shown(), url.shown())]
    LedgerName {
        /// The ledger's URL.
        url: String,
        /// The name.
        host: String,
    },
    /// A backup could not be written or opened.
    #[error("{what}")]
    Backup {
        /// What was done.
        what: String,
        /// What is wrong.
        why: String,
        /// What to do.
        remedy: String,
    },
    /// The ledger was written by a newer Tamga.
    #[error("the ledger {} is of a newer Tamga", path.shown())]
    LedgerNewer {
        /// The file.
        path: PathBuf,
    },
    /// Another process works on the data directory.
    #[error("another tamga is at work on {}", path.shown())]
    Locked {
        /// The data directory.
        path: PathBuf,
    },
    /// Another machine cannot be worked on.
    #[error("{host} was not changed")]
    Host {
        /// Its name.
        host: String,
        /// Why.
        fault: crate::host_fault::HostFault,
    },
    /// A program failed.
    #[error("{program} failed")]
    Program {
        /// The program.
        program: String,
        /// What it said, or how it ended.
        said: String,
    },
    /// An NSS database could not be changed.
    #[error("the database in {} could not be changed", folder.shown())]
    Nss {
        /// The directory.
        folder: PathBuf,
        /// The reason.
        why: String,
        /// What to do.
        remedy: String,
    },
    /// One of Windows' stores could not be changed.
    #[error("the store {store} could not be changed")]
    SystemStore {
        /// The store, as Windows' consoles write it.
        store: String,
        /// What the system said.
        said: String,
    },
    /// A port could not be opened.
    #[error("port {port} cannot be opened")]
    Port {
        /// The port.
        port: u16,
        /// The operating system's word.
        source: std::io::Error,
    },
    /// A change failed and its undoing failed too.
    #[error("{what}; not everything could be undone")]
    Stuck {
        /// The first failure.
        what: String,
        /// What is left.
        left: String,
    },
    /// There is no home directory to work in.
    #[error("there is no home directory")]
    NoHome,
}

impl Error {
    /// Wraps an I/O error with what was being done.
    pub fn file(doing: &'static str, path: &Path) -> impl FnOnce(std::io::Error) -> Error {
        let path = path.to_owned();
        move |source| Error::File { doing, path, source }
    }
}

impl Diagnostic for Error {
    fn kind(&self) -> Kind {
        match self {
            Error::Stuck { .. } => Kind::Stuck,
            Error::Backup { .. }
            | Error::ModeLost { .. }
            | Error::LedgerHere { .. }
            | Error::LedgerNotJoined { .. }
            | Error::LedgerUrl { .. }
            | Error::LabelTaken { .. }
            | Error::LedgerOccupied { .. }
            | Error::LedgerName { .. } => Kind::Refused,
            _ => Kind::Surroundings,
        }
    }

    fn code(&self) -> &'static str {
        match self {
            Error::File { .. } => "file-failed",
            Error::NeedsRights { .. } => "rights-needed",
            Error::Unreached { .. } => "unreached",
            Error::OutOfImage { .. } => "out-of-image",
            Error::OpenToOthers { .. } => "open-to-others",
            Error::Account { .. } => "account-unknown",
            Error::ModeLost { .. } => "mode-lost",
            Error::Ledger { .. } => "ledger-failed",
            Error::LedgerDamaged { .. } => "ledger-damaged",
            Error::LedgerUnreachable { .. } => "ledger-unreachable",
            Error::LedgerUnconfirmed { .. } => "ledger-unconfirmed",
            Error::LedgerAbsent { .. } => "ledger-absent",
            Error::LedgerHere { .. } => "ledger-here",
            Error::LedgerNotJoined { .. } => "ledger-not-joined",
            Error::LabelTaken { .. } => "label-taken",
            Error::LedgerUrl { .. } => "ledger-address",
            Error::LedgerOccupied { .. } => "ledger-occupied",
            Error::LedgerName { .. } => "host-name-taken",
            Error::Backup { .. } => "backup-refused",
            Error::LedgerNewer { .. } => "ledger-newer",
            Error::Locked { .. } => "locked",
            Error::Host { fault, .. } => fault.code(),
            Error::Program { .. } => "program-failed",
            Error::Nss { .. } => "database-failed",
            Error::SystemStore { .. } => "store-failed",
            Error::Port { .. } => "port-failed",
            Error::Stuck { .. } => "stuck",
            Error::NoHome => "no-home",
        }
    }

    fn what(&self) -> String {
        self.to_string()
    }

    fn why(&self) -> String {
        match self {
            Error::File { source, .. } | Error::Port { source, .. } => io_words(source),
            Error::NeedsRights { .. } => "it belongs to the machine, and only root may change it".into(),
            Error::Unreached { detail, .. } => detail.clone(),
            Error::OutOfImage { leads, .. } => format!("a link in it leads to {}, on this machine", leads.shown()),
            Error::OpenToOthers { who, .. } => format!("{who} can change it, and so decide what Tamga does there"),
            Error::Account { why, .. } => why.clone(),
            Error::ModeLost { mode, .. } => {
                format!("this file system gives every file the mode {mode:04o}, so that others could read it")
            }
            Error::Ledger { source, .. } | Error::LedgerDamaged { source, .. } => source.to_string(),
            Error::LedgerUnreachable { source, notes, .. } => {
                std::iter::once(source.to_string()).chain(notes.iter().cloned()).collect::<Vec<_>>().join("; ")
            }
            Error::LedgerUnconfirmed { why, .. } | Error::LedgerUrl { why, .. } => why.clone(),
            Error::LedgerHere { url } => format!("it is in {} already", url.shown()),
            Error::LedgerNotJoined { .. } => "this data directory has not joined it, and has no name in it".into(),
            Error::LabelTaken { .. } => "another machine has just recorded something with it".into(),
            Error::LedgerAbsent { .. } => "the database has no tables of Tamga's".into(),
            Error::LedgerOccupied { .. } => {
                "both have certificates or authorities in them, and two ledgers are not mixed".into()
            }
            Error::LedgerName { .. } => "which machine a file is on is known by that name".into(),
            Error::Backup { why, .. } => why.clone(),
            Error::LedgerNewer { .. } => "this version does not know its layout".into(),
            Error::Locked { .. } => "it has held the data directory's lock for 30 seconds".into(),
            Error::Host { fault, .. } => fault.why(),
            Error::Program { said, .. } | Error::SystemStore { said, .. } => said.clone(),
            Error::Nss { why, .. } => why.clone(),
            Error::Stuck { left, .. } => format!("still to do: {left}"),
            Error::NoHome => "HOME is not set and the account has no directory".into(),
        }
    }

    fn remedy(&self) -> String {
        match self {
            Error::File { source, .. } => match source.kind() {
                std::io::ErrorKind::PermissionDenied => {
                    "choose a place that you may write (--into DIR, --data-dir DIR), or ask its owner".into()
                }
                std::io::ErrorKind::StorageFull => "free some disk space and run the same command again".into(),
                _ => "look at that path, then run the same command again".into(),
            },
            Error::NeedsRights { command, .. } => command.clone(),
            Error::Unreached { .. } => "see that the other machine still hands it out, at this address and port".into(),
            Error::OutOfImage { .. } => "take the link out of the image, then run the same command again".into(),
            Error::OpenToOthers { path, .. } => {
                format!("chown root {0} && chmod go-w {0}; or call Tamga as the owner, without sudo", path.shown())
            }
            Error::Account { .. } => {
                "check the account with: getent passwd; or call Tamga as root itself, from a root shell without sudo"
                    .into()
            }
            Error::ModeLost { .. } => "encrypt it (--encrypt-key), or choose a directory on another file system".into(),
            Error::Ledger { .. } => {
                "see that the data directory is yours and not full, then run the same command again".into()
            }
            Error::LedgerDamaged { .. } => {
                "tamga repair puts it together again from what still reads and from the authorities' files".into()
            }
            Error::LedgerUnreachable { .. } => {
                "see that the database is up and lets this account in, then run the same command again. What needs no ledger still works: \
                 check of files and addresses, show FILE, explain"
                    .into()
            }
            Error::LedgerUnconfirmed { .. } => {
                "run the same command again when the database answers: it finds what was recorded and goes on".into()
            }
            Error::LedgerAbsent { .. } => "tamga ledger move URL makes it, from the ledger of this data directory".into(),
            Error::LedgerOccupied { .. } => {
                "to join it, use a data directory without a ledger: --data-dir DIR; what is here stays usable from this one".into()
            }
            Error::LedgerName { .. } => "choose another: --host NAME".into(),
            Error::LedgerHere { .. } => "nothing has to be done; to see it: tamga ledger status".into(),
            Error::LedgerNotJoined { url } => format!("join it with an empty data directory: tamga ledger move {}", url.shown()),
            Error::LabelTaken { .. } => "choose another: --label TEXT".into(),
            Error::LedgerUrl { .. } => "give one such as postgres://ledger.saltmarsh.test/tamga, sqlite: or sqlite:PATH".into(),
            Error::Backup { remedy, .. } => remedy.clone(),
            Error::LedgerNewer { .. } => "use the newer Tamga, or another --data-dir".into(),
            Error::Locked { .. } => "wait until it has finished, then run the same command again".into(),
            Error::Host { fault, .. } => fault.remedy().into(),
            Error::Program { .. } => "fix what it says, then run the same command again".into(),
            Error::Nss { remedy, .. } => remedy.clone(),
            Error::SystemStore { .. } => "run the same command again, and say yes in the dialog of Windows".into(),
            Error::Port { source, .. } if source.kind() == std::io::ErrorKind::AddrInUse => {
                "choose another: --port N, or leave --port away for a free one".into()
            }
            Error::Port { .. } => "ports below 1024 need rights: choose another with --port N".into(),
            Error::Stuck { .. } => "take away by hand what is named here, then run tamga trust status".into(),
            Error::NoHome => "set HOME, or give --data-dir DIR".into(),
        }
    }
}

/// An error of the operating system in words.
pub fn io_words(e: &std::io::Error) -> String {
    use std::io::ErrorKind as K;
    match e.kind() {
        K::PermissionDenied => "permission denied".into(),
        K::NotFound => "there is no such file or directory".into(),
        K::StorageFull => "the disk is full".into(),
        K::AddrInUse => "another program listens there already".into(),
        K::ReadOnlyFilesystem => "the file system is read-only".into(),
        K::AlreadyExists => "it exists already".into(),
        K::CrossesDevices => "it is on another file system".into(),
        K::DirectoryNotEmpty => "the directory is not empty".into(),
        K::NotADirectory => "a part of the path is not a directory".into(),
        K::IsADirectory => "it is a directory".into(),
        K::TimedOut => "it did not answer in time".into(),
        _ => {
            let text = e.to_string();
            let words = text.split(" (os error").next().unwrap_or(&text);
            let mut letters = words.chars();
            letters.next().map(|first| first.to_lowercase().chain(letters).collect()).unwrap_or_default()
        }
    }
}

/// The host's result.
pub type Result<T, E = Error> = std::result::Result<T, E>;
