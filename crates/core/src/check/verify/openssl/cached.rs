//! What OpenSSL remembers of a certificate once it has looked at its extensions, and how it compares.

use super::text::canonical;
use crate::check::verify::parts::{self, AuthorityKey, Constraints, General};
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::id;
use crate::pki::key::Shape;
use crate::pki::signature::Scheme;

/// Extensions that it knows when they are critical.
const SUPPORTED: &[&[u8]] = &[
    id::NETSCAPE_CERT_TYPE,
    id::KEY_USAGE,
    id::SUBJECT_ALT_NAME,
    id::BASIC_CONSTRAINTS,
    id::CERTIFICATE_POLICIES,
    id::CRL_DISTRIBUTION_POINTS,
    id::EXTENDED_KEY_USAGE,
    id::POLICY_CONSTRAINTS,
    id::NAME_CONSTRAINTS,
    id::POLICY_MAPPINGS,
    id::INHIBIT_ANY_POLICY,
];

/// keyUsage bits, as the first octet has them.
pub const DIGITAL_SIGNATURE: u8 = 0x80;
/// keyEncipherment.
pub const KEY_ENCIPHERMENT: u8 = 0x20;
/// keyAgreement.
pub const KEY_AGREEMENT: u8 = 0x08;
/// keyCertSign.
pub const CERT_SIGN: u8 = 0x04;

/// A certificate with what its extensions say.
pub struct Cached<'a> {
    /// The certificate.
    pub certificate: &'a Certificate,
    /// Something about its extensions is invalid: it is then no issuer and has none.
    pub invalid: bool,
    /// basicConstraints: CA.
    pub basic: Option<bool>,
    /// Its path length.
    pub path_length: Option<i64>,
    /// keyUsage's first octet.
    pub usage: Option<u8>,
    /// extKeyUsage: whether it lets a server be one.
    pub serves: Option<bool>,
    /// The old type of certificate.
    pub old_type: Option<u8>,
    /// subjectKeyIdentifier.
    pub own_key: Option<Vec<u8>>,
    /// authorityKeyIdentifier.
    pub issuer_key: Option<AuthorityKey>,
    /// Subject and issuer are the same name.
    pub self_issued: bool,
    /// That, and nothing contradicts that it signed itself.
    pub self_signed: bool,
    /// Version 1.
    pub is_v1: bool,
    /// A critical extension that is not known.
    pub unknown_critical: bool,
    /// subjectAltName.
    pub names: Vec<General>,
    /// nameConstraints.
    pub constraints: Option<Constraints>,
    /// The subject, canonical.
    pub subject: Vec<u8>,
    /// The issuer, canonical.
    pub issuer: Vec<u8>,
}

impl<'a> Cached<'a> {
    /// Looks at the extensions.
    pub fn of(certificate: &'a Certificate) -> Cached<'a> {
        let raw = &certificate.raw;
        let mut invalid = false;
        // Absent, or there once and readable; twice or unreadable makes the whole invalid.
        let mut once = |id: &[u8]| -> Option<&'a [u8]> {
            let mut all = raw.extensions.iter().flatten().filter(|e| e.id == id);
            let found = all.next()?;
            if all.next().is_some() {
                invalid = true;
                return None;
            }
            Some(&found.value)
        };
        let (basic, usage, purposes) = (once(id::BASIC_CONSTRAINTS), once(id::KEY_USAGE), once(id::EXTENDED_KEY_USAGE));
        let (old_type, own_key, issuer_key) =
            (once(id::NETSCAPE_CERT_TYPE), once(id::SUBJECT_KEY_IDENTIFIER), once(id::AUTHORITY_KEY_IDENTIFIER));
        let (names, limits, points) =
            (once(id::SUBJECT_ALT_NAME), once(id::NAME_CONSTRAINTS), once(id::CRL_DISTRIBUTION_POINTS));
        fn read<T>(value: Option<&[u8]>, invalid: &mut bool, how: impl Fn(&[u8]) -> Option<T>) -> Option<T> {
            let value = value?;
            let read = how(value);
            *invalid |= read.is_none();
            read
        }
        let basic = read(basic, &mut invalid, parts::basic);
        let ca = basic.as_ref().map(|(ca, _)| ca.as_ref().is_some_and(|b| b.iter().any(|b| *b != 0)));
        let length = basic.and_then(|(_, length)| length);
        invalid |= length.as_ref().is_some_and(|l| l.is_empty() || !parts::is_minimal(l));
        let is_negative = length.as_ref().is_some_and(|l| l.first().is_some_and(|b| b & 0x80 != 0));
        invalid |= is_negative;
        let path_length = length.filter(|_| !is_negative).map(|l| number(&l));
        let usage = read(usage, &mut invalid, bits_of);
        invalid |= usage == Some((0, 0));
        let purposes = read(purposes, &mut invalid, parts::purposes);
        let serves = purposes.map(|all| {
            all.iter().any(|p| {
                [parts::SERVER_AUTH, parts::STEP_UP_NETSCAPE, parts::STEP_UP_MICROSOFT].contains(&p.as_slice())
            })
        });
        let old_type = read(old_type, &mut invalid, bits_of).map(|b| b.0);
        let own_key =
            read(own_key, &mut invalid, |v| crate::check::verify::parts::first(v)?.expect(0x04).map(<[u8]>::to_vec));
        let issuer_key = read(issuer_key, &mut invalid, parts::authority_key);
        let names = read(names, &mut invalid, parts::names).unwrap_or_default();
        let constraints = read(limits, &mut invalid, parts::constraints);
        read(points, &mut invalid, |v| parts::first(v).filter(|t| t.tag == 0x30).map(|_| ()));
        let subject = canonical(&certificate.subject);
        let issuer = canonical(&certificate.issuer);
        let mut cached = Cached {
            certificate,
            invalid,
            basic: ca,
            path_length,
            usage: usage.map(|u| u.0),
            serves,
            old_type,
            own_key,
            issuer_key,
            self_issued: subject == issuer,
            self_signed: false,
            is_v1: raw.version_number() == Some(0),
            unknown_critical: raw
                .extensions
                .iter()
                .flatten()
                .any(|e| e.is_critical() && !SUPPORTED.contains(&e.id.as_slice())),
            names,
            constraints,
            subject,
            issuer,
        };
        cached.self_signed = !invalid && cached.self_issued && cached.fits(&cached) && signs_so(&cached, &cached);
        cached
    }

    /// Whether an issuer's identifiers do not contradict what this one says of its issuer.
    pub fn fits(&self, issuer: &Cached<'_>) -> bool {
        let Some(said) = &self.issuer_key else { return true };
        let contradicts = |a: &Option<Vec<u8>>, b: &Option<Vec<u8>>| matches!((a, b), (Some(a), Some(b)) if a != b);
        if contradicts(&said.key, &issuer.own_key) {
            return false;
        }
        if said.serial.as_ref().is_some_and(|s| *s != issuer.certificate.raw.serial) {
            return false;
        }
        said.issuer.as_ref().is_none_or(|name| canonical(name) == issuer.issuer)
    }

    /// Whether it may have been issued by that one: names, identifiers, and kinds of key; the signature itself comes later.
    pub fn likely_issued_by(&self, issuer: &Cached<'_>) -> bool {
        self.named_after(issuer) && signs_so(issuer, self)
    }

    /// The same, whatever kind of key the signature wants.
    pub fn named_after(&self, issuer: &Cached<'_>) -> bool {
        issuer.subject == self.issuer && !issuer.invalid && !self.invalid && self.fits(issuer)
    }

    /// 0 if it is no CA; other numbers say why it counts as one.
    pub fn ca(&self) -> u8 {
        if self.usage.is_some_and(|u| u & CERT_SIGN == 0) {
            return 0;
        }
        match self.basic {
            Some(ca) => u8::from(ca),
            None if self.is_v1 && self.self_signed => 3,
            None if self.usage.is_some() => 4,
            None if self.old_type.is_some_and(|t| t & 0x07 != 0) => 5,
            None => 0,
        }
    }

    /// Whether it may be or stand above a server's certificate.
    pub fn serves_as(&self, issues: bool) -> bool {
        if self.serves == Some(false) {
            return false;
        }
        if issues {
            return match self.ca() {
                0 => false,
                5 => self.old_type.is_some_and(|t| t & 0x04 != 0),
                _ => true,
            };
        }
        if self.old_type.is_some_and(|t| t & 0x40 == 0) {
            return false;
        }
        self.usage.is_none_or(|u| u & (DIGITAL_SIGNATURE | KEY_ENCIPHERMENT | KEY_AGREEMENT) != 0)
    }

    /// The strength of its key in bits; None where the key cannot be read.
    pub fn key_strength(&self) -> Option<usize> {
        match self.certificate.key.shape() {
            Shape::Rsa { bits, .. } => Some(match bits {
                15360.. => 256,
                7680.. => 192,
                4096.. => 152,
                3072.. => 128,
                2048.. => 112,
                1024.. => 80,
                _ => 0,
            }),
            Shape::Ec { curve, .. } => Some(match curve {
                crate::pki::key::P384 => 192,
                crate::pki::key::P521 => 256,
                _ => 128,
            }),
            Shape::Ed25519 => Some(128),
            Shape::Other => Some(112),
            Shape::Unreadable => None,
        }
    }

    /// The strength of the hash under its signature, in bits.
    pub fn hash_strength(&self) -> usize {
        match Scheme::of(&self.certificate.algorithm) {
            Scheme::Ed25519 => 128,
            Scheme::Other => 0,
            scheme => match scheme.hash().map_or(0, crate::pki::signature::Hash::length) {
                16 => 39,
                20 => 63,
                n => n * 4,
            },
        }
    }
}

/// Whether the issuer's key is of the kind that the signature's algorithm wants.
fn signs_so(issuer: &Cached<'_>, subject: &Cached<'_>) -> bool {
    let key = issuer.certificate.key.shape();
    match inner_scheme(subject.certificate) {
        Scheme::Pkcs1(_) => matches!(key, Shape::Rsa { pss_only: false, .. }),
        Scheme::Pss { .. } => matches!(key, Shape::Rsa { .. }),
        Scheme::Ecdsa(_) => matches!(key, Shape::Ec { .. }),
        Scheme::Ed25519 => key == Shape::Ed25519,
        Scheme::Other => key == Shape::Other,
    }
}

/// The algorithm inside the signed part: it is the one by which issuers are chosen.
fn inner_scheme(c: &Certificate) -> Scheme {
    use der::Decode;
    spki::AlgorithmIdentifierOwned::from_der(&c.raw.inner_algorithm).map_or(Scheme::Other, |a| Scheme::of(&a))
}

fn bits_of(value: &[u8]) -> Option<(u8, u8)> {
    let (unused, mut octets) = parts::bits(value)?;
    if let Some(last) = octets.last_mut() {
        *last &= 0xff << unused;
    }
    Some((octets.first().copied().unwrap_or(0), octets.get(1).copied().unwrap_or(0)))
}

/// A number that is not negative; a large one is as large as can be.
fn number(octets: &[u8]) -> i64 {
    let bare: Vec<u8> = octets.iter().copied().skip_while(|b| *b == 0).collect();
    if bare.len() > 7 { -1 } else { bare.iter().fold(0, |n, b| n << 8 | i64::from(*b)) }
}
