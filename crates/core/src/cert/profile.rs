//! What each kind of certificate holds, extension by extension (RFC 5280 §4.2).

use crate::cert::Certificate;
use crate::cert::build::{Serial, ToSign};
use crate::cert::subject::{self, Subject};
use crate::error::{Error, Result};
use crate::key::{PrivateKey, PublicKey, Strength};
use crate::label::Label;
use crate::moment::Moment;
use crate::name::Name;
use crate::permit::Permit;
use crate::ports::Entropy;
use crate::purpose::Purpose;
use const_oid::AssociatedOid;
use der::Encode;
use der::asn1::{Ia5String, OctetString};
use der::flagset::FlagSet;
use std::net::IpAddr;
use x509_cert::ext::Extension;
use x509_cert::ext::pkix::constraints::name::{GeneralSubtree, GeneralSubtrees};
use x509_cert::ext::pkix::name::GeneralName;
use x509_cert::ext::pkix::{
    AuthorityKeyIdentifier, BasicConstraints, ExtendedKeyUsage, KeyUsage, KeyUsages, NameConstraints, SubjectAltName,
    SubjectKeyIdentifier,
};

const ENCODING: Error = Error::Crypto { doing: "encoding an extension" };

/// A root: critical basicConstraints and keyUsage as a MUST for CAs (§4.2.1.9, §4.2.1.3), its key identifier
/// (§4.2.1.2, MUST), and critical name constraints (§4.2.1.10, MUST be critical).
pub fn root(
    subject: &Subject,
    permit: &Permit,
    from: Moment,
    until: Moment,
    key: &PrivateKey,
    entropy: &dyn Entropy,
) -> Result<Certificate> {
    let name = subject.to_der()?;
    let mut extensions = vec![
        extension(true, &BasicConstraints { ca: true, path_len_constraint: None })?,
        extension(true, &KeyUsage(KeyUsages::KeyCertSign | KeyUsages::CRLSign))?,
        extension(false, &key_identifier(key.public())?)?,
    ];
    if let Permit::Only { domains, blocks } = permit {
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
        extensions
            .push(extension(true, &NameConstraints { permitted_subtrees: Some(permitted), excluded_subtrees: None })?);
    }
    ToSign {
        serial: Serial::random(entropy),
        issuer: name.clone(),
        not_before: from,
        not_after: until,
        subject: name,
        spki: key.public().spki().to_vec(),
        extensions,
    }
    .sign(key, entropy)
}

/// What a leaf is to hold.
#[derive(Clone, Debug)]
pub struct Leaf<'a> {
    /// Its names; at least one.
    pub names: &'a [Name],
    /// Its purposes; at least one.
    pub purposes: &'a [Purpose],
    /// Its subject.
    pub subject: &'a Subject,
    /// First moment of validity.
    pub from: Moment,
    /// Last moment of validity.
    pub until: Moment,
}

impl Leaf<'_> {
    /// A leaf under an issuer: basicConstraints that say "no CA", keyUsage as the key kind needs, and the
    /// issuer's key identifier (§4.2.1.1, MUST).
    pub fn issue(
        &self,
        key: &PublicKey,
        issuer: &Certificate,
        issuer_key: &PrivateKey,
        entropy: &dyn Entropy,
    ) -> Result<Certificate> {
        let above = AuthorityKeyIdentifier {
            key_identifier: Some(
                OctetString::new(issuer.key_identifier.clone().unwrap_or_else(|| issuer.key.identifier()))
                    .map_err(|_| ENCODING)?,
            ),
            authority_cert_issuer: None,
            authority_cert_serial_number: None,
        };
        let mut extensions = vec![extension(true, &BasicConstraints { ca: false, path_len_constraint: None })?];
        extensions.extend(self.common(key)?);
        extensions.push(extension(false, &above)?);
        self.to_sign(issuer.subject.clone(), key, extensions, entropy)?.sign(issuer_key, entropy)
    }

    /// A self-signed leaf that can never sign. It has no basicConstraints at all: of the three possible
    /// spellings only this one is taken by Chromium and by Firefox.
    pub fn self_sign(&self, key: &PrivateKey, entropy: &dyn Entropy) -> Result<Certificate> {
        let extensions = self.common(key.public())?;
        self.to_sign(self.subject.to_der()?, key.public(), extensions, entropy)?.sign(key, entropy)
    }

    fn to_sign(
        &self,
        issuer: Vec<u8>,
        key: &PublicKey,
        extensions: Vec<Extension>,
        entropy: &dyn Entropy,
    ) -> Result<ToSign> {
        Ok(ToSign {
            serial: Serial::random(entropy),
            issuer,
            not_before: self.from,
            not_after: self.until,
            subject: self.subject.to_der()?,
            spki: key.spki().to_vec(),
            extensions,
        })
    }

    fn common(&self, key: &PublicKey) -> Result<Vec<Extension>> {
        let mut usage: FlagSet<KeyUsages> = KeyUsages::DigitalSignature.into();
        if matches!(key.strength(), Strength::Rsa(_)) {
            // For the RSA key transport of TLS 1.2.
            usage |= KeyUsages::KeyEncipherment;
        }
        let names = self.names.iter().map(general).collect::<Result<Vec<_>>>()?;
        let empty = subject::is_empty(&self.subject.to_der()?);
        Ok(vec![
            extension(true, &KeyUsage(usage))?,
            extension(false, &ExtendedKeyUsage(self.purposes.iter().map(|p| p.oid()).collect()))?,
            // Critical if and only if the subject is empty (§4.2.1.6); Chromium insists.
            extension(empty, &SubjectAltName(names))?,
            extension(false, &key_identifier(key)?)?,
        ])
    }
}

/// The subject of a leaf for which none was given: its first name if a common name can hold it, else empty.
pub fn leaf_subject(first: &Name) -> Subject {
    let text = first.to_string();
    Subject { common_name: (text.chars().count() <= 64).then_some(text), ..Subject::default() }
}

/// The subject of a root for which none was given.
pub fn root_subject(label: &Label) -> Subject {
    let text = format!("{} root (Tamga, tests only)", crate::text::cut(label.as_str(), 36));
    Subject { common_name: Some(text), ..Subject::default() }
}

fn general(name: &Name) -> Result<GeneralName> {
    Ok(match name {
        Name::Dns(n) => GeneralName::DnsName(ia5(n)?),
        Name::Mail(m) => GeneralName::Rfc822Name(ia5(m)?),
        Name::Uri(u) => GeneralName::UniformResourceIdentifier(ia5(u)?),
        Name::Ip(ip) => {
            let octets = match ip {
                IpAddr::V4(a) => a.octets().to_vec(),
                IpAddr::V6(a) => a.octets().to_vec(),
            };
            GeneralName::IpAddress(OctetString::new(octets).map_err(|_| ENCODING)?)
        }
    })
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
    use crate::key::KeyAlgorithm;
    use crate::test_entropy::Counted;

    fn moments() -> (Moment, Moment) {
        (Moment::parse("2026-11-24").unwrap(), Moment::parse("2027-12-26").unwrap())
    }

    #[test]
    fn a_root_is_as_strict_clients_want_it() {
        let (from, until) = moments();
        let e = Counted::default();
        let key = PrivateKey::generate(KeyAlgorithm::P256, &e).unwrap();
        let label = Label::parse("saltmarsh").unwrap();
        let c = root(&root_subject(&label), &Permit::default_set(), from, until, &key, &e).unwrap();
        assert_eq!(c.subject_words(), "CN=saltmarsh root (Tamga, tests only)");
        assert_eq!(c.basic, Some(Basic { ca: true, path_length: None, critical: true }));
        let usage = c.usage.unwrap();
        assert!(usage.key_cert_sign && usage.crl_sign && !usage.digital_signature);
        assert_eq!(c.key_identifier, Some(key.public().identifier()));
        let constraints = c.constraints.clone().unwrap();
        assert!(constraints.permitted.contains(&General::Dns("home.arpa".into())));
        assert!(constraints.permitted.contains(&General::Mail(".test".into())));
        assert!(constraints.permitted.contains(&General::Ip(vec![127, 0, 0, 0, 255, 0, 0, 0])));
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
        let names = [Name::parse("gauge-7.saltmarsh.test").unwrap()];
        let subject = leaf_subject(&names[0]);
        let leaf = Leaf { names: &names, purposes: &[Purpose::Server], subject: &subject, from, until };
        let c = leaf.self_sign(&key, &e).unwrap();
        assert!(c.basic.is_none() && !c.usage.unwrap().key_cert_sign && c.is_self_signed());
    }

    #[test]
    fn rsa_leaves_may_transport_keys_and_empty_subjects_make_names_critical() {
        let (from, until) = moments();
        let e = Counted::default();
        let key = PrivateKey::generate(KeyAlgorithm::Rsa2048, &e).unwrap();
        let long = format!("{}.{}.test", "a".repeat(60), "b".repeat(10));
        let names = [Name::parse(&long).unwrap(), Name::parse("::1").unwrap()];
        let subject = leaf_subject(&names[0]);
        let leaf =
            Leaf { names: &names, purposes: &[Purpose::Server, Purpose::Client], subject: &subject, from, until };
        let c = leaf.issue(key.public(), &leaf.self_sign(&key, &e).unwrap(), &key, &e).unwrap();
        assert!(subject::is_empty(&c.subject) && c.names_critical);
        assert!(c.usage.unwrap().key_encipherment);
        assert_eq!(c.name_words(), [long, "::1".into()]);
        assert_eq!(c.purposes.unwrap().len(), 2);
        assert_eq!(c.issuer_key_identifier, Some(key.public().identifier()));
    }

    use crate::cert::read::{Basic, General};
}
