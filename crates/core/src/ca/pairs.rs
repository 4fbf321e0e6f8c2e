//! Which private key belongs to which certificate and request, and which chains are complete.

use crate::error::Error;
use crate::pki::cert::Certificate;
use crate::pki::cert::csr::{self, Csr};
use crate::pki::format::container::Container;
use crate::pki::format::{pem, private_key};
use crate::pki::key::{PublicKey, Strength};
use crate::vocabulary::secret::Passphrase;

/// What was found in one file.
#[derive(Debug)]
pub enum Found {
    /// A private key: its public half.
    Key(PublicKey),
    /// A private key that needs a passphrase which was not given or is not its own.
    LockedKey,
    /// A certificate.
    Certificate(Box<Certificate>),
    /// A request.
    Request(Box<Csr>),
}

impl Found {
    /// Its public key, where it is known.
    pub fn key(&self) -> Option<&PublicKey> {
        match self {
            Found::Key(k) => Some(k),
            Found::LockedKey => None,
            Found::Certificate(c) => Some(&c.key),
            Found::Request(r) => Some(&r.key),
        }
    }
}

/// Everything in a file that has a key: private keys, certificates, requests. Nothing is an error here.
pub fn look(bytes: &[u8], passphrase: Option<&Passphrase>) -> Vec<Found> {
    let mut out = Vec::new();
    if let Some(form) = Container::of(bytes) {
        return match form.open(bytes, passphrase, "a store") {
            Ok(found) => {
                let certificates = found.certificates.iter().filter_map(|c| Certificate::read(&c.thing, "it").ok());
                let keys = found.keys.iter().map(|k| Found::Key(k.thing.public().clone()));
                keys.chain(certificates.map(|c| Found::Certificate(Box::new(c)))).collect()
            }
            Err(Error::PassphraseNeeded { .. } | Error::PassphraseWrong { .. }) => vec![Found::LockedKey],
            Err(_) => Vec::new(),
        };
    }
    for der in pem::certificates(bytes) {
        if let Ok(c) = Certificate::read(&der, "a certificate") {
            out.push(Found::Certificate(Box::new(c)));
        }
    }
    if let Ok(r) = csr::find(bytes, "a request") {
        out.push(Found::Request(Box::new(r)));
    }
    if let Ok(stored) = private_key::read(bytes, "a key") {
        out.push(match stored.open(passphrase) {
            Ok(key) => Found::Key(key.public().clone()),
            Err(_) => Found::LockedKey,
        });
    }
    out
}

/// Things that share one key.
#[derive(Debug)]
pub struct Group {
    /// The key.
    pub key: PublicKey,
    /// Its kind.
    pub strength: Strength,
    /// Indices of its private keys among what was found.
    pub keys: Vec<usize>,
    /// Indices of its certificates.
    pub certificates: Vec<usize>,
    /// Indices of its requests.
    pub requests: Vec<usize>,
}

impl Group {
    /// True if a private key stands with a certificate or a request.
    pub fn is_pair(&self) -> bool {
        let partners = self.certificates.len() + self.requests.len();
        partners > 0 && !self.keys.is_empty()
    }
}

/// Groups by key, in the order of finding.
///
/// ```
/// use tamga_core::ca::pairs::{Found, group};
/// use tamga_core::sample::leaf;
///
/// let (certificate, key) = leaf(&["charts.saltmarsh.test"])?;
/// let found = [Found::Key(key.public().clone()), Found::Certificate(Box::new(certificate))];
/// let groups = group(&found);
/// assert!(groups.len() == 1 && groups[0].is_pair(), "the key is the certificate's");
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn group(all: &[Found]) -> Vec<Group> {
    let mut out: Vec<Group> = Vec::new();
    for (i, found) in all.iter().enumerate() {
        let Some(key) = found.key() else { continue };
        let at = out.iter().position(|g| g.key == *key).unwrap_or_else(|| {
            out.push(Group {
                key: key.clone(),
                strength: key.strength(),
                keys: Vec::new(),
                certificates: Vec::new(),
                requests: Vec::new(),
            });
            out.len() - 1
        });
        match found {
            Found::Key(_) | Found::LockedKey => out[at].keys.push(i),
            Found::Certificate(_) => out[at].certificates.push(i),
            Found::Request(_) => out[at].requests.push(i),
        }
    }
    out
}

/// How far the chain of a certificate reaches among what was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reach {
    /// It signed itself.
    Itself,
    /// Every certificate up to a root is there.
    Root,
    /// Something above it is missing.
    Missing,
}

/// Follows a certificate upwards.
pub fn reach(c: &Certificate, all: &[Found]) -> Reach {
    if c.is_self_signed() {
        return Reach::Itself;
    }
    let others: Vec<Certificate> = all
        .iter()
        .filter_map(|f| match f {
            Found::Certificate(c) => Some((**c).clone()),
            _ => None,
        })
        .collect();
    match crate::ca::authority::import::above(c, &others).last() {
        Some(top) if top.is_self_issued() => Reach::Root,
        _ => Reach::Missing,
    }
}
