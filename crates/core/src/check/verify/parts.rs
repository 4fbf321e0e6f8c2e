//! What several libraries read alike: identifiers, names, alternative names, constraints, as octets.

use crate::pki::cert::raw::{Raw, id};
use crate::pki::format::tlv::{self, Tlv};

/// A name of some kind: the tag's number (RFC 5280 §4.2.1.6) and its contents.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct General {
    /// 0 otherName, 1 mail, 2 DNS, 4 directory, 6 URI, 7 address, 8 registered identifier.
    pub kind: u8,
    /// The contents octets; of a directory the whole name.
    pub octets: Vec<u8>,
}

impl General {
    /// SRVName (RFC 4985): an otherName of id-on-dnsSRV.
    pub fn is_service(&self) -> bool {
        const ON_DNS_SRV: [u8; 10] = [0x06, 8, 0x2b, 6, 1, 5, 5, 7, 8, 7];
        self.kind == 0 && self.octets.starts_with(&ON_DNS_SRV)
    }
}

/// A subtree of nameConstraints.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Subtree {
    /// Its base.
    pub base: General,
    /// A minimum is written, and it is not 0.
    pub has_minimum: bool,
    /// A minimum is written at all.
    pub writes_minimum: bool,
    /// A maximum is written.
    pub has_maximum: bool,
}

/// nameConstraints.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Constraints {
    /// permittedSubtrees.
    pub permitted: Vec<Subtree>,
    /// excludedSubtrees.
    pub excluded: Vec<Subtree>,
    /// One of the two is there without any subtree.
    pub has_empty_list: bool,
}

/// One GeneralName; None for a tag that is none.
pub(crate) fn general(t: &Tlv<'_>) -> Option<General> {
    let kind = t.tag & 0x1f;
    let octets = match t.tag {
        0x81 | 0x82 | 0x86 | 0x87 | 0x88 => t.body.to_vec(),
        0xa0 | 0xa3 | 0xa5 => t.body.to_vec(),
        0xa4 => tlv::one(t.body).filter(|n| n.tag == tlv::SEQUENCE)?.whole.to_vec(),
        _ => return None,
    };
    Some(General { kind, octets })
}

/// The names in a SEQUENCE; None if it is none. What follows it does not count.
pub fn names(der: &[u8]) -> Option<Vec<General>> {
    let first = first(der)?;
    Some(first).filter(|t| t.tag == tlv::SEQUENCE)?.inside()?.iter().map(general).collect()
}

/// The first element of these octets, whatever follows it.
pub(crate) fn first(der: &[u8]) -> Option<Tlv<'_>> {
    tlv::first(der)
}

/// nameConstraints; None if it does not parse.
pub fn constraints(der: &[u8]) -> Option<Constraints> {
    let mut out = Constraints::default();
    for list in Some(first(der)?).filter(|t| t.tag == tlv::SEQUENCE)?.inside()? {
        let into = match list.tag {
            0xa0 => &mut out.permitted,
            0xa1 => &mut out.excluded,
            _ => return None,
        };
        let trees = list.inside()?;
        out.has_empty_list |= trees.is_empty();
        for tree in trees {
            let fields = Some(tree).filter(|t| t.tag == tlv::SEQUENCE)?.inside()?;
            let (base, rest) = fields.split_first()?;
            let base = general(base)?;
            let mut subtree = Subtree { base, has_minimum: false, writes_minimum: false, has_maximum: false };
            for field in rest {
                match field.tag {
                    0x80 => {
                        subtree.writes_minimum = true;
                        subtree.has_minimum = field.body != [0];
                    }
                    0x81 => subtree.has_maximum = true,
                    _ => return None,
                }
            }
            into.push(subtree);
        }
    }
    Some(out)
}

/// The number of its RDN, its identifier, the tag of its string, and the string's octets.
pub type Attribute = (usize, Vec<u8>, u8, Vec<u8>);

/// The attributes of a name: identifier, tag of the string, its octets; with the number of the RDN.
pub fn attributes(name: &[u8]) -> Option<Vec<Attribute>> {
    let mut out = Vec::new();
    for (i, rdn) in tlv::one(name)?.inside()?.into_iter().enumerate() {
        for pair in Some(rdn).filter(|t| t.tag == tlv::SET)?.inside()? {
            let parts = Some(pair).filter(|t| t.tag == tlv::SEQUENCE)?.inside()?;
            let [kind, value] = parts[..] else { return None };
            out.push((i, kind.expect(tlv::OID)?.to_vec(), value.tag, value.body.to_vec()));
        }
    }
    Some(out)
}

/// commonName's identifier.
pub const COMMON_NAME: &[u8] = &[0x55, 4, 3];
/// emailAddress' identifier (RFC 2985 §5.2.1).
pub const EMAIL_ADDRESS: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 9, 1];

/// Text of a string type; None where the octets are none in it.
pub fn text(tag: u8, octets: &[u8]) -> Option<String> {
    match tag {
        0x0c => String::from_utf8(octets.to_vec()).ok(),
        0x12 | 0x13 | 0x14 | 0x16 | 0x1a => Some(octets.iter().map(|b| char::from(*b)).collect()),
        0x1e => {
            if !octets.len().is_multiple_of(2) {
                return None;
            }
            let units: Vec<u16> = octets.chunks(2).map(|c| u16::from_be_bytes([c[0], c[1]])).collect();
            String::from_utf16(&units).ok()
        }
        0x1c => {
            if !octets.len().is_multiple_of(4) {
                return None;
            }
            octets.chunks(4).map(|c| char::from_u32(u32::from_be_bytes([c[0], c[1], c[2], c[3]]))).collect()
        }
        _ => None,
    }
}

/// The common names, in order.
pub fn common_names(subject: &[u8]) -> Vec<(u8, Vec<u8>)> {
    let all = attributes(subject).unwrap_or_default();
    all.into_iter().filter(|a| a.1 == COMMON_NAME).map(|a| (a.2, a.3)).collect()
}

/// The octets of extKeyUsage's identifiers; None if it does not parse.
pub fn purposes(der: &[u8]) -> Option<Vec<Vec<u8>>> {
    let list = Some(first(der)?).filter(|t| t.tag == tlv::SEQUENCE)?.inside()?;
    list.iter().map(|t| t.expect(tlv::OID).map(<[u8]>::to_vec)).collect()
}

/// serverAuth, clientAuth, anyExtendedKeyUsage, OCSPSigning (RFC 5280 §4.2.1.12), and the two of the 1990s.
pub const SERVER_AUTH: &[u8] = &[0x2b, 6, 1, 5, 5, 7, 3, 1];
/// anyExtendedKeyUsage.
pub const ANY_PURPOSE: &[u8] = &[0x55, 0x1d, 37, 0];
/// OCSPSigning.
pub const OCSP_SIGNING: &[u8] = &[0x2b, 6, 1, 5, 5, 7, 3, 9];
/// "Step-up", by one browser's makers.
pub const STEP_UP_NETSCAPE: &[u8] = &[0x60, 0x86, 0x48, 1, 0x86, 0xf8, 0x42, 4, 1];
/// The same by another's.
pub const STEP_UP_MICROSOFT: &[u8] = &[0x2b, 6, 1, 4, 1, 0x82, 0x37, 10, 3, 3];

/// Bits of a BIT STRING, the first highest; None if it is none.
pub fn bits(der: &[u8]) -> Option<(u8, Vec<u8>)> {
    let body = first(der)?.expect(0x03)?;
    let (unused, octets) = body.split_first()?;
    (*unused < 8 && (*unused == 0 || !octets.is_empty())).then(|| (*unused, octets.to_vec()))
}

/// authorityKeyIdentifier (RFC 5280 §4.2.1.1).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AuthorityKey {
    /// keyIdentifier.
    pub key: Option<Vec<u8>>,
    /// The first directory name of authorityCertIssuer.
    pub issuer: Option<Vec<u8>>,
    /// authorityCertSerialNumber's octets.
    pub serial: Option<Vec<u8>>,
    /// authorityCertIssuer is there at all.
    pub has_issuer: bool,
}

/// authorityKeyIdentifier; None if it does not parse.
pub fn authority_key(der: &[u8]) -> Option<AuthorityKey> {
    let mut out = AuthorityKey::default();
    for field in Some(first(der)?).filter(|t| t.tag == tlv::SEQUENCE)?.inside()? {
        match field.tag {
            0x80 => out.key = Some(field.body.to_vec()),
            0xa1 => {
                out.has_issuer = true;
                let names: Option<Vec<General>> = field.inside()?.iter().map(general).collect();
                out.issuer = names?.into_iter().find(|n| n.kind == 4).map(|n| n.octets);
            }
            0x82 => out.serial = Some(field.body.to_vec()),
            _ => return None,
        }
    }
    Some(out)
}

/// basicConstraints as written: the BOOLEAN's octets and the INTEGER's; None if it does not parse.
#[allow(clippy::type_complexity, reason = "two fields, each of which may be absent")]
pub fn basic(der: &[u8]) -> Option<(Option<Vec<u8>>, Option<Vec<u8>>)> {
    let fields = Some(first(der)?).filter(|t| t.tag == tlv::SEQUENCE)?.inside()?;
    match fields[..] {
        [] => Some((None, None)),
        [ca] if ca.tag == 0x01 => Some((Some(ca.body.to_vec()), None)),
        [length] => Some((None, Some(length.expect(tlv::INTEGER)?.to_vec()))),
        [ca, length] => Some((Some(ca.expect(0x01)?.to_vec()), Some(length.expect(tlv::INTEGER)?.to_vec()))),
        _ => None,
    }
}

/// subjectAltName of a certificate, if it is there and parses.
pub fn alternative_names(raw: &Raw) -> Option<Vec<General>> {
    names(&raw.extension(id::SUBJECT_ALT_NAME)?.value)
}

/// X.690 §8.3.2: the first nine bits of an INTEGER are not all alike.
pub fn is_minimal(integer: &[u8]) -> bool {
    !matches!(integer, [0, second, ..] if second & 0x80 == 0)
        && !matches!(integer, [0xff, second, ..] if second & 0x80 != 0)
}

/// A name of a constraint's in words.
pub fn shown(name: &General) -> String {
    use crate::pki::cert::extensions::GeneralName;
    let text = || String::from_utf8_lossy(&name.octets).into_owned();
    match name.kind {
        2 => GeneralName::Dns(text()).words(),
        1 => GeneralName::Mail(text()).words(),
        6 => GeneralName::Uri(text()).words(),
        7 => GeneralName::Ip(name.octets.clone()).words(),
        4 => GeneralName::Directory(name.octets.clone()).words(),
        _ => GeneralName::Other.words(),
    }
}
