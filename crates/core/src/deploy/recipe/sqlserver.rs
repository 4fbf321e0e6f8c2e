//! Microsoft SQL Server on Linux.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, RSA_ONLY, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "sqlserver",
    also: &["mssql", "sql-server"],
    title: "SQL Server on Linux",
    facts: Facts {
        port: 1433,
        scheme: "",
        keys: RSA_ONLY,
        owner: "mssql",
        mode: 0o400,
        place: FileLocation::Own("/var/opt/mssql/tls/{label}"),
        passphrase: "not possible: the key must not be encrypted; its file is 0400",
        ..WEB
    },
    config: Config {
        path: "/var/opt/mssql/mssql.conf",
        place: Placement::Within("section network"),
        quote: Quote::Bare,
        text: r"# On Windows: import the PKCS#12 file, then choose it in the Configuration Manager.
[network]
tcpport = {port}
?bound ipaddress = {address}
tlscert = {certificate}
tlskey = {key}
!only13 tlsprotocols = 1.2
?only13 tlsprotocols = 1.3
forceencryption = 1
",
    },
    steps: &[
        by_hand(
            "clients compare the name: they must connect to a name of the certificate, and its common name must be the first of them",
            "sqlcmd -S {host},{port} -N -U operator",
        ),
        look(
            "remove TrustServerCertificate from clients: it accepts any certificate",
            "grep -rn TrustServerCertificate .",
        ),
    ],
    unit: "",
    check: "",
    start: "",
    reload: "{sudo}systemctl restart mssql-server",
    notices: false,
    proof: (
        "/var/opt/mssql/log/errorlog",
        "The certificate [Cert Hash(sha1) \"…\"] was successfully loaded for encryption.",
    ),
    faults: &[
        KnownError {
            text: "Unable to load user-specified certificate",
            code: Some(Code::KeyUnreadableByService),
            why: "the account cannot read key or certificate, the key is not RSA, or the two do not match",
            remedy: "tamga check DIR --account mssql, and tamga issue NAME --for sqlserver",
        },
        KnownError {
            text: "The certificate chain was issued by an authority that is not trusted",
            code: Some(Code::IssuerUnknown),
            why: "the client does not trust the root",
            remedy: "trust the root on the client; never TrustServerCertificate=true",
        },
        KnownError {
            text: "The target principal name is incorrect",
            code: Some(Code::NameNotCovered),
            why: "the client connects by a name or address that the certificate does not have",
            remedy: "tamga renew LABEL --add NAME",
        },
    ],
    tried: Tried::Form("the file was read by a parser of its kind (INI)"),
};
