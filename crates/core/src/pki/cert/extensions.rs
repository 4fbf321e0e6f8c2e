//! What the extensions of a certificate, or of a request for one, say (RFC 5280 §4.2).

use crate::pki::cert::subject;
use crate::vocabulary::name::{Name, ip};
use crate::vocabulary::text::hex;
use const_oid::ObjectIdentifier;
use der::{Decode, Encode};
use std::net::IpAddr;
use x509_cert::ext::Extension;
use x509_cert::ext::pkix;
use x509_cert::ext::pkix::name::DistributionPointName;
use x509_cert::ext::pkix::{
    AuthorityInfoAccessSyntax, AuthorityKeyIdentifier, CrlDistributionPoints, ExtendedKeyUsage, SubjectAltName,
    SubjectKeyIdentifier,
};

/// One name of a certificate, or one base of a constraint, as its bytes say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum GeneralName {
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

impl GeneralName {
    fn of(name: &pkix::name::GeneralName) -> GeneralName {
        match name {
            pkix::name::GeneralName::DnsName(n) => GeneralName::Dns(n.to_string()),
            pkix::name::GeneralName::IpAddress(a) => GeneralName::Ip(a.as_bytes().to_vec()),
            pkix::name::GeneralName::Rfc822Name(n) => GeneralName::Mail(n.to_string()),
            pkix::name::GeneralName::UniformResourceIdentifier(n) => GeneralName::Uri(n.to_string()),
            pkix::name::GeneralName::DirectoryName(n) => n.to_der().map_or(GeneralName::Other, GeneralName::Directory),
            _ => GeneralName::Other,
        }
    }

    /// A name as it was typed.
    ///
    /// ```
    /// use tamga_core::pki::cert::extensions::GeneralName;
    ///
    /// let name = GeneralName::from_name(&"192.168.7.7".parse()?);
    /// assert_eq!((name.words().as_str(), name), ("192.168.7.7", GeneralName::Ip(vec![192, 168, 7, 7])));
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn from_name(name: &Name) -> GeneralName {
        match name {
            Name::Dns(n) => GeneralName::Dns(n.clone()),
            Name::Mail(m) => GeneralName::Mail(m.clone()),
            Name::Uri(u) => GeneralName::Uri(u.clone()),
            Name::Ip(IpAddr::V4(a)) => GeneralName::Ip(a.octets().to_vec()),
            Name::Ip(IpAddr::V6(a)) => GeneralName::Ip(a.octets().to_vec()),
        }
    }

    /// In words, escaped for showing.
    pub fn words(&self) -> String {
        let text = match self {
            GeneralName::Dns(n) | GeneralName::Mail(n) | GeneralName::Uri(n) => n.clone(),
            GeneralName::Ip(octets) => match octets.len() {
                4 | 16 => ip(octets).map_or_else(|| hex(octets), |a| a.to_string()),
                8 | 32 => {
                    let (a, m) = octets.split_at(octets.len() / 2);
                    let length: u32 = m.iter().map(|b| b.count_ones()).sum();
                    ip(a).map_or_else(|| hex(octets), |a| format!("{a}/{length}"))
                }
                _ => hex(octets),
            },
            GeneralName::Directory(der) => subject::words(der),
            GeneralName::Other => "(another kind of name)".into(),
        };
        crate::vocabulary::text::harmless(&text)
    }
}

/// The subtrees of a name-constraints extension.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NameConstraints {
    /// At least one of a type's bases must hold each name of that type.
    pub permitted: Vec<GeneralName>,
    /// None may hold any name.
    pub excluded: Vec<GeneralName>,
}

/// basicConstraints.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BasicConstraints {
    /// May this be a CA?
    pub ca: bool,
    /// How many non-self-issued intermediates may follow.
    pub path_length: Option<u8>,
    /// Marked critical?
    pub critical: bool,
}

/// The bits of keyUsage that are judged.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KeyUsage {
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

/// Every extension, and the fields that the known ones stand for.
#[derive(Clone, Debug, Default)]
pub struct Extensions {
    /// Every extension as found.
    pub all: Vec<Extension>,
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
    /// Who answers for its status (§4.2.2.1).
    pub ocsp_urls: Vec<String>,
    /// Critical extensions that nobody here processes.
    pub unknown_critical: Vec<ObjectIdentifier>,
    /// Known extensions whose contents do not parse, and any that stands twice.
    pub broken: Vec<ObjectIdentifier>,
}

/// Processed when critical.
const PROCESSED: [&str; 9] = [
    "2.5.29.19",
    "2.5.29.15",
    "2.5.29.37",
    "2.5.29.17",
    "2.5.29.30",
    "2.5.29.32",
    "2.5.29.33",
    "2.5.29.36",
    "2.5.29.54",
];

/// id-ad-ocsp (RFC 5280 §4.2.2.1): where a certificate's status is asked for.
pub const OCSP: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1");
/// id-ad-caIssuers (RFC 5280 §4.2.2.1).
pub const CA_ISSUERS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.2");

impl Extensions {
    /// Fills the fields. What does not parse is kept aside in [`Extensions::broken`].
    pub fn of(all: Vec<Extension>) -> Extensions {
        let mut fields = Extensions::default();
        for (i, ext) in all.iter().enumerate() {
            let twice = all[..i].iter().any(|e| e.extn_id == ext.extn_id);
            if twice || fields.take(ext).is_none() {
                fields.broken.push(ext.extn_id);
            }
        }
        fields.all = all;
        fields
    }

    /// Fills the field that an extension stands for; None if its contents do not parse.
    fn take(&mut self, ext: &Extension) -> Option<()> {
        let oid = ext.extn_id.to_string();
        let bytes = ext.extn_value.as_bytes();
        match oid.as_str() {
            "2.5.29.19" => {
                let b = pkix::BasicConstraints::from_der(bytes).ok()?;
                self.basic =
                    Some(BasicConstraints { ca: b.ca, path_length: b.path_len_constraint, critical: ext.critical });
            }
            "2.5.29.15" => {
                let u = pkix::KeyUsage::from_der(bytes).ok()?;
                self.usage = Some(KeyUsage {
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
                self.names = Some(SubjectAltName::from_der(bytes).ok()?.0.iter().map(GeneralName::of).collect());
            }
            "2.5.29.14" => {
                self.key_identifier = Some(SubjectKeyIdentifier::from_der(bytes).ok()?.0.as_bytes().to_vec());
            }
            "2.5.29.35" => {
                let a = AuthorityKeyIdentifier::from_der(bytes).ok()?;
                self.issuer_key_identifier = a.key_identifier.map(|k| k.as_bytes().to_vec());
            }
            "2.5.29.30" => {
                let n = pkix::NameConstraints::from_der(bytes).ok()?;
                let all = n.permitted_subtrees.iter().chain(&n.excluded_subtrees).flatten();
                // Address and mask: 8 or 32 octets (RFC 5280 §4.2.1.10).
                if all
                    .into_iter()
                    .any(|t| matches!(&t.base, pkix::name::GeneralName::IpAddress(a) if !matches!(a.as_bytes().len(), 8 | 32)))
                {
                    return None;
                }
                let bases = |s: Option<Vec<x509_cert::ext::pkix::constraints::name::GeneralSubtree>>| {
                    s.unwrap_or_default().iter().map(|t| GeneralName::of(&t.base)).collect()
                };
                self.constraints = Some(NameConstraints {
                    permitted: bases(n.permitted_subtrees),
                    excluded: bases(n.excluded_subtrees),
                });
            }
            "2.5.29.31" => {
                let points = CrlDistributionPoints::from_der(bytes).ok()?.0;
                let names = points.iter().filter_map(|p| match &p.distribution_point {
                    Some(DistributionPointName::FullName(names)) => Some(names),
                    _ => None,
                });
                self.crl_urls = names.flatten().filter_map(uri).collect();
            }
            "1.3.6.1.5.5.7.1.1" => {
                let all = AuthorityInfoAccessSyntax::from_der(bytes).ok()?.0;
                let of = |method| all.iter().filter(move |a| a.access_method == method);
                self.issuer_urls = of(CA_ISSUERS).filter_map(|a| uri(&a.access_location)).collect();
                self.ocsp_urls = of(OCSP).filter_map(|a| uri(&a.access_location)).collect();
            }
            _ => {}
        }
        if ext.critical && !PROCESSED.contains(&oid.as_str()) {
            self.unknown_critical.push(ext.extn_id);
        }
        Some(())
    }
}

fn uri(name: &pkix::name::GeneralName) -> Option<String> {
    match name {
        pkix::name::GeneralName::UniformResourceIdentifier(u) => Some(u.to_string()),
        _ => None,
    }
}

impl KeyUsage {
    /// The bits that are set, in words.
    pub fn words(&self) -> String {
        let all = [
            (self.digital_signature, "digital signature"),
            (self.key_encipherment, "key encipherment"),
            (self.key_agreement, "key agreement"),
            (self.key_cert_sign, "certificate signing"),
            (self.crl_sign, "CRL signing"),
        ];
        all.iter().filter(|(set, _)| *set).map(|(_, word)| *word).collect::<Vec<_>>().join(", ")
    }
}

/// A serial number's octets as lower-case hex, without the leading zero that only says that it is positive.
pub fn serial_hex(octets: &[u8]) -> String {
    hex(if octets.len() > 1 && octets[0] == 0 { &octets[1..] } else { octets })
}

/// The contents octets of a serial number in hex, as DER writes them: a zero in front where the first bit would else be a sign. None for what
/// is not hex.
pub fn serial_octets(hex: &str) -> Option<Vec<u8>> {
    let octet = |at: usize| u8::from_str_radix(hex.get(at..at + 2)?, 16).ok();
    let octets: Vec<u8> = (0..hex.len()).step_by(2).map(octet).collect::<Option<_>>()?;
    Some(if octets.first().is_none_or(|b| *b >= 0x80) { [&[0][..], &octets].concat() } else { octets })
}
