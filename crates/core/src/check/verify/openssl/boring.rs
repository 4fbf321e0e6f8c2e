//! BoringSSL, as Bun and gRPC bring it, where it differs from OpenSSL (measured with Bun 1.4.5 and grpcio 1.85): what it refuses to read, and
//! what it asks of the first certificate before it looks at the chain.

use super::cached::{CERT_SIGN, Cached};
use crate::check::client::Client;
use crate::check::client::case::{Input, Spoken};
use crate::check::verify::parts;
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::{Element, id, seconds};
use crate::pki::key::Shape;
use crate::pki::signature::{RSA_MD5, Scheme};
use crate::vocabulary::name::{Name, ip_octets};
use der::Decode;
use x509_cert::ext::pkix::{CertificatePolicies, PolicyConstraints};

/// The name under which it is left out, what it is to us, and what gRPC and Bun print; with "or" where its cause decides.
pub(super) type Before = (&'static str, Code, [&'static str; 2]);

const DECODE: Before =
    ("BORING_DECODE", Code::Malformed, ["DECODE_ERROR or INVALID_VERSION", "ERR_SSL_DECODE_ERROR or ERR_BORINGSSL"]);
const USAGE: Before =
    ("BORING_USAGE", Code::KeyUsageMissing, ["KEY_USAGE_BIT_INCORRECT", "ERR_SSL_KEY_USAGE_BIT_INCORRECT"]);
const UNPARSED: Before = ("BORING_LEAF", Code::Malformed, ["CANNOT_PARSE_LEAF_CERT", "ERR_SSL_CANNOT_PARSE_LEAF_CERT"]);
const EXTENSION: Before = (
    "BORING_EXTENSION",
    Code::Malformed,
    ["invalid or inconsistent certificate extension", "ERR_SSL_CERTIFICATE_VERIFY_FAILED"],
);
const KIND: Before = (
    "BORING_KIND",
    Code::KeyKindUnsupported,
    ["SSLV3_ALERT_HANDSHAKE_FAILURE or invalid library (0)", "ERR_SSL_SSLV3_ALERT_HANDSHAKE_FAILURE"],
);

/// Up to TLS 1.2 a curve must have been offered for signatures.
const CURVE: Before = ("BORING_CURVE", Code::KeyKindUnsupported, ["invalid library (0)", "ERR_SSL_BAD_ECC_CERT"]);

/// secp521r1 (RFC 5480 §2.1.1.1).
const P521: const_oid::ObjectIdentifier = const_oid::ObjectIdentifier::new_unwrap("1.3.132.0.35");

/// Everything that ends a handshake so.
pub(super) const ALL: [Before; 6] = [DECODE, USAGE, UNPARSED, EXTENSION, KIND, CURVE];

/// What ends a handshake before anything else is read than the first certificate's key and its usage.
pub(super) fn at_once(client: Client, input: &Input<'_>, without: Option<&'static str>) -> Option<Before> {
    let leaf = input.served.first()?;
    let minds = |b: &Before| without != Some(b.0);
    // gRPC offers neither: the server has nothing to sign with.
    let unsigned = client == Client::Grpc
        && match leaf.key.shape() {
            Shape::Ed25519 => true,
            Shape::Ec { curve, .. } => curve == P521,
            _ => false,
        };
    if unsigned && minds(&KIND) {
        return Some(KIND);
    }
    let explicit = matches!(leaf.key.shape(), Shape::Ec { explicit: true, .. });
    if explicit && minds(&DECODE) {
        return Some(DECODE);
    }
    // Of the first certificate the first keyUsage is looked for before anything else is read.
    let written = leaf.raw.extensions.iter().flatten().find(|e| e.id == id::KEY_USAGE);
    let usage = written.map(|e| parts::bits(&e.value).map(|(_, octets)| octets.first().copied().unwrap_or(0)));
    if usage == Some(None) && minds(&UNPARSED) {
        return Some(UNPARSED);
    }
    // Up to TLS 1.2 it comes after the chain.
    if usage.flatten().is_some_and(|u| u & 0x80 == 0) && !input.spoken.is_tls12 && minds(&USAGE) {
        return Some(USAGE);
    }
    None
}

/// What ends a handshake of TLS 1.2 once the chain is good.
pub(super) fn afterwards(input: &Input<'_>, without: Option<&'static str>) -> Option<Before> {
    let later = Input { spoken: Spoken { is_tls12: false, ..input.spoken }, ..*input };
    let found = at_once(Client::Bun, &later, without).filter(|b| b.0 == USAGE.0);
    found.filter(|_| input.spoken.is_tls12)
}

/// What ends a handshake before a chain is built.
pub(super) fn before(input: &Input<'_>, without: Option<&'static str>) -> Option<Before> {
    let leaf = input.served.first()?;
    let minds = |b: &Before| without != Some(b.0);
    if input.served.iter().any(|c| !is_read(c)) && minds(&DECODE) {
        return Some(DECODE);
    }
    let p521 = matches!(leaf.key.shape(), Shape::Ec { curve, .. } if curve == P521);
    if p521 && input.spoken.is_tls12 && minds(&CURVE) {
        return Some(CURVE);
    }
    (adapted(Cached::of(leaf)).invalid && minds(&EXTENSION)).then_some(EXTENSION)
}

/// Whether it is a certificate to BoringSSL: a version that goes with its extensions, and times that it can take apart.
pub(super) fn is_read(c: &Certificate) -> bool {
    let version = match c.raw.version_number() {
        Some(2) => true,
        Some(0 | 1) => c.raw.extensions.is_none(),
        _ => false,
    };
    // A UTCTime with an offset is read, and found wanting later.
    let offset = |e: &Element| e.tag == 0x17 && e.body.len() == 17 && matches!(e.body[12], b'+' | b'-');
    let time = |e: &Element| seconds(e).is_some() || offset(e);
    version && time(&c.raw.not_before) && time(&c.raw.not_after)
}

/// A certificate as it reads it: stricter with extensions, and without those that it forgot.
pub(super) fn adapted(mut c: Cached<'_>) -> Cached<'_> {
    let raw = &c.certificate.raw;
    let all = || raw.extensions.iter().flatten();
    let value = |id: &[u8]| all().find(|e| e.id == id).map(|e| e.value.as_slice());
    let whole = |id: &[u8]| value(id).is_none_or(|v| parts::first(v).is_some_and(|t| t.whole.len() == v.len()));
    let purposes = value(id::EXTENDED_KEY_USAGE).map(|v| parts::purposes(v).unwrap_or_default());
    c.invalid |= c.path_length.is_some() && c.basic != Some(true)
        || !whole(id::SUBJECT_ALT_NAME)
        || !whole(id::NAME_CONSTRAINTS);
    c.serves = purposes.map(|all| all.iter().any(|p| p.as_slice() == parts::SERVER_AUTH));
    c.old_type = None;
    let forgotten = [id::NETSCAPE_CERT_TYPE, id::CRL_DISTRIBUTION_POINTS];
    c.unknown_critical |= all().any(|e| e.is_critical() && forgotten.contains(&e.id.as_slice()));
    c.self_signed &= !c.invalid && may_issue(&c);
    c
}

/// One that may issue: with a usage, the usage says so.
pub(super) fn may_issue(c: &Cached<'_>) -> bool {
    c.usage.is_none_or(|u| u & CERT_SIGN != 0)
}

/// certificatePolicies (RFC 5280 §4.2.1.4) that do not parse.
pub(super) fn has_odd_policies(c: &Cached<'_>) -> bool {
    let mut all = c.certificate.raw.extensions.iter().flatten().filter(|e| e.id == id::CERTIFICATE_POLICIES);
    all.any(|e| CertificatePolicies::from_der(&e.value).map_or(true, |p| p.0.is_empty()))
}

/// It names a policy.
pub(super) fn has_policies(c: &Cached<'_>) -> bool {
    c.certificate.raw.extensions.iter().flatten().any(|e| e.id == id::CERTIFICATE_POLICIES)
}

/// requireExplicitPolicy (RFC 5280 §4.2.1.11) that has begun to hold, in the certificate at this place of the path.
pub(super) fn demands_policy(c: &Cached<'_>, place: usize) -> bool {
    let mut all = c.certificate.raw.extensions.iter().flatten().filter(|e| e.id == id::POLICY_CONSTRAINTS);
    let skipped = all.next().and_then(|e| PolicyConstraints::from_der(&e.value).ok()?.require_explicit_policy);
    skipped.is_some_and(|n| usize::try_from(n).is_ok_and(|n| n < place))
}

/// It has neither MD5 nor RSASSA-PSS but with the usual parameters.
pub(super) fn verifies(c: &Certificate) -> bool {
    match Scheme::of(&c.algorithm) {
        Scheme::Pss { hash, mask, salt } => hash == mask && salt == hash.length() && hash.length() >= 32,
        _ => c.algorithm.oid != RSA_MD5,
    }
}

/// gRPC's own comparison of the host's name: the alternative names, and the common name where no DNS name is among them.
pub(super) fn fits(leaf: &Cached<'_>, host: &Name) -> bool {
    let address = match host {
        Name::Ip(a) => Some(ip_octets(*a)),
        _ => None,
    };
    if address.is_some_and(|a| leaf.names.iter().any(|n| n.kind == 7 && n.octets == a)) {
        return true;
    }
    let host = host.to_string();
    let mut names = leaf.names.iter().filter(|n| n.kind == 2).peekable();
    if names.peek().is_some() {
        return names.any(|n| entry_fits(&until_zero(&String::from_utf8_lossy(&n.octets)), &host));
    }
    let commons = parts::common_names(&leaf.certificate.subject);
    commons.first().and_then(|(tag, o)| parts::text(*tag, o)).is_some_and(|c| entry_fits(&until_zero(&c), &host))
}

/// A text of C.
fn until_zero(text: &str) -> String {
    text.split('\0').next().unwrap_or_default().to_owned()
}

/// A star is the whole first label of the name.
fn entry_fits(entry: &str, host: &str) -> bool {
    if entry.is_empty() || entry.starts_with('.') {
        return false;
    }
    let absolute = |t: &str| format!("{}.", t.strip_suffix('.').unwrap_or(t).to_ascii_lowercase());
    let (entry, host) = (absolute(entry), absolute(host));
    if !entry.contains('*') {
        return entry == host;
    }
    let Some(rest) = entry.strip_prefix('*').filter(|r| r.starts_with('.') && r.len() > 1 && !r.contains('*')) else {
        return false;
    };
    host.strip_suffix(rest).is_some_and(|first| !first.is_empty() && !first.contains('.'))
}
