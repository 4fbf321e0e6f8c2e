//! What can go wrong in the core: always what failed, why, and what to do.

use crate::vocabulary::text::{Shown, nearest};
use crate::vocabulary::token_fault::TokenFault;
use std::path::PathBuf;

/// How grave a failure is; each kind has one exit code (see the interface).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    /// The words typed do not make a command (exit 2).
    Usage,
    /// The input is refused: malformed, forbidden, or missing (exit 3).
    Refused,
    /// The surroundings do not allow it: rights, disk, port, a program (exit 4).
    Surroundings,
    /// Done in part (exit 5).
    Partial,
    /// Failed half-way and could not be undone (exit 6).
    Stuck,
    /// A fault of Tamga's own (exit 70).
    Fault,
}

/// A failure: three lines for a person, a stable code for a program.
pub trait Diagnostic: std::error::Error {
    /// The exit code's kind.
    fn kind(&self) -> Kind;
    /// A stable word for programs, such as `constraint-violated`.
    fn code(&self) -> &'static str;
    /// What failed, in one line.
    fn what(&self) -> String;
    /// Why it failed, in one line.
    fn why(&self) -> String;
    /// What a person can do about it, in one line.
    fn remedy(&self) -> String;
}

/// A failure that occurs in one place and needs no type of its own: its lines as they are shown.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{what}")]
pub struct Stated {
    /// Its kind.
    pub kind: Kind,
    /// A stable word for programs.
    pub code: &'static str,
    /// What failed.
    pub what: String,
    /// Why.
    pub why: String,
    /// What to do about it.
    pub remedy: String,
}

impl Diagnostic for Stated {
    fn kind(&self) -> Kind {
        self.kind
    }
    fn code(&self) -> &'static str {
        self.code
    }
    fn what(&self) -> String {
        self.what.clone()
    }
    fn why(&self) -> String {
        self.why.clone()
    }
    fn remedy(&self) -> String {
        self.remedy.clone()
    }
}

/// Every failure of the core, with its context.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Error {
    /// A name that cannot be put into a certificate.
    #[error("the name {typed:?} is refused")]
    Name {
        /// As typed.
        typed: String,
        /// The rule it breaks.
        why: String,
        /// What to type instead.
        instead: String,
    },
    /// A word that names nothing we know, such as a time span or a key algorithm.
    #[error("invalid {what} {typed:?}")]
    Word {
        /// What was expected: "time span", "key algorithm".
        what: &'static str,
        /// As typed.
        typed: String,
        /// The accepted spellings.
        accepted: String,
    },
    /// Two options, or an option and a request, that exclude each other.
    #[error("{what}")]
    Contradiction {
        /// What was asked.
        what: String,
        /// Why it cannot be.
        why: String,
        /// The way out.
        instead: String,
    },
    /// Bytes that are not what they should be.
    #[error("{what} cannot be read")]
    Malformed {
        /// What was being read, with its place.
        what: String,
        /// The first thing wrong with it.
        why: String,
    },
    /// A name outside the name constraints of the issuing authority.
    #[error("{authority} may not certify {name}")]
    OutsideConstraints {
        /// The name asked for.
        name: String,
        /// The authority's label.
        authority: String,
        /// What it may certify.
        permitted: String,
        /// A label free for an authority that could.
        free_label: String,
    },
    /// A label that is in use already.
    #[error("the label {label} is taken")]
    LabelTaken {
        /// The label.
        label: String,
        /// By what: "a certificate in ./x", "an authority".
        by: String,
        /// The way out.
        instead: String,
    },
    /// A label that names nothing.
    #[error("nothing has the label {label}")]
    LabelUnknown {
        /// As typed.
        label: String,
        /// What was looked for: "authority", "certificate".
        sought: &'static str,
        /// Labels that exist.
        known: Vec<String>,
    },
    /// No authority has been made yet.
    #[error("there is no authority yet")]
    NoAuthority,
    /// Several authorities could be meant.
    #[error("there are several authorities")]
    ManyAuthorities {
        /// Their labels.
        labels: Vec<String>,
    },
    /// A private key that is not where it should be.
    #[error("the private key of {label} is missing")]
    KeyMissing {
        /// Whose key.
        label: String,
        /// Where it should be.
        path: PathBuf,
    },
    /// A private key that is not at hand, and where it is.
    #[error("the private key of {label} is not here")]
    KeyAway {
        /// Whose key.
        label: String,
        /// Where it went.
        place: String,
        /// The way out.
        instead: String,
    },
    /// Something that a finding objects to.
    #[error("{what}")]
    Objection {
        /// The finding's word.
        code: &'static str,
        /// What is refused.
        what: String,
        /// Why.
        why: String,
        /// The way out.
        instead: String,
    },
    /// A step that cannot be undone, and nobody who could say yes to it.
    #[error("{what} needs a confirmation")]
    Unconfirmed {
        /// The step, such as "revoking charts.saltmarsh.test".
        what: String,
    },
    /// A step that the person declined.
    #[error("{what}: declined")]
    Declined {
        /// The step.
        what: String,
    },
    /// A private key that belongs to another certificate.
    #[error("the private key of {label} does not belong to its certificate")]
    KeyMismatch {
        /// Whose key.
        label: String,
        /// Where it was read.
        path: PathBuf,
    },
    /// A private key that is encrypted, and no passphrase for it.
    #[error("{what} is encrypted")]
    PassphraseNeeded {
        /// Which file.
        what: String,
    },
    /// A token, and no PIN for it.
    #[error("the token {} needs its PIN", token.shown())]
    PinNeeded {
        /// The token's label.
        token: String,
    },
    /// A passphrase that does not open the key.
    #[error("{what} does not open")]
    PassphraseWrong {
        /// Which file.
        what: String,
    },
    /// A key of a kind that is read and not used.
    #[error("the key in {what} is of no use here")]
    UnusedKey {
        /// Which file.
        what: String,
        /// The kind, with its size where that is known, such as "DSA, 2048 bits".
        kind: String,
    },
    /// Something wrong in one line of a list.
    #[error("{file}, line {line}: {inner}")]
    InList {
        /// The file.
        file: String,
        /// The line, from 1.
        line: usize,
        /// What is wrong.
        inner: Box<Error>,
    },
    /// Something wrong at one place of a file.
    #[error("{file}, line {line}, column {column}: {inner}")]
    InFile {
        /// The file.
        file: String,
        /// The line, from 1.
        line: usize,
        /// The column, from 1.
        column: usize,
        /// What is wrong.
        inner: Box<Error>,
    },
    /// Something without any name to certify.
    #[error("{what} names nobody")]
    NamesNeeded {
        /// What was looked at.
        what: String,
    },
    /// An authority that ends before a leaf could begin.
    #[error("{authority} has expired")]
    IssuerEnded {
        /// The authority's label.
        authority: String,
        /// When it ended, RFC 3339.
        ended: String,
    },
    /// A key on a token that cannot be used.
    #[error("the key {} cannot be used", uri.shown())]
    Token {
        /// Its address, without its module.
        uri: String,
        /// Why.
        fault: TokenFault,
    },
    /// A cryptographic operation failed where it must not.
    #[error("{doing} failed")]
    Crypto {
        /// The operation.
        doing: &'static str,
    },
}

impl Diagnostic for Error {
    fn kind(&self) -> Kind {
        match self {
            Error::Word { .. }
            | Error::Contradiction { .. }
            | Error::ManyAuthorities { .. }
            | Error::Unconfirmed { .. } => Kind::Usage,
            Error::Crypto { .. } => Kind::Fault,
            Error::Token { fault, .. } if !fault.is_refusal() => Kind::Surroundings,
            Error::InFile { .. } => Kind::Refused,
            Error::InList { inner, .. } => inner.kind(),
            _ => Kind::Refused,
        }
    }

    fn code(&self) -> &'static str {
        match self {
            Error::Name { .. } => "name-refused",
            Error::Word { .. } => "word-unknown",
            Error::Contradiction { .. } => "contradiction",
            Error::Malformed { .. } => "malformed",
            Error::OutsideConstraints { .. } => "constraint-violated",
            Error::LabelTaken { .. } => "label-taken",
            Error::LabelUnknown { .. } => "label-unknown",
            Error::NoAuthority => "no-authority",
            Error::ManyAuthorities { .. } => "issuer-needed",
            Error::KeyMissing { .. } => "key-missing",
            Error::KeyAway { .. } => "key-away",
            Error::Objection { code, .. } => code,
            Error::KeyMismatch { .. } => "key-mismatch",
            Error::InList { inner, .. } | Error::InFile { inner, .. } => inner.code(),
            Error::NamesNeeded { .. } => "names-missing",
            Error::Unconfirmed { .. } => "confirmation-needed",
            Error::Declined { .. } => "declined",
            Error::PassphraseNeeded { .. } => "passphrase-needed",
            Error::PinNeeded { .. } => "pin-needed",
            Error::PassphraseWrong { .. } => "passphrase-wrong",
            Error::UnusedKey { .. } => "key-kind-unsupported",
            Error::IssuerEnded { .. } => "issuer-expired",
            Error::Token { fault, .. } => fault.code(),
            Error::Crypto { .. } => "crypto-fault",
        }
    }

    fn what(&self) -> String {
        self.to_string()
    }

    fn why(&self) -> String {
        match self {
            Error::Name { why, .. }
            | Error::Contradiction { why, .. }
            | Error::Malformed { why, .. }
            | Error::Objection { why, .. } => why.clone(),
            Error::KeyAway { place, .. } => place.clone(),
            Error::Word { accepted, .. } => format!("expected: {accepted}"),
            Error::OutsideConstraints { permitted, .. } => {
                format!("its limits are {permitted}")
            }
            Error::LabelTaken { by, .. } => format!("it names {by}"),
            Error::LabelUnknown { sought, known, .. } if known.is_empty() => {
                format!("there is no {sought} yet")
            }
            Error::LabelUnknown { known, .. } => format!("known are: {}", known.join(", ")),
            Error::NoAuthority => "a certificate needs an authority that signs it, or must sign itself".into(),
            Error::ManyAuthorities { labels } => {
                format!("any of these could sign: {}", labels.join(", "))
            }
            Error::KeyMissing { path, .. } => format!("there is no file {}", path.shown()),
            Error::KeyMismatch { path, .. } => {
                format!("the key in {} does not match the certificate", path.shown())
            }
            Error::InList { inner, .. } | Error::InFile { inner, .. } => inner.why(),
            Error::NamesNeeded { .. } => "a certificate without a name is accepted by nobody".into(),
            Error::Unconfirmed { .. } => "it cannot be undone, and there is no terminal to ask at".into(),
            Error::Declined { .. } => "you did not answer yes, so nothing was changed".into(),
            Error::PassphraseNeeded { .. } => "its passphrase was not given and nobody could be asked".into(),
            Error::PinNeeded { .. } => "its PIN was not given and nobody could be asked".into(),
            Error::PassphraseWrong { .. } => "the passphrase is wrong".into(),
            Error::UnusedKey { kind, .. } => format!("it is a key of the kind {kind}, which Tamga does not use"),
            Error::IssuerEnded { ended, .. } => {
                format!("its certificate ended on {ended}; nothing it signs now is accepted")
            }
            Error::Token { fault, .. } => fault.why(),
            Error::Crypto { .. } => "the library refused its input".into(),
        }
    }

    fn remedy(&self) -> String {
        match self {
            Error::Name { instead, .. }
            | Error::Contradiction { instead, .. }
            | Error::LabelTaken { instead, .. }
            | Error::KeyAway { instead, .. }
            | Error::Objection { instead, .. } => instead.clone(),
            Error::Word { accepted, typed, .. } => {
                let words = accepted.split([' ', ',']).filter(|w| w.len() > 2);
                match nearest(typed, words) {
                    Some(near) => format!("did you mean {near}?"),
                    None => "correct it, then run the same command again".to_owned(),
                }
            }
            Error::Malformed { .. } => {
                "look at the file: it may be cut short, of another kind, or in a form not asked for".into()
            }
            Error::OutsideConstraints { name, authority, free_label, .. } => {
                let bare = name.trim_start_matches("*.");
                format!(
                    "widen it: tamga authority permit {authority} {bare}; or make another: tamga authority create {free_label} --permit {bare}"
                )
            }
            Error::LabelUnknown { label, known, .. }
                if let Some(near) = nearest(label, known.iter().map(String::as_str)) =>
            {
                format!("did you mean {near}?")
            }
            Error::LabelUnknown { sought, .. } if *sought == "authority" => "see: tamga authority list".into(),
            Error::LabelUnknown { .. } => "see: tamga list".into(),
            Error::NoAuthority => "make one: tamga authority create LABEL; or everything at once: tamga setup".into(),
            Error::ManyAuthorities { .. } => "say which: --issuer LABEL".into(),
            Error::KeyMissing { .. } => {
                "put the key back where it was, or make a new certificate under another label".into()
            }
            Error::KeyMismatch { .. } => {
                "put the matching key back, or make a new certificate under another label".into()
            }
            Error::InList { inner, .. } | Error::InFile { inner, .. } => inner.remedy(),
            Error::NamesNeeded { .. } => "give the names on the command line".into(),
            Error::Unconfirmed { .. } => "if you are sure, add --yes".into(),
            Error::Declined { .. } => "run the command again if you change your mind; --yes skips the question".into(),
            Error::PassphraseNeeded { .. } | Error::PinNeeded { .. } => {
                "give it: --passphrase-file PATH or --passphrase-env VAR".into()
            }
            Error::UnusedKey { .. } => "make one that every client takes: tamga issue NAME".into(),
            Error::PassphraseWrong { .. } => "try again with the passphrase that the key was encrypted with".into(),
            Error::IssuerEnded { .. } => "make a new authority: tamga authority create LABEL".into(),
            Error::Token { fault, .. } => fault.remedy().into(),
            Error::Crypto { .. } => "please report this with the command that you typed".into(),
        }
    }
}

/// The core's result.
pub type Result<T, E = Error> = std::result::Result<T, E>;
