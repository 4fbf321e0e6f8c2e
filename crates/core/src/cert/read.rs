//! A certificate as it was found: raw bytes kept, fields parsed once.

use crate::cert::subject;
use crate::error::{Error, Result};
use crate::key::PublicKey;
use crate::moment::Moment;
use crate::text::hex;
use const_oid::ObjectIdentifier;
use der::asn1::{AnyRef, BitString};
use der::{Decode, Encode, Sequence};
use sha2::{Digest, Sha256};
use spki::AlgorithmIdentifierOwned;
use std::net::IpAddr;
use x509_cert::ext::Extension;
use x509_cert::ext::pkix::name::GeneralName;
use x509_cert::ext::pkix::{
    AuthorityKeyIdentifier, BasicConstraints, ExtendedKeyUsage, KeyUsage, NameConstraints, SubjectAltName,
    SubjectKeyIdentifier,
};
use x509_cert::time::Validity;

/// One name of a certificate, or one base of a constraint, as its bytes say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum General {
    /// dNSName.
    Dns(String),
    /// iPAddress: 4 or 16 octets; in a constraint 8 or 32 (address, then mask).
    Ip(Vec<u8>),
    /// rfc822Name.
    Mail(String),
    /// uniformResourceIdentifier.
    Uri(String),
    /// directoryName, DER.
    Directory(Vec<u8>),
    /// A form that is not judged here.
    Other,
}

impl General {
    fn of(name: &GeneralName) -> General {
        match name {
            GeneralName::DnsName(n) => General::Dns(n.to_string()),
            GeneralName::IpAddress(a) => General::Ip(a.as_bytes().to_vec()),
            GeneralName::Rfc822Name(n) => General::Mail(n.to_string()),
            GeneralName::UniformResourceIdentifier(n) => General::Uri(n.to_string()),
            GeneralName::DirectoryName(n) => n.to_der().map_or(General::Other, General::Directory),
            _ => General::Other,
        }
    }

    /// In words, escaped for showing.
    pub fn words(&self) -> String {
        let text = match self {
            General::Dns(n) | General::Mail(n) | General::Uri(n) => n.clone(),
            General::Ip(octets) => match octets.len() {
                4 | 16 => ip(octets).map_or_else(|| hex(octets), |a| a.to_string()),
                8 | 32 => {
                    let (a, m) = octets.split_at(octets.len() / 2);
                    let length: u32 = m.iter().map(|b| b.count_ones()).sum();
                    ip(a).map_or_else(|| hex(octets), |a| format!("{a}/{length}"))
                }
                _ => hex(octets),
            },
            General::Directory(der) => subject::words(der),
            General::Other => "(another kind of name)".into(),
        };
        crate::text::harmless(&text)
    }
}

/// 4 or 16 octets as an address.
pub fn ip(octets: &[u8]) -> Option<IpAddr> {
    match octets.len() {
        4 => <[u8; 4]>::try_from(octets).ok().map(IpAddr::from),
        16 => <[u8; 16]>::try_from(octets).ok().map(IpAddr::from),
        _ => None,
    }
}

/// The subtrees of a name-constraints extension.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Subtrees {
    /// At least one of a type's bases must hold each name of that type.
    pub permitted: Vec<General>,
    /// None may hold any name.
    pub excluded: Vec<General>,
}

/// basicConstraints.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Basic {
    /// May this be a CA?
    pub ca: bool,
    /// How many non-self-issued intermediates may follow.
    pub path_length: Option<u8>,
    /// Marked critical?
    pub critical: bool,
}

/// The bits of keyUsage that are judged.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Usage {
    /// digitalSignature.
    pub digital_signature: bool,
    /// keyEncipherment.
    pub key_encipherment: bool,
    /// keyAgreement.
    pub key_agreement: bool,
    /// keyCertSign.
    pub key_cert_sign: bool,
    /// cRLSign.
    pub crl_sign: bool,
}

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
    pub not_before: Moment,
    /// Last moment of validity.
    pub not_after: Moment,
    /// The public key.
    pub key: PublicKey,
    /// The algorithm of the signature.
    pub algorithm: AlgorithmIdentifierOwned,
    /// The signature's octets.
    pub signature: Vec<u8>,
    /// Every extension as found.
    pub extensions: Vec<Extension>,
    /// basicConstraints, if present.
    pub basic: Option<Basic>,
    /// keyUsage, if present.
    pub usage: Option<Usage>,
    /// extKeyUsage, if present.
    pub purposes: Option<Vec<ObjectIdentifier>>,
    /// subjectAltName, if present.
    pub names: Option<Vec<General>>,
    /// True if subjectAltName is critical.
    pub names_critical: bool,
    /// subjectKeyIdentifier.
    pub key_identifier: Option<Vec<u8>>,
    /// authorityKeyIdentifier's key identifier.
    pub issuer_key_identifier: Option<Vec<u8>>,
    /// nameConstraints, if present.
    pub constraints: Option<Subtrees>,
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

/// Processed or harmless when critical: policies are not mapped, but heeded as "any".
const PROCESSED: [&str; 8] =
    ["2.5.29.19", "2.5.29.15", "2.5.29.37", "2.5.29.17", "2.5.29.30", "2.5.29.32", "2.5.29.36", "2.5.29.54"];

impl Certificate {
    /// Parses DER. `what` names the source in the error.
    ///
    /// Errors: [`Error::Malformed`] when the outer structure is no certificate; extensions that do not
    /// parse are kept aside in [`Certificate::broken`].
    pub fn read(der: &[u8], what: &str) -> Result<Certificate> {
        let malformed = |why: &str| Error::Malformed { what: what.to_owned(), why: why.to_owned() };
        let outer = Outer::from_der(der).map_err(|_| malformed("it is no X.509 certificate (RFC 5280 §4.1)"))?;
        let tbs_der = outer.tbs.to_der().map_err(|_| malformed("its signed part does not parse"))?;
        let tbs = Tbs::from_der(&tbs_der).map_err(|_| malformed("its signed part does not parse (RFC 5280 §4.1.2)"))?;
        if tbs.signature != outer.algorithm {
            return Err(malformed("it names two different signature algorithms (RFC 5280 §4.1.1.2)"));
        }
        let raw = |any: AnyRef<'_>| any.to_der().map_err(|_| malformed("a field does not parse"));
        let serial = tbs.serial.value();
        let mut c = Certificate {
            der: der.to_vec(),
            version: tbs.version,
            serial: hex(if serial.len() > 1 && serial[0] == 0 { &serial[1..] } else { serial }),
            issuer: raw(tbs.issuer)?,
            subject: raw(tbs.subject)?,
            not_before: Moment::from_x509(&tbs.validity.not_before),
            not_after: Moment::from_x509(&tbs.validity.not_after),
            key: PublicKey::from_spki(raw(tbs.spki)?),
            algorithm: outer.algorithm,
            signature: outer.signature.as_bytes().unwrap_or_default().to_vec(),
            extensions: tbs.extensions.unwrap_or_default(),
            tbs: tbs_der.clone(),
            basic: None,
            usage: None,
            purposes: None,
            names: None,
            names_critical: false,
            key_identifier: None,
            issuer_key_identifier: None,
            constraints: None,
            unknown_critical: Vec::new(),
            broken: Vec::new(),
        };
        for ext in c.extensions.clone() {
            if c.take(&ext).is_none() {
                c.broken.push(ext.extn_id);
            }
        }
        Ok(c)
    }

    /// Fills the field that an extension stands for; None if its contents do not parse.
    fn take(&mut self, ext: &Extension) -> Option<()> {
        let oid = ext.extn_id.to_string();
        let bytes = ext.extn_value.as_bytes();
        match oid.as_str() {
            "2.5.29.19" => {
                let b = BasicConstraints::from_der(bytes).ok()?;
                self.basic = Some(Basic { ca: b.ca, path_length: b.path_len_constraint, critical: ext.critical });
            }
            "2.5.29.15" => {
                let u = KeyUsage::from_der(bytes).ok()?;
                self.usage = Some(Usage {
                    digital_signature: u.digital_signature(),
                    key_encipherment: u.key_encipherment(),
                    key_agreement: u.key_agreement(),
                    key_cert_sign: u.key_cert_sign(),
                    crl_sign: u.crl_sign(),
                });
            }
            "2.5.29.37" => self.purposes = Some(ExtendedKeyUsage::from_der(bytes).ok()?.0),
            "2.5.29.17" => {
                self.names_critical = ext.critical;
                self.names = Some(SubjectAltName::from_der(bytes).ok()?.0.iter().map(General::of).collect());
            }
            "2.5.29.14" => {
                self.key_identifier = Some(SubjectKeyIdentifier::from_der(bytes).ok()?.0.as_bytes().to_vec());
            }
            "2.5.29.35" => {
                let a = AuthorityKeyIdentifier::from_der(bytes).ok()?;
                self.issuer_key_identifier = a.key_identifier.map(|k| k.as_bytes().to_vec());
            }
            "2.5.29.30" => {
                let n = NameConstraints::from_der(bytes).ok()?;
                let bases = |s: Option<Vec<x509_cert::ext::pkix::constraints::name::GeneralSubtree>>| {
                    s.unwrap_or_default().iter().map(|t| General::of(&t.base)).collect()
                };
                self.constraints =
                    Some(Subtrees { permitted: bases(n.permitted_subtrees), excluded: bases(n.excluded_subtrees) });
            }
            _ => {}
        }
        if ext.critical && !PROCESSED.contains(&oid.as_str()) {
            self.unknown_critical.push(ext.extn_id);
        }
        Some(())
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
    pub fn sha256(&self) -> String {
        hex(&Sha256::digest(&self.der))
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
    pub fn signed_by(&self, issuer: &Certificate) -> Result<(), crate::signature::Fault> {
        crate::signature::verify(&self.algorithm, issuer.key.spki(), &self.tbs, &self.signature)
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
        self.names.iter().flatten().map(General::words).collect()
    }
}
