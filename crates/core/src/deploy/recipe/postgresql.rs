//! PostgreSQL.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "postgresql",
    also: &["postgres", "pg"],
    title: "PostgreSQL 12 and later",
    facts: Facts {
        port: 5432,
        scheme: "postgres",
        owner: "postgres",
        place: FileLocation::Own("/etc/postgresql/tls/{label}"),
        passphrase: "from a program (ssl_passphrase_command), which must be allowed at a reload too",
        ..WEB
    },
    config: Config {
        path: "/etc/postgresql/VERSION/main/conf.d/{label}.conf",
        place: Placement::Whole,
        quote: Quote::Single,
        text: r"ssl = on
ssl_cert_file = '{certificate}'
ssl_key_file = '{key}'
ssl_min_protocol_version = 'TLSv{minimum}'
?clients ssl_ca_file = '{clients}'
?locked ssl_passphrase_command = 'cat {secret}'
?locked ssl_passphrase_command_supports_reload = on
?bound listen_addresses = '{addresses_comma}'
?otherport port = {port}
",
    },
    steps: &[
        by_hand(
            "?locked put the passphrase of the key into a file",
            "?locked {sudo}install -o {owner} -m 0600 /dev/null {secret}\n?locked {sudo}\"${EDITOR:-vi}\" {secret}",
        ),
        by_hand(
            "in pg_hba.conf: lines that begin with host allow connections without TLS, hostssl does not",
            "!clients hostssl all all all scram-sha-256\n?clients hostssl all all all cert",
        ),
        look(
            "list what it refused of its files: the answer must be empty",
            "{as_postgres}psql -c \"select sourcefile, name, error from pg_file_settings where error is not null\"",
        ),
        look(
            "list what was set with ALTER SYSTEM: it takes precedence over every file",
            "{as_postgres}psql -c \"select name, setting, sourcefile from pg_settings where name like 'ssl%' and source <> 'default'\"",
        ),
    ],
    unit: "postgresql",
    check: "",
    start: "",
    reload: "{as_postgres}psql -c \"select pg_reload_conf()\"",
    notices: false,
    proof: (
        "/var/log/postgresql, with no \"SSL configuration was not reloaded\" after it",
        "received SIGHUP, reloading configuration files",
    ),
    faults: &[
        KnownError {
            text: "private key file … has group or world access",
            code: Some(Code::KeyReadableByOthers),
            why: "the key must be 0600 for the database's account, or 0640 for root and its group",
            remedy: "install it as in the recipe: -o postgres -m 0600",
        },
        KnownError {
            text: "private key file … must be owned by the database user or root",
            code: Some(Code::KeyUnreadableByService),
            why: "the key file belongs to another account",
            remedy: "install it as in the recipe: -o postgres -m 0600",
        },
        KnownError {
            text: "could not load server certificate file",
            code: Some(Code::KeyUnreadableByService),
            why: "the account postgres cannot read it, or it is not there",
            remedy: "tamga check DIR --account postgres names the obstacle",
        },
        KnownError {
            text: "could not access private key file",
            code: Some(Code::KeyUnreadableByService),
            why: "the account postgres cannot reach it, or it is not there",
            remedy: "tamga check DIR --account postgres names the obstacle",
        },
        KnownError {
            text: "could not load private key file … key values mismatch",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "cannot be reloaded because it requires a passphrase",
            code: Some(Code::KeyAsksPassphrase),
            why: "the key is encrypted, and the program that knows the passphrase may not run at a reload",
            remedy: "ssl_passphrase_command_supports_reload = on",
        },
        KnownError {
            text: "SSL configuration was not reloaded",
            code: None,
            why: "the new files cannot be used; the old certificate is still served",
            remedy: "the line before names the file",
        },
        KnownError {
            text: "invalid length of startup packet",
            code: Some(Code::OtherProtocol),
            why: "a client spoke TLS at once; PostgreSQL expects its own request first",
            remedy: "tamga check postgres://HOST",
        },
        KnownError {
            text: "no pg_hba.conf entry for host … no encryption",
            code: None,
            why: "the client came without TLS, and only hostssl lines would let it in",
            remedy: "connect with sslmode=verify-full",
        },
    ],
    tried: Tried::Run("PostgreSQL 15"),
};
