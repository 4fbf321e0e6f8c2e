//! OpenLDAP.

use super::act::{at_end, by_hand, run};
use super::template::Quote;
use super::{COMMON, Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "openldap",
    also: &["ldap", "slapd"],
    title: "OpenLDAP 2.4 and later (slapd)",
    facts: Facts {
        port: 389,
        scheme: "ldap",
        keys: COMMON,
        owner: "openldap",
        place: FileLocation::Own("/etc/ldap/tls/{label}"),
        passphrase: "not possible: the key must not be encrypted; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "{label}.ldif",
        place: Placement::Yours("for ldapmodify"),
        quote: Quote::Bare,
        text: r"dn: cn=config
changetype: modify
!clients replace: olcTLSCACertificateFile
!clients olcTLSCACertificateFile: {root}
?clients replace: olcTLSCACertificateFile
?clients olcTLSCACertificateFile: {clients}
-
replace: olcTLSCertificateFile
olcTLSCertificateFile: {certificate}
-
replace: olcTLSCertificateKeyFile
olcTLSCertificateKeyFile: {key}
-
replace: olcTLSVerifyClient
!clients olcTLSVerifyClient: never
?clients olcTLSVerifyClient: demand
-
replace: olcTLSProtocolMin
!only13 olcTLSProtocolMin: 3.3
?only13 olcTLSProtocolMin: 3.4
",
    },
    steps: &[
        run(
            "make all settings in one change: one alone is refused (error 80)",
            "{sudo}ldapmodify -Y EXTERNAL -H ldapi:/// -f {label}.ldif",
        ),
        at_end(
            "/etc/default/slapd",
            "for port 636 too, in /etc/default/slapd",
            "!otherport SLAPD_SERVICES=\"ldap:/// ldapi:/// ldaps:///\"\n?otherport SLAPD_SERVICES=\"ldap://{goaddress}:{port}/ ldapi:///\"",
        ),
        by_hand("on clients, in /etc/ldap/ldap.conf", "TLS_CACERT {root}\nTLS_REQCERT demand"),
    ],
    unit: "",
    check: "{sudo}slaptest -u",
    start: "{sudo}systemctl restart slapd",
    reload: "{sudo}ldapmodify -Y EXTERNAL -H ldapi:/// -f {label}.ldif",
    notices: false,
    proof: ("journalctl -u slapd", "slapd starting"),
    faults: &[
        KnownError {
            text: "ldap_modify: Other (e.g., implementation specific) error (80)",
            code: Some(Code::KeyUnreadableByService),
            why: "the account openldap cannot read the files, or key and certificate were not changed together",
            remedy: "tamga check DIR --account openldap names the obstacle",
        },
        KnownError {
            text: "main: TLS init def ctx failed",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match, or a file cannot be read",
            remedy: "tamga match DIR, then tamga check DIR --account openldap",
        },
        KnownError {
            text: "ldap_start_tls: Connect error (-11)",
            code: Some(Code::IssuerUnknown),
            why: "the client does not trust the root, or the name is not in the certificate",
            remedy: "TLS_CACERT in /etc/ldap/ldap.conf; tamga check ldap://HOST",
        },
    ],
    tried: Tried::Run("OpenLDAP 2.5"),
};
