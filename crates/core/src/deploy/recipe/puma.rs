//! Puma, for Ruby's web applications.

use super::act::by_hand;
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "puma",
    also: &["rails", "rack"],
    title: "Puma 5 and later, for Ruby's web applications",
    facts: Facts { port: 8443, owner: "", passphrase: "not possible before Puma 6; its file is 0600", ..WEB },
    config: Config {
        path: "puma.rb",
        place: Placement::Yours("in the application's directory; with Rails in config"),
        quote: Quote::Inside,
        text: r#"identity = {
  cert: "{certificate}",
  key: "{key}",
?clients   ca: "{clients}",
?clients   verify_mode: "force_peer",
!clients   verify_mode: "none",
  no_tlsv1: true,
  no_tlsv1_1: true
}
# Both families of addresses where it listens everywhere.
"{all}".split.each { |a| ssl_bind(a.include?(":") ? "[#{a}]" : a, {port}, identity) }
pidfile "puma.pid"
"#,
    },
    steps: &[by_hand("put a web server in front of it where others than you visit it", "tamga recipe nginx {label}")],
    unit: "",
    check: "ruby -c puma.rb",
    start: "puma -C puma.rb",
    reload: "kill -USR2 \"$(cat puma.pid)\"",
    notices: false,
    proof: ("what it prints", "* Listening on ssl://\n* Restarting..."),
    faults: &[
        KnownError {
            text: "SSL_CTX_use_PrivateKey_file: error in file … key values mismatch (Puma::MiniSSL::SSLError)",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match; it ends",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "SSL error, peer: … peer did not return a certificate",
            code: Some(Code::ClientCertificateWanted),
            why: "verify_mode is force_peer, and the client sent none",
            remedy: "issue one: tamga issue NAME --purpose client",
        },
    ],
    tried: Tried::Run("Puma 5.6"),
};
