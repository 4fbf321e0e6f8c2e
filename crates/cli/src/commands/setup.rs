//! `tamga setup [NAME…]`: the job in one step, and its proof.

use super::issue::Source;
use super::{authority as make_authority, issue as make_certificate, recipe, serve, trust as stores};
use crate::args::{NewSecretArgs, SecretArgs, StoreArgs};
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::Value;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, ToSocketAddrs};
use std::path::PathBuf;
use tamga_core::authority::create::Request;
use tamga_core::authority::limits::{Wanted, briefly};
use tamga_core::authority::{self, CERTIFICATE_FILE, KEY_FILE};
use tamga_core::client::{Client, Outcome};
use tamga_core::issue;
use tamga_core::key::{KeyAlgorithm, PrivateKey};
use tamga_core::label::Label;
use tamga_core::name::Name;
use tamga_core::recipe::Recipe;
use tamga_core::renew;
use tamga_core::report::{Authority, Issued, Standing};
use tamga_core::text::Shown;
use tamga_core::trust::{Goal, Scope};
use tamga_host::clients::{self, Observed, Visit};
use tamga_host::ledger::Ledger;
use tamga_host::serve::Site;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga setup charts.saltmarsh.test --into tls")]
pub(crate) struct SetupArgs {
    /// Names and addresses; localhost, 127.0.0.1 and ::1 are always included
    #[arg(value_name = "NAME")]
    names: Vec<String>,
    /// Under which authority, where there are several
    #[arg(long, value_name = "LABEL")]
    issuer: Option<String>,
    /// What to call the certificate [default: the first name]
    #[arg(long, value_name = "TEXT")]
    label: Option<String>,
    /// The folder for the certificate's files [default: ./LABEL]
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// Key kind, purposes and form as this server needs them (tamga recipe lists the servers)
    #[arg(long = "for", value_name = "SERVER")]
    server: Option<String>,
    #[command(flatten)]
    stores: StoreArgs,
    #[command(flatten)]
    secrets: SecretArgs,
}

const LOOPBACK: [&str; 3] = ["localhost", "127.0.0.1", "::1"];
/// The authority that setup makes.
const AUTHORITY: &str = "local";

/// The proof for one client: what it said to each name.
struct Proof {
    client: Client,
    in_scope: bool,
    seen: Vec<(Name, Observed)>,
}

pub(crate) fn run(session: &Session, args: SetupArgs) -> Result<Done> {
    let typed = args.names.iter().map(String::as_str).chain(LOOPBACK);
    let names = issue::distinct(typed.map(Name::parse).collect::<tamga_core::error::Result<_>>()?);
    let label = match &args.label {
        Some(l) => Label::parse(l)?,
        None => names[0].label()?,
    };
    let server = recipe::wanted(args.server.as_deref())?;
    if session.common.dry_run {
        return dry(session, &args, &names, &label);
    }
    let mut text = String::new();
    let (issued, authority, changes, rows) = {
        let (_lock, ledger) = session.open_for_change()?;
        let (authority, new_root) = authority_for(session, &ledger, &args, &names)?;
        let (issued, change) = certificate_for(session, &ledger, &args, &names, &label, &authority, server)?;
        let root = stores::root_of(&authority)?;
        let bundles = stores::absolute(&args.stores.bundle);
        let mut rows = stores::apply(session, &ledger, &stores::chosen(&args.stores)?, &root, &bundles, Goal::Add)?;
        rows.extend(stores::of_no_place(session, &args.stores, &root, &rows)?);
        stores::demand_named(&mut rows, &args.stores.stores);
        (issued, authority, (new_root, change), rows)
    };
    text.push_str(&format!(
        "{} {} {}, may certify {}\n",
        human::dim("authority  "),
        human::strong(&authority.label),
        if changes.0 { human::good("made") } else { "unchanged".into() },
        briefly(&authority.certificate),
    ));
    text.push_str(&format!(
        "{} {} {} for {}\n             in {}\n",
        human::dim("certificate"),
        human::strong(&issued.label),
        if changes.1 == "unchanged" { "unchanged".into() } else { human::good(changes.1) },
        issued.certificate.name_words().join(", "),
        issued.folder.shown()
    ));
    text.push_str(&format!("\n{}", stores::words(&rows)));
    let unresolved = unresolved(&names);
    let proofs = prove(session, &args.stores, &args.secrets, &issued)?;
    text.push_str(&format!(
        "\n{}\n",
        human::strong("proof: a server on this machine, met by the clients installed here")
    ));
    text.push_str(&table(&proofs));
    text.push_str(&advice(&proofs, &unresolved, &authority.label, session.raise()));
    text.push_str(&format!(
        "{} give certificate.pem and private-key.pem to the server; tamga check https://{}:PORT then tells whether it serves\n     \
         them; tamga leave undoes all of this\n",
        human::dim("next"),
        reachable(&names[0]),
    ));
    if changes.1 != "unchanged" {
        text.push_str(&recipe::in_its_form(session, server, &issued, &args.secrets, &NewSecretArgs::default())?);
    }
    let bad = proofs.iter().any(|p| p.in_scope && !p.accepts());
    let code = exit::worst(stores::code_of(&rows), if bad { exit::BAD } else { exit::GOOD });
    let proof: Vec<Value> = proofs.iter().flat_map(proof_json).collect();
    let json = json!({
        "authority": json::authority(&authority),
        "certificates": [json::issued(&issued)],
        "change": changes.1,
        "stores": rows.iter().map(stores::json_of).collect::<Vec<_>>(),
        "names": names.iter().map(|n| json!({"name": n.to_string(), "resolves": !unresolved.contains(n)})).collect::<Vec<_>>(),
        "proof": proof,
    });
    Ok(Done { text, json, code })
}

fn dry(session: &Session, args: &SetupArgs, names: &[Name], label: &Label) -> Result<Done> {
    let all = session.authorities()?;
    let authority = match (args.issuer.as_deref(), all.is_empty()) {
        (None, true) => format!("make the root {AUTHORITY}"),
        (named, _) => format!("use the root {}", authority::choose(named, &all, true)?.label),
    };
    let names: Vec<String> = names.iter().map(ToString::to_string).collect();
    let stores: Vec<&str> = stores::chosen(&args.stores)?.iter().map(|s| s.id()).collect();
    let folder = make_certificate::folder(args.into.as_deref(), label)?;
    let text = format!(
        "would {authority}\nwould issue {label} for {} into {}\nwould put the root into: {}\n",
        names.join(", "),
        folder.shown(),
        stores.join(", ")
    );
    Ok(Done::good(text, json!({"certificates": [], "stores": [], "dry_run": true})))
}

/// The authority: the one there is, or a new one that permits these names.
fn authority_for(session: &Session, ledger: &Ledger, args: &SetupArgs, names: &[Name]) -> Result<(Authority, bool)> {
    let all = ledger.authorities()?;
    if !all.is_empty() || args.issuer.is_some() {
        return Ok((authority::choose(args.issuer.as_deref(), &all, true)?.clone(), false));
    }
    let request = Request {
        wanted: Wanted { permit: names.iter().map(ToString::to_string).collect(), any: false },
        ..Request::plain(Label::parse(AUTHORITY)?)
    };
    let key = PrivateKey::generate(KeyAlgorithm::P256, &tamga_host::entropy::System)?;
    Ok((make_authority::create::make(session, ledger, &request, &key, None, None)?.authority, true))
}

/// The certificate: unchanged if it has these names, extended if some are new, else issued.
fn certificate_for(
    session: &Session,
    ledger: &Ledger,
    args: &SetupArgs,
    names: &[Name],
    label: &Label,
    authority: &Authority,
    server: Option<&Recipe>,
) -> Result<(Issued, &'static str)> {
    let before = ledger.current(label.as_str())?;
    let mut wanted = names.to_vec();
    let mut folder = make_certificate::folder(args.into.as_deref(), label)?;
    let mut change = "issued";
    if let Some(before) = before {
        if args.into.is_none() {
            folder.clone_from(&before.folder);
        }
        let has: Vec<Name> = before.certificate.name_words().iter().filter_map(|n| Name::parse(n).ok()).collect();
        let whole = before.folder == folder
            && [CERTIFICATE_FILE, KEY_FILE].iter().all(|f| before.folder.join(f).exists())
            && matches!(before.standing(session.now), Standing::Valid)
            && before.authority.as_deref() == Some(authority.label.as_str())
            && server.is_none_or(|r| r.facts.keys.contains(&renew::algorithm_of(&before.certificate)));
        if whole && names.iter().all(|n| has.contains(n)) {
            return Ok((before, "unchanged"));
        }
        change = if names.iter().all(|n| has.contains(n)) { "issued again" } else { "extended" };
        wanted = issue::distinct(has.into_iter().chain(wanted).collect());
        if before.folder != folder {
            make_certificate::unoccupied(&folder)?;
        }
    } else {
        make_certificate::unoccupied(&folder)?;
        authority::free(label, &ledger.authorities()?, None, ledger.waiting_place(label.as_str())?.as_deref())?;
    }
    let mut request = issue::Request::server(wanted, label.clone(), folder);
    if let Some(r) = server {
        request.purposes = r.facts.purposes.to_vec();
    }
    issue::names_within(&request.names, authority)?;
    let algorithm = server.map_or(Ok(KeyAlgorithm::P256), |r| r.key(None))?;
    let key = PrivateKey::generate(algorithm, &tamga_host::entropy::System)?;
    let source = Source::Authority(Box::new(authority.clone()), session.authority_key(authority, &args.secrets)?);
    let (issued, _) = make_certificate::make(session, ledger, &request, &key, None, &source, "issued")?;
    Ok((issued, change))
}

/// A host that the first name stands for, as it is typed in an address.
fn reachable(name: &Name) -> String {
    match name {
        Name::Dns(d) => d.strip_prefix("*.").map_or_else(|| d.clone(), |rest| format!("www.{rest}")),
        Name::Ip(IpAddr::V6(a)) => format!("[{a}]"),
        other => other.to_string(),
    }
}

/// Names that this machine's resolver does not know: a server under them is not found.
fn unresolved(names: &[Name]) -> Vec<Name> {
    names
        .iter()
        .filter(|n| match n {
            Name::Dns(d) => !n.is_loopback() && !d.starts_with("*.") && (d.as_str(), 0_u16).to_socket_addrs().is_err(),
            _ => false,
        })
        .cloned()
        .collect()
}

/// Starts a server with the new files and lets every installed client visit every name.
fn prove(session: &Session, args: &StoreArgs, secrets: &SecretArgs, issued: &Issued) -> Result<Vec<Proof>> {
    let (chain, key) = serve::identity(issued, secrets)?;
    let site = tamga_host::serve::start(Site::new(&chain, &key, serve::page(issued))?)?;
    let visits: Vec<Visit> = issued
        .certificate
        .name_words()
        .iter()
        .filter_map(|n| Name::parse(n).ok())
        .filter(Name::is_host)
        .filter_map(|name| visit(name, site.port))
        .collect();
    let mut proofs = Vec::new();
    for (client, seen) in clients::observe_all(&Client::ALL, &session.machine, &visits) {
        let in_scope = match client {
            Client::Curl | Client::Python | Client::Go | Client::Gnutls => in_scope(args, "system", Scope::Machine),
            Client::Java => in_scope(args, "java", Scope::Machine),
            // No store of this machine is its: it must be told by a variable.
            Client::Node => false,
            Client::Firefox => in_scope(args, "firefox", Scope::User),
            Client::Chromium | Client::Standard | Client::Safari | Client::Windows => {
                in_scope(args, "chromium", Scope::User)
            }
        };
        let seen = visits.iter().map(|v| v.host.clone()).zip(seen).collect();
        proofs.push(Proof { client, in_scope, seen });
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
    Some(Visit { host, address: SocketAddr::new(ip, port) })
}

fn in_scope(args: &StoreArgs, store: &str, scope: Scope) -> bool {
    if args.stores.is_empty() { stores::in_scope(args.scope, scope) } else { args.stores.iter().any(|s| s == store) }
}

impl Proof {
    fn accepts(&self) -> bool {
        self.seen.iter().all(|(_, o)| o.outcome == Outcome::Accepts)
    }
}

fn table(proofs: &[Proof]) -> String {
    if proofs.is_empty() {
        return "  no client that Tamga can run is installed here: nothing could be proved\n".into();
    }
    let mut rows = vec![["client", "verdict", "names", "its own words"].map(human::dim).to_vec()];
    for p in proofs {
        let mut groups: Vec<(Outcome, Option<String>, Vec<String>)> = Vec::new();
        for (name, o) in &p.seen {
            // Words that quote the name differ only in it.
            let quoted = format!("'{name}'");
            let alike = |c: &Option<String>| c.as_ref().map(|c| c.replace(&quoted, "'…'"));
            let code = if p.seen.len() > 1 { alike(&o.code) } else { o.code.clone() };
            match groups.iter_mut().find(|g| g.0 == o.outcome && g.1 == code) {
                Some(g) => g.2.push(name.to_string()),
                None => groups.push((o.outcome, code, vec![name.to_string()])),
            }
        }
        for (outcome, code, names) in groups {
            rows.push(vec![
                human::strong(p.client.word()),
                super::check::outcome(outcome),
                if names.len() == p.seen.len() { format!("all {}", names.len()) } else { names.join(", ") },
                code.unwrap_or_default(),
            ]);
        }
    }
    human::table(&rows)
}

/// Where somebody warns, what to do.
fn advice(proofs: &[Proof], unresolved: &[Name], label: &str, raise: &str) -> String {
    let mut text = String::new();
    // Clients that one command helps are named together.
    let mut groups: Vec<(bool, String, Vec<&str>)> = Vec::new();
    for p in proofs.iter().filter(|p| !p.accepts()) {
        let command = match (p.client, p.in_scope) {
            (Client::Java, false) => format!("{raise}tamga trust add {label} --stores java"),
            (Client::Curl | Client::Python | Client::Go | Client::Gnutls, false) => {
                format!("{raise}tamga trust add {label} --scope machine")
            }
            (Client::Node, _) => "eval \"$(tamga trust environment)\", or for one call: tamga run -- node …".into(),
            (_, false) => format!("tamga trust add {label}"),
            (_, true) => format!("tamga trust status {label}"),
        };
        match groups.iter_mut().find(|g| g.0 == p.in_scope && g.1 == command) {
            Some(g) => g.2.push(p.client.word()),
            None => groups.push((p.in_scope, command, vec![p.client.word()])),
        }
    }
    for (in_scope, command, clients) in groups {
        let mark = if in_scope { human::bad("warns") } else { human::care("not in scope") };
        text.push_str(&format!("{mark} {}\n  {}  {command}\n", clients.join(", "), human::dim("do:")));
    }
    if !unresolved.is_empty() {
        let names: Vec<String> = unresolved.iter().map(ToString::to_string).collect();
        let verb = if names.len() == 1 { "does" } else { "do" };
        text.push_str(&format!(
            "{} {} {verb} not resolve on this machine\n  {}  {raise}tamga hosts add {}\n",
            human::care("note"),
            names.join(", "),
            human::dim("do:"),
            names.join(" ")
        ));
    }
    text
}

fn proof_json(p: &Proof) -> Vec<Value> {
    p.seen
        .iter()
        .map(|(name, o)| {
            json!({"client": p.client.word(), "name": name.to_string(), "basis": "observed", "verdict": o.outcome.word(),
                "code": o.code, "in_scope": p.in_scope})
        })
        .collect()
}
