//! What programs with OpenSSL make of its verdict, each in its own way: who compares the host's name and when, and what is printed. Measured
//! with curl 7.88, Python 3.11, Node.js 20, Ruby 3.1, PHP 8.2 and libpq 15 on Debian 12.

use super::boring;
use super::cached::Cached;
use super::names;
use super::words::{MISMATCH, Word, grpc};
use crate::check::client::Client;
use crate::vocabulary::name::Name;

/// When the host's name is compared.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Comparison {
    /// By the library, before it looks at signatures.
    Early,
    /// By the program, which the library asks once the leaf's signature and dates stand.
    Midway,
    /// By the program, once the library is content.
    Late,
}

/// Whether a program finds the host in a certificate.
pub(super) fn fits(client: Client, leaf: &Cached<'_>, host: &Name) -> bool {
    match client {
        Client::Python => names::library(leaf, host),
        Client::Node | Client::Bun => names::node(leaf, host),
        Client::Grpc => boring::fits(leaf, host),
        Client::Ruby => names::ruby(leaf, host).is_ok(),
        Client::Php => names::php(leaf, host).is_ok(),
        Client::Psql => names::libpq(leaf, host).is_ok(),
        _ => names::curl(leaf, host).is_ok(),
    }
}

/// What a program prints where the name does not fit.
pub(super) fn mismatch(client: Client, leaf: &Cached<'_>, host: &Name) -> String {
    match client {
        Client::Python => {
            let kind = if matches!(host, Name::Ip(_)) { "IP address" } else { "Hostname" };
            format!("certificate verify failed: {kind} mismatch, certificate is not valid for '{host}'.")
        }
        Client::Node | Client::Bun => "ERR_TLS_CERT_ALTNAME_INVALID".into(),
        Client::Grpc => "Hostname Verification Check failed".into(),
        Client::Ruby => names::ruby(leaf, host).err().unwrap_or_default().into(),
        Client::Php => names::php(leaf, host).err().unwrap_or_default(),
        Client::Psql => names::libpq(leaf, host).err().unwrap_or_default(),
        _ => names::curl(leaf, host).err().unwrap_or_default(),
    }
}

/// What a program prints of an error of the library's.
pub(super) fn printed(client: Client, word: &Word) -> String {
    match client {
        Client::Python => format!("certificate verify failed: {}", word.words),
        Client::Node | Client::Bun => word.node.to_owned(),
        Client::Grpc => grpc(word),
        Client::Ruby => format!("certificate verify failed ({})", word.words),
        Client::Php => "error:0A000086:SSL routines::certificate verify failed".to_owned(),
        Client::Psql => "SSL error: certificate verify failed".to_owned(),
        _ => format!("(60) SSL certificate problem: {}", word.words),
    }
}

/// Every text for a name that does not fit. NAME stands for names.
pub(super) fn mismatches(client: Client) -> &'static [&'static str] {
    match client {
        Client::Python => &["certificate verify failed: Hostname mismatch, certificate is not valid for 'NAME'."],
        Client::Grpc => &["Hostname Verification Check failed"],
        Client::Node | Client::Bun => &["ERR_TLS_CERT_ALTNAME_INVALID"],
        Client::Ruby => &["certificate verify failed (hostname mismatch)", "NoMethodError", "OpenSSL::ASN1::ASN1Error"],
        Client::Php => &[
            "Peer certificate subjectAltName did not match expected name `NAME'",
            "Peer certificate CN=`NAME' did not match expected CN=`NAME'",
            "Unable to locate peer certificate CN",
        ],
        Client::Psql => &[
            "server certificate for \"NAME\" does not match host name \"NAME\"",
            "could not get server's host name from server certificate",
        ],
        _ => &[
            "(60) SSL: no alternative certificate subject name matches target host name 'NAME'",
            "(60) SSL: certificate subject name 'NAME' does not match target host name 'NAME'",
        ],
    }
}

/// True for an objection that the library has, not the program.
pub(super) fn is_of_library(comparison: Comparison, word: &str) -> bool {
    comparison != Comparison::Late || word != MISMATCH
}

/// What a program prints where something stands first in the library's queue of errors; `curl` is what curl prints.
pub(super) fn queued(client: Client, curl: &str) -> String {
    let one = |text: &str| {
        let bare = text.split_once(' ').map_or(text, |(_, rest)| rest);
        let reason = bare.rsplit("::").next().unwrap_or(bare);
        match client {
            Client::Php => bare.to_owned(),
            Client::Ruby => reason.to_owned(),
            _ => format!("SSL error: {reason}"),
        }
    };
    curl.split(" or ").map(one).collect::<Vec<_>>().join(" or ")
}
