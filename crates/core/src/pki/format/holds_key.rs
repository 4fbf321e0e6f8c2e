//! Does a file hold a private key? By its content alone, whatever its name: for what hands files out to anybody.
//!
//! Says yes where it cannot be sure: an encrypted container that may hold a key is one.

use super::tlv::{self, INTEGER, OCTETS, OID, SEQUENCE, Tlv};
use base64ct::{Base64, Encoding};

/// Words in the text of a private key: all spellings of PEM, and the formats of other programs.
const WORDS: [&str; 6] = [
    "PRIVATE KEY-----",
    "PuTTY-User-Key-File",
    "AGE-SECRET-KEY-",
    "com.apple.security.pkcs12",
    "Private-Key-Format",
    "BEGIN SSH2 ENCRYPTED PRIVATE KEY",
];
/// What is looked for in base64 text, at each of the three places where it may begin.
const IN_BASE64: &str = "PRIVATE KEY-";
/// JKS and JCEKS.
const JKS: [u8; 4] = [0xfe, 0xed, 0xfe, 0xed];
const JCEKS: [u8; 4] = [0xce, 0xce, 0xce, 0xce];
/// pkcs7-encryptedData, pkcs12 keyBag and pkcs8ShroudedKeyBag, as they are encoded.
const ENCRYPTED_DATA: &[u8] = b"\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x07\x06";
const KEY_BAG: &[u8] = b"\x06\x0b\x2a\x86\x48\x86\xf7\x0d\x01\x0c\x0a\x01\x01";
const SHROUDED_KEY_BAG: &[u8] = b"\x06\x0b\x2a\x86\x48\x86\xf7\x0d\x01\x0c\x0a\x01\x02";
/// pkcs-5 and pkcs-12PbeIds: what encrypts a PKCS#8 key.
const PKCS5: &[u8] = b"\x2a\x86\x48\x86\xf7\x0d\x01\x05";
const PKCS12_PBE: &[u8] = b"\x2a\x86\x48\x86\xf7\x0d\x01\x0c\x01";

/// The longest thing that is looked for, in bytes: pieces of a longer file must overlap by as much.
pub const OVERLAP: usize = 64;

/// True if a piece of a file, text or binary, has words of a private key in it.
pub fn has_words(piece: &[u8]) -> bool {
    let has = |needle: &[u8]| piece.windows(needle.len()).any(|w| w == needle);
    // Each pass looks at every byte: the cheap first letter decides first.
    WORDS.iter().any(|w| has(w.as_bytes()) || has(&utf16(w))) || base64_forms().iter().any(|f| has(f.as_bytes()))
}

/// True if a whole file holds a private key, or may hold one.
pub fn may_hold(bytes: &[u8]) -> bool {
    has_words(bytes) || is_key_store(bytes) || is_der_key(bytes) || is_web_key(bytes) || in_base64(bytes)
}

/// The three ways in which base64 shows [`IN_BASE64`], without the characters that depend on what is beside it.
fn base64_forms() -> [String; 3] {
    [0, 1, 2].map(|before| {
        let text = format!("{}{IN_BASE64}", &"xx"[..before]);
        let all = Base64::encode_string(&text.as_bytes()[..text.len() / 3 * 3]);
        all[(before * 4).div_ceil(3)..].to_owned()
    })
}

fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

fn contains(bytes: &[u8], part: &[u8]) -> bool {
    bytes.windows(part.len()).any(|w| w == part)
}

fn is_key_store(bytes: &[u8]) -> bool {
    match bytes {
        [a, b, c, d, rest @ ..] if [*a, *b, *c, *d] == JKS => !only_certificates(rest),
        [a, b, c, d, ..] => [*a, *b, *c, *d] == JCEKS,
        _ => false,
    }
}

/// True if every entry of a JKS store, after its magic number, is a trusted certificate.
fn only_certificates(rest: &[u8]) -> bool {
    let number = |at: usize| -> Option<usize> {
        let four: [u8; 4] = rest.get(at..at + 4)?.try_into().ok()?;
        usize::try_from(u32::from_be_bytes(four)).ok()
    };
    let short = |at: usize| Some(usize::from(u16::from_be_bytes([*rest.get(at)?, *rest.get(at + 1)?])));
    let walk = || -> Option<bool> {
        let (version, count) = (number(0)?, number(4)?);
        let mut at = 8;
        for _ in 0..count {
            if number(at)? != 2 {
                return Some(false);
            }
            at += 4;
            at += 2 + short(at)? + 8;
            if version != 1 {
                at += 2 + short(at)?;
            }
            at += 4 + number(at)?;
        }
        Some(true)
    };
    walk().unwrap_or(false)
}

/// PKCS#8 open and encrypted, SEC1, PKCS#1, DSA's own form and PKCS#12, by their shape alone.
fn is_der_key(bytes: &[u8]) -> bool {
    if bytes.first() != Some(&0x30) {
        return false;
    }
    let Some(der) = tlv::to_der(bytes) else {
        // Damaged, or longer than what it says: a key may still be read out of it.
        return contains(bytes, KEY_BAG) || contains(bytes, SHROUDED_KEY_BAG);
    };
    let Some(parts) = tlv::one(&der).and_then(|t| t.inside()) else { return false };
    let tags: Vec<u8> = parts.iter().map(|p| p.tag).collect();
    let numbers = tags.iter().take_while(|t| **t == INTEGER).count();
    match tags.as_slice() {
        // PrivateKeyInfo (RFC 5958), ECPrivateKey (RFC 5915).
        [INTEGER, SEQUENCE, OCTETS, ..] | [INTEGER, OCTETS, ..] => true,
        // RSAPrivateKey (RFC 8017 appendix A.1.2: nine numbers), DSA (six).
        _ if numbers >= 6 => true,
        // PFX (RFC 7292).
        [INTEGER, SEQUENCE, ..] => {
            contains(&der, KEY_BAG) || contains(&der, SHROUDED_KEY_BAG) || contains(&der, ENCRYPTED_DATA)
        }
        // EncryptedPrivateKeyInfo (RFC 5958).
        [SEQUENCE, OCTETS] => parts[0].inside().and_then(|a| is_password_based(a.first()?)).unwrap_or(true),
        _ => false,
    }
}

fn is_password_based(oid: &Tlv<'_>) -> Option<bool> {
    let oid = oid.expect(OID)?;
    Some(oid.starts_with(PKCS5) || oid.starts_with(PKCS12_PBE))
}

/// A JSON web key with its private member (RFC 7517, RFC 7518 §6).
fn is_web_key(bytes: &[u8]) -> bool {
    let mut text = bytes.to_vec();
    text.retain(|b| !b.is_ascii_whitespace());
    contains(&text, b"\"kty\":") && (contains(&text, b"\"d\":") || contains(&text, b"\"k\":"))
}

/// A file that is base64 throughout, or a value of a YAML or JSON file that is.
fn in_base64(bytes: &[u8]) -> bool {
    const SHORTEST: usize = 64;
    let is_base64 = |b: &u8| b.is_ascii_alphanumeric() || b"+/=".contains(b);
    let decoded = |run: &[u8]| -> Option<Vec<u8>> {
        let text = std::str::from_utf8(run).ok()?.trim_end_matches('=');
        let padded = format!("{text}{}", &"==="[..(4 - text.len() % 4) % 4]);
        // Where the end is cut off, what can be read of it.
        Base64::decode_vec(&padded).or_else(|_| Base64::decode_vec(&text[..text.len() / 4 * 4])).ok()
    };
    let is_key =
        |run: Vec<u8>| decoded(&run).is_some_and(|d| has_words(&d) || is_key_store(&d) || is_der_key_start(&d));
    let mut all = bytes.to_vec();
    all.retain(|b| !b.is_ascii_whitespace());
    if all.iter().all(is_base64) {
        return all.len() >= SHORTEST && is_key(all);
    }
    bytes.split(|b| !is_base64(b)).filter(|run| run.len() >= SHORTEST).any(|run| is_key(run.to_vec()))
}

/// The same where the last bytes may be missing: the shape of the beginning decides.
fn is_der_key_start(der: &[u8]) -> bool {
    is_der_key(der)
        || der.first() == Some(&0x30)
            && (contains(der, KEY_BAG)
                || contains(der, SHROUDED_KEY_BAG)
                || contains(&der[..der.len().min(24)], PKCS5)
                || has_version_and_key(der))
}

/// SEQUENCE { INTEGER 0 or 1, SEQUENCE { OID of a key's algorithm …
fn has_version_and_key(der: &[u8]) -> bool {
    let length = match der.get(1) {
        Some(n) if n & 0x80 == 0 => 0,
        Some(n) => usize::from(n & 0x7f),
        None => return false,
    };
    let Some(inside) = der.get(2 + length..) else { return false };
    matches!(
        inside,
        [INTEGER, 1, 0 | 1, SEQUENCE, _, OID, ..] | [INTEGER, 1, 1, OCTETS, ..] | [INTEGER, 1, 0, INTEGER, ..]
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pki::format::{jks, pem, pkcs12, private_key};
    use crate::pki::key::{KeyAlgorithm, PrivateKey};
    use crate::test_entropy::Counted;
    use crate::vocabulary::secret::Passphrase;
    use crate::vocabulary::timestamp::Timestamp;
    use zeroize::Zeroizing;

    #[test]
    fn every_form_of_a_key_is_seen_and_no_certificate_is_taken_for_one() {
        let entropy = Counted::default();
        let pass = Passphrase::new(Zeroizing::new(b"a long enough passphrase".to_vec()));
        let now = Timestamp::from_unix(1_795_600_000);
        for kind in [KeyAlgorithm::P256, KeyAlgorithm::Ed25519, KeyAlgorithm::P384] {
            let key = PrivateKey::generate(kind, &entropy).unwrap();
            let open = private_key::write(&key, None, &entropy).unwrap();
            let locked = private_key::write(&key, Some(&pass), &entropy).unwrap();
            for text in [&open, &locked] {
                assert!(may_hold(text.as_bytes()), "PEM");
                let der = pem::read(text.as_bytes()).0.remove(0).der;
                assert!(may_hold(&der), "DER");
                assert!(may_hold(Base64::encode_string(&der).as_bytes()), "base64 of DER");
                let base64 = Base64::encode_string(text.as_bytes());
                for before in ["", "a", "ab"] {
                    assert!(has_words(format!("{before}  tls.key: {base64}").as_bytes()), "a Secret's YAML");
                }
                assert!(may_hold(&utf16(text)), "UTF-16");
            }
            let chain = [vec![0x30, 3, 2, 1, 7]];
            let store = jks::write_identity("charts", &key, &chain, &pass, now, &entropy).unwrap();
            assert!(may_hold(&store), "JKS");
            assert!(!may_hold(&store[..2]) && may_hold(&store[..60]), "a JKS that is cut short");
        }
        let certificate = [0x30, 0x0c, 0x30, 0x03, 2, 1, 7, 0x30, 2, 6, 0, 3, 1, 0];
        for good in [&certificate[..], b"", b"\x30", b"<html>", b"kind: Secret\ndata:\n  tls.crt: LS0t\n", &[0xff; 300]]
        {
            assert!(!may_hold(good), "{good:?}");
        }
        let _ = pkcs12::read(&certificate, None, "x");
    }
}
