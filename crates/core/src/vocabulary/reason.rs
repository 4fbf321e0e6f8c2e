//! Why a certificate is revoked (RFC 5280 §5.3.1).

use crate::error::{Error, Result};

/// A reason code.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Reason {
    /// Not said.
    Unspecified,
    /// The private key was stolen, or may have been.
    KeyCompromise,
    /// The authority's key was.
    CaCompromise,
    /// The holder's name or role changed.
    AffiliationChanged,
    /// Another certificate took its place.
    Superseded,
    /// It is not needed any more.
    CessationOfOperation,
    /// For the time being.
    CertificateHold,
    /// Something it was granted was taken back.
    PrivilegeWithdrawn,
    /// The attribute authority's key was stolen.
    AaCompromise,
}

impl Reason {
    /// Those that a person can give. `removeFromCRL` stands in delta CRLs alone, which Tamga does not write.
    pub const ALL: [Reason; 9] = [
        Reason::Unspecified,
        Reason::KeyCompromise,
        Reason::CaCompromise,
        Reason::AffiliationChanged,
        Reason::Superseded,
        Reason::CessationOfOperation,
        Reason::CertificateHold,
        Reason::PrivilegeWithdrawn,
        Reason::AaCompromise,
    ];

    /// The word of the interface.
    pub fn word(self) -> &'static str {
        match self {
            Reason::Unspecified => "unspecified",
            Reason::KeyCompromise => "key-compromise",
            Reason::CaCompromise => "ca-compromise",
            Reason::AffiliationChanged => "affiliation-changed",
            Reason::Superseded => "superseded",
            Reason::CessationOfOperation => "cessation-of-operation",
            Reason::CertificateHold => "certificate-hold",
            Reason::PrivilegeWithdrawn => "privilege-withdrawn",
            Reason::AaCompromise => "aa-compromise",
        }
    }

    /// The number that a CRL holds.
    pub fn number(self) -> u8 {
        match self {
            Reason::Unspecified => 0,
            Reason::KeyCompromise => 1,
            Reason::CaCompromise => 2,
            Reason::AffiliationChanged => 3,
            Reason::Superseded => 4,
            Reason::CessationOfOperation => 5,
            Reason::CertificateHold => 6,
            Reason::PrivilegeWithdrawn => 9,
            Reason::AaCompromise => 10,
        }
    }

    /// From a CRL's number.
    pub fn of_number(number: u8) -> Option<Reason> {
        Reason::ALL.into_iter().find(|r| r.number() == number)
    }

    /// Reads a word: as the interface spells it, or as the RFC does (`keyCompromise`).
    ///
    /// ```
    /// use tamga_core::vocabulary::reason::Reason;
    ///
    /// assert_eq!(Reason::parse("key-compromise")?, Reason::KeyCompromise);
    /// assert_eq!(Reason::parse("keyCompromise")?.number(), 1);
    /// assert_eq!(Reason::of_number(7), None, "RFC 5280 §5.3.1 leaves 7 out");
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn parse(typed: &str) -> Result<Reason> {
        let plain = |s: &str| s.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_ascii_lowercase();
        Reason::ALL.into_iter().find(|r| plain(r.word()) == plain(typed)).ok_or_else(|| Error::Word {
            what: "reason",
            typed: typed.to_owned(),
            accepted: Reason::ALL.map(Reason::word).join(", "),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_spellings_are_read_and_numbers_come_back() {
        assert_eq!(Reason::parse("key-compromise").unwrap(), Reason::parse("keyCompromise").unwrap());
        assert!(Reason::parse("removeFromCRL").is_err() && Reason::parse("").is_err());
        for r in Reason::ALL {
            assert_eq!(Reason::of_number(r.number()), Some(r));
            assert_eq!(Reason::parse(r.word()).unwrap(), r);
        }
        assert_eq!(Reason::of_number(7), None);
    }
}
