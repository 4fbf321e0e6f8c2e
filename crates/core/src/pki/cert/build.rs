//! Putting a certificate together and signing it (RFC 5280 §4.1).

use crate::error::{Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::key::SigningKey;
use crate::plan::ports::Entropy;
use crate::vocabulary::text::hex;
use crate::vocabulary::timestamp::Timestamp;
use der::asn1::{AnyRef, BitString, Int};
use der::{Decode, Encode, Sequence};
use spki::AlgorithmIdentifierOwned;
use x509_cert::ext::Extension;
use x509_cert::time::Validity;

/// A positive serial number of 127 random bits in 16 octets (RFC 5280 §4.1.2.2 allows 20).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Serial(Vec<u8>);

impl Serial {
    /// A new one; its first octet is 0x40 to 0x7f, so that it is positive and always as long.
    pub fn random(entropy: &dyn Entropy) -> Serial {
        let mut bytes = vec![0; 16];
        entropy.fill(&mut bytes);
        bytes[0] = (bytes[0] & 0x3f) | 0x40;
        Serial(bytes)
    }

    /// Lower-case hex.
    pub fn hex(&self) -> String {
        hex(&self.0)
    }
}

/// All that is signed, in the order of TBSCertificate.
#[derive(Clone, Debug)]
pub struct ToSign {
    /// The serial number.
    pub serial: Serial,
    /// The issuer's name, DER.
    pub issuer: Vec<u8>,
    /// First moment of validity.
    pub not_before: Timestamp,
    /// Last moment of validity.
    pub not_after: Timestamp,
    /// The subject's name, DER.
    pub subject: Vec<u8>,
    /// The SubjectPublicKeyInfo, DER.
    pub spki: Vec<u8>,
    /// The extensions.
    pub extensions: Vec<Extension>,
}

#[derive(Sequence)]
struct Tbs<'a> {
    #[asn1(context_specific = "0", tag_mode = "EXPLICIT")]
    version: u8,
    serial: Int,
    signature: AlgorithmIdentifierOwned,
    issuer: AnyRef<'a>,
    validity: Validity,
    subject: AnyRef<'a>,
    spki: AnyRef<'a>,
    #[asn1(context_specific = "3", tag_mode = "EXPLICIT")]
    extensions: Vec<Extension>,
}

#[derive(Sequence)]
struct Signed<'a> {
    tbs: AnyRef<'a>,
    algorithm: AlgorithmIdentifierOwned,
    signature: BitString,
}

impl ToSign {
    /// Signs with the issuer's key and reads the result back.
    pub fn sign(&self, issuer: &dyn SigningKey, entropy: &dyn Entropy) -> Result<Certificate> {
        let encoding = |_| Error::Crypto { doing: "encoding a certificate" };
        let algorithm = issuer.signature_algorithm();
        let tbs = Tbs {
            version: 2,
            serial: Int::new(&self.serial.0).map_err(encoding)?,
            signature: algorithm.clone(),
            issuer: AnyRef::from_der(&self.issuer).map_err(encoding)?,
            validity: Validity::new(self.not_before.to_x509(), self.not_after.to_x509()),
            subject: AnyRef::from_der(&self.subject).map_err(encoding)?,
            spki: AnyRef::from_der(&self.spki).map_err(encoding)?,
            extensions: self.extensions.clone(),
        }
        .to_der()
        .map_err(encoding)?;
        let signature = issuer.sign(&tbs, entropy)?;
        let der = Signed {
            tbs: AnyRef::from_der(&tbs).map_err(encoding)?,
            algorithm,
            signature: BitString::from_bytes(&signature).map_err(encoding)?,
        }
        .to_der()
        .map_err(encoding)?;
        Certificate::read(&der, "the certificate just made")
    }
}
