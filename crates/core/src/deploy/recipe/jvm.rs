//! JVM applications that are configured by a properties file.

use super::act::look;
use super::template::Quote;
use super::{COMMON, Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::deploy::export::Form;
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "jvm",
    also: &["java", "properties"],
    title: "JVM applications with application.properties",
    facts: Facts {
        port: 8443,
        keys: COMMON,
        form: Form::Pkcs12,
        clients: Form::Pkcs12,
        chain: "in the key store, with intermediates",
        owner: "",
        passphrase: "from the environment: a plain properties file never holds it",
        ..WEB
    },
    config: Config {
        path: "application.properties",
        place: Placement::Yours("beside the application"),
        quote: Quote::Inside,
        text: r"server.port={port}
?bound server.address={address}
server.ssl.enabled=true
server.ssl.key-store=file:{store}
server.ssl.key-store-type=PKCS12
server.ssl.key-store-password=${KEY_STORE_PASSPHRASE}
server.ssl.key-alias={label}
!only13 server.ssl.enabled-protocols=TLSv1.2,TLSv1.3
?only13 server.ssl.enabled-protocols=TLSv1.3
?clients server.ssl.client-auth=need
?clients server.ssl.trust-store=file:{clients}
?clients server.ssl.trust-store-type=PKCS12
?clients # The store of roots holds nothing secret and is not encrypted.
?clients server.ssl.trust-store-password=changeit
",
    },
    steps: &[look(
        "look for other settings: a profile's file, an argument or a variable takes precedence",
        "grep -rn 'server.ssl' --include='application*' .",
    )],
    unit: "",
    check: "",
    start: "",
    reload: "KEY_STORE_PASSPHRASE=\"$(cat {secret})\" java -jar application.jar",
    notices: false,
    proof: ("the application's log", "started on port … {port} (https)"),
    faults: &[
        KnownError {
            text: "Keystore was tampered with, or password was incorrect",
            code: None,
            why: "the passphrase does not open the store",
            remedy: "set KEY_STORE_PASSPHRASE from the file beside the store",
        },
        KnownError {
            text: "keystore password was incorrect",
            code: None,
            why: "the passphrase does not open the store",
            remedy: "set KEY_STORE_PASSPHRASE from the file beside the store",
        },
        KnownError {
            text: "trustAnchors parameter must be non-empty",
            code: None,
            why: "a store without trusted certificates: a key store was named as trust store, or it was opened without its passphrase",
            remedy: "tamga export ROOT --as pkcs12 makes a trust store that Java reads",
        },
        KnownError {
            text: "PKIX path building failed … unable to find valid certification path to requested target",
            code: Some(Code::IssuerUnknown),
            why: "this JVM, as a client, does not trust the root",
            remedy: "tamga export ROOT --as pkcs12, then -Djavax.net.ssl.trustStore=FILE",
        },
        KnownError {
            text: "No subject alternative",
            code: Some(Code::NameNotCovered),
            why: "the name or address that the client asked for is not in the certificate",
            remedy: "tamga renew LABEL --add NAME",
        },
        KnownError {
            text: "Unrecognized keystore format",
            code: None,
            why: "the file is neither PKCS#12 nor JKS: perhaps PEM",
            remedy: "tamga export LABEL --as pkcs12",
        },
        KnownError {
            text: "unable to find valid certification path",
            code: Some(Code::IssuerUnknown),
            why: "this JVM, as a client, does not trust the root",
            remedy: "tamga export ROOT --as pkcs12, then -Djavax.net.ssl.trustStore=FILE",
        },
    ],
    tried: Tried::Run("an HTTPS server on OpenJDK 17 that reads these properties"),
};
