//! What the check of a client is made of: one row each. Adding one is a row here, one of its facts (`vocabulary/client_id.rs`), and one
//! in the host that runs it.

use super::Client;
use super::reader::Reader;
use super::view::{self, TrustView};
use crate::check::suite_kind::Kind::{
    self, CbcSha1, CbcSha1Ecdsa, CbcSha2, CbcSha2Ecdsa, FiniteField, P521, RsaExchange,
};

/// How a client looks, what it offers, and what it says when nothing of that is taken.
pub(crate) struct Descriptor {
    /// The roots that it trusts on this machine.
    pub(super) view: fn(&Reader<'_>) -> TrustView,
    /// True for a kind of suite that it offers; the usual ones are offered by all.
    pub offers: fn(Kind) -> bool,
    /// What it says to a server that takes none of its suites.
    pub no_suite: &'static str,
}

const ALERT: &str = "SSLV3_ALERT_HANDSHAKE_FAILURE";
const NODE_ALERT: &str = "ERR_SSL_SSLV3_ALERT_HANDSHAKE_FAILURE";
const OPENSSL_ALERT: &str = "(35) error:0A000410:SSL routines::sslv3 alert handshake failure";

/// The row of a client.
pub(crate) fn of(client: Client) -> Descriptor {
    let any: fn(Kind) -> bool = |_| true;
    let row = |view, offers, no_suite| Descriptor { view, offers, no_suite };
    match client {
        Client::Standard => row(view::everything, any, OPENSSL_ALERT),
        Client::Curl => row(view::curl, any, OPENSSL_ALERT),
        Client::Chromium => {
            row(view::chromium, |k| matches!(k, RsaExchange | CbcSha1), "net::ERR_SSL_VERSION_OR_CIPHER_MISMATCH")
        }
        Client::Firefox => {
            row(view::firefox, |k| matches!(k, RsaExchange | CbcSha1 | P521), "SSL_ERROR_NO_CYPHER_OVERLAP")
        }
        Client::Node => row(view::node, any, NODE_ALERT),
        Client::Python => row(view::python, |k| !matches!(k, RsaExchange | CbcSha1 | CbcSha1Ecdsa), ALERT),
        Client::Java => row(view::java, |k| k != RsaExchange, "Received fatal alert: handshake_failure"),
        Client::Go => row(
            view::go,
            |k| !matches!(k, FiniteField | CbcSha2 | CbcSha2Ecdsa),
            "remote error: tls: handshake failure",
        ),
        Client::Gnutls => {
            row(view::by_wget, |k| !matches!(k, CbcSha2 | CbcSha2Ecdsa), "GnuTLS: A TLS fatal alert has been received.")
        }
        Client::Bun => row(view::bun, |k| !matches!(k, FiniteField | CbcSha2Ecdsa | P521), NODE_ALERT),
        Client::Grpc => row(view::grpc, |k| k == P521, ALERT),
        Client::Git => row(
            view::git,
            |k| !matches!(k, CbcSha2 | CbcSha2Ecdsa),
            "gnutls_handshake() failed: A TLS fatal alert has been received.",
        ),
        Client::Ruby => row(view::python, any, "sslv3 alert handshake failure"),
        Client::Php => row(view::python, any, "error:0A000410:SSL routines::sslv3 alert handshake failure"),
        Client::Deno => row(view::deno, |_| false, "received fatal alert: HandshakeFailure"),
        Client::Psql => row(view::psql, any, "SSL error: sslv3 alert handshake failure"),
        Client::Safari => row(view::safari, any, OPENSSL_ALERT),
        Client::Windows => row(view::windows, any, OPENSSL_ALERT),
    }
}
