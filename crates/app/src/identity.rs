//! Certificates with their keys in the stores from which browsers take their own.

use crate::certificate::current;
use crate::env::Env;
use crate::failure::{Failure, Result};
use crate::keys::certificates;
use crate::report::Outcome;
use crate::secret::Secret;
use crate::trust::row::Change;
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::path::PathBuf;
use tamga_core::ca::authority::CERTIFICATE_FILE;
use tamga_core::ca::renew;
use tamga_core::ca::report::Issued;
use tamga_core::error::{Diagnostic, Error};
use tamga_core::stores::StoreId;
use tamga_core::stores::identity::{self, Holder, Identity, IdentityStore, Parts, State};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::text::Shown;
use tamga_host::{act, entropy};

/// The stores that can hold identities.
pub const STORES: [StoreId; 5] =
    [StoreId::Chromium, StoreId::Firefox, StoreId::MacosUser, StoreId::WindowsUser, StoreId::WindowsMachine];

/// What to do with them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verb {
    /// Put them in.
    Add,
    /// Take them out, with their keys.
    Remove,
    /// See how they stand.
    Status,
}

/// Which identity, and where.
#[derive(Clone, Debug)]
pub struct Request {
    /// What to do.
    pub verb: Verb,
    /// A certificate's label; None for the only one for clients, or for all of them to see how they stand.
    pub label: Option<Label>,
    /// Exactly these stores; empty for the user's.
    pub stores: Vec<StoreId>,
    /// An account that may read the key too (stores of Windows).
    pub account: Option<String>,
    /// Opens the key, or a browser's database.
    pub secret: Secret,
}

/// Every identity in every place.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// They.
    #[serde(rename = "stores")]
    pub rows: Vec<Row>,
    #[serde(skip)]
    is_status: bool,
}

/// One identity in one place, after everything was done.
#[derive(Clone, Debug)]
pub struct Row {
    /// The store's id.
    pub store: StoreId,
    /// The place.
    pub place: PathBuf,
    /// The certificate's label.
    pub label: Label,
    /// SHA-256 of the certificate, in lower-case hex.
    pub sha256: Sha256Fingerprint,
    /// How it stands there.
    pub state: State,
    /// What was done.
    pub change: Change,
    /// Why it is not as it should be.
    pub why: Option<String>,
    /// What to do about that.
    pub remedy: Option<String>,
    /// Good, or how it failed.
    pub outcome: Outcome,
}

#[derive(Serialize, JsonSchema)]
struct IdentityView<'a> {
    label: &'a str,
    sha256: &'a str,
}

#[derive(Serialize, JsonSchema)]
struct RowView<'a> {
    #[schemars(with = "crate::report::OneOf<StoreId>")]
    store: StoreId,
    place: String,
    identity: IdentityView<'a>,
    state: &'static str,
    change: &'static str,
    why: Option<&'a str>,
    remedy: Option<&'a str>,
}

crate::report::schema_as!(Row => RowView<'static>);

impl Serialize for Row {
    fn serialize<S: Serializer>(&self, s: S) -> std::result::Result<S::Ok, S::Error> {
        RowView {
            store: self.store,
            place: self.place.shown(),
            identity: IdentityView { label: &self.label, sha256: &self.sha256 },
            state: self.state.word(),
            change: self.change.word(),
            why: self.why.as_deref(),
            remedy: self.remedy.as_deref(),
        }
        .serialize(s)
    }
}

impl Report {
    /// Good if nothing failed; partial if some did; if all did, how. Bad if one that was asked after is of no use.
    pub fn outcome(&self) -> Outcome {
        let failed = self.rows.iter().filter(|r| r.outcome != Outcome::Good).count();
        let there = self.rows.iter().filter(|r| r.state != State::Unavailable || r.outcome != Outcome::Good).count();
        let lacking = self.is_status && self.rows.iter().any(|r| matches!(r.state, State::WithoutKey | State::Older));
        match (failed, lacking) {
            (0, true) => Outcome::Bad,
            (0, false) => Outcome::Good,
            (n, _) if n == there => self.rows.iter().map(|r| r.outcome).fold(Outcome::Good, Outcome::worst),
            _ => Outcome::Partial,
        }
    }
}

/// Adds an identity to stores, removes it, or looks how it stands.
///
/// Errors: no such certificate or store; a key that cannot be opened. What fails in a place is in its row.
pub fn identity(env: &Env, request: &Request) -> Result<Report> {
    if let Some(unknown) = request.stores.iter().find(|s| !STORES.contains(s)) {
        let accepted = STORES.map(StoreId::word).join(", ");
        return Err(Error::Word { what: "store of identities", typed: unknown.to_string(), accepted }.into());
    }
    let of_windows = |p: &IdentityStore| matches!(p.holder, Holder::Windows { .. });
    if request.account.is_some() && !identity::places(&env.machine).iter().any(of_windows) {
        return Err(Error::Contradiction {
            what: "--account was given, but no store here gives single accounts a key".into(),
            why: "only the personal stores of Windows do; elsewhere a service reads the key's file".into(),
            instead: "whether an account can read that file: tamga check LABEL --account NAME".into(),
        }
        .into());
    }
    let is_status = request.verb == Verb::Status;
    let here: Vec<StoreId> = identity::places(&env.machine).iter().map(|p| p.store).collect();
    if let Some(elsewhere) = request.stores.iter().find(|s| !here.contains(s)) {
        return Err(not_here(*elsewhere, &here).into());
    }
    let mut rows = Vec::new();
    for issued in &wanted(env, request.label.as_deref(), is_status)? {
        let chain = certificates(env, &[issued.folder.join(CERTIFICATE_FILE)])
            .unwrap_or_else(|_| vec![issued.certificate.clone()]);
        let identity = Identity { label: issued.label.clone(), chain };
        for mut place in identity::places(&env.machine) {
            name_known(env, &mut place)?;
            // The machine's is meant only by its name: it is the one of servers.
            let meant = request.stores.is_empty() && (place.store != StoreId::WindowsMachine || is_status);
            if meant || request.stores.contains(&place.store) {
                rows.push(at(env, request, issued, &identity, &place)?);
            }
        }
    }
    Ok(Report { rows, is_status })
}

/// A store that was named, and that another system has.
fn not_here(store: StoreId, here: &[StoreId]) -> Error {
    let words: Vec<&str> = STORES.iter().filter(|s| here.contains(s)).map(|s| s.word()).collect();
    Error::Objection {
        code: "store-not-here",
        what: format!("there is no store {store} on this machine"),
        why: match store {
            StoreId::WindowsUser | StoreId::WindowsMachine => "only Windows has it".into(),
            StoreId::MacosUser | StoreId::MacosMachine => "only macOS has it".into(),
            _ => "its program is not installed, or was never started".into(),
        },
        instead: match words.as_slice() {
            [] => "run the same command where that store is".into(),
            all => format!("name a store of this machine: --stores {}", all.join(",")),
        },
    }
}

/// Names what the ledger knows of a place, where the place itself has no names.
fn name_known(env: &Env, place: &mut IdentityStore) -> Result<()> {
    if let Some(ledger) = env.open_to_look()? {
        identity::name_known(place, &mut |sha256| ledger.label_of(sha256).ok().flatten());
    }
    Ok(())
}

/// The certificate that is named; else the only one for clients, or with `all` every one.
fn wanted(env: &Env, label: Option<&str>, all: bool) -> Result<Vec<Issued>> {
    if let Some(label) = label {
        return Ok(vec![current(env, label)?]);
    }
    let issued = match env.open_to_look()? {
        Some(l) => l.in_use()?,
        None => Vec::new(),
    };
    let for_clients = |i: &Issued| renew::purposes_of(&i.certificate).contains(&Purpose::Client);
    let found: Vec<Issued> = issued.into_iter().filter(for_clients).collect();
    if all || found.len() == 1 {
        return Ok(found);
    }
    let (why, instead) = match found.len() {
        0 => ("there is none for clients yet", "make one: tamga issue NAME --purpose client".to_owned()),
        _ => {
            let labels: Vec<&str> = found.iter().map(|i| i.label.as_str()).collect();
            ("there are several for clients", format!("name one of {}", labels.join(", ")))
        }
    };
    Err(Error::Contradiction { what: "no certificate was named".into(), why: why.into(), instead }.into())
}

fn at(env: &Env, request: &Request, issued: &Issued, identity: &Identity, place: &IdentityStore) -> Result<Row> {
    let verb = request.verb;
    let hindrance = place.hindrance.as_ref();
    let mut row = Row {
        store: place.store,
        place: place.folder.clone(),
        label: issued.label.clone(),
        sha256: issued.certificate.sha256(),
        state: identity::state(identity, place),
        change: Change::None,
        why: hindrance.map(|h| h.why.clone()),
        remedy: hindrance.map(|h| {
            h.remedy.replace("trust add --stores firefox", "identity add").replace("trust add", "identity add")
        }),
        outcome: Outcome::Good,
    };
    if row.state == State::WithoutKey && verb == Verb::Status {
        row.why = Some("its private key is not there: no server is ever shown it".into());
        row.remedy = Some(format!("tamga identity add {}", issued.label));
    }
    if verb == Verb::Status {
        return Ok(row);
    }
    if hindrance.is_some_and(|h| h.absent) {
        // Named, but missing: the person who asked for it expects it.
        if verb == Verb::Add && request.stores.contains(&place.store) {
            row.change = Change::Failed;
            row.outcome = Outcome::Blocked;
        }
        return Ok(row);
    }
    if hindrance.is_some() {
        row.change = Change::Failed;
        row.outcome = Outcome::Blocked;
        return Ok(row);
    }
    let is_browser = matches!(place.store, StoreId::Chromium | StoreId::Firefox);
    if verb == Verb::Add && is_browser && !renew::purposes_of(&issued.certificate).contains(&Purpose::Client) {
        row.why = Some(format!("{} is not for clients: a browser never shows it to a server", issued.label));
        row.remedy = Some("make one for clients: tamga issue NAME --purpose client".into());
    }
    let steps = match verb {
        Verb::Add if row.state != State::Present => {
            let key = env.key_of(&issued.label, &issued.folder, &issued.certificate, &request.secret)?;
            let parts = Parts { key: &key, entropy: &entropy::System, account: request.account.clone() };
            identity::add(identity, &parts, place, &env.machine)?
        }
        Verb::Remove => identity::remove(identity, place),
        _ => Vec::new(),
    };
    if steps.is_empty() {
        return Ok(row);
    }
    if env.dry_run {
        row.why = Some(steps.iter().map(|p| format!("would {}", p.step.words())).collect::<Vec<_>>().join("; "));
        return Ok(row);
    }
    if place.guarded && env.machine.password().is_none() && env.caller.is_present() {
        let of = format!("the primary password of {}", place.folder.shown());
        env.machine.know_password(Secret::default().needed(env, &of)?);
    } else if place.guarded
        && let Some(given) = request.secret.given(env)?
    {
        env.machine.know_password(given);
    }
    let (change, state, event) = match verb {
        Verb::Add => (Change::Added, State::Present, "identity added"),
        _ => (Change::Removed, State::Absent, "identity removed"),
    };
    match act::perform(&env.machine, &steps) {
        Ok(()) => {
            (row.change, row.state) = (change, state);
            let (_lock, ledger) = env.open_for_change()?;
            ledger.note(env.now, event, &issued.label, &place.folder.shown())?;
        }
        Err(e) => {
            row.change = Change::Failed;
            row.outcome = e.kind().into();
            row.why = Some(format!("{}: {}", e.what(), e.why()));
            row.remedy = Some(e.remedy());
        }
    }
    Ok(row)
}

/// Identities with our mark in one place, and whether they could be taken out.
pub struct Cleared {
    /// The place.
    pub place: PathBuf,
    /// How many.
    pub count: usize,
    /// Why they stay, if they do.
    pub failure: Option<Failure>,
}

/// Takes every identity with our mark out of every browser.
pub(crate) fn clear(env: &Env) -> Vec<Cleared> {
    let mut out = Vec::new();
    for mut place in identity::places(&env.machine) {
        let _ = name_known(env, &mut place);
        let (steps, count) = identity::remove_marked(&place);
        if !steps.is_empty() {
            let failure = act::perform(&env.machine, &steps).err().map(Failure::from);
            out.push(Cleared { place: place.folder, count, failure });
        }
    }
    out
}
