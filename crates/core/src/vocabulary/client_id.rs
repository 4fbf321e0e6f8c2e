//! The clients by name.

use crate::error::{Error, Result};

/// A program that connects, or a body of rules.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Client {
    /// RFC 5280 and RFC 9525 alone.
    Standard,
    /// curl with OpenSSL.
    Curl,
    /// Chromium and what is built of it.
    Chromium,
    /// Firefox.
    Firefox,
    /// Node.js.
    Node,
    /// Python's ssl module.
    Python,
    /// The JVM.
    Java,
    /// Programs made with Go.
    Go,
    /// wget and what else is made with GnuTLS.
    Gnutls,
    /// Safari, from what Apple has published.
    Safari,
    /// Windows' own library, from what Microsoft has published.
    Windows,
}

impl Client {
    /// Those whose rules are known so far.
    pub const ALL: [Client; 11] = [
        Client::Standard,
        Client::Curl,
        Client::Chromium,
        Client::Firefox,
        Client::Node,
        Client::Python,
        Client::Java,
        Client::Go,
        Client::Gnutls,
        Client::Safari,
        Client::Windows,
    ];

    /// The id of the interface.
    pub fn word(self) -> &'static str {
        match self {
            Client::Standard => "standard",
            Client::Curl => "curl",
            Client::Chromium => "chromium",
            Client::Firefox => "firefox",
            Client::Node => "node",
            Client::Python => "python",
            Client::Java => "java",
            Client::Go => "go",
            Client::Gnutls => "gnutls",
            Client::Safari => "safari",
            Client::Windows => "windows",
        }
    }

    /// Reads an id.
    pub fn parse(typed: &str) -> Result<Client> {
        Client::ALL.into_iter().find(|c| c.word() == typed).ok_or_else(|| Error::Word {
            what: "client",
            typed: typed.to_owned(),
            accepted: Client::ALL.map(Client::word).join(", "),
        })
    }
}
