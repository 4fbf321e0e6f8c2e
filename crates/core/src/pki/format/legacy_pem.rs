//! The encryption of older private-key PEM files: `Proc-Type: 4,ENCRYPTED` and `DEK-Info` (RFC 1421 §4.6.1.1, with the
//! key derivation that OpenSSL made usual). Read only: it is weak.

use super::pem::Block;
use crate::vocabulary::secret::Passphrase;
use cbc::cipher::block_padding::Pkcs7;
use cbc::cipher::{BlockModeDecrypt, KeyIvInit};
use md5::{Digest, Md5};
use zeroize::Zeroizing;

/// Which cipher, and its initialisation vector.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Method {
    cipher: Cipher,
    iv: Vec<u8>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Cipher {
    Aes128,
    Aes192,
    Aes256,
    TripleDes,
    Des,
}

/// How a block is encrypted: None if it is not; `Err` with the cipher's name if it is not known here.
pub fn method(block: &Block) -> Result<Option<Method>, String> {
    let of = |name: &str| block.headers.iter().find(|h| h.0 == name).map(|h| h.1.as_str());
    if !of("Proc-Type").is_some_and(|v| v.ends_with("ENCRYPTED")) {
        return Ok(None);
    }
    let info = of("DEK-Info").unwrap_or_default();
    let (name, iv) = info.split_once(',').unwrap_or((info, ""));
    let (cipher, length) = match name.trim() {
        "AES-128-CBC" => (Cipher::Aes128, 16),
        "AES-192-CBC" => (Cipher::Aes192, 16),
        "AES-256-CBC" => (Cipher::Aes256, 16),
        "DES-EDE3-CBC" => (Cipher::TripleDes, 8),
        "DES-CBC" => (Cipher::Des, 8),
        other => return Err(other.to_owned()),
    };
    let iv = hex(iv.trim()).filter(|iv| iv.len() == length).ok_or_else(|| name.to_owned())?;
    Ok(Some(Method { cipher, iv }))
}

/// Opens a block; None if the passphrase is wrong (or, one time in 256, if its padding fits by chance: then what comes
/// out does not parse).
pub fn open(method: &Method, der: &[u8], passphrase: &Passphrase) -> Option<Zeroizing<Vec<u8>>> {
    let mut bytes = Zeroizing::new(der.to_vec());
    let iv = &method.iv;
    let key = |n| derive(passphrase, &iv[..8], n);
    macro_rules! decrypt {
        ($cipher:ty, $n:expr) => {
            cbc::Decryptor::<$cipher>::new_from_slices(&key($n), iv)
                .ok()?
                .decrypt_padded::<Pkcs7>(&mut bytes)
                .ok()?
                .len()
        };
    }
    let length = match method.cipher {
        Cipher::Aes128 => decrypt!(aes::Aes128, 16),
        Cipher::Aes192 => decrypt!(aes::Aes192, 24),
        Cipher::Aes256 => decrypt!(aes::Aes256, 32),
        Cipher::TripleDes => decrypt!(des::TdesEde3, 24),
        Cipher::Des => decrypt!(des::Des, 8),
    };
    bytes.truncate(length);
    Some(bytes)
}

/// OpenSSL's EVP_BytesToKey with MD5 and one round.
fn derive(passphrase: &Passphrase, salt: &[u8], length: usize) -> Zeroizing<Vec<u8>> {
    let mut key = Zeroizing::new(Vec::with_capacity(length + 16));
    let mut last: Zeroizing<Vec<u8>> = Zeroizing::default();
    while key.len() < length {
        let mut hash = Md5::new();
        hash.update(&*last);
        hash.update(passphrase.octets());
        hash.update(salt);
        last = Zeroizing::new(hash.finalize().to_vec());
        key.extend_from_slice(&last);
    }
    key.truncate(length);
    key
}

fn hex(text: &str) -> Option<Vec<u8>> {
    if !text.len().is_multiple_of(2) || !text.is_ascii() {
        return None;
    }
    (0..text.len()).step_by(2).map(|i| u8::from_str_radix(&text[i..i + 2], 16).ok()).collect()
}
