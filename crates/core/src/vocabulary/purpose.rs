//! What a certificate may be used for.

use const_oid::ObjectIdentifier;

/// A purpose, written into a certificate as an extended key usage (RFC 5280 §4.2.1.12).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Purpose {
    /// TLS server authentication.
    Server,
    /// TLS client authentication.
    Client,
    /// E-mail protection.
    Mail,
    /// Code signing.
    Code,
}

/// anyExtendedKeyUsage.
pub const ANY: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.37.0");

impl Purpose {
    /// All of them, in the order of the interface.
    pub const ALL: [Purpose; 4] = [Purpose::Server, Purpose::Client, Purpose::Mail, Purpose::Code];

    /// The word of the interface.
    pub fn word(self) -> &'static str {
        match self {
            Purpose::Server => "server",
            Purpose::Client => "client",
            Purpose::Mail => "mail",
            Purpose::Code => "code",
        }
    }

    /// Reads the word of the interface.
    ///
    /// ```
    /// use tamga_core::vocabulary::purpose::Purpose;
    ///
    /// let purpose = Purpose::parse("server").expect("a purpose");
    /// assert_eq!(purpose.oid().to_string(), "1.3.6.1.5.5.7.3.1");
    /// ```
    pub fn parse(typed: &str) -> Option<Purpose> {
        Purpose::ALL.into_iter().find(|p| p.word() == typed)
    }

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

/// An extended key usage in words: ours where we have one, the identifier otherwise.
pub fn usage_words(oid: &ObjectIdentifier) -> String {
    Purpose::ALL
        .into_iter()
        .find(|p| p.oid() == *oid)
        .map_or_else(|| if *oid == ANY { "any".to_owned() } else { oid.to_string() }, |p| p.word().to_owned())
}
