//! Signatures of messages with a shared key (TSIG, RFC 8945), HMAC with SHA-256 or SHA-512.

use super::{ANY, name};
use crate::vocabulary::timestamp::Timestamp;
use ring::hmac;
use zeroize::Zeroizing;

/// A key that a server knows too.
pub struct Key {
    name: Vec<u8>,
    algorithm: Algorithm,
    secret: Zeroizing<Vec<u8>>,
}

crate::words! {
    /// The algorithm of a key.
    pub enum Algorithm: "TSIG algorithm" {
        /// HMAC with SHA-256.
        HmacSha256 = "hmac-sha256",
        /// HMAC with SHA-512.
        HmacSha512 = "hmac-sha512",
    }
}

/// Seconds by which the two clocks may differ (RFC 8945 section 10).
const FUDGE: u16 = 300;
/// The type of the record.
const TSIG: u16 = 250;

impl Key {
    /// A key by its name; None if that is none.
    pub fn new(name: &str, algorithm: Algorithm, secret: Vec<u8>) -> Option<Key> {
        Some(Key { name: name::written(name)?, algorithm, secret: Zeroizing::new(secret) })
    }

    /// Signs a message: the record is put behind it (RFC 8945 section 5.1). None for a message without a head.
    pub fn sign(&self, message: &[u8], now: Timestamp) -> Option<Vec<u8>> {
        let id = message.get(..2)?.to_vec();
        let more = u16::from_be_bytes([*message.get(10)?, *message.get(11)?]).checked_add(1)?;
        let algorithm = name::written(self.algorithm.word())?;
        // 48 bits of time.
        let time = u64::try_from(now.unix()).ok()?.to_be_bytes()[2..].to_vec();
        // RFC 8945 section 4.3.3: name, class, time to live, algorithm, time, fudge, error and other data.
        let variables =
            [&self.name[..], &ANY.to_be_bytes(), &[0; 4], &algorithm, &time, &FUDGE.to_be_bytes(), &[0; 4]].concat();
        let by = match self.algorithm {
            Algorithm::HmacSha256 => hmac::HMAC_SHA256,
            Algorithm::HmacSha512 => hmac::HMAC_SHA512,
        };
        let mac = hmac::sign(&hmac::Key::new(by, &self.secret), &[message, &variables].concat());
        let mac = mac.as_ref();
        let data = [
            &algorithm[..],
            &time,
            &FUDGE.to_be_bytes(),
            &u16::try_from(mac.len()).ok()?.to_be_bytes(),
            mac,
            &id,
            &[0; 4],
        ]
        .concat();
        let mut out = message.to_vec();
        out[10..12].copy_from_slice(&more.to_be_bytes());
        out.extend(&self.name);
        out.extend(TSIG.to_be_bytes());
        out.extend(ANY.to_be_bytes());
        out.extend([0; 4]);
        out.extend(u16::try_from(data.len()).ok()?.to_be_bytes());
        out.extend(data);
        Some(out)
    }
}
