//! Any other server.

use super::act::{by_hand, look, run};
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "general",
    also: &["other"],
    title: "Any other server: what each of them wants, and what people forget",
    facts: Facts {
        owner: "",
        passphrase: "if it cannot be asked, leave the key unencrypted: its file is 0600",
        system: None,
        ..WEB
    },
    config: Config {
        path: "{label}-server.txt",
        place: Placement::Yours("the values for your server's configuration"),
        quote: Quote::Bare,
        text: r"certificate and chain, leaf first:  {certificate}
private key, PKCS#8:                {key}
the root, for its clients:          {root}
?clients the root of its clients:            {clients}
names:                              {hosts}
port:                               {port}
minimum protocol version:           TLS {minimum}
",
    },
    steps: &[
        look(
            "find the account under which it runs: the key must be readable by it, and by nobody else",
            "?posix ps -eo user,args\n?windows Get-CimInstance Win32_Service | Select-Object 'Name', 'StartName'",
        ),
        by_hand(
            "if that account may not read the directory of the certificate, give it a copy",
            "tamga recipe general {label} --owner ACCOUNT --into DIRECTORY",
        ),
        by_hand(
            "if it wants certificate and key in one file, or a key store",
            "tamga export {label} --as combined-pem\ntamga export {label} --as pkcs12",
        ),
        by_hand(
            "if it has one setting for the certificate and another for the chain, the first certificate goes into one and the rest into the other",
            "tamga export {label} --as archive",
        ),
        by_hand(
            "?clients a setting that only asks for a certificate keeps nobody out: look for require, and name the root above alone",
            "?clients tamga issue NAME --purpose client --issuer {clients_label}",
        ),
        run("make sure that the key belongs to the certificate", "tamga match {folder}"),
        look("see what it says at its start: most put the reason into one line", "tamga explain \"LINE OF THE LOG\""),
    ],
    unit: "",
    check: "",
    start: "# start it by its own command",
    reload: "# let it reload; if the next step shows the old certificate, restart it",
    notices: true,
    proof: ("tamga check", "the fingerprint that tamga show {label} prints"),
    faults: &[
        KnownError {
            text: "Address family not supported by protocol",
            code: None,
            why: "this machine has no IPv6, and the configuration listens on both families",
            remedy: "write the recipe for IPv4 alone: tamga recipe SERVER LABEL --address 0.0.0.0",
        },
        KnownError {
            text: "EAFNOSUPPORT: address family not supported",
            code: None,
            why: "this machine has no IPv6, and the configuration listens on both families",
            remedy: "write the recipe for IPv4 alone: tamga recipe SERVER LABEL --address 0.0.0.0",
        },
        KnownError {
            text: "Unable to encrypt connection: Error while reading file",
            code: None,
            why: "CUPS looks for HOST.crt and HOST.key in its ServerKeychain, where HOST is its ServerName and not the name that was asked for: they are not there, or the key is another's",
            remedy: "ln -s the certificate and its key to these two names in /etc/cups/ssl, and ServerAlias * for other names",
        },
        KnownError {
            text: "Cannot load private key file",
            code: Some(Code::KeyMismatch),
            why: "OpenVPN cannot read the key, or it is not the certificate's",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "private key password verification failed",
            code: Some(Code::KeyMismatch),
            why: "OpenVPN writes this for a key of another certificate too, not only for a wrong passphrase",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "Error loading the key",
            code: Some(Code::KeyMismatch),
            why: "memcached could not read the key, or it is not the certificate's",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "key values mismatch",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
    ],
    tried: Tried::Form("the note was written and read"),
};
