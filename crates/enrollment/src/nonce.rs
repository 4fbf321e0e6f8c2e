//! Nonces (RFC 8555 section 6.5). They carry their own proof, so that nothing is recorded when one is given out and every instance with the
//! same secret takes it; when one comes back it is recorded as used.

use crate::seal::Secret;
use ring::hmac;
use tamga_core::enrollment::{base64url, from_base64url};
use tamga_core::plan::ports::Entropy;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::entropy;

/// Seconds for which a nonce is taken.
pub const LIFE: i64 = 3600;
/// Clocks of two instances may differ so much, in seconds.
const SKEW: i64 = 60;
const ID: usize = 12;
const TIME: usize = 8;
const MARK: usize = 16;

/// A new nonce.
pub fn make(secret: &Secret, now: Timestamp) -> String {
    let mut id = [0; ID];
    entropy::System.fill(&mut id);
    let body = [&id[..], &now.unix().to_be_bytes()].concat();
    let mark = hmac::sign(secret.nonces(), &body);
    base64url(&[&body[..], &mark.as_ref()[..MARK]].concat())
}

/// What is recorded of a nonce when it is used; None if it is none of ours, or too old.
pub fn id(secret: &Secret, nonce: &str, now: Timestamp) -> Option<[u8; ID]> {
    // One length alone: a nonce that could be written in two ways would be two.
    let octets = from_base64url(nonce).filter(|o| o.len() == ID + TIME + MARK)?;
    let (body, mark) = octets.split_at(ID + TIME);
    let right = hmac::sign(secret.nonces(), body);
    // Compared in constant time: the mark is what nobody can guess.
    let same = right.as_ref()[..MARK].iter().zip(mark).fold(0, |d, (a, b)| d | (a ^ b)) == 0;
    let at = i64::from_be_bytes(body[ID..].try_into().ok()?);
    let age = now.unix().checked_sub(at)?;
    (same && (-SKEW..=LIFE).contains(&age)).then(|| body[..ID].try_into().ok()).flatten()
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
    use crate::seal::LENGTH;
    use proptest::prelude::*;

    #[test]
    fn a_nonce_is_taken_for_an_hour_by_the_same_secret() {
        let (ours, other) = (Secret::of(&[1; LENGTH]).unwrap(), Secret::of(&[2; LENGTH]).unwrap());
        let now = Timestamp::from_unix(1_800_000_000);
        let nonce = make(&ours, now);
        assert!(id(&ours, &nonce, now).is_some() && id(&ours, &nonce, now.plus(LIFE)).is_some());
        assert!(id(&ours, &nonce, now.plus(LIFE + 1)).is_none());
        assert!(id(&ours, &nonce, now.plus(-SKEW - 1)).is_none());
        assert!(id(&other, &nonce, now).is_none());
        assert_ne!(nonce, make(&ours, now));
    }

    proptest! {
        #[test]
        fn nothing_else_is_a_nonce(octets in proptest::collection::vec(any::<u8>(), 0..60), flip in 0..288_usize) {
            let secret = Secret::of(&[1; LENGTH]).unwrap();
            let now = Timestamp::from_unix(1_800_000_000);
            prop_assert!(id(&secret, &base64url(&octets), now).is_none());
            let mut good = from_base64url(&make(&secret, now)).unwrap();
            good[flip / 8] ^= 1 << (flip % 8);
            prop_assert!(id(&secret, &base64url(&good), now).is_none());
        }
    }
}
