//! What is known and was done, as data: worded by the command line.

use crate::pki::cert::Certificate;
use crate::pki::cert::profile::Links;
use crate::vocabulary::purpose::Purpose;
use crate::vocabulary::reason::Reason;
use crate::vocabulary::timestamp::{DAY, Timestamp};
use std::path::PathBuf;

/// Where an authority's private key is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KeyPlace {
    /// In its folder.
    Here,
    /// In a removable place.
    Offline(PathBuf),
    /// On the machine that asked for the certificate: it never was here.
    Elsewhere,
    /// Nowhere: it was thrown away.
    Discarded,
}

impl KeyPlace {
    /// The word of the ledger and of JSON.
    pub fn word(&self) -> &'static str {
        match self {
            KeyPlace::Here => "here",
            KeyPlace::Offline(_) => "offline",
            KeyPlace::Elsewhere => "elsewhere",
            KeyPlace::Discarded => "discarded",
        }
    }
}

/// An authority as the ledger knows it.
#[derive(Clone, Debug)]
pub struct Authority {
    /// Its label.
    pub label: String,
    /// Its present certificate.
    pub certificate: Certificate,
    /// Earlier certificates of the same key, which may still stand in stores.
    pub earlier: Vec<Certificate>,
    /// Where its key and certificate stand.
    pub folder: PathBuf,
    /// The label of the authority above it, where the ledger knows it.
    pub issuer: Option<String>,
    /// The label of the root at its top, where the ledger knows it; else its own.
    pub root_label: String,
    /// The certificates above it, up to the root as far as known.
    pub above: Vec<Certificate>,
    /// Its own key certified by an older root: sent along for clients that trust only that one.
    pub crossed: Vec<Certificate>,
    /// Where its key is.
    pub key: KeyPlace,
    /// What it may issue for.
    pub purposes: Vec<Purpose>,
    /// What is written into what it issues.
    pub links: Links,
    /// True once it signs no more.
    pub retired: bool,
}

impl Authority {
    /// A root that has just been made: its key is in its folder.
    pub fn root(label: impl Into<String>, certificate: Certificate, folder: PathBuf) -> Authority {
        let label = label.into();
        Authority {
            root_label: label.clone(),
            label,
            certificate,
            earlier: Vec::new(),
            folder,
            issuer: None,
            above: Vec::new(),
            crossed: Vec::new(),
            key: KeyPlace::Here,
            purposes: vec![Purpose::Server, Purpose::Client],
            links: Links::default(),
            retired: false,
        }
    }

    /// True if nothing is above it.
    pub fn is_root(&self) -> bool {
        self.certificate.is_self_issued()
    }

    /// The root at its top, if it is known.
    pub fn top(&self) -> Option<&Certificate> {
        if self.is_root() { Some(&self.certificate) } else { self.above.iter().find(|c| c.is_self_issued()) }
    }

    /// What a server sends behind a leaf of this authority: every intermediate, and what leads to an older root.
    pub fn served_with(&self) -> Vec<Certificate> {
        let itself = (!self.is_root()).then_some(&self.certificate);
        let between = self.above.iter().filter(|c| !c.is_self_issued());
        itself.into_iter().chain(between).chain(&self.crossed).cloned().collect()
    }

    /// True if a certificate could be asked of it: it is not retired and its key has not been thrown away or never here.
    pub fn may_sign(&self) -> bool {
        !self.retired && matches!(self.key, KeyPlace::Here | KeyPlace::Offline(_))
    }
}

/// How the ledger holds a certificate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Life {
    /// The current one of its label.
    Live,
    /// A newer one bears its label.
    Superseded,
    /// Its issue was interrupted: it was never handed out.
    Abandoned,
}

impl Life {
    /// The word of the ledger.
    pub fn word(self) -> &'static str {
        match self {
            Life::Live => "live",
            Life::Superseded => "superseded",
            Life::Abandoned => "abandoned",
        }
    }

    /// From the ledger's word.
    pub fn parse(word: &str) -> Life {
        [Life::Live, Life::Superseded].into_iter().find(|l| l.word() == word).unwrap_or(Life::Abandoned)
    }
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
    /// It was taken back.
    Revoked,
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
            Standing::Revoked => "revoked",
            Standing::Superseded => "superseded",
            Standing::Abandoned => "abandoned",
        }
    }
}

/// That a certificate was taken back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Revocation {
    /// Since when.
    pub at: Timestamp,
    /// Why.
    pub reason: Reason,
    /// True once a signed list says so.
    pub published: bool,
}

/// A certificate as the ledger knows it.
#[derive(Clone, Debug)]
pub struct Issued {
    /// Its label.
    pub label: String,
    /// The certificate.
    pub certificate: Certificate,
    /// The label of its authority; None if it signed itself or was signed elsewhere.
    pub authority: Option<String>,
    /// Its folder.
    pub folder: PathBuf,
    /// How the ledger holds it.
    pub life: Life,
    /// If it was taken back.
    pub revoked: Option<Revocation>,
}

impl Issued {
    /// True if it is the current one of its label.
    pub fn is_live(&self) -> bool {
        self.life == Life::Live
    }

    /// How it stands at a moment.
    pub fn standing(&self, now: Timestamp) -> Standing {
        match self.life {
            Life::Abandoned => Standing::Abandoned,
            _ if self.revoked.is_some() => Standing::Revoked,
            Life::Superseded => Standing::Superseded,
            _ if now > self.certificate.not_after => Standing::Expired,
            _ if self.certificate.not_after.plus(-30 * DAY) < now => Standing::EndsSoon,
            _ => Standing::Valid,
        }
    }

    /// True if it would still be accepted by its dates and was not taken back.
    pub fn is_in_force(&self, now: Timestamp) -> bool {
        self.life != Life::Abandoned && self.revoked.is_none() && now <= self.certificate.not_after
    }
}
