//! MySQL and MariaDB.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, OPENSSL, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "mysql",
    also: &["mariadb"],
    title: "MySQL 8 and MariaDB 10.4 and later",
    facts: Facts {
        port: 3306,
        scheme: "mysql",
        keys: OPENSSL,
        owner: "mysql",
        place: FileLocation::Own("/etc/mysql/tls/{label}"),
        passphrase: "not possible: the key must not be encrypted; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "/etc/mysql/conf.d/{label}.cnf",
        place: Placement::Whole,
        quote: Quote::Word,
        text: r"[mysqld]
ssl_cert = {certificate}
ssl_key = {key}
!clients ssl_ca = {root}
?clients ssl_ca = {clients}
!only13 tls_version = TLSv1.2,TLSv1.3
?only13 tls_version = TLSv1.3
require_secure_transport = ON
?bound bind_address = {address}
?otherport port = {port}
",
    },
    steps: &[
        look(
            "find other files with the same settings: the last one takes precedence",
            "{sudo}grep -rnE '^ *(ssl|tls|bind)' /etc/mysql",
        ),
        by_hand("?clients require a certificate for each account", "?clients ALTER USER 'gauge'@'%' REQUIRE X509;"),
        by_hand(
            "clients need the root and must verify the name",
            "mysql --ssl-ca={root} --ssl-verify-server-cert --host={host} --port={port}",
        ),
    ],
    unit: "mariadb",
    check: "{sudo}mariadbd --help --verbose >/dev/null   # MySQL: mysqld --validate-config",
    start: "{sudo}systemctl restart mariadb   # MySQL: mysql",
    reload: "{sudo}mariadb -e 'FLUSH SSL'   # MySQL: ALTER INSTANCE RELOAD TLS",
    notices: true,
    proof: (
        "its error log (journalctl -u mariadb), and SHOW STATUS LIKE 'Ssl_server_not_after'",
        "ready for connections",
    ),
    faults: &[
        KnownError {
            text: "mysqld got signal 6",
            code: Some(Code::KeyMismatch),
            why: "MariaDB ends at once where the key is another certificate's: the lines before name SSL",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "mariadbd got signal 6",
            code: Some(Code::KeyMismatch),
            why: "MariaDB ends at once where the key is another certificate's: the lines before name SSL",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "Failed to refresh SSL, error: Unable to get private key",
            code: Some(Code::KeyMismatch),
            why: "the new key does not match the new certificate, or its account cannot read it; the old pair is served on",
            remedy: "tamga match DIR, then tamga check DIR --account mysql",
        },
        KnownError {
            text: "SSL error: Unable to get private key from",
            code: Some(Code::KeyUnreadableByService),
            why: "the account mysql cannot read the key, or it is encrypted",
            remedy: "tamga check DIR --account mysql names the obstacle",
        },
        KnownError {
            text: "SSL error: Unable to get certificate from",
            code: Some(Code::KeyUnreadableByService),
            why: "the account mysql cannot read the certificate, or it is not there",
            remedy: "tamga check DIR --account mysql names the obstacle",
        },
        KnownError {
            text: "Failed to setup SSL",
            code: None,
            why: "one of the files could not be used: the server goes on without TLS",
            remedy: "the line after it names the file",
        },
        KnownError {
            text: "Private key does not match the certificate public key",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "Connections using insecure transport are prohibited",
            code: None,
            why: "the client came without TLS",
            remedy: "connect with --ssl-ca=…/root.pem",
        },
        KnownError {
            text: "ERROR 2026 (HY000): TLS/SSL error",
            code: Some(Code::IssuerUnknown),
            why: "the client does not trust the root, or the name is not in the certificate",
            remedy: "tamga check mysql://HOST says which",
        },
    ],
    tried: Tried::Run("MariaDB 10.11"),
};
