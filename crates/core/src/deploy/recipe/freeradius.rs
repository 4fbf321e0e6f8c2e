//! FreeRADIUS: clients of a network show a certificate (EAP-TLS, RFC 5216).

use super::act::{by_hand, look, run};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "freeradius",
    also: &["radius", "eap-tls"],
    title: "FreeRADIUS 3: clients of a network show a certificate (EAP-TLS)",
    facts: Facts {
        port: 1812,
        scheme: "",
        owner: "freerad",
        place: FileLocation::Own("/etc/freeradius/3.0/certs/{label}"),
        passphrase: "private_key_password in the file below, which only its account may then read",
        probe: "eapol_test -c eap-tls.conf -s SECRET",
        ..WEB
    },
    config: Config {
        path: "/etc/freeradius/3.0/mods-available/eap-{label}",
        place: Placement::Whole,
        quote: Quote::Inside,
        // In place of the module that the package enables: that one trusts every authority of the system, and has its own key's passphrase.
        text: r#"eap {
    default_eap_type = tls
    timer_expire = 60
    max_sessions = ${max_requests}
    tls-config tls-common {
        certificate_file = "{certificate}"
        private_key_file = "{key}"
?locked         private_key_password = "PASSPHRASE"
        # Who has a certificate of this authority gets in, and nobody else.
?clients         ca_file = "{clients}"
!clients         ca_file = "{root}"
        cipher_list = "DEFAULT"
        ecdh_curve = ""
        tls_min_version = "{minimum}"
?only13         tls_max_version = "1.3"
!only13         # It says itself that most clients cannot do EAP-TLS with TLS 1.3.
!only13         tls_max_version = "1.2"
    }
    tls {
        tls = tls-common
    }
}
"#,
    },
    steps: &[
        run(
            "enable it in place of the module that the package brings",
            "{sudo}ln -sfn ../mods-available/eap-{label} /etc/freeradius/3.0/mods-enabled/eap",
        ),
        by_hand(
            "issue a certificate for each person or device that may connect",
            "?clients tamga issue NAME --purpose client --issuer {clients_label}\n!clients tamga issue NAME --purpose client",
        ),
        by_hand(
            "let a client compare the name: without domain_match, one that has the root accepts any server of its authority",
            "network={\n    key_mgmt=IEEE8021X\n    eap=TLS\n    identity=\"NAME\"\n    ca_cert=\"{root}\"\n    domain_match=\"{first}\"\n    client_cert=\"certificate.pem\"\n    private_key=\"private-key.pem\"\n}",
        ),
        look(
            "see which access points may ask, and change the secret that the package brings",
            "{sudo}grep -nE 'client |secret' /etc/freeradius/3.0/clients.conf",
        ),
    ],
    unit: "",
    check: "{sudo}freeradius -XC",
    start: "",
    reload: "{sudo}systemctl restart freeradius",
    notices: false,
    proof: ("/var/log/freeradius/radius.log", "Ready to process requests"),
    faults: &[
        KnownError {
            text: "(TLS) Alert write:fatal:unsupported certificate",
            code: Some(Code::PurposeMissing),
            why: "the client showed a certificate that is not for clients",
            remedy: "tamga issue NAME --purpose client --issuer AUTHORITY",
        },
        KnownError {
            text: "(TLS) Alert read:fatal:internal error",
            code: None,
            why: "the client ended the handshake: most often the name in its domain_match is not in the certificate",
            remedy: "compare domain_match with tamga show LABEL",
        },
        KnownError {
            text: "rlm_eap_tls: Failed initializing SSL context",
            code: None,
            why: "the key, the certificate or the authority of the clients could not be read: the line before says which",
            remedy: "tamga explain with the line before it; freeradius -XC reads the files without starting",
        },
        KnownError {
            text: "(TLS) Failed reading private key file … key values mismatch",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "(TLS) Failed reading private key file … Permission denied",
            code: Some(Code::KeyUnreadableByService),
            why: "the account freerad may not read the key",
            remedy: "give it a copy: the recipe's first step",
        },
        KnownError {
            text: "the peer is misbehaving",
            code: Some(Code::NameNotCovered),
            why: "the client ended the handshake: the name in its domain_match is not in the certificate, or it does not trust the root",
            remedy: "compare domain_match with tamga show LABEL, and give the client root.pem as ca_cert",
        },
        KnownError {
            text: "TLS Alert read:fatal:unknown CA",
            code: Some(Code::IssuerUnknown),
            why: "the client does not trust the root",
            remedy: "give the client root.pem as ca_cert",
        },
        KnownError {
            text: "TLS Alert write:fatal:unknown CA",
            code: Some(Code::ClientCertificateWanted),
            why: "the client's certificate is of another authority than the one in ca_file",
            remedy: "tamga issue NAME --purpose client --issuer AUTHORITY",
        },
    ],
    tried: Tried::Run("FreeRADIUS 3.2 of Debian 12, with eapol_test"),
};
