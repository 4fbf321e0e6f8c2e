//! vsftpd, for files over FTP with TLS.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "vsftpd",
    also: &["ftp", "ftps"],
    title: "vsftpd 3, FTP that goes over to TLS",
    facts: Facts {
        port: 21,
        scheme: "ftp",
        passphrase: "not possible: the key must not be encrypted; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "/etc/vsftpd.conf",
        place: Placement::AtEnd,
        quote: Quote::Bare,
        text: r"ssl_enable=YES
rsa_cert_file={certificate}
rsa_private_key_file={key}
# Names and passwords, and the files themselves, never without TLS.
force_local_logins_ssl=YES
force_local_data_ssl=YES
ssl_ciphers=HIGH
?clients ca_certs_file={clients}
?clients require_cert=YES
?clients validate_cert=YES
?otherport listen_port={port}
?bound listen_ipv6=NO
?bound listen=YES
?bound listen_address={address}
",
    },
    steps: &[
        look("of two lines with one setting the last one counts", "{sudo}grep -nE 'ssl|cert|listen' /etc/vsftpd.conf"),
        by_hand(
            "clients must ask for TLS, with the root",
            "curl --ssl-reqd --cacert {root} ftp://operator@{host}:{port}/",
        ),
    ],
    unit: "vsftpd",
    check: "",
    start: "",
    reload: "{sudo}systemctl restart vsftpd",
    notices: false,
    proof: ("/var/log/vsftpd.log, after a client's visit", "CONNECT: Client"),
    faults: &[
        KnownError {
            text: "500 OOPS: SSL: cannot load RSA private key",
            code: None,
            why: "the key is another certificate's, is encrypted, or is not there",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "500 OOPS: SSL: cannot load RSA certificate",
            code: None,
            why: "the file is not there, or not PEM with the leaf first",
            remedy: "tamga show FILE says what it is",
        },
        KnownError {
            text: "530 Non-anonymous sessions must use encryption",
            code: Some(Code::TlsOnPlainPort),
            why: "the client did not ask for TLS",
            remedy: "let the client use explicit TLS: curl --ssl-reqd",
        },
        KnownError {
            text: "522 SSL connection failed; session reuse required",
            code: None,
            why: "the client opens a new session for the data: an older client",
            remedy: "require_ssl_reuse=NO, or a newer client",
        },
    ],
    tried: Tried::Run("vsftpd 3.0"),
};
