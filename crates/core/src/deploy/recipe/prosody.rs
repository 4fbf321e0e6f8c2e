//! Prosody, for XMPP.

use super::act::look;
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "prosody",
    also: &["xmpp", "jabber"],
    title: "Prosody 0.12 and later, for XMPP",
    facts: Facts {
        port: 5222,
        scheme: "xmpp",
        owner: "prosody",
        place: FileLocation::Own("/etc/prosody/tls/{label}"),
        passphrase: "plain text in its configuration (password): better an unencrypted key in a 0600 file",
        ..WEB
    },
    config: Config {
        path: "/etc/prosody/conf.d/{label}.cfg.lua",
        place: Placement::Whole,
        quote: Quote::Inside,
        text: r#"VirtualHost "{first}"
  ssl = {
    certificate = "{certificate}";
    key = "{key}";
!only13     protocol = "tlsv1_2+";
?only13     protocol = "tlsv1_3";
  }
"#,
    },
    steps: &[look("its own look at what lacks a certificate", "{sudo}prosodyctl check certs")],
    unit: "prosody",
    check: "{sudo}prosodyctl check config",
    start: "{sudo}systemctl restart prosody",
    reload: "{sudo}systemctl reload prosody",
    notices: false,
    proof: ("/var/log/prosody/prosody.log", "Certificates … loaded"),
    faults: &[
        KnownError {
            text: "Error initialising for … private key does not match public key",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match; the host goes on without TLS",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "SSL/TLS: Failed to load … Permission denied",
            code: Some(Code::KeyUnreadableByService),
            why: "the account prosody may not read the file",
            remedy: "tamga check DIR --account prosody names the obstacle",
        },
    ],
    tried: Tried::Run("Prosody 0.12"),
};
