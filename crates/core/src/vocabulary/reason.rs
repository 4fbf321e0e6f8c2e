//! Why a certificate is revoked (RFC 5280 §5.3.1).

crate::words! {
    /// A reason code.
    #[derive(PartialOrd, Ord, Hash)]
    pub enum Reason: "reason" {
        /// Not said.
        Unspecified = "unspecified",
        /// The private key was stolen, or may have been.
        KeyCompromise = "key-compromise" | "keyCompromise",
        /// The authority's key was.
        CaCompromise = "ca-compromise" | "cACompromise",
        /// The holder's name or role changed.
        AffiliationChanged = "affiliation-changed" | "affiliationChanged",
        /// Another certificate took its place.
        Superseded = "superseded",
        /// It is not needed any more.
        CessationOfOperation = "cessation-of-operation" | "cessationOfOperation",
        /// For the time being.
        CertificateHold = "certificate-hold" | "certificateHold",
        /// Something it was granted was revoked.
        PrivilegeWithdrawn = "privilege-withdrawn" | "privilegeWithdrawn",
        /// The attribute authority's key was stolen.
        AaCompromise = "aa-compromise" | "aACompromise",
    }
}

impl Reason {
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
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::str::FromStr;

    #[test]
    fn both_spellings_are_read_and_numbers_come_back() {
        assert_eq!(Reason::from_str("key-compromise").unwrap(), Reason::from_str("keyCompromise").unwrap());
        assert!(Reason::from_str("removeFromCRL").is_err() && Reason::from_str("").is_err());
        for r in Reason::ALL {
            assert_eq!(Reason::of_number(r.number()), Some(r));
            assert_eq!(Reason::from_str(r.word()).unwrap(), r);
        }
        assert_eq!(Reason::of_number(7), None);
    }
}
