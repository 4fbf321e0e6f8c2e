//! The job in one step: authority, certificate, trust, and the proof in every client.

use crate::authority::create;
use crate::certificate::{self, Signer};
use crate::env::Env;
use crate::failure::Result;
use crate::observe::observe;
use crate::output::{directory, unoccupied};
use crate::recipe::form;
use crate::report::{Answer, Certificate, Member, Outcome};
use crate::secret::{NewSecret, Secret};
use crate::trust::row::{self, Row, demand_named};
use crate::trust::stores::Choice;
use crate::trust::{apply, root_of};
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, ToSocketAddrs};
use std::path::{Path, PathBuf};
use std::str::FromStr;
use tamga_core::ca::authority::create::Request as Wanted;
use tamga_core::ca::authority::{self, CERTIFICATE_FILE, KEY_FILE, limits};
use tamga_core::ca::issue;
use tamga_core::ca::report::{Authority, Issued, Standing};
use tamga_core::check::address_limits;
use tamga_core::check::client::{self, Client};
use tamga_core::deploy::recipe::Recipe;
use tamga_core::error::Error;
use tamga_core::finding::Finding;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::{Goal, Scope, Store};
use tamga_core::vocabulary::client_id::Roots;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::text::Shown;
use tamga_host::clients::{Observed, Visit};
use tamga_host::ledger::Ledger;
use tamga_host::serve::Site;

/// The authority that setup makes.
const AUTHORITY: &str = "local";

/// What to set up.
#[derive(Clone, Debug)]
pub struct Request {
    /// The names; at least one.
    pub names: Vec<Name>,
    /// The authority's label, where there are several.
    pub issuer: Option<Label>,
    /// The certificate's label; None for its first name.
    pub label: Option<Label>,
    /// The directory for its files; None for one named as the label, below the current one.
    pub into: Option<PathBuf>,
    /// The server for which it is.
    pub server: Option<&'static Recipe>,
    /// The stores that get the root.
    pub stores: Choice,
    /// Opens the authority's key.
    pub secret: Secret,
}

/// What was done, or would be.
pub type Report = Answer<Done, Plan>;

tamga_core::words! {
    /// What became of the certificate.
    pub enum Change: "change" {
        /// It was as it should be.
        Unchanged = "unchanged",
        /// It is new.
        Issued = "issued",
        /// It was made again.
        Reissued = "issued again",
        /// It was made again with more names.
        Extended = "extended",
    }
}

/// What was set up, and its proof.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// The authority.
    #[serde(serialize_with = "authority_view")]
    #[schemars(with = "Member")]
    pub authority: Authority,
    /// The certificate alone.
    pub certificates: [Certificate; 1],
    /// What became of it.
    #[serde(serialize_with = "change_word")]
    #[schemars(with = "String")]
    pub change: Change,
    /// The root in every place.
    #[serde(rename = "stores")]
    pub rows: Vec<Row>,
    /// The names, and whether this machine's resolver knows them.
    pub names: Vec<Resolved>,
    /// What each client said.
    #[serde(rename = "proof", serialize_with = "proof_view")]
    #[schemars(with = "Vec<ProofView<'static>>")]
    pub proofs: Vec<Proof>,
    /// Remarks on the names.
    #[serde(serialize_with = "crate::report::findings")]
    #[schemars(with = "Vec<crate::report::FindingView<'static>>")]
    pub findings: Vec<Finding>,
    /// True if the authority is new.
    #[serde(skip)]
    pub is_new_root: bool,
    /// The file in the server's own form, where it wants one.
    #[serde(skip)]
    pub form: Option<form::Report>,
}

impl Done {
    /// The worst of the stores' outcome, and of the clients that should accept.
    pub fn outcome(&self) -> Outcome {
        let bad = self.proofs.iter().any(|p| p.is_in_scope && !p.accepts());
        row::outcome(&self.rows).worst(if bad { Outcome::Bad } else { Outcome::Good })
    }
}

/// A name, and whether it resolves here.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Resolved {
    /// The name.
    pub name: String,
    /// False if a server under it is not found from here.
    pub resolves: bool,
}

/// What one client said to each name.
pub struct Proof {
    /// The client.
    pub client: Client,
    /// True if a store that was asked for is its own.
    pub is_in_scope: bool,
    /// Each name, and what it said.
    pub seen: Vec<(Name, Observed)>,
}

impl Proof {
    /// True if it accepted every name.
    pub fn accepts(&self) -> bool {
        self.seen.iter().all(|(_, o)| o.outcome == client::Outcome::Accepts)
    }
}

#[derive(Serialize, JsonSchema)]
struct ProofView<'a> {
    client: &'static str,
    name: String,
    basis: &'static str,
    verdict: &'static str,
    code: Option<&'a str>,
    in_scope: bool,
}

fn proof_view<S: Serializer>(all: &[Proof], s: S) -> std::result::Result<S::Ok, S::Error> {
    s.collect_seq(all.iter().flat_map(|p| {
        p.seen.iter().map(|(name, o)| ProofView {
            client: p.client.word(),
            name: name.to_string(),
            basis: "observed",
            verdict: o.outcome.word(),
            code: o.code.as_deref(),
            in_scope: p.is_in_scope,
        })
    }))
}

fn authority_view<S: Serializer>(a: &Authority, s: S) -> std::result::Result<S::Ok, S::Error> {
    Member::from(a.clone()).serialize(s)
}

fn change_word<S: Serializer>(c: &Change, s: S) -> std::result::Result<S::Ok, S::Error> {
    s.serialize_str(c.word())
}

/// What would be set up.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    certificates: [(); 0],
    stores: [(); 0],
    dry_run: bool,
    /// The label of the authority that would be used; None for a new one.
    #[serde(skip)]
    pub authority: Option<Label>,
    /// The certificate's label.
    #[serde(skip)]
    pub label: Label,
    /// Its directory.
    #[serde(skip)]
    pub directory: PathBuf,
    /// The stores' ids.
    #[serde(skip)]
    pub ids: Vec<StoreId>,
}

impl Plan {
    /// The label of the authority that would be made.
    pub const NEW_AUTHORITY: &'static str = AUTHORITY;
}

/// Does the whole job; again with the same names it changes nothing.
///
/// Errors: names that the authority may not certify; a label or directory that is taken; files that cannot be written. What fails in
/// a store or warns in a client is in the report.
pub fn setup(env: &Env, request: &Request) -> Result<Report> {
    let names = &request.names;
    let label = match (&request.label, names.first()) {
        (Some(label), _) => label.clone(),
        (None, Some(first)) => first.label()?,
        (None, None) => return Err(Error::NamesNeeded { what: "the certificate".into() }.into()),
    };
    if env.dry_run {
        return plan(env, request, label).map(Answer::Planned);
    }
    let (issued, authority, is_new_root, change, rows) = {
        let (_lock, ledger) = env.open_for_change()?;
        let (authority, is_new_root) = authority_for(env, &*ledger, request)?;
        let (issued, change) = certificate_for(env, &*ledger, request, &label, &authority)?;
        let root = root_of(&authority)?;
        let stores = &request.stores;
        let mut rows = apply(env, &*ledger, &stores.stores(), &root, &stores.bundles, Goal::Add)?;
        rows.extend(stores.without_place(env, &root, &rows));
        demand_named(&mut rows, &stores.named_ids());
        (issued, authority, is_new_root, change, rows)
    };
    let proofs = prove(env, &request.stores, &request.secret, &issued)?;
    let form = match request.server.filter(|_| change != Change::Unchanged) {
        Some(server) => form::write(env, server, &issued, &request.secret, &NewSecret::default())?,
        None => None,
    };
    let mut findings = issue::remarks(names);
    if change != Change::Unchanged {
        let leaf = &issued.certificate;
        findings.extend(address_limits::note(leaf, &authority.certificate));
    }
    let resolved = |n: &Name| Resolved { name: n.to_string(), resolves: resolves(n) };
    Ok(Answer::Done(Done {
        authority,
        certificates: [Certificate::with_all_files(issued)],
        change,
        rows,
        names: names.iter().map(resolved).collect(),
        proofs,
        findings,
        is_new_root,
        form,
    }))
}

fn plan(env: &Env, request: &Request, label: Label) -> Result<Plan> {
    let all = env.authorities()?;
    let authority = match (request.issuer.as_deref(), all.is_empty()) {
        (None, true) => None,
        (named, _) => {
            let authority = authority::choose(named, &all, true)?;
            issue::names_within(&request.names, authority)?;
            Some(authority.label.clone())
        }
    };
    let mut directory = directory(request.into.as_deref(), &label)?;
    if let Some(before) = env.open_to_look()?.map(|l| l.current(&label)).transpose()?.flatten() {
        stays(env, request, &before, &directory)?;
        if request.into.is_none() {
            directory.clone_from(&before.folder);
        }
    }
    // Of the stores in scope those that this system has; one that was named is named.
    let is_here = |s: &&'static dyn Store| {
        request.stores.named.iter().any(|n| n.id() == s.id())
            || !s.survey(&env.machine, &request.stores.bundles).is_empty()
    };
    let ids = request.stores.stores().iter().filter(|s| is_here(s)).map(|s| s.id()).collect();
    Ok(Plan { certificates: [], stores: [], dry_run: true, authority, label, directory, ids })
}

/// The authority: the one there is, or a new one that permits these names.
fn authority_for(env: &Env, ledger: &dyn Ledger, request: &Request) -> Result<(Authority, bool)> {
    let all = ledger.authorities()?;
    if !all.is_empty() || request.issuer.is_some() {
        return Ok((authority::choose(request.issuer.as_deref(), &all, true)?.clone(), false));
    }
    let permit = request.names.iter().map(ToString::to_string).collect();
    let wanted = Wanted { wanted: limits::Wanted { permit, any: false }, ..Wanted::plain(Label::from_str(AUTHORITY)?) };
    let key = env.generate(KeyAlgorithm::P256)?;
    Ok((create::make(env, ledger, &wanted, (&key).into(), None)?.authority, true))
}

/// The certificate: unchanged if it has these names, extended if some are new, else issued.
fn certificate_for(
    env: &Env,
    ledger: &dyn Ledger,
    request: &Request,
    label: &Label,
    authority: &Authority,
) -> Result<(Issued, Change)> {
    let (names, server) = (&request.names, request.server);
    let mut wanted = names.clone();
    let mut folder = directory(request.into.as_deref(), label)?;
    let files = [CERTIFICATE_FILE, KEY_FILE];
    let mut change = Change::Issued;
    if let Some(before) = ledger.current(label.as_str())? {
        stays(env, request, &before, &folder)?;
        if request.into.is_none() {
            folder.clone_from(&before.folder);
        }
        let has: Vec<Name> = before.certificate.name_words().iter().filter_map(|n| Name::from_str(n).ok()).collect();
        let has_all = names.iter().all(|n| has.contains(n));
        let whole = before.folder == folder
            && files.iter().all(|f| env.disk().exists(&before.folder.join(f)))
            && matches!(before.standing(env.now), Standing::Valid)
            && before.authority.as_deref() == Some(authority.label.as_str())
            && server.is_none_or(|r| r.suits(&before.certificate));
        if whole && has_all {
            return Ok((before, Change::Unchanged));
        }
        change = if has_all { Change::Reissued } else { Change::Extended };
        wanted = issue::distinct(has.into_iter().chain(wanted).collect());
        if before.folder != folder {
            unoccupied(env, &folder, &files)?;
        }
    } else {
        unoccupied(env, &folder, &files)?;
        authority::free(label, &ledger.authorities()?, None, ledger.waiting_place(label.as_str())?.as_deref())?;
    }
    let mut wanted = issue::Request::server(wanted, label.clone(), folder);
    if let Some(r) = server {
        wanted.purposes = r.facts.purposes.to_vec();
        wanted.valid_for = r.life(None)?;
    }
    issue::names_within(&wanted.names, authority)?;
    let algorithm = server.map_or(Ok(KeyAlgorithm::P256), |r| r.key(None))?;
    let key = env.generate(algorithm)?;
    let signer = Signer::Authority(Box::new(authority.clone()), env.authority_key(authority, &request.secret)?);
    let (issued, _) = certificate::make(env, ledger, &wanted, (&key, None), &signer, "issued")?;
    Ok((issued, change))
}

/// Refuses a second directory for a certificate in force: the server that reads the first would never get the newer files.
fn stays(env: &Env, request: &Request, before: &Issued, wanted: &Path) -> Result<()> {
    crate::certificate::here(before)?;
    let is_whole = before.is_in_force(env.now) && env.disk().exists(&before.folder.join(CERTIFICATE_FILE));
    if request.into.is_none() || !is_whole || before.folder == wanted {
        return Ok(());
    }
    Err(Error::Objection {
        code: "label-elsewhere",
        what: format!("the certificate {} is in {} already", before.label, before.folder.shown()),
        why: format!("files in {} would leave the server there with an older certificate", wanted.shown()),
        instead: format!(
            "leave --into out; to move it: tamga move {} {}; for another certificate: --label TEXT",
            before.label,
            wanted.shown()
        ),
    }
    .into())
}

/// False if this machine's resolver does not know a name: a server under it is not found.
fn resolves(name: &Name) -> bool {
    match name {
        Name::Dns(d) if !name.is_loopback() && !d.starts_with("*.") => (d.as_str(), 0_u16).to_socket_addrs().is_ok(),
        _ => true,
    }
}

/// Starts a server with the new files and lets every installed client visit every name.
fn prove(env: &Env, stores: &Choice, secret: &Secret, issued: &Issued) -> Result<Vec<Proof>> {
    let (chain, key) = env.chain_and_key(issued, secret)?;
    let page = format!("{} is served by Tamga\n", issued.label);
    let site = tamga_host::serve::start(Site::new(&chain, &key, page)?)?;
    let names = issued.certificate.name_words();
    let names = names.iter().filter_map(|n| Name::from_str(n).ok()).filter(Name::is_host);
    let visits: Vec<Visit> = names.filter_map(|name| visit(name, site.port)).collect();
    let mut proofs = Vec::new();
    for (client, seen) in observe(env, &Client::ALL, &visits) {
        let is_in_scope = match client.roots() {
            Roots::Machine => stores.has(StoreId::System, Scope::Machine),
            Roots::Jvm => stores.has(StoreId::Java, Scope::Machine),
            Roots::Variable => false,
            Roots::Person if client == Client::Firefox => stores.has(StoreId::Firefox, Scope::User),
            Roots::Person | Roots::Elsewhere => stores.has(StoreId::Chromium, Scope::User),
        };
        let seen = visits.iter().map(|v| v.host.clone()).zip(seen).collect();
        proofs.push(Proof { client, is_in_scope, seen });
    }
    Ok(proofs)
}

/// How a name is visited on loopback: a wildcard by one name under it; other addresses than loopback are not ours to bind.
fn visit(name: Name, port: u16) -> Option<Visit> {
    let (host, ip): (Name, IpAddr) = match name {
        Name::Dns(d) => match d.strip_prefix("*.") {
            Some(rest) => (Name::Dns(format!("proof.{rest}")), Ipv4Addr::LOCALHOST.into()),
            None => (Name::Dns(d), Ipv4Addr::LOCALHOST.into()),
        },
        Name::Ip(IpAddr::V6(a)) if a == Ipv6Addr::LOCALHOST => {
            // Not every machine has IPv6 on loopback.
            std::net::TcpStream::connect(SocketAddr::new(a.into(), port)).ok()?;
            (name, a.into())
        }
        Name::Ip(a) if a == IpAddr::V4(Ipv4Addr::LOCALHOST) => (name, a),
        _ => return None,
    };
    Some(Visit { of_database: false, host, address: SocketAddr::new(ip, port), page: None })
}
