//! stunnel: TLS in front of a program that has none.

use super::act::by_hand;
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "stunnel",
    also: &["stunnel4"],
    title: "stunnel 5, TLS in front of a program on port 8080",
    facts: Facts { passphrase: "not possible: a service cannot be asked; its file is 0600", ..WEB },
    config: Config {
        path: "/etc/stunnel/{label}.conf",
        place: Placement::Whole,
        quote: Quote::Bare,
        text: r"; Under a service manager: it stays in front, and its log is the service's.
foreground = yes
syslog = no
pid =

[{label}]
?bound accept = {listen}{port}
!bound accept = :::{port}
connect = 127.0.0.1:8080
cert = {certificate}
key = {key}
sslVersionMin = TLSv{minimum}
?clients CAfile = {clients}
?clients verifyChain = yes
",
    },
    steps: &[by_hand(
        "let the program listen on loopback alone: who reaches it there needs no TLS",
        "ss -ltnp | grep 8080",
    )],
    unit: "stunnel@{label}",
    check: "",
    start: "",
    reload: "{sudo}systemctl restart stunnel@{label}",
    notices: false,
    proof: ("journalctl -u stunnel@{label}", "LOG5[ui]: Configuration successful"),
    faults: &[
        KnownError {
            text: "[!] Configuration failed",
            code: None,
            why: "it did not take the file over and goes on with the old one, or does not start: the line before says why",
            remedy: "tamga explain with the line before it",
        },
        KnownError {
            text: "Insecure file permissions on",
            code: Some(Code::KeyReadableByOthers),
            why: "others than its account may read the key; it goes on all the same",
            remedy: "chmod 600 on the key's file",
        },
        KnownError {
            text: "[!] SSL_CTX_use_PrivateKey_file: … key values mismatch",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "SSL_accept: … peer did not return a certificate",
            code: Some(Code::ClientCertificateWanted),
            why: "a client came without a certificate",
            remedy: "give it one: tamga issue NAME --purpose client --issuer AUTHORITY",
        },
        KnownError {
            text: "CERT: Pre-verification error: unable to get local issuer certificate",
            code: Some(Code::IssuerUnknown),
            why: "a client's certificate is of another authority than the one in CAfile",
            remedy: "issue the client's certificate under that authority",
        },
    ],
    tried: Tried::Run("stunnel 5.68"),
};
