//! What is known and was done, as data: worded by the command line.

use crate::pki::cert::Certificate;
use crate::pki::cert::profile::Links;
use crate::pki::token::TokenUri;
use crate::vocabulary::fingerprint::Sha256Fingerprint;
use crate::vocabulary::label::Label;
use crate::vocabulary::purpose::Purpose;
use crate::vocabulary::reason::Reason;
use crate::vocabulary::timestamp::{DAY, Timestamp};
use std::path::PathBuf;

/// Where an authority's private key is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KeyPlace {
    /// In its directory.
    Here,
    /// In a removable place.
    Offline(PathBuf),
    /// On the machine that asked for the certificate: it never was here.
    Elsewhere,
    /// Nowhere: it was thrown away.
    Discarded,
    /// On a PKCS#11 token: its address, which the file in its directory completes with the module of this machine.
    Token(Box<TokenUri>),
}

impl KeyPlace {
    /// The word of the ledger and of JSON.
    pub fn word(&self) -> &'static str {
        match self {
            KeyPlace::Here => "here",
            KeyPlace::Offline(_) => "offline",
            KeyPlace::Elsewhere => "elsewhere",
            KeyPlace::Discarded => "discarded",
            KeyPlace::Token(_) => "token",
        }
    }
}

/// An authority as the ledger knows it.
#[derive(Clone, Debug)]
pub struct Authority {
    /// Its label.
    pub label: Label,
    /// Its present certificate.
    pub certificate: Certificate,
    /// Earlier certificates of the same key, which may still are in stores.
    pub earlier: Vec<Certificate>,
    /// Where its key and certificate stand.
    pub folder: PathBuf,
    /// The label of the authority above it, where the ledger knows it.
    pub issuer: Option<Label>,
    /// The label of the root at its top, where the ledger knows it; else its own.
    pub root_label: Label,
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
    /// A root that has just been made: its key is in its directory.
    pub fn root(label: Label, certificate: Certificate, folder: PathBuf) -> Authority {
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
    ///
    /// ```
    /// use tamga_core::ca::report::{Authority, KeyPlace};
    /// use tamga_core::sample::root;
    ///
    /// let (root, _) = root()?;
    /// assert!(root.is_root() && root.may_sign());
    /// assert!(!Authority { key: KeyPlace::Discarded, ..root }.may_sign());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn may_sign(&self) -> bool {
        !self.retired && matches!(self.key, KeyPlace::Here | KeyPlace::Offline(_) | KeyPlace::Token(_))
    }
}

crate::words! {
    /// How the ledger holds a certificate.
    pub enum Life: "state in the ledger" {
        /// The current one of its label.
        Live = "live",
        /// A newer one has its label.
        Superseded = "superseded",
        /// Its issue was interrupted: it was never handed out.
        Abandoned = "abandoned",
    }
}

crate::words! {
    /// How an issued certificate stands.
    pub enum Standing: "state" {
        /// It is in force.
        Valid = "valid",
        /// It ends within 30 days.
        EndsSoon = "ends-soon",
        /// It has expired.
        Expired = "expired",
        /// It was revoked.
        Revoked = "revoked",
        /// A newer one has its label.
        Superseded = "superseded",
        /// Its issue was interrupted: it was never handed out.
        Abandoned = "abandoned",
    }
}

impl Standing {
    /// From what the ledger knows.
    ///
    /// ```
    /// use tamga_core::ca::report::{Life, Standing};
    /// use tamga_core::sample::NOW;
    /// use tamga_core::vocabulary::timestamp::DAY;
    ///
    /// assert_eq!(Standing::of(Life::Live, false, NOW.plus(31 * DAY), NOW), Standing::Valid);
    /// assert_eq!(Standing::of(Life::Live, false, NOW.plus(29 * DAY), NOW), Standing::EndsSoon);
    /// assert_eq!(Standing::of(Life::Superseded, true, NOW.plus(29 * DAY), NOW), Standing::Revoked);
    /// ```
    pub fn of(life: Life, is_revoked: bool, not_after: Timestamp, now: Timestamp) -> Standing {
        match life {
            Life::Abandoned => Standing::Abandoned,
            _ if is_revoked => Standing::Revoked,
            Life::Superseded => Standing::Superseded,
            _ if now > not_after => Standing::Expired,
            _ if not_after.plus(-30 * DAY) < now => Standing::EndsSoon,
            _ => Standing::Valid,
        }
    }
}

/// What a list says of a certificate: all but the certificate itself, so that a million of them need not be parsed.
#[derive(Clone, Debug)]
pub struct Summary {
    /// Its label.
    pub label: Label,
    /// Its subject alternative names.
    pub names: Vec<String>,
    /// Its serial number, lower-case hex.
    pub serial: String,
    /// SHA-256 of its DER, lower-case hex.
    pub sha256: Sha256Fingerprint,
    /// SHA-1 of its DER, lower-case hex.
    pub sha1: String,
    /// Its first second.
    pub not_before: Timestamp,
    /// Its last second.
    pub not_after: Timestamp,
    /// True if its issuer has its own name.
    pub is_self_issued: bool,
    /// The label of its authority; None if it signed itself or was signed elsewhere.
    pub authority: Option<Label>,
    /// Its directory.
    pub folder: PathBuf,
    /// The machine on which that is, if it is another one that shares the ledger.
    pub host: Option<String>,
    /// How the ledger holds it.
    pub life: Life,
    /// If it was revoked.
    pub revoked: Option<Revocation>,
}

impl Summary {
    /// How it stands at a time.
    pub fn standing(&self, now: Timestamp) -> Standing {
        Standing::of(self.life, self.revoked.is_some(), self.not_after, now)
    }
}

/// That a certificate was revoked.
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
    pub label: Label,
    /// The certificate.
    pub certificate: Certificate,
    /// The label of its authority; None if it signed itself or was signed elsewhere.
    pub authority: Option<Label>,
    /// Its directory; empty if its files are nowhere of ours: see [`Issued::is_enrolled`].
    pub folder: PathBuf,
    /// The machine on which that is, if it is another one that shares the ledger.
    pub host: Option<String>,
    /// How the ledger holds it.
    pub life: Life,
    /// If it was revoked.
    pub revoked: Option<Revocation>,
}

impl Issued {
    /// True if a client got it from the enrollment service: its key and files are on that client's machine, and it renews it by itself.
    pub fn is_enrolled(&self) -> bool {
        self.folder.as_os_str().is_empty()
    }

    /// True if it is the current one of its label.
    pub fn is_live(&self) -> bool {
        self.life == Life::Live
    }

    /// How it stands at a time.
    pub fn standing(&self, now: Timestamp) -> Standing {
        Standing::of(self.life, self.revoked.is_some(), self.certificate.not_after, now)
    }

    /// What a list says of it.
    pub fn summary(&self) -> Summary {
        let c = &self.certificate;
        Summary {
            label: self.label.clone(),
            names: c.name_words(),
            serial: c.serial.clone(),
            sha256: c.sha256(),
            sha1: c.sha1(),
            not_before: c.not_before,
            not_after: c.not_after,
            is_self_issued: c.is_self_issued(),
            authority: self.authority.clone(),
            folder: self.folder.clone(),
            host: self.host.clone(),
            life: self.life,
            revoked: self.revoked,
        }
    }

    /// True if it would still be accepted by its dates and was not revoked.
    pub fn is_in_force(&self, now: Timestamp) -> bool {
        self.life != Life::Abandoned && self.revoked.is_none() && now <= self.certificate.not_after
    }
}
