//! A key that waits here, and a request to be signed elsewhere.

use crate::env::{Change, Env};
use crate::failure::Result;
use crate::output::{directory, unoccupied};
use crate::report::{self, Answer};
use crate::secret::{NewSecret, Secret};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::{self, CERTIFICATE_FILE, KEY_FILE, REQUEST_FILE};
use tamga_core::ca::issue;
use tamga_core::ca::request::{self, Wanted};
use tamga_core::deploy::recipe::Recipe;
use tamga_core::error::Error;
use tamga_core::finding::Finding;
use tamga_core::pki::cert::subject::Subject;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::text::Shown;
use tamga_host::entropy;
use tamga_host::ledger::WorkKind;
use tamga_host::ledger::{Record, Waiting};

/// What to ask for.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// The names; at least one.
    pub names: Vec<Name>,
    /// The label; None for the first name.
    pub label: Option<Label>,
    /// The directory for key and request; None for one named as the label, below the current one.
    pub into: Option<PathBuf>,
    /// A file with an existing private key.
    pub key_file: Option<PathBuf>,
    /// The kind of a new key.
    pub key_algorithm: Option<KeyAlgorithm>,
    /// What it is for; empty for what the server needs, or a server.
    pub purposes: Vec<Purpose>,
    /// The server for which it is.
    pub server: Option<&'static Recipe>,
    /// The fields of the subject.
    pub subject: Subject,
    /// Opens the existing key.
    pub secret: Secret,
    /// Protects the new key.
    pub new_secret: NewSecret,
}

/// What was made, or would be.
pub type Report = Answer<Done, Plan>;

/// A key and a request.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// The waiting key.
    pub certificates: [report::Request; 1],
    /// Remarks on the names.
    #[serde(serialize_with = "report::findings")]
    #[schemars(with = "Vec<crate::report::FindingView<'static>>")]
    pub findings: Vec<Finding>,
}

/// A key and a request that would be made.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    certificates: [(); 0],
    dry_run: bool,
    /// The label.
    #[serde(skip)]
    pub label: Label,
    /// The directory.
    #[serde(skip)]
    pub directory: PathBuf,
}

/// Makes a key and a request.
///
/// Errors: a label or directory that is taken; a key that cannot be read or opened; files that cannot be written.
pub fn request(env: &Env, wish: &Request) -> Result<Report> {
    let names = issue::distinct(wish.names.clone());
    let label = match (&wish.label, names.first()) {
        (Some(label), _) => label.clone(),
        (None, Some(first)) => first.label()?,
        (None, None) => return Err(Error::NamesNeeded { what: "the request".into() }.into()),
    };
    let algorithm = match wish.server {
        Some(r) => r.key(wish.key_algorithm)?,
        None => wish.key_algorithm.unwrap_or(KeyAlgorithm::P256),
    };
    let wanted = Wanted {
        purposes: match (wish.purposes.is_empty(), wish.server) {
            (false, _) => wish.purposes.clone(),
            (true, Some(r)) => r.facts.purposes.to_vec(),
            (true, None) => vec![Purpose::Server],
        },
        subject: issue::subject_of(&wish.subject)?,
        folder: directory(wish.into.as_deref(), &label)?,
        names,
    };
    unoccupied(env, &wanted.folder, &[CERTIFICATE_FILE, KEY_FILE, REQUEST_FILE])?;
    if env.dry_run {
        return Ok(Answer::Planned(Plan { certificates: [], dry_run: true, label, directory: wanted.folder }));
    }
    let protect = wish.new_secret.wanted(env, &format!("the key of {label}"))?;
    let key = match &wish.key_file {
        Some(file) => env.open_key(env.stored_key("the file", file)?, &file.shown(), &wish.secret)?,
        None => env.generate(algorithm)?,
    };
    let (_lock, ledger) = env.open_for_change()?;
    let taken = ledger.waiting_place(label.as_str())?;
    authority::free(&label, &ledger.authorities()?, ledger.current(label.as_str())?.as_ref(), taken.as_deref())?;
    let ignore = env.disk().read_to_replace(&wanted.folder.join(".gitignore")).unwrap_or_default();
    let (csr, publication) = request::make(&wanted, &key, protect.as_ref(), &ignore, &entropy::System)?;
    let waiting = Waiting {
        label: label.clone(),
        is_authority: false,
        csr,
        folder: wanted.folder.clone(),
        purposes: vec![Purpose::Server],
        links: Default::default(),
    };
    let change = Change {
        what: WorkKind::Request,
        label: &label,
        sha256: waiting.csr.sha256(),
        publication: &publication,
        answers: false,
        record: Record::Request(&waiting),
    };
    env.publish(&*ledger, &change)?;
    let findings = issue::remarks(&wanted.names);
    Ok(Answer::Done(Done { certificates: [report::Request { waiting, carried: None }], findings }))
}
