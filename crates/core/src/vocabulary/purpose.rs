//! What a certificate may be used for.

use const_oid::ObjectIdentifier;

crate::words! {
    /// A purpose, written into a certificate as an extended key usage (RFC 5280 §4.2.1.12).
    #[derive(PartialOrd, Ord, Hash)]
    pub enum Purpose: "purpose" {
        /// TLS server authentication.
        Server = "server",
        /// TLS client authentication.
        Client = "client",
        /// E-mail protection.
        Mail = "mail",
        /// Code signing.
        Code = "code",
    }
}

crate::words! {
    /// A purpose for which a chain can be judged: what Tamga issues for, and time stamping.
    pub enum JudgedPurpose: "purpose" {
        /// TLS server authentication.
        Server = "server",
        /// TLS client authentication.
        Client = "client",
        /// E-mail protection.
        Mail = "mail",
        /// Code signing.
        Code = "code",
        /// Time stamping (RFC 3161).
        Timestamp = "timestamp",
    }
}

/// anyExtendedKeyUsage.
pub const ANY: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.37.0");

impl Purpose {
    /// The key purpose's object identifier.
    pub fn oid(self) -> ObjectIdentifier {
        ObjectIdentifier::new_unwrap(match self {
            Purpose::Server => "1.3.6.1.5.5.7.3.1",
            Purpose::Client => "1.3.6.1.5.5.7.3.2",
            Purpose::Mail => "1.3.6.1.5.5.7.3.4",
            Purpose::Code => "1.3.6.1.5.5.7.3.3",
        })
    }
}

impl JudgedPurpose {
    /// The key purpose's object identifier.
    pub fn oid(self) -> ObjectIdentifier {
        match self {
            JudgedPurpose::Server => Purpose::Server.oid(),
            JudgedPurpose::Client => Purpose::Client.oid(),
            JudgedPurpose::Mail => Purpose::Mail.oid(),
            JudgedPurpose::Code => Purpose::Code.oid(),
            JudgedPurpose::Timestamp => ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.8"),
        }
    }
}

/// An extended key usage in words: ours where we have one, the identifier otherwise.
///
/// ```
/// use tamga_core::vocabulary::purpose::{ANY, Purpose, usage_words};
///
/// assert_eq!(usage_words(&Purpose::Server.oid()), "server");
/// assert_eq!(usage_words(&ANY), "any");
/// ```
pub fn usage_words(oid: &ObjectIdentifier) -> String {
    JudgedPurpose::ALL
        .into_iter()
        .find(|p| p.oid() == *oid)
        .map_or_else(|| if *oid == ANY { "any".to_owned() } else { oid.to_string() }, |p| p.word().to_owned())
}
