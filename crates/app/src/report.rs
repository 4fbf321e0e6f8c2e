//! What reports hold, and the JSON of it: names are only ever added (see the interface).
//!
//! Reports carry the values of the core, so that a caller can ask them anything; their JSON is a view that this module makes. Paths
//! and texts from outside become text here, with `\xHH` for bytes that are not UTF-8, so that no path can make JSON fail.

use crate::files::Files;
use crate::permitted::{Permitted, hosts};
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::path::Path;
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE, REQUEST_FILE, ROOT_FILE};
use tamga_core::ca::report::{Authority, Issued, KeyPlace, Summary};
use tamga_core::error::Kind;
use tamga_core::finding::{Finding, Severity};
use tamga_core::pki::cert::csr::Csr;
use tamga_core::vocabulary::client_id::Client;
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::usage_words;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_core::vocabulary::word::Word;
use tamga_host::ledger::Waiting;

/// The schema of a type whose `Serialize` goes through a view is that of the view.
macro_rules! schema_as {
    ($($type:ty => $view:ty),+ $(,)?) => {$(
        impl schemars::JsonSchema for $type {
            fn schema_name() -> std::borrow::Cow<'static, str> {
                <$view as schemars::JsonSchema>::schema_name()
            }
            fn schema_id() -> std::borrow::Cow<'static, str> {
                <$view as schemars::JsonSchema>::schema_id()
            }
            fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
                <$view as schemars::JsonSchema>::json_schema(generator)
            }
            fn inline_schema() -> bool {
                <$view as schemars::JsonSchema>::inline_schema()
            }
        }
    )+};
}
pub(crate) use schema_as;

/// The schema of one word of a closed set, for views that hold the word itself.
pub(crate) struct OneOf<T>(std::marker::PhantomData<T>);

impl<T: Word> JsonSchema for OneOf<T> {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        T::KIND.into()
    }
    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        let words: Vec<&str> = T::VALUES.iter().map(|v| v.word()).collect();
        schemars::json_schema!({ "type": "string", "enum": words })
    }
    fn inline_schema() -> bool {
        true
    }
}

schema_as!(
    Certificate => CertificateView<'static>,
    Listed => CertificateView<'static>,
    Request => CertificateView<'static>,
    Member => MemberView,
);

/// How a use case ended, as its exit code says it: the answer itself is in the report.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Outcome {
    /// Done, or the answer is good (exit 0).
    #[default]
    Good,
    /// The answer is bad (exit 1).
    Bad,
    /// The input is refused (exit 3).
    Refused,
    /// The surroundings do not allow it: rights, a file, a program (exit 4).
    Blocked,
    /// Done in part (exit 5).
    Partial,
    /// Failed half-way and could not be undone (exit 6).
    Stuck,
    /// A fault of Tamga's own (exit 70).
    Fault,
}

impl Outcome {
    /// Of two outcomes the worse one.
    #[must_use]
    pub fn worst(self, other: Outcome) -> Outcome {
        use Outcome::{Bad, Blocked, Fault, Good, Partial, Refused, Stuck};
        const ORDER: [Outcome; 6] = [Fault, Stuck, Bad, Partial, Blocked, Refused];
        ORDER.into_iter().find(|o| *o == self || *o == other).unwrap_or(Good)
    }
}

impl From<Kind> for Outcome {
    fn from(kind: Kind) -> Outcome {
        match kind {
            Kind::Usage | Kind::Refused => Outcome::Refused,
            Kind::Surroundings => Outcome::Blocked,
            Kind::Partial => Outcome::Partial,
            Kind::Stuck => Outcome::Stuck,
            Kind::Fault => Outcome::Fault,
        }
    }
}

/// What a use case did; or, in a dry run, what it would do.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Answer<D, P> {
    /// What was done.
    Done(D),
    /// What would be done.
    Planned(P),
}

/// The files of a certificate with its private key and its root: their words in JSON, and their names.
const ALL_FILES: [(&str, &str); 3] =
    [("certificate", CERTIFICATE_FILE), ("private_key", KEY_FILE), ("root", ROOT_FILE)];

/// A certificate with the files that were written for it.
#[derive(Clone, Debug)]
pub struct Certificate {
    /// What the ledger knows of it.
    pub issued: Issued,
    /// The word of each file in JSON, and its name in the certificate's directory.
    pub files: Vec<(&'static str, &'static str)>,
}

impl Certificate {
    /// With its private key and its root.
    pub fn with_all_files(issued: Issued) -> Certificate {
        Certificate { issued, files: ALL_FILES.to_vec() }
    }
}

/// A certificate, or a key that waits for one: then what the certificate would say is null.
#[derive(Serialize, JsonSchema)]
struct CertificateView<'a> {
    label: &'a str,
    names: Cow<'a, [String]>,
    serial: Option<&'a str>,
    sha256: Option<&'a str>,
    sha1: Option<&'a str>,
    not_before: Option<String>,
    not_after: Option<String>,
    folder: &'a str,
    /// The machine on which that is, if it is another one that shares the ledger.
    #[serde(skip_serializing_if = "Option::is_none")]
    host: Option<&'a str>,
    #[schemars(with = "BTreeMap<&'static str, String>")]
    files: Files<'a>,
    #[serde(flatten)]
    state: Option<State<'a>>,
}

// What `list` says besides.
#[derive(Serialize, JsonSchema)]
struct State<'a> {
    state: &'static str,
    #[serde(flatten)]
    standing: Option<Standing<'a>>,
}

#[derive(Serialize, JsonSchema)]
struct Standing<'a> {
    days_left: i64,
    authority: Option<&'a str>,
    revoked: Option<Revoked>,
}

#[derive(Serialize, JsonSchema)]
struct Revoked {
    at: String,
    reason: &'static str,
    published: bool,
}

impl<'a> CertificateView<'a> {
    fn of(
        c: &'a Summary,
        folder: &'a str,
        files: &'a [(&'static str, &'a str)],
        state: Option<State<'a>>,
    ) -> CertificateView<'a> {
        CertificateView {
            label: &c.label,
            names: Cow::Borrowed(&c.names),
            serial: Some(&c.serial),
            sha256: Some(&c.sha256),
            sha1: Some(&c.sha1),
            not_before: Some(c.not_before.to_string()),
            not_after: Some(c.not_after.to_string()),
            // Of one that a client enrolled nothing is here, nor of another machine's.
            files: Files::In(folder, if folder.is_empty() || c.host.is_some() { &[] } else { files }),
            folder,
            host: c.host.as_deref(),
            state,
        }
    }
}

impl Serialize for Certificate {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        CertificateView::of(&self.issued.summary(), &self.issued.folder.shown(), &self.files, None).serialize(s)
    }
}

/// A row of `list`: what the ledger says of a certificate, and how it stands at a time.
#[derive(Clone, Debug)]
pub struct Listed {
    /// What the ledger says.
    pub summary: Summary,
    /// The time.
    pub now: Timestamp,
}

impl Serialize for Listed {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let c = &self.summary;
        let revoked =
            c.revoked.map(|r| Revoked { at: r.at.to_string(), reason: r.reason.word(), published: r.published });
        let standing =
            Standing { days_left: c.not_after.days_after(self.now), authority: c.authority.as_deref(), revoked };
        let state = State { state: c.standing(self.now).word(), standing: Some(standing) };
        CertificateView::of(c, &c.folder.shown(), &ALL_FILES, Some(state)).serialize(s)
    }
}

/// A key that waits for its certificate: what a certificate would say is null.
#[derive(Debug)]
pub struct Request {
    /// What the ledger knows of it.
    pub waiting: Waiting,
    /// Where the request is, if it was written elsewhere than beside its key.
    pub carried: Option<std::path::PathBuf>,
}

impl Serialize for Request {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let w = &self.waiting;
        let request = self.carried.as_ref().map_or_else(|| w.folder.join(REQUEST_FILE).shown(), |c| c.shown());
        CertificateView {
            label: &w.label,
            names: Cow::Owned(w.csr.name_words()),
            serial: None,
            sha256: None,
            sha1: None,
            not_before: None,
            not_after: None,
            host: None,
            folder: &w.folder.shown(),
            files: Files::Each([("request", request), ("private_key", w.folder.join(KEY_FILE).shown())]),
            state: Some(State { state: "waiting", standing: None }),
        }
        .serialize(s)
    }
}

/// An authority, as JSON.
#[derive(Serialize, JsonSchema)]
pub(crate) struct AuthorityView {
    label: Label,
    kind: &'static str,
    issuer: Option<Label>,
    subject: String,
    serial: String,
    sha256: Sha256Fingerprint,
    not_before: String,
    not_after: String,
    permitted: Option<Vec<String>>,
    permitted_names: Option<Vec<Permitted>>,
    path_length: Option<u8>,
    purposes: Vec<&'static str>,
    key: &'static str,
    key_place: Option<String>,
    key_extractable: Option<bool>,
    retired: bool,
    crl_url: Option<String>,
    issuer_url: Option<String>,
    folder: String,
    files: BTreeMap<&'static str, Option<String>>,
}

fn authority_view(a: &Authority) -> AuthorityView {
    let c = &a.certificate;
    let (key_file, key_place) = match &a.key {
        KeyPlace::Here => (Some(a.folder.join(KEY_FILE).shown()), None),
        KeyPlace::Offline(place) => (None, Some(place.shown())),
        KeyPlace::Token(uri) => (None, Some(uri.portable().to_string())),
        _ => (None, None),
    };
    AuthorityView {
        label: a.label.clone(),
        kind: if a.is_root() { "root" } else { "intermediate" },
        issuer: a.issuer.clone(),
        subject: c.subject_words(),
        serial: c.serial.clone(),
        sha256: c.sha256(),
        not_before: c.not_before.to_string(),
        not_after: c.not_after.to_string(),
        permitted: c.constraints.as_ref().map(hosts),
        permitted_names: c.constraints.as_ref().map(|s| s.permitted.iter().map(Permitted::of).collect()),
        path_length: c.basic.and_then(|b| b.path_length),
        purposes: a.purposes.iter().map(|p| p.word()).collect(),
        key: a.key.word(),
        key_place,
        key_extractable: match &a.key {
            KeyPlace::Token(uri) => uri.extractable,
            _ => None,
        },
        retired: a.retired,
        crl_url: a.links.crl.clone(),
        issuer_url: a.links.issuer.clone(),
        folder: a.folder.shown(),
        files: [("certificate", Some(a.folder.join(CERTIFICATE_FILE).shown())), ("private_key", key_file)].into(),
    }
}

impl AuthorityView {
    /// As one of several things that are shown: then its kind is that it is an authority.
    pub(crate) fn among_others(a: &Authority) -> AuthorityView {
        AuthorityView { kind: "authority", ..authority_view(a) }
    }
}

/// A member of `authorities`: an authority, or a key that waits for its certificate.
#[derive(Debug)]
pub enum Member {
    /// An authority.
    Authority(Box<Authority>),
    /// An authority that was signed for another machine: its only file is the certificate.
    Signed(Box<Authority>, std::path::PathBuf),
    /// A key that waits.
    Waiting(Box<Request>),
}

impl From<Authority> for Member {
    fn from(a: Authority) -> Member {
        Member::Authority(Box::new(a))
    }
}

#[derive(JsonSchema)]
#[schemars(untagged)]
#[expect(dead_code, reason = "only its schema is used")]
enum MemberView {
    Authority(AuthorityView),
    Waiting(CertificateView<'static>),
}

impl Serialize for Member {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        match self {
            Member::Authority(a) => authority_view(a).serialize(s),
            Member::Signed(a, file) => {
                let files = [("certificate", Some(file.shown()))].into();
                AuthorityView { files, ..authority_view(a) }.serialize(s)
            }
            Member::Waiting(w) => w.serialize(s),
        }
    }
}

#[derive(Serialize, JsonSchema)]
pub(crate) struct FindingView<'a> {
    code: &'static str,
    #[schemars(with = "OneOf<Severity>")]
    severity: &'static str,
    about: &'a str,
    summary: &'a str,
    remedy: &'a str,
    #[schemars(with = "Vec<OneOf<Client>>")]
    clients: Vec<&'static str>,
}

/// Serializes findings.
pub fn findings<S: Serializer>(all: &[Finding], s: S) -> Result<S::Ok, S::Error> {
    s.collect_seq(all.iter().map(|f| FindingView {
        code: f.code.word(),
        severity: f.severity.word(),
        about: &f.about,
        summary: &f.summary,
        remedy: &f.remedy,
        clients: f.clients.iter().map(|c| c.word()).collect(),
    }))
}

/// A certificate request, as JSON.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CsrView {
    subject: String,
    names: Vec<String>,
    sha256: Sha256Fingerprint,
    key: String,
    public_sha256: Sha256Fingerprint,
    purposes: Vec<String>,
    signature_ok: bool,
    asks_to_be_authority: bool,
}

impl From<&Csr> for CsrView {
    fn from(csr: &Csr) -> CsrView {
        CsrView {
            subject: csr.subject_words(),
            names: csr.name_words(),
            sha256: csr.sha256(),
            key: csr.key.strength().to_string(),
            public_sha256: csr.key.fingerprint(),
            purposes: csr.wishes.purposes.iter().flatten().map(usage_words).collect(),
            signature_ok: csr.proves_possession().is_ok(),
            asks_to_be_authority: csr.wishes.basic.is_some_and(|b| b.ca),
        }
    }
}

/// Serializes a certificate request.
pub fn csr<S: Serializer>(csr: &Csr, s: S) -> Result<S::Ok, S::Error> {
    CsrView::from(csr).serialize(s)
}

/// Serializes a path.
pub fn path<S: Serializer>(path: &impl AsRef<Path>, s: S) -> Result<S::Ok, S::Error> {
    s.serialize_str(&path.as_ref().shown())
}

/// Serializes a path that may be missing.
pub fn path_or_null<S: Serializer>(path: &Option<std::path::PathBuf>, s: S) -> Result<S::Ok, S::Error> {
    match path {
        Some(path) => s.serialize_some(&path.shown()),
        None => s.serialize_none(),
    }
}

#[derive(Serialize, JsonSchema)]
pub(crate) struct FailureView {
    code: &'static str,
    what: String,
    why: String,
    remedy: String,
}

/// Serializes a failure: its code, what failed, why, and what to do.
pub fn failure<S: Serializer>(f: &crate::failure::Failure, s: S) -> Result<S::Ok, S::Error> {
    FailureView { code: f.0.code(), what: f.0.what(), why: f.0.why(), remedy: f.0.remedy() }.serialize(s)
}

/// A certificate of a chain.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CertificateOf {
    subject: String,
    issuer: String,
    serial: String,
    sha256: Sha256Fingerprint,
    sha1: String,
    not_before: String,
    not_after: String,
    names: Vec<String>,
}

impl From<&tamga_core::pki::cert::Certificate> for CertificateOf {
    fn from(c: &tamga_core::pki::cert::Certificate) -> CertificateOf {
        CertificateOf {
            subject: c.subject_words(),
            issuer: c.issuer_words(),
            serial: c.serial.clone(),
            sha256: c.sha256(),
            sha1: c.sha1(),
            not_before: c.not_before.to_string(),
            not_after: c.not_after.to_string(),
            names: c.name_words(),
        }
    }
}
