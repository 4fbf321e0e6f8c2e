//! What is known and was done, as data: worded by the command line.

use crate::cert::Certificate;
use crate::moment::{DAY, Moment};
use std::path::PathBuf;

/// An authority as the ledger knows it.
#[derive(Clone, Debug)]
pub struct Authority {
    /// Its label.
    pub label: String,
    /// Its certificate.
    pub certificate: Certificate,
    /// Where its key and certificate stand.
    pub folder: PathBuf,
}

/// How an issued certificate stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// It is in force.
    Valid,
    /// It ends within 30 days.
    EndsSoon,
    /// It has ended.
    Expired,
    /// A newer one bears its label.
    Superseded,
    /// Its issue was interrupted: it was never handed out.
    Abandoned,
}

impl Standing {
    /// The word of the interface.
    pub fn word(self) -> &'static str {
        match self {
            Standing::Valid => "valid",
            Standing::EndsSoon => "ends-soon",
            Standing::Expired => "expired",
            Standing::Superseded => "superseded",
            Standing::Abandoned => "abandoned",
        }
    }
}

/// A certificate as the ledger knows it.
#[derive(Clone, Debug)]
pub struct Issued {
    /// Its label.
    pub label: String,
    /// The certificate.
    pub certificate: Certificate,
    /// The label of its authority; None if it signed itself.
    pub authority: Option<String>,
    /// Its folder.
    pub folder: PathBuf,
    /// Its state in the ledger: `live`, `superseded` or `abandoned`.
    pub state: String,
}

impl Issued {
    /// How it stands at a moment.
    pub fn standing(&self, now: Moment) -> Standing {
        match self.state.as_str() {
            "superseded" => Standing::Superseded,
            "abandoned" => Standing::Abandoned,
            _ if now > self.certificate.not_after => Standing::Expired,
            _ if self.certificate.not_after.plus(-30 * DAY) < now => Standing::EndsSoon,
            _ => Standing::Valid,
        }
    }
}
