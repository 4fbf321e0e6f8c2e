//! The JSON of one thing.

use super::One;
use super::find::Object;
use crate::report::{AuthorityView, CertificateOf, CsrView, Listed};
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::collections::BTreeMap;
use tamga_core::ca::authority::{KEY_FILE, REQUEST_FILE};
use tamga_core::pki::cert::subject;
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::purpose::usage_words;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Timestamp;

#[derive(Serialize, JsonSchema)]
struct HistoryView<'a> {
    at: &'a str,
    kind: &'a str,
    detail: &'a str,
}

#[derive(Serialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
enum View<'a> {
    #[serde(rename = "certificate")]
    Issued {
        subject: String,
        issuer: String,
        #[serde(flatten)]
        listed: Box<Listed>,
    },
    #[serde(rename = "request")]
    Waiting {
        #[serde(flatten)]
        csr: CsrView,
        label: &'a str,
        serial: (),
        not_before: (),
        not_after: (),
        folder: String,
        state: &'static str,
        files: BTreeMap<&'static str, String>,
    },
    Certificate {
        #[serde(flatten)]
        certificate: CertificateOf,
        key: String,
        public_sha256: Sha256Fingerprint,
        is_authority: bool,
        purposes: Vec<String>,
    },
    Request(CsrView),
    Crl {
        issuer: String,
        number: Option<u64>,
        this_update: String,
        next_update: Option<String>,
        sha256: Sha256Fingerprint,
        entries: Vec<EntryView<'a>>,
    },
    #[serde(rename = "private-key")]
    Key {
        algorithm: String,
        public_sha256: Sha256Fingerprint,
        encrypted: bool,
    },
    #[serde(rename = "private-key")]
    LockedKey {
        file: &'a str,
        encrypted: bool,
    },
    #[serde(rename = "private-key")]
    UnusedKey {
        algorithm: &'a str,
        /// False: Tamga reads this kind of key and does not use it.
        usable: bool,
    },
    Store {
        form: &'static str,
        aliases: &'a [String],
        /// What in it was not read, and why.
        #[serde(skip_serializing_if = "<[String]>::is_empty")]
        unread: &'a [String],
    },
    // An authority has a kind of its own, which is "authority" here.
    #[serde(untagged)]
    Authority(AuthorityView),
}

#[derive(Serialize, JsonSchema)]
struct EntryView<'a> {
    serial: &'a str,
    at: String,
    reason: &'static str,
}

#[derive(Serialize, JsonSchema)]
struct OneView<'a> {
    #[serde(flatten)]
    object: View<'a>,
    #[serde(skip_serializing_if = "Option::is_none")]
    history: Option<Vec<HistoryView<'a>>>,
}

impl Object {
    fn view(&self, now: Timestamp) -> View<'_> {
        match self {
            Object::Authority(a, _) => View::Authority(AuthorityView::among_others(a)),
            Object::Issued(i) => View::Issued {
                subject: i.certificate.subject_words(),
                issuer: i.certificate.issuer_words(),
                listed: Box::new(Listed { summary: i.summary(), now }),
            },
            Object::Waiting(w) => View::Waiting {
                csr: CsrView::from(&w.csr),
                label: &w.label,
                serial: (),
                not_before: (),
                not_after: (),
                folder: w.folder.shown(),
                state: "waiting",
                files: [("request", REQUEST_FILE), ("private_key", KEY_FILE)]
                    .map(|(word, name)| (word, w.folder.join(name).shown()))
                    .into(),
            },
            Object::Certificate(c) => View::Certificate {
                certificate: CertificateOf::from(&**c),
                key: c.key.strength().to_string(),
                public_sha256: c.key.fingerprint(),
                is_authority: c.is_ca(),
                purposes: c.purposes.iter().flatten().map(usage_words).collect(),
            },
            Object::Request(r) => View::Request(CsrView::from(&**r)),
            Object::List(l) => View::Crl {
                issuer: subject::words(&l.issuer),
                number: l.count(),
                this_update: l.this_update.to_string(),
                next_update: l.next_update.map(|n| n.to_string()),
                sha256: l.sha256(),
                entries: l
                    .entries
                    .iter()
                    .map(|e| EntryView { serial: &e.serial, at: e.at.to_string(), reason: e.reason.word() })
                    .collect(),
            },
            Object::Key(k) => {
                View::Key { algorithm: k.strength().to_string(), public_sha256: k.fingerprint(), encrypted: false }
            }
            Object::Store(form, aliases, unread) => View::Store { form: form.word(), aliases, unread },
            Object::UnusedKey(kind) => View::UnusedKey { algorithm: kind, usable: false },
            Object::LockedKey(file) => View::LockedKey { file, encrypted: true },
        }
    }
}

crate::report::schema_as!(One => OneView<'static>);

impl Serialize for One {
    fn serialize<S: Serializer>(&self, s: S) -> std::result::Result<S::Ok, S::Error> {
        let history = self
            .history
            .as_ref()
            .map(|all| all.iter().map(|e| HistoryView { at: &e.at, kind: &e.kind, detail: &e.detail }).collect());
        OneView { object: self.object.view(self.now), history }.serialize(s)
    }
}
