//! Certificate revocation lists (RFC 5280 §5): read from anybody, written for our authorities.

use crate::error::{Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::cert::extensions::{serial_hex, serial_octets};
use crate::pki::cert::read::same_algorithm;
use crate::pki::cert::subject;
use crate::pki::format::pem;
use crate::pki::key::SigningKey;
use crate::pki::signature::{self, SignatureFault};
use crate::plan::ports::Entropy;
use crate::vocabulary::fingerprint::Sha256Fingerprint;
use crate::vocabulary::reason::Reason;
use crate::vocabulary::timestamp::Timestamp;
use const_oid::ObjectIdentifier;
use der::asn1::{AnyRef, BitString, Int, OctetString, Uint};
use der::{Decode, Encode, Enumerated, Sequence};
use spki::AlgorithmIdentifierOwned;
use x509_cert::ext::Extension;
use x509_cert::ext::pkix::AuthorityKeyIdentifier;
use x509_cert::time::Time;

const REASON: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.21");
const NUMBER: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.20");
const AUTHORITY_KEY: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.35");
/// issuingDistributionPoint and deltaCRLIndicator: a list that does not stand for the whole authority.
const PARTIAL: [&str; 2] = ["2.5.29.28", "2.5.29.27"];

/// One revoked certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Revoked {
    /// Its serial number's octets, lower-case hex.
    pub serial: String,
    /// Since when.
    pub at: Timestamp,
    /// Why.
    pub reason: Reason,
}

/// A parsed list.
#[derive(Clone, Debug)]
pub struct Crl {
    der: Vec<u8>,
    tbs: Vec<u8>,
    /// The issuer's name, DER.
    pub issuer: Vec<u8>,
    /// When it was made.
    pub this_update: Timestamp,
    /// When the next is due.
    pub next_update: Option<Timestamp>,
    /// Its number, big-endian octets without leading zeros.
    pub number: Option<Vec<u8>>,
    /// The key identifier of its issuer.
    pub issuer_key_identifier: Option<Vec<u8>>,
    /// What it revokes, in its order.
    pub entries: Vec<Revoked>,
    /// The algorithm of the signature.
    pub algorithm: AlgorithmIdentifierOwned,
    signature: Vec<u8>,
    /// True if it stands only for a part of the issuer's certificates.
    pub partial: bool,
    /// Critical extensions that nobody here processes.
    pub unknown_critical: Vec<ObjectIdentifier>,
}

#[derive(Sequence)]
struct Outer<'a> {
    tbs: AnyRef<'a>,
    algorithm: AlgorithmIdentifierOwned,
    signature: BitString,
}

#[derive(Sequence)]
struct Tbs<'a> {
    #[asn1(optional = "true")]
    version: Option<u8>,
    signature: AlgorithmIdentifierOwned,
    issuer: AnyRef<'a>,
    this_update: Time,
    #[asn1(optional = "true")]
    next_update: Option<Time>,
    #[asn1(optional = "true")]
    entries: Option<Vec<Entry>>,
    #[asn1(context_specific = "0", tag_mode = "EXPLICIT", optional = "true")]
    extensions: Option<Vec<Extension>>,
}

#[derive(Sequence, Clone)]
struct Entry {
    serial: Int,
    at: Time,
    #[asn1(optional = "true")]
    extensions: Option<Vec<Extension>>,
}

#[derive(Enumerated, Clone, Copy, PartialEq, Eq)]
#[asn1(type = "ENUMERATED")]
#[repr(u8)]
enum ReasonCode {
    Unspecified = 0,
    KeyCompromise = 1,
    CaCompromise = 2,
    AffiliationChanged = 3,
    Superseded = 4,
    CessationOfOperation = 5,
    CertificateHold = 6,
    RemoveFromCrl = 8,
    PrivilegeWithdrawn = 9,
    AaCompromise = 10,
}

/// The list of a file, PEM or DER.
///
/// Errors: [`Error::Malformed`] where there is none.
pub fn find(bytes: &[u8], what: &str) -> Result<Crl> {
    if bytes.first() == Some(&0x30) {
        return Crl::read(bytes, what);
    }
    match pem::read(bytes).0.iter().find(|b| b.label == pem::CRL) {
        Some(b) => Crl::read(&b.der, what),
        None => Err(Error::Malformed { what: what.to_owned(), why: "it holds no revocation list".into() }),
    }
}

impl Crl {
    /// Parses DER. The signature is not judged here: see [`Crl::signed_by`].
    pub fn read(der: &[u8], what: &str) -> Result<Crl> {
        let malformed = |why: &str| Error::Malformed { what: what.to_owned(), why: why.to_owned() };
        let outer = Outer::from_der(der).map_err(|_| malformed("it is no revocation list (RFC 5280 §5.1)"))?;
        let tbs_der = outer.tbs.to_der().map_err(|_| malformed("its signed part does not parse"))?;
        let tbs = Tbs::from_der(&tbs_der).map_err(|_| malformed("its signed part does not parse (RFC 5280 §5.1.2)"))?;
        if tbs.version.is_some_and(|v| v != 1) {
            return Err(malformed("its version is none of 1 and 2 (RFC 5280 §5.1.2.1)"));
        }
        if !same_algorithm(&tbs.signature, &outer.algorithm) {
            return Err(malformed("it names two different signature algorithms (RFC 5280 §5.1.1.2)"));
        }
        let mut crl = Crl {
            der: der.to_vec(),
            issuer: tbs.issuer.to_der().map_err(|_| malformed("its issuer does not parse"))?,
            tbs: tbs_der.clone(),
            this_update: Timestamp::from_x509(&tbs.this_update),
            next_update: tbs.next_update.as_ref().map(Timestamp::from_x509),
            number: None,
            issuer_key_identifier: None,
            entries: Vec::new(),
            algorithm: outer.algorithm,
            signature: outer.signature.as_bytes().unwrap_or_default().to_vec(),
            partial: false,
            unknown_critical: Vec::new(),
        };
        for entry in tbs.entries.into_iter().flatten() {
            crl.entries.push(revoked(&entry, &mut crl.unknown_critical, what)?);
        }
        for ext in tbs.extensions.iter().flatten() {
            let bytes = ext.extn_value.as_bytes();
            match ext.extn_id {
                NUMBER => {
                    let n = Uint::from_der(bytes).map_err(|_| malformed("its number does not parse"))?;
                    crl.number = Some(n.as_bytes().to_vec());
                }
                AUTHORITY_KEY => {
                    let a = AuthorityKeyIdentifier::from_der(bytes)
                        .map_err(|_| malformed("its authority key identifier does not parse"))?;
                    crl.issuer_key_identifier = a.key_identifier.map(|k| k.as_bytes().to_vec());
                }
                id if PARTIAL.contains(&id.to_string().as_str()) => crl.partial = true,
                id if ext.critical => crl.unknown_critical.push(id),
                _ => {}
            }
        }
        Ok(crl)
    }

    /// Whether an authority's key made its signature.
    pub fn signed_by(&self, issuer: &Certificate) -> Result<(), SignatureFault> {
        signature::verify(&self.algorithm, issuer.key.spki(), &self.tbs, &self.signature)
    }

    /// The whole list, DER.
    pub fn der(&self) -> &[u8] {
        &self.der
    }

    /// SHA-256 of the DER, lower-case hex.
    pub fn sha256(&self) -> Sha256Fingerprint {
        Sha256Fingerprint::of(&self.der)
    }

    /// The issuer in words, escaped.
    pub fn issuer_words(&self) -> String {
        subject::words(&self.issuer)
    }

    /// Its number as Tamga counts; None where it has none or one beyond 64 bits.
    pub fn count(&self) -> Option<u64> {
        let bytes = self.number.as_ref()?;
        (bytes.len() <= 8).then(|| bytes.iter().fold(0, |n, b| (n << 8) | u64::from(*b)))
    }
}

fn revoked(entry: &Entry, unknown: &mut Vec<ObjectIdentifier>, what: &str) -> Result<Revoked> {
    let mut reason = Reason::Unspecified;
    let all = entry.extensions.as_deref().unwrap_or_default();
    for (i, ext) in all.iter().enumerate() {
        if all[..i].iter().any(|e| e.extn_id == ext.extn_id) {
            let why = format!("extension {} stands twice in one of its entries (RFC 5280 §4.2)", ext.extn_id);
            return Err(Error::Malformed { what: what.to_owned(), why });
        }
        if ext.extn_id == REASON {
            let code = ReasonCode::from_der(ext.extn_value.as_bytes()).map_err(|_| Error::Malformed {
                what: what.to_owned(),
                why: "a reason in it is none of RFC 5280 §5.3.1".into(),
            })?;
            reason = Reason::of_number(code as u8).unwrap_or(Reason::Unspecified);
        } else if ext.critical && !unknown.contains(&ext.extn_id) {
            unknown.push(ext.extn_id);
        }
    }
    Ok(Revoked { serial: serial_hex(entry.serial.as_bytes()), at: Timestamp::from_x509(&entry.at), reason })
}

/// What a new list is to say.
pub struct ToSign<'a> {
    /// The authority.
    pub issuer: &'a Certificate,
    /// Greater than every one before.
    pub number: u64,
    /// Now.
    pub this_update: Timestamp,
    /// When the next is due.
    pub next_update: Timestamp,
    /// What is revoked.
    pub entries: &'a [Revoked],
}

impl ToSign<'_> {
    /// Signs with the authority's key. DER.
    pub fn sign(&self, key: &dyn SigningKey, entropy: &dyn Entropy) -> Result<Vec<u8>> {
        const ENCODING: Error = Error::Crypto { doing: "encoding a revocation list" };
        let entries = self.entries.iter().map(entry).collect::<Option<Vec<Entry>>>().ok_or(ENCODING)?;
        let identifier = self.issuer.key_identifier.clone().unwrap_or_else(|| self.issuer.key.identifier());
        let above = AuthorityKeyIdentifier {
            key_identifier: Some(OctetString::new(identifier).map_err(|_| ENCODING)?),
            authority_cert_issuer: None,
            authority_cert_serial_number: None,
        };
        let number = Uint::new(&self.number.to_be_bytes()).map_err(|_| ENCODING)?;
        let extension = |id, der: der::Result<Vec<u8>>| -> Result<Extension> {
            let extn_value = der.and_then(OctetString::new).map_err(|_| ENCODING)?;
            Ok(Extension { extn_id: id, critical: false, extn_value })
        };
        let algorithm = key.signature_algorithm();
        let tbs = Tbs {
            version: Some(1),
            signature: algorithm.clone(),
            issuer: AnyRef::from_der(&self.issuer.subject).map_err(|_| ENCODING)?,
            this_update: self.this_update.to_x509(),
            next_update: Some(self.next_update.to_x509()),
            // RFC 5280 §5.1.2.6: an empty list is left away.
            entries: (!entries.is_empty()).then_some(entries),
            extensions: Some(vec![extension(AUTHORITY_KEY, above.to_der())?, extension(NUMBER, number.to_der())?]),
        }
        .to_der()
        .map_err(|_| ENCODING)?;
        let signature = key.sign(&tbs, entropy)?;
        Outer {
            tbs: AnyRef::from_der(&tbs).map_err(|_| ENCODING)?,
            algorithm,
            signature: BitString::from_bytes(&signature).map_err(|_| ENCODING)?,
        }
        .to_der()
        .map_err(|_| ENCODING)
    }
}

fn entry(r: &Revoked) -> Option<Entry> {
    let octets = serial_octets(&r.serial)?;
    let extensions = match r.reason {
        // RFC 5280 §5.3.1: left away rather than said to be unspecified.
        Reason::Unspecified => None,
        other => Some(vec![Extension {
            extn_id: REASON,
            critical: false,
            extn_value: OctetString::new([0x0a, 1, other.number()]).ok()?,
        }]),
    };
    Some(Entry { serial: Int::new(&octets).ok()?, at: r.at.to_x509(), extensions })
}
