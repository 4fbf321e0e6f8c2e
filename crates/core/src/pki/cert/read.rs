//! A certificate as it was found: raw bytes kept, fields parsed once.

use crate::error::{Error, Result};
use crate::pki::cert::extensions::{BasicConstraints, Extensions, GeneralName, KeyUsage, NameConstraints, serial_hex};
use crate::pki::cert::subject;
use crate::pki::key::PublicKey;
use crate::vocabulary::fingerprint::Sha256Fingerprint;
use crate::vocabulary::timestamp::Timestamp;
use const_oid::ObjectIdentifier;
use der::asn1::{AnyRef, BitString};
use der::{Decode, Encode, Sequence};
use spki::AlgorithmIdentifierOwned;
use x509_cert::ext::Extension;
use x509_cert::time::Validity;

/// A parsed certificate. Two are equal if their bytes are.
#[derive(Clone, Debug)]
pub struct Certificate {
    der: Vec<u8>,
    tbs: Vec<u8>,
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
    /// Critical extensions that nobody here processes.
    pub unknown_critical: Vec<ObjectIdentifier>,
    /// Known extensions whose contents do not parse.
    pub broken: Vec<ObjectIdentifier>,
}

impl PartialEq for Certificate {
    fn eq(&self, other: &Certificate) -> bool {
        self.der == other.der
    }
}

impl Eq for Certificate {}

#[derive(Sequence)]
struct Outer<'a> {
    tbs: AnyRef<'a>,
    algorithm: AlgorithmIdentifierOwned,
    signature: BitString,
}

#[derive(Sequence)]
struct Tbs<'a> {
    #[asn1(context_specific = "0", tag_mode = "EXPLICIT", default = "Default::default")]
    version: u8,
    serial: AnyRef<'a>,
    signature: AlgorithmIdentifierOwned,
    issuer: AnyRef<'a>,
    validity: Validity,
    subject: AnyRef<'a>,
    spki: AnyRef<'a>,
    #[asn1(context_specific = "1", tag_mode = "IMPLICIT", optional = "true")]
    issuer_id: Option<BitString>,
    #[asn1(context_specific = "2", tag_mode = "IMPLICIT", optional = "true")]
    subject_id: Option<BitString>,
    #[asn1(context_specific = "3", tag_mode = "EXPLICIT", optional = "true")]
    extensions: Option<Vec<Extension>>,
}

impl Certificate {
    /// Parses DER. `what` names the source in the error.
    ///
    /// Errors: [`Error::Malformed`] when the outer structure is no certificate; extensions that do not
    /// parse are kept aside in [`Certificate::broken`].
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
        let outer = Outer::from_der(der).map_err(|_| malformed("it is no X.509 certificate (RFC 5280 §4.1)"))?;
        let tbs_der = outer.tbs.to_der().map_err(|_| malformed("its signed part does not parse"))?;
        let tbs = Tbs::from_der(&tbs_der).map_err(|_| malformed("its signed part does not parse (RFC 5280 §4.1.2)"))?;
        if tbs.version > 2 {
            return Err(malformed("its version is none of 1, 2 and 3 (RFC 5280 §4.1.2.1)"));
        }
        if !same_algorithm(&tbs.signature, &outer.algorithm) {
            return Err(malformed("it names two different signature algorithms (RFC 5280 §4.1.1.2)"));
        }
        let raw = |any: AnyRef<'_>| any.to_der().map_err(|_| malformed("a field does not parse"));
        let said = Extensions::of(tbs.extensions.unwrap_or_default());
        Ok(Certificate {
            der: der.to_vec(),
            version: tbs.version,
            serial: serial_hex(tbs.serial.value()),
            issuer: raw(tbs.issuer)?,
            subject: raw(tbs.subject)?,
            not_before: Timestamp::from_x509(&tbs.validity.not_before),
            not_after: Timestamp::from_x509(&tbs.validity.not_after),
            key: PublicKey::from_spki(raw(tbs.spki)?),
            algorithm: outer.algorithm,
            signature: outer.signature.as_bytes().unwrap_or_default().to_vec(),
            tbs: tbs_der.clone(),
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
            unknown_critical: said.unknown_critical,
            broken: said.broken,
        })
    }

    /// The whole certificate, DER.
    pub fn der(&self) -> &[u8] {
        &self.der
    }

    /// The signed part, DER.
    pub fn tbs(&self) -> &[u8] {
        &self.tbs
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

    /// Subject and issuer are the same name (RFC 5280 §3.2).
    pub fn is_self_issued(&self) -> bool {
        subject::same(&self.subject, &self.issuer)
    }

    /// Signed with its own key.
    pub fn is_self_signed(&self) -> bool {
        self.is_self_issued() && self.signed_by(self).is_ok()
    }

    /// Whether another certificate's key made this one's signature.
    pub fn signed_by(&self, issuer: &Certificate) -> Result<(), crate::pki::signature::SignatureFault> {
        crate::pki::signature::verify(&self.algorithm, issuer.key.spki(), &self.tbs, &self.signature)
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
