//! What each kind of certificate holds, extension by extension (RFC 5280 §4.2).

use crate::error::{Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::cert::build::{Serial, ToSign};
use crate::pki::cert::extensions::{CA_ISSUERS, OCSP};
use crate::pki::cert::subject::{self, Subject};
use crate::pki::key::SigningKey;
use crate::pki::key::{PublicKey, Strength};
use crate::plan::ports::Entropy;
use crate::vocabulary::label::Label;
use crate::vocabulary::name::{Name, ip_octets};
use crate::vocabulary::permit::Permit;
use crate::vocabulary::purpose::Purpose;
use crate::vocabulary::timestamp::Timestamp;
use const_oid::AssociatedOid;
use der::Encode;
use der::asn1::{Ia5String, OctetString};
use der::flagset::FlagSet;
use x509_cert::ext::Extension;
use x509_cert::ext::pkix::constraints::name::{GeneralSubtree, GeneralSubtrees};
use x509_cert::ext::pkix::crl::dp::DistributionPoint;
use x509_cert::ext::pkix::name::{DistributionPointName, GeneralName};
use x509_cert::ext::pkix::{
    AccessDescription, AuthorityInfoAccessSyntax, AuthorityKeyIdentifier, BasicConstraints, CrlDistributionPoints,
    ExtendedKeyUsage, KeyUsage, KeyUsages, NameConstraints, SubjectAltName, SubjectKeyIdentifier,
};

const ENCODING: Error = Error::Crypto { doing: "encoding an extension" };

/// Where clients may fetch what belongs to a certificate; written into what an authority issues.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Links {
    /// The revocation list (§4.2.1.13).
    pub crl: Option<String>,
    /// The issuer's certificate, DER (§4.2.2.1).
    pub issuer: Option<String>,
    /// Who answers for the status of one certificate (RFC 6960 §3.1).
    pub ocsp: Option<String>,
}

/// What an authority is to hold.
#[derive(Clone, Debug)]
pub struct Ca<'a> {
    /// The subject's name, DER.
    pub subject: &'a [u8],
    /// Name constraints: see [`name_constraints`]; None leaves them out.
    pub constraints: Option<Extension>,
    /// How many intermediates may follow; None says nothing of it.
    pub path_length: Option<u8>,
    /// First moment of validity.
    pub from: Timestamp,
    /// Last moment of validity.
    pub until: Timestamp,
    /// Where the issuer's list and certificate are; for an intermediate.
    pub links: &'a Links,
}

impl Ca<'_> {
    /// A root: critical basicConstraints and keyUsage as a MUST for CAs (§4.2.1.9, §4.2.1.3), its key identifier
    /// (§4.2.1.2, MUST), and critical name constraints (§4.2.1.10, MUST be critical).
    pub fn self_sign(&self, key: &dyn SigningKey, entropy: &dyn Entropy) -> Result<Certificate> {
        let extensions = self.extensions(key.public())?;
        self.to_sign(self.subject.to_vec(), key.public(), extensions, entropy).sign(key, entropy)
    }

    /// An intermediate: the same with the issuer's key identifier (§4.2.1.1, MUST).
    pub fn under(
        &self,
        key: &PublicKey,
        issuer: &Certificate,
        issuer_key: &dyn SigningKey,
        entropy: &dyn Entropy,
    ) -> Result<Certificate> {
        let mut extensions = self.extensions(key)?;
        extensions.push(above(issuer)?);
        extensions.extend(linked(self.links)?);
        self.to_sign(issuer.subject.clone(), key, extensions, entropy).sign(issuer_key, entropy)
    }

    /// What a request for an intermediate asks for.
    pub fn wishes(&self) -> Result<Vec<Extension>> {
        let mut wishes = vec![
            extension(true, &BasicConstraints { ca: true, path_len_constraint: self.path_length })?,
            extension(true, &KeyUsage(KeyUsages::KeyCertSign | KeyUsages::CRLSign))?,
        ];
        wishes.extend(self.constraints.clone());
        Ok(wishes)
    }

    fn extensions(&self, key: &PublicKey) -> Result<Vec<Extension>> {
        let mut extensions = self.wishes()?;
        extensions.insert(2, extension(false, &key_identifier(key)?)?);
        Ok(extensions)
    }

    fn to_sign(&self, issuer: Vec<u8>, key: &PublicKey, extensions: Vec<Extension>, entropy: &dyn Entropy) -> ToSign {
        ToSign {
            serial: Serial::random(entropy),
            issuer,
            not_before: self.from,
            not_after: self.until,
            subject: self.subject.to_vec(),
            spki: key.spki().to_vec(),
            extensions,
        }
    }
}

/// The extension that limits an authority to what is permitted; None for [`Permit::Any`].
pub fn name_constraints(permit: &Permit) -> Result<Option<Extension>> {
    let Permit::Only { domains, blocks } = permit else { return Ok(None) };
    let mut permitted: GeneralSubtrees = Vec::new();
    let mut add = |base| permitted.push(GeneralSubtree { base, minimum: 0, maximum: None });
    for d in domains {
        add(GeneralName::DnsName(ia5(d)?));
    }
    for b in blocks {
        add(GeneralName::IpAddress(OctetString::new(b.to_octets()).map_err(|_| ENCODING)?));
    }
    // Without a leading dot a base means that host alone, with it what lies under it (§4.2.1.10).
    for d in domains {
        for base in [d.clone(), format!(".{d}")] {
            add(GeneralName::Rfc822Name(ia5(&base)?));
            add(GeneralName::UniformResourceIdentifier(ia5(&base)?));
        }
    }
    let constraints = NameConstraints { permitted_subtrees: Some(permitted), excluded_subtrees: None };
    extension(true, &constraints).map(Some)
}

/// What a leaf is to hold.
#[derive(Clone, Debug)]
pub struct Leaf<'a> {
    /// Its names; at least one.
    pub names: &'a [Name],
    /// Its purposes; at least one.
    pub purposes: &'a [Purpose],
    /// Its subject, DER.
    pub subject: &'a [u8],
    /// First moment of validity.
    pub from: Timestamp,
    /// Last moment of validity.
    pub until: Timestamp,
    /// Where the issuer's list and certificate are.
    pub links: &'a Links,
}

impl Leaf<'_> {
    /// A leaf under an issuer: basicConstraints that say "no CA", keyUsage as purpose and key kind need, and the
    /// issuer's key identifier (§4.2.1.1, MUST).
    pub fn issue(
        &self,
        key: &PublicKey,
        issuer: &Certificate,
        issuer_key: &dyn SigningKey,
        entropy: &dyn Entropy,
    ) -> Result<Certificate> {
        let mut extensions = vec![extension(true, &BasicConstraints { ca: false, path_len_constraint: None })?];
        extensions.extend(self.wishes(key)?);
        extensions.push(extension(false, &key_identifier(key)?)?);
        extensions.push(above(issuer)?);
        extensions.extend(linked(self.links)?);
        self.to_sign(issuer.subject.clone(), key, extensions, entropy).sign(issuer_key, entropy)
    }

    /// A self-signed leaf that can never sign. It has no basicConstraints at all: of the three possible
    /// spellings only this one is taken by Chromium and by Firefox.
    pub fn self_sign(&self, key: &dyn SigningKey, entropy: &dyn Entropy) -> Result<Certificate> {
        let named = match subject::is_empty(self.subject) {
            true => self_signed_subject().to_der()?,
            false => self.subject.to_vec(),
        };
        let own = Leaf { subject: &named, ..self.clone() };
        let mut extensions = own.wishes(key.public())?;
        extensions.push(extension(false, &key_identifier(key.public())?)?);
        own.to_sign(named.clone(), key.public(), extensions, entropy).sign(key, entropy)
    }

    fn to_sign(&self, issuer: Vec<u8>, key: &PublicKey, extensions: Vec<Extension>, entropy: &dyn Entropy) -> ToSign {
        ToSign {
            serial: Serial::random(entropy),
            issuer,
            not_before: self.from,
            not_after: self.until,
            subject: self.subject.to_vec(),
            spki: key.spki().to_vec(),
            extensions,
        }
    }

    /// What a request for a leaf asks for: key usage, purposes and names.
    pub fn wishes(&self, key: &PublicKey) -> Result<Vec<Extension>> {
        let names = self.names.iter().map(general).collect::<Result<Vec<_>>>()?;
        Ok(vec![
            extension(true, &KeyUsage(usage(self.purposes, key)))?,
            extension(false, &ExtendedKeyUsage(self.purposes.iter().map(|p| p.oid()).collect()))?,
            // Critical if and only if the subject is empty (§4.2.1.6); Chromium insists.
            extension(subject::is_empty(self.subject), &SubjectAltName(names))?,
        ])
    }
}

/// The certificate that proves control of a name in a handshake (RFC 8737 §3): self-signed, for that name alone, with the digest in a critical
/// extension. It is valid for a day.
pub fn challenge(
    name: &Name,
    digest: &[u8],
    key: &dyn SigningKey,
    now: Timestamp,
    entropy: &dyn Entropy,
) -> Result<Certificate> {
    const IDENTIFIER: const_oid::ObjectIdentifier = const_oid::ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.1.31");
    let subject = self_signed_subject().to_der()?;
    let names = vec![general(name)?];
    let proof = OctetString::new(digest).map_err(|_| ENCODING)?;
    ToSign {
        serial: Serial::random(entropy),
        issuer: subject.clone(),
        not_before: now.plus(-3600),
        not_after: now.plus(86_400),
        subject,
        spki: key.public().spki().to_vec(),
        extensions: vec![
            extension(false, &SubjectAltName(names))?,
            Extension { extn_id: IDENTIFIER, critical: true, extn_value: proof },
        ],
    }
    .sign(key, entropy)
}

/// What the key of a leaf does for its purposes (§4.2.1.3): it always signs; RSA carries keys to TLS 1.2 servers and to
/// readers of mail, EC agrees on them with readers of mail.
fn usage(purposes: &[Purpose], key: &PublicKey) -> FlagSet<KeyUsages> {
    let mut usage: FlagSet<KeyUsages> = KeyUsages::DigitalSignature.into();
    let reads = purposes.contains(&Purpose::Mail);
    match key.strength() {
        Strength::Rsa(_) if reads || purposes.contains(&Purpose::Server) => usage |= KeyUsages::KeyEncipherment,
        Strength::P256 | Strength::P384 | Strength::P521 if reads => usage |= KeyUsages::KeyAgreement,
        _ => {}
    }
    usage
}

/// The subject of a leaf for which none was given: its first DNS name, or else its first mail address, if a common name
/// can hold it; else empty.
///
/// Where no alternative name is a DNS name, a client may hold the common name against the DNS constraints of the
/// authority, as if it were one (RFC 6125 §6.4.4; GnuTLS does): an address or a URI there makes it refuse the certificate.
pub fn leaf_subject(names: &[Name]) -> Subject {
    let dns = names.iter().find(|n| matches!(n, Name::Dns(_)));
    let text = dns.or_else(|| names.iter().find(|n| matches!(n, Name::Mail(_)))).map(ToString::to_string);
    Subject { common_name: text.filter(|t| t.chars().count() <= 64), ..Subject::default() }
}

/// The subject of a self-signed leaf whose own would be empty: an issuer must not be (RFC 5280 §4.1.2.4).
fn self_signed_subject() -> Subject {
    Subject { common_name: Some("self-signed (Tamga, tests only)".into()), ..Subject::default() }
}

/// Whether a subject was made from the names, today or by a version that took an address for the common name too.
pub fn is_made_of_names(subject: &[u8], names: &[Name]) -> Result<bool> {
    let first = names.first().map(|n| Subject { common_name: Some(n.to_string()), ..Subject::default() });
    for made in [Some(leaf_subject(names)), first, Some(self_signed_subject())].into_iter().flatten() {
        if made.to_der()? == subject {
            return Ok(true);
        }
    }
    Ok(false)
}

/// The subject of a root for which none was given.
pub fn root_subject(label: &Label) -> Subject {
    let text = format!("{} root (Tamga, tests only)", crate::vocabulary::text::cut(label.as_str(), 36));
    Subject { common_name: Some(text), ..Subject::default() }
}

/// The subject of an intermediate for which none was given.
pub fn intermediate_subject(label: &Label) -> Subject {
    let text = format!("{} intermediate (Tamga, tests only)", crate::vocabulary::text::cut(label.as_str(), 28));
    Subject { common_name: Some(text), ..Subject::default() }
}

fn general(name: &Name) -> Result<GeneralName> {
    Ok(match name {
        Name::Dns(n) => GeneralName::DnsName(ia5(n)?),
        Name::Mail(m) => GeneralName::Rfc822Name(ia5(m)?),
        Name::Uri(u) => GeneralName::UniformResourceIdentifier(ia5(u)?),
        Name::Ip(ip) => GeneralName::IpAddress(OctetString::new(ip_octets(*ip)).map_err(|_| ENCODING)?),
    })
}

/// The issuer's key identifier.
fn above(issuer: &Certificate) -> Result<Extension> {
    let identifier = issuer.key_identifier.clone().unwrap_or_else(|| issuer.key.identifier());
    let above = AuthorityKeyIdentifier {
        key_identifier: Some(OctetString::new(identifier).map_err(|_| ENCODING)?),
        authority_cert_issuer: None,
        authority_cert_serial_number: None,
    };
    extension(false, &above)
}

fn linked(links: &Links) -> Result<Vec<Extension>> {
    let mut out = Vec::new();
    if let Some(url) = &links.crl {
        let name = DistributionPointName::FullName(vec![GeneralName::UniformResourceIdentifier(ia5(url)?)]);
        let point = DistributionPoint { distribution_point: Some(name), reasons: None, crl_issuer: None };
        out.push(extension(false, &CrlDistributionPoints(vec![point]))?);
    }
    let described = |url: &Option<String>, method| {
        let location = url.as_deref().map(ia5).transpose()?.map(GeneralName::UniformResourceIdentifier);
        Ok::<_, Error>(location.map(|l| AccessDescription { access_method: method, access_location: l }))
    };
    let access: Vec<AccessDescription> =
        [described(&links.ocsp, OCSP)?, described(&links.issuer, CA_ISSUERS)?].into_iter().flatten().collect();
    if !access.is_empty() {
        out.push(extension(false, &AuthorityInfoAccessSyntax(access))?);
    }
    Ok(out)
}

fn key_identifier(key: &PublicKey) -> Result<SubjectKeyIdentifier> {
    OctetString::new(key.identifier()).map(SubjectKeyIdentifier).map_err(|_| ENCODING)
}

fn ia5(text: &str) -> Result<Ia5String> {
    Ia5String::new(text).map_err(|_| ENCODING)
}

fn extension<T: AssociatedOid + Encode>(critical: bool, value: &T) -> Result<Extension> {
    let bytes = value.to_der().and_then(OctetString::new).map_err(|_| ENCODING)?;
    Ok(Extension { extn_id: T::OID, critical, extn_value: bytes })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pki::key::KeyAlgorithm;
    use crate::pki::key::PrivateKey;
    use crate::test_entropy::Counted;
    use std::str::FromStr;

    fn moments() -> (Timestamp, Timestamp) {
        (Timestamp::from_str("2026-11-24").unwrap(), Timestamp::from_str("2027-12-26").unwrap())
    }

    #[test]
    fn a_root_is_as_strict_clients_want_it() {
        let (from, until) = moments();
        let e = Counted::default();
        let key = PrivateKey::generate(KeyAlgorithm::P256, &e).unwrap();
        let label = Label::from_str("saltmarsh").unwrap();
        let subject = root_subject(&label).to_der().unwrap();
        let constraints = name_constraints(&Permit::default_set()).unwrap();
        let links = Links::default();
        let c = Ca { subject: &subject, constraints, path_length: None, from, until, links: &links }
            .self_sign(&key, &e)
            .unwrap();
        assert_eq!(c.subject_words(), "CN=saltmarsh root (Tamga, tests only)");
        assert_eq!(c.basic, Some(BasicConstraints { ca: true, path_length: None, critical: true }));
        let usage = c.usage.unwrap();
        assert!(usage.key_cert_sign && usage.crl_sign && !usage.digital_signature);
        assert_eq!(c.key_identifier, Some(key.public().identifier()));
        let constraints = c.constraints.clone().unwrap();
        assert!(constraints.permitted.contains(&GeneralName::Dns("home.arpa".into())));
        assert!(constraints.permitted.contains(&GeneralName::Mail(".test".into())));
        assert!(constraints.permitted.contains(&GeneralName::Ip(vec![127, 0, 0, 0, 255, 0, 0, 0])));
        assert!(c.is_self_signed() && c.unknown_critical.is_empty() && c.broken.is_empty());
        for id in ["2.5.29.19", "2.5.29.15", "2.5.29.30"] {
            assert!(c.extensions.iter().any(|x| x.extn_id.to_string() == id && x.critical), "{id}");
        }
    }

    #[test]
    fn a_self_signed_leaf_cannot_sign() {
        let (from, until) = moments();
        let e = Counted::default();
        let key = PrivateKey::generate(KeyAlgorithm::P256, &e).unwrap();
        let names = [Name::from_str("gauge-7.saltmarsh.test").unwrap()];
        let subject = leaf_subject(&names).to_der().unwrap();
        let links = Links::default();
        let leaf = Leaf { names: &names, purposes: &[Purpose::Server], subject: &subject, from, until, links: &links };
        let c = leaf.self_sign(&key, &e).unwrap();
        assert!(c.basic.is_none() && !c.usage.unwrap().key_cert_sign && c.is_self_signed());
    }

    #[test]
    fn rsa_leaves_may_transport_keys_and_empty_subjects_make_names_critical() {
        let (from, until) = moments();
        let e = Counted::default();
        let key = PrivateKey::generate(KeyAlgorithm::Rsa2048, &e).unwrap();
        let long = format!("{}.{}.test", "a".repeat(60), "b".repeat(10));
        let names = [Name::from_str(&long).unwrap(), Name::from_str("::1").unwrap()];
        let subject = leaf_subject(&names).to_der().unwrap();
        let links = Links { crl: Some("http://pki.saltmarsh.test/root.crl".into()), ..Links::default() };
        let purposes = [Purpose::Server, Purpose::Client];
        let leaf = Leaf { names: &names, purposes: &purposes, subject: &subject, from, until, links: &links };
        let c = leaf.issue(key.public(), &leaf.self_sign(&key, &e).unwrap(), &key, &e).unwrap();
        assert!(subject::is_empty(&c.subject) && c.names_critical);
        assert!(c.usage.unwrap().key_encipherment);
        assert_eq!(c.name_words(), [long, "::1".into()]);
        assert_eq!(c.crl_urls, ["http://pki.saltmarsh.test/root.crl"]);
        assert_eq!(c.purposes.as_ref().unwrap().len(), 2);
        assert_eq!(c.issuer_key_identifier, Some(key.public().identifier()));
    }

    use crate::pki::cert::extensions::{BasicConstraints, GeneralName};
}
