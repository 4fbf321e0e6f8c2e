//! Certificate requests (PKCS#10, RFC 2986): read from anybody, written for others to sign.

use crate::error::{Error, Result};
use crate::pki::cert::extensions::{Extensions, GeneralName};
use crate::pki::cert::subject;
use crate::pki::format::pem;
use crate::pki::key::PublicKey;
use crate::pki::key::SigningKey;
use crate::pki::signature::{self, SignatureFault};
use crate::plan::ports::Entropy;
use crate::vocabulary::fingerprint::Sha256Fingerprint;
use const_oid::ObjectIdentifier;
use der::asn1::{AnyRef, BitString, SetOfVec};
use der::{Any, Decode, Encode, Sequence, ValueOrd};
use spki::AlgorithmIdentifierOwned;
use x509_cert::ext::Extension;

/// extensionRequest (RFC 2985 §5.4.2).
const EXTENSION_REQUEST: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.14");
/// The same under Microsoft's older identifier.
const EXTENSION_REQUEST_MS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.311.2.1.14");

/// A parsed request.
#[derive(Clone, Debug)]
pub struct Csr {
    der: Vec<u8>,
    info: Vec<u8>,
    /// The subject's name, DER.
    pub subject: Vec<u8>,
    /// The public key.
    pub key: PublicKey,
    /// The algorithm of the signature.
    pub algorithm: AlgorithmIdentifierOwned,
    signature: Vec<u8>,
    /// What the extensions that are asked for would say in a certificate.
    pub wishes: Extensions,
    /// Attributes other than the request for extensions.
    pub other_attributes: Vec<ObjectIdentifier>,
}

#[derive(Sequence)]
struct Outer<'a> {
    info: AnyRef<'a>,
    algorithm: AlgorithmIdentifierOwned,
    signature: BitString,
}

#[derive(Sequence)]
struct Info<'a> {
    version: u8,
    subject: AnyRef<'a>,
    spki: AnyRef<'a>,
    // A request without any attribute may leave them away altogether: seen in old devices.
    #[asn1(context_specific = "0", tag_mode = "IMPLICIT", optional = "true")]
    attributes: Option<SetOfVec<Attribute>>,
}

#[derive(Sequence, ValueOrd, Clone, PartialEq, Eq)]
struct Attribute {
    oid: ObjectIdentifier,
    values: SetOfVec<Any>,
}

/// The request of a file: PEM under either label, DER, or the bare base64 that consoles hand out.
///
/// Errors: [`Error::Malformed`] where there is none.
pub fn find(bytes: &[u8], what: &str) -> Result<Csr> {
    if bytes.first() == Some(&0x30) {
        return Csr::read(bytes, what);
    }
    let (blocks, broken) = pem::read(bytes);
    if let Some(b) = blocks.iter().find(|b| matches!(b.label.as_str(), pem::REQUEST | "NEW CERTIFICATE REQUEST")) {
        return Csr::read(&b.der, what);
    }
    if blocks.is_empty()
        && let Some(der) = std::str::from_utf8(bytes).ok().and_then(pem::bare)
    {
        return Csr::read(&der, what);
    }
    let why = match (blocks.first(), broken) {
        (Some(b), _) => {
            format!("it holds a {}, not a CERTIFICATE REQUEST", crate::vocabulary::text::harmless(&b.label))
        }
        (None, 0) => "it holds no certificate request (PKCS#10)".into(),
        (None, _) => "its PEM is broken: an object's base64 is damaged or never ends".into(),
    };
    Err(Error::Malformed { what: what.to_owned(), why })
}

impl Csr {
    /// Parses DER. The signature is not judged here: see [`Csr::proves_possession`].
    pub fn read(der: &[u8], what: &str) -> Result<Csr> {
        Csr::read_if(der, what, |version| version == 0)
    }

    /// The same with any number in the place of the version: a library that enrolls writes 2 for the only version that there is.
    pub fn read_of_any_version(der: &[u8], what: &str) -> Result<Csr> {
        Csr::read_if(der, what, |_| true)
    }

    fn read_if(der: &[u8], what: &str, takes: impl Fn(u8) -> bool) -> Result<Csr> {
        let malformed = |why: &str| Error::Malformed { what: what.to_owned(), why: why.to_owned() };
        let outer = Outer::from_der(der).map_err(|_| malformed("it is no certificate request (RFC 2986 §4)"))?;
        let info_der = outer.info.to_der().map_err(|_| malformed("its signed part does not parse"))?;
        let info =
            Info::from_der(&info_der).map_err(|_| malformed("its signed part does not parse (RFC 2986 §4.1)"))?;
        if !takes(info.version) {
            return Err(malformed("its version is not 1 (RFC 2986 §4.1)"));
        }
        let mut csr = Csr {
            der: der.to_vec(),
            subject: info.subject.to_der().map_err(|_| malformed("its subject does not parse"))?,
            key: PublicKey::from_spki(info.spki.to_der().map_err(|_| malformed("its key does not parse"))?),
            info: info_der.clone(),
            algorithm: outer.algorithm,
            signature: outer.signature.as_bytes().unwrap_or_default().to_vec(),
            wishes: Extensions::default(),
            other_attributes: Vec::new(),
        };
        for attribute in info.attributes.iter().flat_map(SetOfVec::iter) {
            if attribute.oid != EXTENSION_REQUEST && attribute.oid != EXTENSION_REQUEST_MS {
                csr.other_attributes.push(attribute.oid);
                continue;
            }
            let list = attribute.values.iter().next().and_then(|v| v.decode_as::<Vec<Extension>>().ok());
            let list = list.ok_or_else(|| malformed("the extensions asked for do not parse (RFC 2985 §5.4.2)"))?;
            csr.wishes = Extensions::of(list);
            if !csr.wishes.broken.is_empty() {
                return Err(malformed("an extension asked for does not parse, or stands twice"));
            }
        }
        Ok(csr)
    }

    /// Whether its signature was made with the key inside it.
    pub fn proves_possession(&self) -> Result<(), SignatureFault> {
        signature::verify(&self.algorithm, self.key.spki(), &self.info, &self.signature)
    }

    /// The whole request, DER.
    pub fn der(&self) -> &[u8] {
        &self.der
    }

    /// SHA-256 of the DER, lower-case hex.
    pub fn sha256(&self) -> Sha256Fingerprint {
        Sha256Fingerprint::of(&self.der)
    }

    /// The subject in words, escaped.
    pub fn subject_words(&self) -> String {
        subject::words(&self.subject)
    }

    /// The names asked for, in words, escaped.
    pub fn name_words(&self) -> Vec<String> {
        self.wishes.names.iter().flatten().map(GeneralName::words).collect()
    }
}

/// Writes a request with these extensions asked for, signed with its key. DER.
///
/// ```
/// use tamga_core::pki::cert::csr::{Csr, build};
/// use tamga_core::pki::cert::subject::Subject;
/// use tamga_core::sample::{Foreseeable, leaf};
///
/// let (_, key) = leaf(&["charts.saltmarsh.test"])?;
/// let der = build(&Subject::default().to_der()?, &[], &key, &Foreseeable)?;
/// let csr = Csr::read(&der, "a request")?;
/// assert!(csr.proves_possession().is_ok() && csr.key == *key.public());
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn build(subject: &[u8], extensions: &[Extension], key: &dyn SigningKey, entropy: &dyn Entropy) -> Result<Vec<u8>> {
    let encoding = |_| Error::Crypto { doing: "encoding a request" };
    let wanted = Any::encode_from(&extensions.to_vec()).map_err(encoding)?;
    let attribute = Attribute { oid: EXTENSION_REQUEST, values: SetOfVec::try_from([wanted]).map_err(encoding)? };
    let info = Info {
        version: 0,
        subject: AnyRef::from_der(subject).map_err(encoding)?,
        spki: AnyRef::from_der(key.public().spki()).map_err(encoding)?,
        attributes: Some(SetOfVec::try_from([attribute]).map_err(encoding)?),
    }
    .to_der()
    .map_err(encoding)?;
    let signature = key.sign(&info, entropy)?;
    Outer {
        info: AnyRef::from_der(&info).map_err(encoding)?,
        algorithm: key.signature_algorithm(),
        signature: BitString::from_bytes(&signature).map_err(encoding)?,
    }
    .to_der()
    .map_err(encoding)
}
