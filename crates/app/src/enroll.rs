//! Certificates from an enrollment service, by proof of control: the client's side (RFC 8555).
//!
//! How a service is asked is behind [`Enroller`](crate::enroller::Enroller). Here is what happens around it: the new key and the order are on the disk before the
//! service is asked to issue, so that a run that is killed is gone on with; and nothing of the files in place is touched before the new
//! certificate was looked at.

use crate::certificate::make::recorded_elsewhere;
use crate::enroller::{Means, Wanted};
use crate::env::{Change, Env};
use crate::failure::Result;
use crate::keys::certificates;
use crate::output::{absolute, directory, unoccupied, write_journaled};
use crate::report::{self, Answer, Certificate};
use crate::secret::{NewSecret, Secret};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE, ROOT_FILE, certificate_document, key_document};
use tamga_core::ca::receive;
use tamga_core::ca::renew;
use tamga_core::ca::report::Issued;
use tamga_core::ca::request::{self, Wanted as Asked};
use tamga_core::enrollment::failure::Failure;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::invitation::{self, Given};
use tamga_core::finding::{Code, Finding};
use tamga_core::pki::cert::Certificate as Read;
use tamga_core::pki::format::pem;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::plan::ports::Files as _;
use tamga_core::plan::step::{Document, Publication};
use tamga_core::stores::trust::families;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::text::Shown;
use tamga_host::digest::sha256;
use tamga_host::entropy;
use tamga_host::ledger::stored_path::StoredPath;
use tamga_host::ledger::{Origin, Record, WorkKind};
use zeroize::Zeroizing;

/// One certificate from a service.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// Its names; at least one.
    pub names: Vec<Name>,
    /// Its label; None for its first name.
    pub label: Option<Label>,
    /// The directory for its files; None for one named as its label, below the current one.
    pub into: Option<PathBuf>,
    /// The kind of its key.
    pub key_algorithm: Option<KeyAlgorithm>,
    /// Which service, and how control is proved.
    pub origin: Origin,
    /// The file with an invitation.
    pub invitation: Option<PathBuf>,
    /// Opens a key that waits for its certificate.
    pub secret: Secret,
    /// Protects the new key.
    pub new_secret: NewSecret,
}

/// What was got, or would be asked for.
pub type Report = Answer<Done, Plan>;

/// A certificate that a service issued.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// It alone.
    pub certificates: [Certificate; 1],
    /// Remarks on it.
    #[serde(serialize_with = "report::findings")]
    #[schemars(with = "Vec<crate::report::FindingView<'static>>")]
    pub findings: Vec<Finding>,
    /// The directory of the service.
    pub from: String,
}

/// A certificate that would be asked for.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    certificates: [(); 0],
    dry_run: bool,
    /// The directory of the service.
    pub from: String,
    /// Its label.
    #[serde(skip)]
    pub label: Label,
    /// Its names.
    #[serde(skip)]
    pub names: Vec<Name>,
    /// Its directory.
    #[serde(skip)]
    pub directory: PathBuf,
}

/// The paths of an origin, whole: a later run may be started elsewhere.
///
/// Errors: the current directory cannot be found.
pub fn whole(origin: &Origin) -> Result<Origin> {
    let path = |p: &Option<StoredPath>| p.as_ref().map(|p| absolute(p).map(StoredPath)).transpose();
    Ok(Origin {
        challenge_dir: path(&origin.challenge_dir)?,
        dns_key_file: path(&origin.dns_key_file)?,
        anchor: path(&origin.anchor)?,
        ..origin.clone()
    })
}

/// The names as a service certifies them.
fn identifiers(names: &[Name]) -> Result<Vec<Identifier>> {
    let one = |n: &Name| Identifier::of(n).ok_or_else(|| Failure::Name { name: n.to_string() });
    Ok(names.iter().map(one).collect::<std::result::Result<_, _>>()?)
}

/// Gets a certificate.
///
/// Errors: a label or directory that is taken; whatever goes wrong with the service: then nothing was changed, and the same request goes on
/// where it stopped.
pub fn issue(env: &Env, request: &Request) -> Result<Report> {
    let names = tamga_core::ca::issue::distinct(request.names.clone());
    identifiers(&names)?;
    let label = match (&request.label, names.first()) {
        (Some(label), _) => label.clone(),
        (None, Some(first)) => first.label()?,
        (None, None) => return Err(tamga_core::error::Error::NamesNeeded { what: "the certificate".into() }.into()),
    };
    let folder = directory(request.into.as_deref(), &label)?;
    settle(env, &label)?;
    unoccupied(env, &folder, &[CERTIFICATE_FILE, KEY_FILE])?;
    let origin = whole(&request.origin)?;
    if env.dry_run {
        let from = origin.from.clone();
        return Ok(Answer::Planned(Plan { certificates: [], dry_run: true, from, label, names, directory: folder }));
    }
    {
        let (_lock, ledger) = env.open_for_change()?;
        let taken = ledger.waiting_place(&label)?;
        let current = ledger.current(&label)?;
        tamga_core::ca::authority::free(&label, &ledger.authorities()?, current.as_ref(), taken.as_deref())?;
    }
    let new = New {
        label,
        names,
        folder,
        algorithm: request.key_algorithm.unwrap_or(KeyAlgorithm::P256),
        protect: request.new_secret.wanted(env, "the new key")?,
        secret: &request.secret,
        invitation: request.invitation.as_ref(),
        before: None,
        key: None,
        kind: "issued",
    };
    let (issued, findings) = get(env, &origin, new)?;
    let files = vec![("certificate", CERTIFICATE_FILE), ("private_key", KEY_FILE)];
    Ok(Answer::Done(Done { certificates: [Certificate { issued, files }], findings, from: origin.from }))
}

/// A certificate that is to be got.
pub(crate) struct New<'a> {
    pub(crate) label: Label,
    pub(crate) names: Vec<Name>,
    pub(crate) folder: PathBuf,
    pub(crate) algorithm: KeyAlgorithm,
    pub(crate) protect: Option<Passphrase>,
    pub(crate) secret: &'a Secret,
    pub(crate) invitation: Option<&'a PathBuf>,
    pub(crate) before: Option<&'a Read>,
    /// A key that is used again.
    pub(crate) key: Option<PrivateKey>,
    pub(crate) kind: &'static str,
}

/// Reads an invitation.
fn given(env: &Env, file: &Path) -> Result<Given> {
    let bytes = env.disk().read_named(file)?;
    Ok(invitation::read(&String::from_utf8_lossy(&bytes), &file.shown())?)
}

/// What a service is asked with.
///
/// Errors: a file that was named cannot be read.
fn means(env: &Env, origin: &Origin) -> Result<Means> {
    let dns_key = match &origin.dns_key_file {
        Some(file) => Some(String::from_utf8_lossy(&env.disk().read_named(file)?).into_owned()),
        None => None,
    };
    let account = account(env, &origin.from)?;
    Ok(Means { account, roots: roots(env, origin)?, dns_key: dns_key.map(Zeroizing::new) })
}

/// The roots that a service may have: the one that was named; else the ledger's and the system's.
fn roots(env: &Env, origin: &Origin) -> Result<Vec<Vec<u8>>> {
    let mut roots = Vec::new();
    match &origin.anchor {
        Some(file) => {
            let all = certificates(env, std::slice::from_ref(&file.0))?;
            roots.extend(all.iter().map(|c| c.der().to_vec()));
        }
        None => {
            let all = env.authorities()?;
            roots.extend(all.iter().filter(|a| a.is_root()).map(|a| a.certificate.der().to_vec()));
            // Each family of systems keeps its own bundle; those that are not here are not read.
            let bundles = families::ALL.into_iter().filter_map(|f| env.machine.read(Path::new(f.bundle)));
            roots.extend(bundles.flat_map(|b| pem::certificates(&b)));
        }
    }
    Ok(roots)
}

/// The key of the account at the service with this directory: one for each service, in a file of its own (0600). It is made when it is needed
/// for the first time.
fn account(env: &Env, directory: &str) -> Result<PrivateKey> {
    let name = format!("{}.pem", &sha256(directory.as_bytes())[..16]);
    let path = env.machine.data().join("enrollment").join("accounts").join(name);
    if !env.disk().exists(&path) {
        let (_lock, _ledger) = env.open_for_change()?;
        if !env.disk().exists(&path) {
            let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy::System)?;
            let document = key_document(&key, None, &entropy::System)?;
            if let Some(parent) = path.parent() {
                env.disk().make_directory(parent, 0o700)?;
            }
            write_journaled(env, &path, &document.bytes, 0o600)?;
        }
    }
    env.open_key(env.stored_key("the account", &path)?, "the account's key", &Secret::default())
}

/// Where a key waits for its certificate.
fn waiting(env: &Env, label: &Label) -> PathBuf {
    env.machine.data().join("enrollment").join("waiting").join(format!("{label}.pem"))
}

/// A run that was stopped after the certificate was in place left the key where it waited: it waits no more.
fn settle(env: &Env, label: &Label) -> Result<()> {
    let place = waiting(env, label);
    if env.dry_run || !env.disk().exists(&place) {
        return Ok(());
    }
    let (_lock, ledger) = env.open_for_change()?;
    let Some(origin) = ledger.origin(label)? else { return Ok(()) };
    // By the public key: an encrypted one is written otherwise each time.
    let in_place = ledger.current(label)?.map(|i| sha256(i.certificate.key.spki()));
    if in_place.is_some() && in_place == origin.waiting {
        ledger.set_origin(label, &Origin { order: None, waiting: None, ..origin })?;
        env.disk().remove(&place)?;
    }
    Ok(())
}

/// Gets it from its service and puts it in place. The data directory is not locked while the service is asked.
///
/// Errors: as for [`issue`].
pub(crate) fn get(env: &Env, origin: &Origin, new: New<'_>) -> Result<(Issued, Vec<Finding>)> {
    let enroller =
        env.enroller.clone().ok_or(tamga_core::error::Error::Crypto { doing: "asking an enrollment service" })?;
    let identifiers = identifiers(&new.names)?;
    let of = format!("the key of {}", new.label);
    settle(env, &new.label)?;
    let place = waiting(env, &new.label);
    let (key, protect, origin) = {
        let (_lock, ledger) = env.open_for_change()?;
        let known = ledger.origin(&new.label)?.filter(|o| o.from == origin.from && o.order.is_some());
        match known.filter(|_| env.disk().exists(&place)) {
            // A run that was stopped: its key and its order are gone on with.
            Some(known) => {
                let (key, protect) = env.open_stored(env.stored_key(&new.label, &place)?, &of, new.secret)?;
                (key, protect.or(new.protect), Origin { order: known.order, waiting: known.waiting, ..origin.clone() })
            }
            None => {
                let key = match new.key {
                    Some(key) => key,
                    None => env.generate(new.algorithm)?,
                };
                let document = key_document(&key, new.protect.as_ref(), &entropy::System)?;
                if let Some(parent) = place.parent() {
                    env.disk().make_directory(parent, 0o700)?;
                }
                write_journaled(env, &place, &document.bytes, 0o600)?;
                let waiting = Some(sha256(key.public().spki()));
                let origin = Origin { order: None, waiting, ..origin.clone() };
                ledger.set_origin(&new.label, &origin)?;
                (key, new.protect, origin)
            }
        }
    };
    let purposes = vec![Purpose::Server];
    let asked = Asked { names: new.names.clone(), purposes, subject: None, folder: new.folder.clone() };
    let ignore = env.disk().read_to_replace(&new.folder.join(".gitignore")).unwrap_or_default();
    let (csr, keyed) = request::make(&asked, &key, protect.as_ref(), &ignore, &entropy::System)?;
    let ordered = |url: &str| -> Result<()> {
        let (_lock, ledger) = env.open_for_change()?;
        Ok(ledger.set_origin(&new.label, &Origin { order: Some(url.to_owned()), ..origin.clone() })?)
    };
    let means = means(env, &origin)?;
    let invitation = new.invitation.map(|file| given(env, file)).transpose()?;
    let wanted = Wanted {
        names: &identifiers,
        csr: &csr,
        origin: &origin,
        means: &means,
        disk: env.disk(),
        invitation: invitation.as_ref(),
        replaces: new.before,
    };
    let got = env.unlocked(|| enroller.enroll(&wanted, &ordered))??;
    got.left.iter().for_each(|line| env.caller.note(line));
    let found = got.chain;
    let (_lock, ledger) = env.open_for_change()?;
    let anchors = match &origin.anchor {
        Some(file) => certificates(env, std::slice::from_ref(&file.0))?,
        None => Vec::new(),
    };
    let mut got = receive::receive(&new.label, &csr, &found, &anchors, &ledger.authorities()?, env.now)?;
    // That the chain leads to a root that is trusted here was looked at; of a public service the root need not be at hand.
    got.findings.retain(|f| f.code != Code::ChainIncomplete);
    let mut documents: Vec<Document> = got.root.iter().map(|root| certificate_document(ROOT_FILE, [root])).collect();
    documents.extend(keyed.documents.into_iter().filter(|d| d.name != tamga_core::ca::authority::REQUEST_FILE));
    documents.push(certificate_document(CERTIFICATE_FILE, &got.chain));
    let publication = Publication { folder: new.folder.clone(), folder_mode: 0o755, documents };
    let issued = recorded_elsewhere(&new.label, got.chain[0].clone(), &new.folder);
    let change = Change {
        what: WorkKind::Certificate,
        label: &issued.label,
        sha256: issued.certificate.sha256(),
        publication: &publication,
        answers: false,
        record: Record::Certificate { issued: &issued, kind: new.kind, root: None },
    };
    env.publish(&*ledger, &change)?;
    ledger.set_origin(&new.label, &Origin { order: None, waiting: None, ..origin.clone() })?;
    env.disk().remove(&place)?;
    Ok((issued, got.findings))
}

/// Whether it is time to renew, by the service's own word where it has one: within its window each client at its own moment.
pub(crate) fn is_due(env: &Env, origin: &Origin, certificate: &Read) -> bool {
    // Nobody waits for the data directory while a service is asked.
    let asked = || env.enroller.as_ref()?.suggested(origin, &roots(env, origin).ok()?, certificate);
    let Some((from, until)) = env.unlocked(asked).ok().flatten() else {
        return renew::is_due(certificate, None, env.now);
    };
    // Spread by what differs between certificates and stays for each: its fingerprint.
    let spread = u32::from_str_radix(&certificate.sha256().as_str()[..8], 16).unwrap_or(0);
    let length = (until.unix() - from.unix()).max(0);
    let moment = from.plus(length * i64::from(spread >> 16) / 65_536);
    env.now >= moment
}
