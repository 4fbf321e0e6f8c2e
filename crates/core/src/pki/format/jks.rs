//! JKS, the key store that Java had before PKCS#12: big-endian, a SHA-1 over all, keys under Sun's own protection.
//!
//! That protection is weak (one SHA-1 for each guess): the form is for programs that take nothing else.

use super::contents::{Contents, Named};
use super::private_key::{self, Stored};
use super::tlv::{self, NULL, OCTETS, OID, SEQUENCE};
use crate::error::{Error, Result};
use crate::pki::key::PrivateKey;
use crate::plan::ports::Entropy;
use crate::vocabulary::secret::Passphrase;
use crate::vocabulary::timestamp::Timestamp;
use const_oid::ObjectIdentifier;
use sha1::{Digest, Sha1};
use zeroize::Zeroizing;

const MAGIC: [u8; 4] = [0xfe, 0xed, 0xfe, 0xed];
/// The same with stronger protection, which only old JVMs read.
const JCEKS: [u8; 4] = [0xce, 0xce, 0xce, 0xce];
const SUN_PROTECTION: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.42.2.17.1.1");
const SEED: &[u8] = b"Mighty Aphrodite";

/// The passphrase that JVMs take where nothing else is said; of a store without keys it is no secret.
pub const USUAL: &str = "changeit";

/// True if these bytes begin as a JKS or JCEKS file does.
pub fn is_one(bytes: &[u8]) -> bool {
    bytes.starts_with(&MAGIC) || bytes.starts_with(&JCEKS)
}

/// A trust store with these roots.
///
/// Errors: a passphrase that is not UTF-8.
///
/// ```
/// use tamga_core::pki::format::contents::Named;
/// use tamga_core::pki::format::jks::{read, write_trust};
/// use tamga_core::sample::{NOW, root};
/// use tamga_core::vocabulary::secret::Passphrase;
///
/// let word = Passphrase::new(b"changeit".to_vec().into());
/// let root = Named { alias: Some("saltmarsh".into()), thing: root()?.0.certificate.der().to_vec() };
/// let store = write_trust(&[root], &word, NOW)?;
/// assert_eq!(read(&store, Some(&word), "the store")?.certificates.len(), 1);
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn write_trust(roots: &[Named<Vec<u8>>], passphrase: &Passphrase, now: Timestamp) -> Result<Zeroizing<Vec<u8>>> {
    let mut out = head(roots.len());
    for (i, root) in roots.iter().enumerate() {
        let alias = root.alias.clone().unwrap_or_else(|| format!("{}", i + 1));
        entry(&mut out, 2, &alias, now);
        certificate(&mut out, &root.thing);
    }
    closed(out, passphrase)
}

/// A key store with one identity; its chain leaf first.
///
/// Errors: a passphrase that is not UTF-8.
pub fn write_identity(
    alias: &str,
    key: &PrivateKey,
    chain: &[Vec<u8>],
    passphrase: &Passphrase,
    now: Timestamp,
    entropy: &dyn Entropy,
) -> Result<Zeroizing<Vec<u8>>> {
    let password = utf16(passphrase)?;
    let plain = private_key::pkcs8(key)?;
    let mut salt = [0; 20];
    entropy.fill(&mut salt);
    let mut locked = salt.to_vec();
    locked.extend(stream(&password, &salt, &plain).iter());
    locked.extend(Sha1::new().chain_update(&*password).chain_update(&*plain).finalize());
    let algorithm = tlv::write(SEQUENCE, &[&tlv::write(OID, &[SUN_PROTECTION.as_bytes()]), &tlv::write(NULL, &[])]);
    let info = tlv::write(SEQUENCE, &[&algorithm, &tlv::write(OCTETS, &[&locked])]);
    let mut out = head(1);
    entry(&mut out, 1, alias, now);
    block(&mut out, &info);
    out.extend(u32::try_from(chain.len()).unwrap_or(u32::MAX).to_be_bytes());
    for der in chain {
        certificate(&mut out, der);
    }
    closed(out, passphrase)
}

fn head(entries: usize) -> Zeroizing<Vec<u8>> {
    let mut out = Zeroizing::new(MAGIC.to_vec());
    out.extend(2_u32.to_be_bytes());
    out.extend(u32::try_from(entries).unwrap_or(u32::MAX).to_be_bytes());
    out
}

fn entry(out: &mut Vec<u8>, tag: u32, alias: &str, now: Timestamp) {
    out.extend(tag.to_be_bytes());
    text(out, &alias.to_lowercase());
    out.extend((now.unix() * 1000).to_be_bytes());
}

fn certificate(out: &mut Vec<u8>, der: &[u8]) {
    text(out, "X.509");
    block(out, der);
}

/// Two octets of length, then the text. Java's modified UTF-8 is UTF-8 for what a label can hold.
fn text(out: &mut Vec<u8>, text: &str) {
    out.extend(u16::try_from(text.len()).unwrap_or(u16::MAX).to_be_bytes());
    out.extend_from_slice(text.as_bytes());
}

fn block(out: &mut Vec<u8>, bytes: &[u8]) {
    out.extend(u32::try_from(bytes.len()).unwrap_or(u32::MAX).to_be_bytes());
    out.extend_from_slice(bytes);
}

fn closed(mut out: Zeroizing<Vec<u8>>, passphrase: &Passphrase) -> Result<Zeroizing<Vec<u8>>> {
    let digest = digest(&utf16(passphrase)?, &out);
    out.extend(digest);
    Ok(out)
}

fn digest(password: &[u8], bytes: &[u8]) -> [u8; 20] {
    Sha1::new().chain_update(password).chain_update(SEED).chain_update(bytes).finalize().into()
}

fn utf16(passphrase: &Passphrase) -> Result<Zeroizing<Vec<u8>>> {
    let text = std::str::from_utf8(passphrase.octets()).map_err(|_| Error::Objection {
        code: "passphrase-refused",
        what: "this passphrase cannot protect a JKS file".into(),
        why: "it is not UTF-8".into(),
        instead: "choose one of letters, digits and signs".into(),
    })?;
    Ok(Zeroizing::new(text.encode_utf16().flat_map(u16::to_be_bytes).collect()))
}

/// Sun's protection: each 20 octets are crossed with the SHA-1 of the password and what came before.
fn stream(password: &[u8], salt: &[u8], data: &[u8]) -> Zeroizing<Vec<u8>> {
    let mut out = Zeroizing::new(Vec::with_capacity(data.len()));
    let mut last: Vec<u8> = salt.to_vec();
    for chunk in data.chunks(20) {
        last = Sha1::new().chain_update(password).chain_update(&last).finalize().to_vec();
        out.extend(chunk.iter().zip(&last).map(|(a, b)| a ^ b));
    }
    out
}

/// Reads one. Without a passphrase the certificates of a store without keys are read, and its sum is not checked.
///
/// Errors: it is damaged, or JCEKS; it holds a key and no passphrase, or a wrong one, is given.
pub fn read(bytes: &[u8], passphrase: Option<&Passphrase>, what: &str) -> Result<Contents> {
    let malformed = |why: &str| Error::Malformed { what: what.to_owned(), why: why.to_owned() };
    if bytes.starts_with(&JCEKS) {
        return Err(malformed("it is a JCEKS store, whose protection is not known here"));
    }
    let cut = || malformed("it is damaged or cut short");
    let (body, sum) = bytes.split_at_checked(bytes.len().saturating_sub(20)).ok_or_else(cut)?;
    if let Some(passphrase) = passphrase
        && digest(&utf16(passphrase)?, body) != sum
    {
        return Err(Error::PassphraseWrong { what: what.to_owned() });
    }
    let mut at = Cursor(body.get(4..).ok_or_else(cut)?);
    let version = at.u32().ok_or_else(cut)?;
    let count = at.u32().ok_or_else(cut)?;
    let mut out = Contents::default();
    for _ in 0..count {
        let tag = at.u32().ok_or_else(cut)?;
        let alias = at.text().map(crate::vocabulary::text::harmless);
        at.take(8).ok_or_else(cut)?;
        match tag {
            1 => {
                let locked = at.block().ok_or_else(cut)?;
                let passphrase = passphrase.ok_or_else(|| Error::PassphraseNeeded { what: what.to_owned() })?;
                out.take(alias.clone(), open(locked, passphrase, what))?;
                for i in 0..at.u32().ok_or_else(cut)? {
                    let alias = alias.clone().filter(|_| i == 0);
                    out.certificates.push(Named { alias, thing: at.certificate(version).ok_or_else(cut)? });
                }
            }
            2 => out.certificates.push(Named { alias, thing: at.certificate(version).ok_or_else(cut)? }),
            _ => return Err(cut()),
        }
    }
    if at.0.is_empty() { out.some(what) } else { Err(cut()) }
}

/// Puts a trusted certificate behind all others, every other byte but count and sum kept.
///
/// Errors: it is damaged; another passphrase protects it.
pub fn with(bytes: &[u8], passphrase: &Passphrase, root: &Named<Vec<u8>>, now: Timestamp) -> Result<Vec<u8>> {
    let (mut body, count, _) = walked(bytes, passphrase)?;
    body[8..12].copy_from_slice(&(count + 1).to_be_bytes());
    entry(&mut body, 2, root.alias.as_deref().unwrap_or_default(), now);
    certificate(&mut body, &root.thing);
    closed(Zeroizing::new(body), passphrase).map(|b| b.to_vec())
}

/// Takes out every trusted certificate that is this one, every other byte but count and sum kept.
///
/// Errors: as for [`with`].
pub fn without(bytes: &[u8], passphrase: &Passphrase, der: &[u8]) -> Result<Vec<u8>> {
    let (body, count, entries) = walked(bytes, passphrase)?;
    let gone: Vec<_> = entries.into_iter().filter(|(_, c)| c.as_deref() == Some(der)).map(|(range, _)| range).collect();
    let left = count - u32::try_from(gone.len()).unwrap_or(count);
    let mut out: Vec<u8> = Vec::with_capacity(body.len());
    let mut at = 0;
    for range in gone {
        out.extend_from_slice(&body[at..range.start]);
        at = range.end;
    }
    out.extend_from_slice(&body[at..]);
    out[8..12].copy_from_slice(&left.to_be_bytes());
    closed(Zeroizing::new(out), passphrase).map(|b| b.to_vec())
}

type Found = (std::ops::Range<usize>, Option<Vec<u8>>);

/// The bytes below the sum, how many entries they have, where each stands, and the certificate of each that is trusted.
fn walked(bytes: &[u8], passphrase: &Passphrase) -> Result<(Vec<u8>, u32, Vec<Found>)> {
    let what = "the trust store";
    // Reading it whole proves its sum and its shape.
    read(bytes, Some(passphrase), what)?;
    let cut = || Error::Malformed { what: what.into(), why: "it is damaged or cut short".into() };
    let body = bytes[..bytes.len() - 20].to_vec();
    let mut at = Cursor(body.get(4..).ok_or_else(cut)?);
    let (version, count) = (at.u32().ok_or_else(cut)?, at.u32().ok_or_else(cut)?);
    let mut found = Vec::new();
    for _ in 0..count {
        let start = body.len() - at.0.len();
        let tag = at.u32().ok_or_else(cut)?;
        at.text().ok_or_else(cut)?;
        at.take(8).ok_or_else(cut)?;
        let trusted = if tag == 2 {
            Some(at.certificate(version).ok_or_else(cut)?)
        } else {
            at.block().ok_or_else(cut)?;
            for _ in 0..at.u32().ok_or_else(cut)? {
                at.certificate(version).ok_or_else(cut)?;
            }
            None
        };
        found.push((start..body.len() - at.0.len(), trusted));
    }
    Ok((body, count, found))
}

fn open(locked: &[u8], passphrase: &Passphrase, what: &str) -> Result<PrivateKey> {
    let malformed = |why: &str| Error::Malformed { what: what.to_owned(), why: why.to_owned() };
    let parts = tlv::one(locked).and_then(|i| i.inside()).ok_or_else(|| malformed("a key's protection is damaged"))?;
    let algorithm = parts.first().and_then(|a| super::pbe::oid(a.inside()?.first()?));
    if algorithm != Some(SUN_PROTECTION) {
        return Err(malformed("a key in it is protected in a way that is not known here"));
    }
    let wrong = || Error::PassphraseWrong { what: what.to_owned() };
    let bytes = parts.get(1).and_then(|p| p.expect(OCTETS)).filter(|b| b.len() > 40).ok_or_else(wrong)?;
    let (salt, rest) = bytes.split_at(20);
    let (data, check) = rest.split_at(rest.len() - 20);
    let password = utf16(passphrase)?;
    let plain = stream(&password, salt, data);
    if Sha1::new().chain_update(&*password).chain_update(&*plain).finalize()[..] != *check {
        return Err(wrong());
    }
    match private_key::read(&plain, what)? {
        Stored::Open(key) => Ok(key),
        Stored::Locked(_) => Err(wrong()),
    }
}

struct Cursor<'a>(&'a [u8]);

impl<'a> Cursor<'a> {
    fn take(&mut self, n: usize) -> Option<&'a [u8]> {
        let (taken, rest) = self.0.split_at_checked(n)?;
        self.0 = rest;
        Some(taken)
    }

    fn u32(&mut self) -> Option<u32> {
        self.take(4)?.try_into().ok().map(u32::from_be_bytes)
    }

    fn text(&mut self) -> Option<&'a str> {
        let n = u16::from_be_bytes(self.take(2)?.try_into().ok()?);
        std::str::from_utf8(self.take(usize::from(n))?).ok()
    }

    fn block(&mut self) -> Option<&'a [u8]> {
        let n = self.u32()?;
        self.take(usize::try_from(n).ok()?)
    }

    /// Version 1 does not say the kind, which is always X.509.
    fn certificate(&mut self, version: u32) -> Option<Vec<u8>> {
        if version != 1 {
            self.text().filter(|kind| *kind == "X.509")?;
        }
        self.block().map(<[u8]>::to_vec)
    }
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
    fn what_was_written_comes_back() {
        let now = Timestamp::from_unix(1_795_600_000);
        let key = PrivateKey::generate(KeyAlgorithm::Ed25519, &Counted::default()).unwrap();
        let chain = [vec![0x30, 3, 2, 1, 7], vec![0x30, 3, 2, 1, 8]];
        let words = passphrase("tidé");
        let made = write_identity("Charts", &key, &chain, &words, now, &Counted::default()).unwrap();
        let got = read(&made, Some(&words), "x").unwrap();
        assert_eq!((got.keys[0].thing.public(), got.keys[0].alias.as_deref()), (key.public(), Some("charts")));
        assert_eq!(got.certificates.iter().map(|c| c.thing.clone()).collect::<Vec<_>>(), chain);
        assert!(matches!(read(&made, None, "x"), Err(Error::PassphraseNeeded { .. })));
        assert!(matches!(read(&made, Some(&passphrase("neap")), "x"), Err(Error::PassphraseWrong { .. })));
        for end in 0..made.len() {
            assert!(read(&made[..end], Some(&words), "x").is_err());
        }
        let root = Named { alias: Some("saltmarsh".into()), thing: vec![0x30, 3, 2, 1, 9] };
        let more = with(&made, &words, &root, now).unwrap();
        assert_eq!(read(&more, Some(&words), "x").unwrap().certificates[2].thing, root.thing);
        assert_eq!(without(&more, &words, &root.thing).unwrap(), *made, "byte for byte as before");
        assert!(matches!(with(&made, &passphrase("neap"), &root, now), Err(Error::PassphraseWrong { .. })));
        let roots = [Named { alias: Some("saltmarsh".into()), thing: chain[0].clone() }];
        let made = write_trust(&roots, &passphrase(USUAL), now).unwrap();
        assert_eq!(read(&made, None, "x").unwrap().certificates[0].alias.as_deref(), Some("saltmarsh"));
    }
}
