//! A certificate as it was found: raw bytes kept, fields parsed once.

use crate::error::{Error, Result};
use crate::pki::cert::extensions::{BasicConstraints, Extensions, GeneralName, KeyUsage, NameConstraints, serial_hex};
use crate::pki::cert::raw::{self, Raw};
use crate::pki::cert::subject;
use crate::pki::cert::verified::Verified;
use crate::pki::key::PublicKey;
use crate::pki::signature::{SignatureFault, verify};
use crate::vocabulary::fingerprint::Sha256Fingerprint;
use crate::vocabulary::timestamp::{Span, Timestamp};
use const_oid::ObjectIdentifier;
use der::Decode;
use der::asn1::OctetString;
use spki::AlgorithmIdentifierOwned;
use std::ops::Deref;
use std::sync::Arc;
use x509_cert::ext::Extension;

/// A parsed certificate. Two are equal if their bytes are. A clone costs nothing: stores hold the same roots again and again.
#[derive(Clone, Debug)]
pub struct Certificate(Arc<Fields>);

impl Deref for Certificate {
    type Target = Fields;

    fn deref(&self) -> &Fields {
        &self.0
    }
}

/// What a certificate says.
#[derive(Debug)]
pub struct Fields {
    der: Vec<u8>,
    /// 0 for v1, 2 for v3.
    pub version: u8,
    /// The serial number's octets, lower-case hex.
    pub serial: String,
    /// The issuer's name, DER.
    pub issuer: Vec<u8>,
    /// The subject's name, DER.
    pub subject: Vec<u8>,
    /// First moment of validity.
    pub not_before: Timestamp,
    /// Last moment of validity.
    pub not_after: Timestamp,
    /// The public key.
    pub key: PublicKey,
    /// The algorithm of the signature.
    pub algorithm: AlgorithmIdentifierOwned,
    /// The signature's octets.
    pub signature: Vec<u8>,
    /// Every extension as found.
    pub extensions: Vec<Extension>,
    /// basicConstraints, if present.
    pub basic: Option<BasicConstraints>,
    /// keyUsage, if present.
    pub usage: Option<KeyUsage>,
    /// extKeyUsage, if present.
    pub purposes: Option<Vec<ObjectIdentifier>>,
    /// subjectAltName, if present.
    pub names: Option<Vec<GeneralName>>,
    /// True if subjectAltName is critical.
    pub names_critical: bool,
    /// subjectKeyIdentifier.
    pub key_identifier: Option<Vec<u8>>,
    /// authorityKeyIdentifier's key identifier.
    pub issuer_key_identifier: Option<Vec<u8>>,
    /// nameConstraints, if present.
    pub constraints: Option<NameConstraints>,
    /// Addresses of revocation lists.
    pub crl_urls: Vec<String>,
    /// Addresses of the issuer's certificate.
    pub issuer_urls: Vec<String>,
    /// Who answers for its status (RFC 5280 §4.2.2.1).
    pub ocsp_urls: Vec<String>,
    /// Critical extensions that nobody here processes.
    pub unknown_critical: Vec<ObjectIdentifier>,
    /// Known extensions whose contents do not parse.
    pub broken: Vec<ObjectIdentifier>,
    /// What is wrong with the fields around the extensions.
    pub flaws: Vec<&'static str>,
    /// The fields as their octets stand.
    pub raw: Raw,
    verified: Verified,
}

impl PartialEq for Certificate {
    fn eq(&self, other: &Certificate) -> bool {
        Arc::ptr_eq(&self.0, &other.0) || self.der == other.der
    }
}

impl Eq for Certificate {}

impl Certificate {
    /// Parses DER. `what` names the source in the error.
    ///
    /// Errors: [`Error::Malformed`] when the outer structure is no certificate; extensions that do not
    /// parse are kept aside in [`Fields::broken`].
    ///
    /// ```
    /// use tamga_core::pki::cert::Certificate;
    /// use tamga_core::sample::leaf;
    ///
    /// let der = leaf(&["charts.saltmarsh.test"])?.0.der().to_vec();
    /// let read = Certificate::read(&der, "a file")?;
    /// assert_eq!(read.name_words(), ["charts.saltmarsh.test"]);
    /// assert!(Certificate::read(&der[..100], "a file").is_err(), "cut short");
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn read(der: &[u8], what: &str) -> Result<Certificate> {
        let malformed = |why: &str| Error::Malformed { what: what.to_owned(), why: why.to_owned() };
        let read = Certificate::read_any(der).ok_or_else(|| malformed("it is no X.509 certificate (RFC 5280 §4.1)"))?;
        match read.flaws.first() {
            Some(flaw) => Err(malformed(flaw)),
            None => Ok(read),
        }
    }

    /// Reads whatever has the shape of a certificate, as a server may send it: what is wrong with its fields is listed in
    /// [`Fields::flaws`], and in [`Fields::raw`] what stands there. None without that shape.
    ///
    /// ```
    /// use tamga_core::pki::cert::Certificate;
    /// use tamga_core::sample::leaf;
    ///
    /// let der = leaf(&["charts.saltmarsh.test"])?.0.der().to_vec();
    /// assert!(Certificate::read_any(&der).is_some_and(|c| c.flaws.is_empty()));
    /// assert!(Certificate::read_any(b"0\0").is_none());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn read_any(der: &[u8]) -> Option<Certificate> {
        let raw = Raw::read(der)?;
        let algorithm = AlgorithmIdentifierOwned::from_der(&raw.outer_algorithm).ok()?;
        let inner = AlgorithmIdentifierOwned::from_der(&raw.inner_algorithm).ok()?;
        let mut flaws = Vec::new();
        let version = raw.version_number();
        if version.is_none_or(|v| v > 2) {
            flaws.push("its version is none of 1, 2 and 3 (RFC 5280 §4.1.2.1)");
        }
        if !same_algorithm(&inner, &algorithm) {
            flaws.push("it names two different signature algorithms (RFC 5280 §4.1.1.2)");
        }
        let mut moment = |element: &raw::Element, otherwise: i64| {
            let found = raw::seconds(element);
            if found.is_none() {
                flaws.push("a moment of its validity does not parse (RFC 5280 §4.1.2.5)");
            }
            Timestamp::from_unix(found.unwrap_or(otherwise))
        };
        // What does not parse never holds.
        let (not_before, not_after) = (moment(&raw.not_before, i64::MAX), moment(&raw.not_after, 0));
        let mut all = Vec::new();
        for e in raw.extensions.iter().flatten() {
            let extn_id = ObjectIdentifier::from_bytes(&e.id).ok()?;
            let extn_value = OctetString::new(e.value.clone()).ok()?;
            all.push(Extension { extn_id, critical: e.is_critical(), extn_value });
        }
        let said = Extensions::of(all);
        Some(Certificate(Arc::new(Fields {
            der: der.to_vec(),
            version: version.unwrap_or(u8::MAX),
            serial: serial_hex(&raw.serial),
            issuer: raw.issuer.clone(),
            subject: raw.subject.clone(),
            not_before,
            not_after,
            key: PublicKey::from_spki(raw.key.clone()),
            algorithm,
            signature: raw.signature.clone(),
            extensions: said.all,
            basic: said.basic,
            usage: said.usage,
            purposes: said.purposes,
            names: said.names,
            names_critical: said.names_critical,
            key_identifier: said.key_identifier,
            issuer_key_identifier: said.issuer_key_identifier,
            constraints: said.constraints,
            crl_urls: said.crl_urls,
            issuer_urls: said.issuer_urls,
            ocsp_urls: said.ocsp_urls,
            unknown_critical: said.unknown_critical,
            broken: said.broken,
            flaws,
            raw,
            verified: Verified::default(),
        })))
    }

    /// The whole certificate, DER.
    pub fn der(&self) -> &[u8] {
        &self.der
    }

    /// The signed part, DER.
    pub fn tbs(&self) -> &[u8] {
        &self.raw.signed
    }

    /// SHA-256 of the DER, lower-case hex.
    pub fn sha256(&self) -> Sha256Fingerprint {
        Sha256Fingerprint::of(&self.der)
    }

    /// SHA-1 of the DER, 40 digits of lower-case hex: what Windows calls the thumbprint. Nothing here relies on it.
    pub fn sha1(&self) -> String {
        use sha1::{Digest, Sha1};
        crate::vocabulary::text::hex(&Sha1::digest(&self.der))
    }

    /// How long it is valid, from its first moment to its last.
    pub fn life(&self) -> Span {
        Span::seconds_of(self.not_after.unix() - self.not_before.unix())
    }

    /// Subject and issuer are the same name (RFC 5280 §3.2).
    pub fn is_self_issued(&self) -> bool {
        subject::same(&self.subject, &self.issuer)
    }

    /// Signed with its own key.
    pub fn is_self_signed(&self) -> bool {
        self.is_self_issued() && self.signed_by(self).is_ok()
    }

    /// Whether another certificate's key made this one's signature. The answer is kept: each client that judges the same
    /// chain asks for the same signatures.
    ///
    /// ```
    /// use tamga_core::sample::{leaf, root};
    ///
    /// let (leaf, _) = leaf(&["charts.saltmarsh.test"])?;
    /// let (other, _) = root()?;
    /// assert!(leaf.signed_by(&leaf).is_err());
    /// assert!(other.certificate.signed_by(&other.certificate).is_ok());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn signed_by(&self, issuer: &Certificate) -> Result<(), SignatureFault> {
        self.verified.by(issuer.key.spki(), |key| verify(&self.algorithm, key, &self.raw.signed, &self.signature))
    }

    /// True if basicConstraints says that this is a CA.
    pub fn is_ca(&self) -> bool {
        self.basic.is_some_and(|b| b.ca)
    }

    /// The subject in words, escaped.
    pub fn subject_words(&self) -> String {
        subject::words(&self.subject)
    }

    /// The issuer in words, escaped.
    pub fn issuer_words(&self) -> String {
        subject::words(&self.issuer)
    }

    /// Its names in words, escaped.
    pub fn name_words(&self) -> Vec<String> {
        self.names.iter().flatten().map(GeneralName::words).collect()
    }
}

/// Compares two algorithm identifiers; parameters that are NULL in one and absent in the other are the same: seen in
/// certificates that are in use.
pub(super) fn same_algorithm(a: &AlgorithmIdentifierOwned, b: &AlgorithmIdentifierOwned) -> bool {
    let parameters = |x: &AlgorithmIdentifierOwned| x.parameters.clone().filter(|p| !p.is_null());
    a.oid == b.oid && parameters(a) == parameters(b)
}
