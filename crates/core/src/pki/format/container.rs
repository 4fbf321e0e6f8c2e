//! A file of keys and certificates in any form: recognized by its content, and opened.

use super::contents::{Contents, Named, unnamed};
use super::{jks, mobileconfig, pem, pkcs7, pkcs12, private_key, secret_yaml};
use crate::error::{Error, Result};
use crate::vocabulary::secret::Passphrase;

crate::words! {
    /// A form that holds several things.
    pub enum Container: "container" {
        /// RFC 7292.
        Pkcs12 = "pkcs12",
        /// Java's own.
        Jks = "jks",
        /// Certificates in a signed message without content or signature (RFC 5652).
        Pkcs7 = "pkcs7",
        /// A profile for phones and tablets.
        MobileConfig = "mobileconfig",
        /// A secret of the kind `kubernetes.io/tls`.
        SecretYaml = "kubernetes-secret",
    }
}

impl Container {
    /// The form of a file, if it is one of these.
    pub fn of(bytes: &[u8]) -> Option<Container> {
        if jks::is_one(bytes) {
            return Some(Container::Jks);
        }
        if pkcs12::is_one(bytes) {
            return Some(Container::Pkcs12);
        }
        if pkcs7::is_one(bytes) {
            return Some(Container::Pkcs7);
        }
        let text = std::str::from_utf8(bytes).ok()?;
        if mobileconfig::is_one(text) {
            return Some(Container::MobileConfig);
        }
        secret_yaml::is_one(text).then_some(Container::SecretYaml)
    }

    /// Everything in it.
    ///
    /// Errors: it is damaged; it is encrypted and no passphrase, or a wrong one, is given.
    pub fn open(self, bytes: &[u8], passphrase: Option<&Passphrase>, what: &str) -> Result<Contents> {
        match self {
            Container::Pkcs12 => pkcs12::read(bytes, passphrase, what),
            Container::Jks => jks::read(bytes, passphrase, what),
            Container::Pkcs7 => pkcs7::read(bytes, what),
            Container::MobileConfig => mobileconfig::read(bytes, what),
            Container::SecretYaml => secret_yaml::read(bytes, what),
        }
    }
}

/// Everything in a file of any form, PEM and DER among them.
///
/// Errors: nothing of that kind is in it; it is encrypted and no passphrase, or a wrong one, is given.
pub fn open(bytes: &[u8], passphrase: Option<&Passphrase>, what: &str) -> Result<Contents> {
    if let Some(container) = Container::of(bytes) {
        return container.open(bytes, passphrase, what);
    }
    let mut out = Contents::default();
    match private_key::read(bytes, what) {
        Ok(stored) => out.keys.push(Named { alias: None, thing: stored.open(passphrase)? }),
        // DER is one thing: no key, then a certificate.
        Err(e) if bytes.first() != Some(&0x30) && has_a_key(bytes) => return Err(e),
        Err(_) => out.certificates.extend(pem::certificates(bytes).into_iter().map(unnamed)),
    }
    if out.certificates.is_empty() && bytes.first() != Some(&0x30) {
        out.certificates.extend(pem::certificates(bytes).into_iter().map(unnamed));
    }
    if out.keys.is_empty() && out.certificates.is_empty() {
        return Err(Error::Malformed {
            what: what.to_owned(),
            why: "it holds no certificate and no private key in a form known here".into(),
        });
    }
    Ok(out)
}

fn has_a_key(bytes: &[u8]) -> bool {
    pem::read(bytes).0.iter().any(|b| b.label.ends_with("PRIVATE KEY"))
}
