//! PKCS#12 (RFC 7292): key stores with an identity, trust stores with roots.
//!
//! Written is PBES2 (AES-256-CBC, PBKDF2-HMAC-SHA-256) with an HMAC-SHA-256 over all, or, for consumers that know nothing
//! else, triple DES and SHA-1. Read are these and RC2, all hashes, PBMAC1, and BER.

mod edit;

pub use edit::{with, without};

use super::contents::{Contents, Named};
use super::pbe::{self, Derived, PbeFault, Pbes2Lock, oid};
use super::private_key::{self, Stored};
use super::tlv::{self, BMP, FIRST, OCTETS, OID, SEQUENCE, SET, Tlv};
use crate::error::{Error, Result};
use crate::pki::key::PrivateKey;
use crate::plan::ports::Entropy;
use crate::vocabulary::secret::Passphrase;
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5912::{ID_SHA_1, ID_SHA_256};
use zeroize::Zeroizing;

const DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.1");
const ENCRYPTED_DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.6");
const KEY_BAG: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.10.1.1");
const SHROUDED_KEY_BAG: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.10.1.2");
const CERT_BAG: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.10.1.3");
const SAFE_CONTENTS_BAG: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.10.1.6");
const X509: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.22.1");
const FRIENDLY_NAME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.20");
const LOCAL_KEY_ID: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.21");
/// Without this attribute a JVM passes over a certificate that has no key.
const TRUSTED_KEY_USAGE: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.113894.746875.1.1");
const ANY_USAGE: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.37.0");

/// Rounds that older programs take.
const LEGACY_ROUNDS: u32 = 2_048;

/// True if these bytes begin as a PKCS#12 file does.
pub fn is_one(bytes: &[u8]) -> bool {
    bytes.first() == Some(&SEQUENCE)
        && tlv::to_der(bytes).and_then(|der| outer(&der).map(|o| o.len() >= 2)).unwrap_or(false)
}

/// The elements of a PFX: version 3, the content, perhaps the integrity code.
fn outer(der: &[u8]) -> Option<Vec<Tlv<'_>>> {
    let parts = tlv::all(tlv::one(der)?.expect(SEQUENCE)?)?;
    let content = parts.get(1)?.inside()?;
    (parts.first()?.number()? == 3
        && oid(content.first()?).is_some_and(|o| o.as_bytes().starts_with(&DATA.as_bytes()[..8])))
    .then_some(parts)
}

/// A trust store: roots, unencrypted and without an integrity code, so that it opens with any passphrase and with none.
///
/// ```
/// use tamga_core::pki::format::container::Container;
/// use tamga_core::pki::format::contents::Named;
/// use tamga_core::pki::format::pkcs12::write_trust;
/// use tamga_core::sample::root;
///
/// let root = Named { alias: Some("saltmarsh".into()), thing: root()?.0.certificate.der().to_vec() };
/// let store = write_trust(&[root]);
/// assert_eq!(Container::of(&store), Some(Container::Pkcs12));
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn write_trust(roots: &[Named<Vec<u8>>]) -> Zeroizing<Vec<u8>> {
    let bags: Vec<Zeroizing<Vec<u8>>> = roots
        .iter()
        .map(|root| {
            let usage = attribute(TRUSTED_KEY_USAGE, &tlv::write(OID, &[ANY_USAGE.as_bytes()]));
            let name = root.alias.as_deref().map(friendly);
            bag(CERT_BAG, &cert_bag(&root.thing), &name.iter().chain([&usage]).map(|a| &***a).collect::<Vec<_>>())
        })
        .collect();
    let safe = data(&tlv::write(SEQUENCE, &bags.iter().map(|b| &***b).collect::<Vec<_>>()));
    pfx(&tlv::write(SEQUENCE, &[&safe]), None)
}

/// A key store: one identity with its chain, leaf first.
///
/// In: the alias; the chain as DER; the passphrase (empty for none); `legacy` for triple DES and SHA-1.
/// Errors: a passphrase that the format cannot hold; no certificate.
///
/// ```
/// use tamga_core::pki::format::container;
/// use tamga_core::pki::format::pkcs12::write_identity;
/// use tamga_core::sample::{Foreseeable, leaf};
/// use tamga_core::vocabulary::secret::Passphrase;
///
/// let (certificate, key) = leaf(&["charts.saltmarsh.test"])?;
/// let word = Passphrase::new(b"a word of the tide".to_vec().into());
/// let chain = [certificate.der().to_vec()];
/// let store = write_identity("charts", &key, &chain, &word, false, &Foreseeable)?;
/// let back = container::open(&store, Some(&word), "the store")?;
/// assert_eq!(back.keys[0].alias.as_deref(), Some("charts"));
/// assert!(container::open(&store, None, "the store").is_err());
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn write_identity(
    alias: &str,
    key: &PrivateKey,
    chain: &[Vec<u8>],
    passphrase: &Passphrase,
    legacy: bool,
    entropy: &dyn Entropy,
) -> Result<Zeroizing<Vec<u8>>> {
    let failed = || Error::Crypto { doing: "encrypting a key store" };
    let password = pbe::bmp(passphrase).ok_or_else(|| Error::Objection {
        code: "passphrase-refused",
        what: "this passphrase cannot protect a PKCS#12 file".into(),
        why: "the format takes only characters of Unicode's basic plane (RFC 7292 appendix B.1)".into(),
        instead: "choose one of letters, digits and signs".into(),
    })?;
    let stretch = private_key::rounds(passphrase);
    let lock = if legacy { None } else { Some(Pbes2Lock::new(passphrase, stretch, entropy)) };
    let protect = |plain: &[u8]| -> Result<(Vec<u8>, Vec<u8>)> {
        let locked = match &lock {
            Some(lock) => lock.lock(plain, entropy),
            None => {
                let mut salt = [0; 8];
                entropy.fill(&mut salt);
                pbe::lock_legacy(plain, &password, &salt, LEGACY_ROUNDS)
            }
        };
        locked.ok_or_else(failed)
    };
    let leaf = chain.first().ok_or_else(failed)?;
    let id = attribute(
        LOCAL_KEY_ID,
        &tlv::write(OCTETS, &[&ring::digest::digest(&ring::digest::SHA256, leaf).as_ref()[..20]]),
    );
    let name = friendly(alias);
    let (algorithm, locked) = protect(&private_key::pkcs8(key)?)?;
    let shrouded = tlv::write(SEQUENCE, &[&algorithm, &tlv::write(OCTETS, &[&locked])]);
    let keys = tlv::write(SEQUENCE, &[&bag(SHROUDED_KEY_BAG, &shrouded, &[&name, &id])]);
    let bags: Vec<Zeroizing<Vec<u8>>> = chain
        .iter()
        .enumerate()
        .map(|(i, der)| {
            let attributes: &[&[u8]] = if i == 0 { &[&name, &id] } else { &[] };
            bag(CERT_BAG, &cert_bag(der), attributes)
        })
        .collect();
    let certificates = tlv::write(SEQUENCE, &bags.iter().map(|b| &***b).collect::<Vec<_>>());
    let (algorithm, locked) = protect(&certificates)?;
    let inner =
        tlv::write(SEQUENCE, &[&tlv::write(OID, &[DATA.as_bytes()]), &algorithm, &tlv::write(0x80, &[&locked])]);
    let encrypted = tlv::write(SEQUENCE, &[&tlv::integer(0), &inner]);
    let safe = tlv::write(
        SEQUENCE,
        &[
            &tlv::write(SEQUENCE, &[&tlv::write(OID, &[ENCRYPTED_DATA.as_bytes()]), &tlv::write(FIRST, &[&encrypted])]),
            &data(&keys),
        ],
    );
    let mut salt = [0; 16];
    entropy.fill(&mut salt);
    let (hash, rounds, salt) =
        if legacy { (ID_SHA_1, LEGACY_ROUNDS, &salt[..8]) } else { (ID_SHA_256, stretch.get(), &salt[..]) };
    let code = pbe::tag(hash, &password, salt, rounds, &safe).ok_or_else(failed)?;
    let info = tlv::write(SEQUENCE, &[&pbe::hash_identifier(hash), &tlv::write(OCTETS, &[&code])]);
    let mac = tlv::write(SEQUENCE, &[&info, &tlv::write(OCTETS, &[salt]), &tlv::integer(rounds)]);
    Ok(pfx(&safe, Some(&mac)))
}

fn pfx(safe: &[u8], mac: Option<&[u8]>) -> Zeroizing<Vec<u8>> {
    tlv::write(SEQUENCE, &[&tlv::integer(3), &data(safe), mac.unwrap_or_default()])
}

/// A ContentInfo of plain data.
fn data(content: &[u8]) -> Zeroizing<Vec<u8>> {
    let octets = tlv::write(OCTETS, &[content]);
    tlv::write(SEQUENCE, &[&tlv::write(OID, &[DATA.as_bytes()]), &tlv::write(FIRST, &[&octets])])
}

fn bag(kind: ObjectIdentifier, value: &[u8], attributes: &[&[u8]]) -> Zeroizing<Vec<u8>> {
    let mut sorted = attributes.to_vec();
    sorted.sort_unstable();
    let set = if sorted.is_empty() { Zeroizing::new(Vec::new()) } else { tlv::write(SET, &sorted) };
    tlv::write(SEQUENCE, &[&tlv::write(OID, &[kind.as_bytes()]), &tlv::write(FIRST, &[value]), &set])
}

fn cert_bag(der: &[u8]) -> Zeroizing<Vec<u8>> {
    let octets = tlv::write(OCTETS, &[der]);
    tlv::write(SEQUENCE, &[&tlv::write(OID, &[X509.as_bytes()]), &tlv::write(FIRST, &[&octets])])
}

fn attribute(kind: ObjectIdentifier, value: &[u8]) -> Zeroizing<Vec<u8>> {
    tlv::write(SEQUENCE, &[&tlv::write(OID, &[kind.as_bytes()]), &tlv::write(SET, &[value])])
}

fn friendly(alias: &str) -> Zeroizing<Vec<u8>> {
    let utf16: Vec<u8> = alias.encode_utf16().flat_map(u16::to_be_bytes).collect();
    attribute(FRIENDLY_NAME, &tlv::write(BMP, &[&utf16]))
}

/// Reads one.
///
/// Errors: it is damaged, or uses what is not known here; it needs a passphrase, or another one.
pub fn read(bytes: &[u8], passphrase: Option<&Passphrase>, what: &str) -> Result<Contents> {
    let malformed = |why: &str| Error::Malformed { what: what.to_owned(), why: why.to_owned() };
    let der = tlv::to_der(bytes).ok_or_else(|| malformed("its encoding is damaged or cut short"))?;
    let parts = outer(&der).ok_or_else(|| malformed("it is no PKCS#12 file of version 3"))?;
    let content = parts[1].inside().unwrap_or_default();
    let signed = || malformed("it is protected by a signature instead of a passphrase, which is not known here");
    if content.first().and_then(oid) != Some(DATA) {
        return Err(signed());
    }
    let safe = content.get(1).and_then(|c| octets(c.expect(FIRST)?)).ok_or_else(|| malformed("it has no content"))?;
    let empty = Passphrase::new(Zeroizing::new(Vec::new()));
    let mut reader = Reader {
        passphrase: passphrase.unwrap_or(&empty),
        given: passphrase.is_some(),
        what,
        derived: Derived::default(),
        out: Contents::default(),
    };
    let mut proved = false;
    if let Some(mac) = parts.get(2) {
        let mac = mac.inside().ok_or_else(|| malformed("its integrity code is damaged"))?;
        if !pbe::verify(&mac, &safe, reader.passphrase, &reader.derived.budget).map_err(|f| reader.fault(f))? {
            return Err(reader.fault(PbeFault::Wrong));
        }
        proved = true;
    }
    let damaged = || match proved {
        true => malformed("what is inside is not as RFC 7292 says"),
        false => malformed("what is inside is damaged"),
    };
    for info in tlv::to_der(&safe).as_deref().and_then(|s| tlv::one(s)?.inside()).ok_or_else(damaged)? {
        let fields = info.inside().ok_or_else(damaged)?;
        let kind = fields.first().and_then(oid).ok_or_else(damaged)?;
        let content = fields.get(1).and_then(|c| c.expect(FIRST)).ok_or_else(damaged)?;
        let plain = match kind {
            DATA => octets(content).ok_or_else(damaged)?,
            ENCRYPTED_DATA => {
                let inner = tlv::one(content).and_then(|e| e.inside()?.get(1)?.inside()).ok_or_else(damaged)?;
                let [_, algorithm, locked] = inner[..] else { return Err(damaged()) };
                let locked = tlv::implicit_octets(&locked).ok_or_else(damaged)?;
                pbe::open(&algorithm, &locked, reader.passphrase, &mut reader.derived).map_err(|f| reader.fault(f))?
            }
            other => return Err(malformed(&format!("a part of it is protected by {other}, which is not known here"))),
        };
        let plain = tlv::to_der(&plain).ok_or_else(damaged)?;
        reader.bags(&plain, 8).ok_or_else(damaged)??;
    }
    reader.out.some(what)
}

/// The octets in an explicit `[0]`.
fn octets(content: &[u8]) -> Option<Zeroizing<Vec<u8>>> {
    tlv::one(content)?.expect(OCTETS).map(|o| Zeroizing::new(o.to_vec()))
}

struct Reader<'a> {
    passphrase: &'a Passphrase,
    given: bool,
    what: &'a str,
    derived: Derived,
    out: Contents,
}

impl Reader<'_> {
    fn fault(&self, fault: PbeFault) -> Error {
        let what = self.what.to_owned();
        match fault {
            PbeFault::Wrong if !self.given => Error::PassphraseNeeded { what },
            PbeFault::Wrong => Error::PassphraseWrong { what },
            PbeFault::Unknown(how) => Error::Malformed { what, why: format!("it uses {how}") },
            PbeFault::TooMuch => Error::Malformed {
                what,
                why: "its key derivations ask for more rounds or memory than a key file may cost".into(),
            },
        }
    }

    /// Reads SafeContents. `None`: damaged.
    fn bags(&mut self, der: &[u8], depth: usize) -> Option<Result<()>> {
        for bag in tlv::one(der)?.inside()? {
            let fields = bag.inside()?;
            let value = fields.get(1)?.expect(FIRST)?;
            let alias = fields.get(2).and_then(friendly_name);
            match oid(fields.first()?)? {
                CERT_BAG => {
                    let parts = tlv::one(value)?.inside()?;
                    // The other kind that the standard names is a certificate in a form that nobody uses.
                    if oid(parts.first()?)? == X509 {
                        let thing = octets(parts.get(1)?.expect(FIRST)?)?.to_vec();
                        self.out.certificates.push(Named { alias, thing });
                    }
                }
                KEY_BAG => {
                    let key = private_key::read(value, self.what).and_then(|s| s.open(None));
                    if let Err(e) = self.out.take(alias, key) {
                        return Some(Err(e));
                    }
                }
                SHROUDED_KEY_BAG => {
                    let parts = tlv::one(value)?.inside()?;
                    let opened =
                        pbe::open(parts.first()?, parts.get(1)?.expect(OCTETS)?, self.passphrase, &mut self.derived);
                    let key = opened.map_err(|f| self.fault(f)).and_then(|plain| {
                        match private_key::read(&plain, self.what) {
                            Ok(Stored::Open(key)) => Ok(key),
                            Ok(Stored::Locked(_)) => Err(self.fault(PbeFault::Wrong)),
                            Err(e) => Err(e),
                        }
                    });
                    if let Err(e) = self.out.take(alias, key) {
                        return Some(Err(e));
                    }
                }
                SAFE_CONTENTS_BAG => {
                    if let Err(e) = self.bags(value, depth.checked_sub(1)?)? {
                        return Some(Err(e));
                    }
                }
                // Lists and secrets: nothing that Tamga uses.
                _ => {}
            }
        }
        Some(Ok(()))
    }
}

fn friendly_name(attributes: &Tlv<'_>) -> Option<String> {
    attributes.inside()?.iter().find_map(|a| {
        let parts = a.inside()?;
        let value = parts.get(1)?.inside()?;
        (oid(parts.first()?)? == FRIENDLY_NAME).then_some(())?;
        let units: Vec<u16> =
            value.first()?.expect(BMP)?.chunks_exact(2).map(|c| u16::from_be_bytes([c[0], c[1]])).collect();
        Some(crate::vocabulary::text::harmless(&String::from_utf16_lossy(&units)))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pki::key::KeyAlgorithm;
    use crate::test_entropy::Counted;

    fn passphrase(text: &str) -> Passphrase {
        Passphrase::new(Zeroizing::new(text.as_bytes().to_vec()))
    }

    #[test]
    fn a_random_passphrase_is_not_stretched_and_a_typed_one_is() {
        let (certificate, key) = crate::sample::leaf(&["charts.saltmarsh.test"]).unwrap();
        let chain = [certificate.der().to_vec()];
        let rounds = |word: &str| {
            let word = Passphrase::new(word.as_bytes().to_vec().into());
            let store = write_identity("charts", &key, &chain, &word, false, &crate::sample::Foreseeable).unwrap();
            assert_eq!(read(&store, Some(&word), "store").unwrap().keys.len(), 1);
            [2_048, 600_000].map(|n| {
                let integer = tlv::integer(n);
                store.windows(integer.len()).filter(|w| *w == &**integer).count()
            })
        };
        // The key's, the certificates' and that of the code over all.
        assert_eq!(rounds("9f86d081884c7d659a2feaa0c55ad015"), [3, 0]);
        assert_eq!(rounds("a word of the tide"), [0, 3]);
    }

    #[test]
    fn an_identity_comes_back_in_both_strengths() {
        let key = PrivateKey::generate(KeyAlgorithm::P256, &Counted::default()).unwrap();
        let chain = [vec![0x30, 3, 2, 1, 7], vec![0x30, 3, 2, 1, 8]];
        for (legacy, words) in [(false, "tidé ≈ 7"), (true, "tide"), (true, "")] {
            let made = write_identity("charts", &key, &chain, &passphrase(words), legacy, &Counted::default()).unwrap();
            assert!(is_one(&made));
            let got = read(&made, Some(&passphrase(words)), "x").unwrap();
            assert_eq!(got.keys[0].thing.public(), key.public());
            assert_eq!(got.keys[0].alias.as_deref(), Some("charts"));
            assert_eq!(got.certificates.iter().map(|c| c.thing.clone()).collect::<Vec<_>>(), chain);
            assert!(matches!(read(&made, Some(&passphrase("neap")), "x"), Err(Error::PassphraseWrong { .. })));
            assert_eq!(read(&made, None, "x").is_ok(), words.is_empty());
        }
        let surrogates = write_identity("charts", &key, &chain, &passphrase("🌊"), false, &Counted::default());
        assert!(matches!(surrogates, Err(Error::Objection { .. })));
    }

    #[test]
    fn a_trust_store_opens_with_and_without_a_passphrase() {
        let roots = [Named { alias: Some("saltmarsh".into()), thing: vec![0x30, 3, 2, 1, 7] }];
        let made = write_trust(&roots);
        let other = Named { alias: Some("harbour".into()), thing: vec![0x30, 3, 2, 1, 9] };
        let more = with(&made, &other).unwrap();
        assert_eq!(read(&more, None, "x").unwrap().certificates.len(), 2);
        assert_eq!(without(&more, &other.thing).unwrap(), *made, "byte for byte as before");
        assert_eq!(
            read(&without(&more, &roots[0].thing).unwrap(), None, "x").unwrap().certificates[0].thing,
            other.thing
        );
        for words in [None, Some(passphrase("changeit"))] {
            let got = read(&made, words.as_ref(), "x").unwrap();
            assert_eq!(got.certificates[0].thing, roots[0].thing);
            assert_eq!(got.certificates[0].alias, roots[0].alias);
        }
    }

    #[test]
    fn damage_is_refused() {
        let key = PrivateKey::generate(KeyAlgorithm::P256, &Counted::default()).unwrap();
        let words = passphrase("tide");
        let made = write_identity("x", &key, &[vec![0x30, 0]], &words, true, &Counted::default()).unwrap();
        for at in (0..made.len()).step_by(7) {
            let mut bad = made.to_vec();
            bad[at] ^= 0x41;
            // Only what says nothing, such as the NULL beside a hash, may differ.
            if let Ok(got) = read(&bad, Some(&words), "x") {
                assert_eq!((got.keys[0].thing.public(), &*got.certificates[0].thing), (key.public(), &[0x30, 0][..]));
            }
        }
    }

    #[test]
    fn integers_are_not_negative() {
        assert_eq!(tlv::one(&tlv::integer(LEGACY_ROUNDS)).unwrap().expect(tlv::INTEGER), Some(&[8, 0][..]));
    }
}
