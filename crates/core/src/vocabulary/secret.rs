//! Passphrases: wiped when dropped, never shown.

use std::fmt;
use zeroize::Zeroizing;

/// A passphrase, as the octets that were typed or read.
#[derive(Clone)]
pub struct Passphrase(Zeroizing<Vec<u8>>);

impl Passphrase {
    /// Takes the octets over; they are wiped with it.
    pub fn new(octets: Zeroizing<Vec<u8>>) -> Passphrase {
        Passphrase(octets)
    }

    /// From a file's or variable's contents: one line end at the end does not count.
    pub fn from_line(mut octets: Zeroizing<Vec<u8>>) -> Passphrase {
        if octets.last() == Some(&b'\n') {
            octets.pop();
            if octets.last() == Some(&b'\r') {
                octets.pop();
            }
        }
        Passphrase(octets)
    }

    /// The octets.
    pub fn octets(&self) -> &[u8] {
        &self.0
    }

    /// True if it has the form of 128 random bits or more: hexadecimal digits, 32 at least, and half of the sixteen among them. (Of random
    /// ones a billionth has fewer.) Nobody types that by heart, and nobody finds it by trying.
    ///
    /// ```
    /// use tamga_core::vocabulary::secret::Passphrase;
    ///
    /// let of = |text: &str| Passphrase::new(text.as_bytes().to_vec().into());
    /// assert!(of("9f86d081884c7d659a2feaa0c55ad015").is_random());
    /// assert!(!of("a word of the tide").is_random());
    /// assert!(!of("00000000000000000000000000000000").is_random());
    /// ```
    pub fn is_random(&self) -> bool {
        let distinct = self.0.iter().fold(0_u128, |seen, b| seen | 1 << (b & 0x7f)).count_ones();
        self.0.len() >= 32 && self.0.iter().all(u8::is_ascii_hexdigit) && distinct >= 8
    }

    /// True if it is empty and protects nothing.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl PartialEq for Passphrase {
    fn eq(&self, other: &Passphrase) -> bool {
        self.0 == other.0
    }
}

impl fmt::Debug for Passphrase {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Passphrase(…)")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_line_end_is_cut_and_nothing_is_shown() {
        let of = |s: &str| Passphrase::from_line(Zeroizing::new(s.as_bytes().to_vec()));
        assert_eq!(of("tide\r\n").octets(), b"tide");
        assert_eq!(of("tide \n\n").octets(), b"tide \n");
        assert!(of("\n").is_empty() && !format!("{:?}", of("tide")).contains("tide"));
    }
}
