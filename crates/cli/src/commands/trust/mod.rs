//! `tamga trust add|remove|status [ROOT]`.

use crate::args::{ScopeArg, SecretArgs, StoreArgs};
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use std::path::{Path, PathBuf};
use tamga_core::authority::{self, import};
use tamga_core::cert::Certificate;
use tamga_core::error::Error;
use tamga_core::finding::Code;
use tamga_core::form::pem;
use tamga_core::report::{Authority, KeyPlace};
use tamga_core::trust::{self, Goal, Place, Root, Scope, State, Store};

mod apply;
mod environment;
mod exceptions;
mod fetched;
mod image;
mod leaf;
mod share;
mod share_page;
mod swap;
mod words;

pub(crate) use apply::{Row, apply, row_of};
use environment::EnvironmentArgs;
pub(crate) use environment::{RunArgs, run as run_program};
pub(crate) use exceptions::forget_all;
pub(crate) use leaf::own as own_leaves;
pub(crate) use swap::{beside, everywhere, swap};
use tamga_core::text::Shown;
use tamga_host::fs;
pub(crate) use words::{code_of, demand_named, json_of, words};

#[derive(clap::Subcommand)]
pub(crate) enum TrustCommand {
    /// Put a root into stores; twice changes nothing
    #[command(after_help = "Example: tamga trust add saltmarsh --scope both")]
    Add(TrustArgs),
    /// Take a root out of stores, and nothing else
    Remove(TrustArgs),
    /// Which root is seen where
    Status(TrustArgs),
    /// A page from which phones and other machines get the root
    Share(share::ShareArgs),
    /// Variables for runtimes whose list of roots is compiled in
    Environment(EnvironmentArgs),
}

#[derive(clap::Args)]
pub(crate) struct TrustArgs {
    /// An authority's label or a root's file; without it the only authority (status: all)
    root: Option<String>,
    #[command(flatten)]
    pub(crate) stores: StoreArgs,
    /// A root that another machine hands out over plain HTTP, instead of ROOT
    #[arg(long, value_name = "http://HOST:PORT", conflicts_with = "root")]
    url: Option<String>,
    /// Its SHA-256, read from the other machine's own screen
    #[arg(long, value_name = "SHA256", requires = "url")]
    fingerprint: Option<String>,
    /// Take in a root's file in spite of exactly this objection (repeatable)
    #[arg(long, value_name = "CODE")]
    accept: Vec<String>,
    /// Forget the exception that a browser remembers for this host instead (remove)
    #[arg(long, value_name = "HOST:PORT")]
    exception: Option<String>,
    /// The machine's stores of an image, a chroot or a container's file system instead of this machine's
    #[arg(long, value_name = "DIR", conflicts_with_all = ["scope", "elevate", "exception"])]
    sysroot: Option<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, command: TrustCommand) -> Result<Done> {
    if let TrustCommand::Add(args) | TrustCommand::Remove(args) | TrustCommand::Status(args) = &command {
        session.elevate(&args.stores)?;
        if let Some(dir) = &args.sysroot {
            return image::run(session, &dir.clone(), command);
        }
    }
    within(session, command)
}

/// A root into stores.
pub(crate) fn add(session: &Session, args: TrustArgs) -> Result<Done> {
    run(session, TrustCommand::Add(args))
}

fn within(session: &Session, command: TrustCommand) -> Result<Done> {
    match command {
        TrustCommand::Add(args) => change(session, &args, Goal::Add),
        TrustCommand::Remove(TrustArgs { exception: Some(place), .. }) => exceptions::forget(session, &place),
        TrustCommand::Remove(args) => change(session, &args, Goal::Remove),
        TrustCommand::Status(args) => status(session, &args),
        TrustCommand::Share(args) => share::run(session, &args),
        TrustCommand::Environment(args) => environment::environment(session, &args),
    }
}

/// The stores meant by the options.
pub(crate) fn chosen(args: &StoreArgs) -> Result<Vec<&'static dyn Store>> {
    if !args.stores.is_empty() {
        let found = args.stores.iter().map(|s| trust::by_id(s)).collect::<tamga_core::error::Result<Vec<_>>>()?;
        return Ok(found.into_iter().flatten().collect());
    }
    Ok(trust::ALL
        .iter()
        .copied()
        .filter(|s| in_scope(args.scope, s.scope()) || (s.id() == "bundle" && !args.bundle.is_empty()))
        .collect())
}

/// True if a store of this scope is meant.
pub(crate) fn in_scope(wanted: ScopeArg, scope: Scope) -> bool {
    match wanted {
        ScopeArg::Both => true,
        ScopeArg::User => scope == Scope::User,
        ScopeArg::Machine => scope == Scope::Machine,
    }
}

fn bundles(args: &StoreArgs) -> Vec<PathBuf> {
    absolute(&args.bundle)
}

/// Bundles as named, absolute.
pub(crate) fn absolute(bundles: &[PathBuf]) -> Vec<PathBuf> {
    bundles.iter().map(|b| std::path::absolute(b).unwrap_or_else(|_| b.clone())).collect()
}

fn roots(session: &Session, args: &TrustArgs, all: &[Authority], goal: Option<Goal>) -> Result<Vec<Root>> {
    if let Some(url) = &args.url {
        let root = fetched::root(url, args.fingerprint.as_deref())?;
        if goal == Some(Goal::Add) {
            taken(session, &root, &super::issue::accepted(&args.accept)?)?;
        }
        return Ok(vec![root]);
    }
    let typed = args.root.as_deref();
    if let Some(typed) = typed
        && !all.iter().any(|a| a.label == typed)
        && Path::new(typed).is_file()
    {
        let root = root_file(typed)?;
        let own = leaf::own(session)?.into_iter().find(|l| l.certificate == root.certificate);
        if let Some(own) = own {
            return Ok(vec![own]);
        }
        if goal == Some(Goal::Add) && !all.iter().any(|a| a.certificate == root.certificate) {
            taken(session, &root, &super::issue::accepted(&args.accept)?)?;
        }
        return Ok(vec![root]);
    }
    if let Some(own) = leaf::own(session)?.into_iter().find(|l| Some(l.label.as_str()) == typed) {
        return Ok(vec![own]);
    }
    Ok(vec![root_of(authority::choose(typed, all, false)?)?])
}

/// What goes into stores for an authority: itself if it is a root, else the root above it.
pub(crate) fn root_of(a: &Authority) -> Result<Root> {
    match a.top() {
        Some(top) => Ok(Root { label: a.root_label.clone(), certificate: top.clone() }),
        None => Err(Error::Contradiction {
            what: format!("the root above {} is not known here", a.label),
            why: "an intermediate is trusted only through its root, which did not come with it".into(),
            instead: "put the root's file into the stores: tamga trust add FILE".into(),
        }
        .into()),
    }
}

fn root_file(typed: &str) -> Result<Root> {
    let path = Path::new(typed);
    let bytes = fs::read_named(path)?;
    let malformed = |why: &str| Error::Malformed { what: typed.to_owned(), why: why.to_owned() };
    let der = pem::certificates(&bytes).into_iter().next().ok_or_else(|| malformed("it holds no certificate"))?;
    let certificate = Certificate::read(&der, typed)?;
    let stem = path.file_stem().unwrap_or_default().to_string_lossy();
    Ok(Root { label: tamga_core::label::Label::from_text(&stem)?.to_string(), certificate })
}

/// Refuses a root from elsewhere that hinders or endangers whoever trusts it: in a store it would only look like a good one.
fn taken(session: &Session, root: &Root, accepted: &[Code]) -> Result<()> {
    if !root.certificate.is_ca() {
        return leaf::objection(&root.certificate, accepted);
    }
    let findings = import::examine(&root.certificate, &[], session.now, accepted)?;
    let open = findings.iter().find(|f| f.code == Code::Unconstrained && !accepted.contains(&f.code));
    match open {
        None => Ok(()),
        Some(f) => Err(Error::Objection {
            code: f.code.word(),
            what: format!("{} is not trusted unasked", f.about),
            why: f.summary.clone(),
            instead: "knowing this: --accept unconstrained; or make one with limits: tamga authority create LABEL"
                .into(),
        }
        .into()),
    }
}

fn change(session: &Session, args: &TrustArgs, goal: Goal) -> Result<Done> {
    let stores = chosen(&args.stores)?;
    if session.common.dry_run {
        let all = session.authorities()?;
        let root = roots(session, args, &all, Some(goal))?.remove(0);
        return Ok(dry(session, &stores, &root, &bundles(&args.stores), goal));
    }
    if let Some(password) = args.secrets.given()? {
        session.machine.know_password(password);
    }
    // The network may be slow: nobody else is to wait for it at the lock.
    let fetched = args.url.as_ref().map(|_| roots(session, args, &[], Some(goal))).transpose()?;
    let (_lock, ledger) = session.open_for_change()?;
    let all = ledger.authorities()?;
    let (mut rows, mut beside) = (Vec::new(), String::new());
    let meant = match fetched {
        Some(fetched) => fetched,
        None => roots(session, args, &all, Some(goal))?,
    };
    for root in meant {
        let mut own = apply(session, &ledger, &stores, &root, &bundles(&args.stores), goal)?;
        if goal == Goal::Add {
            demand_named(&mut own, &args.stores.stores);
        }
        rows.extend(own);
        if goal == Goal::Add {
            let (gone, told) = swap::older(session, &ledger, &stores, &root, &all, &bundles(&args.stores))?;
            rows.extend(gone);
            beside.push_str(&told);
        }
    }
    let mut absent = of_other_systems(session, args, &stores, &all, &rows)?;
    if goal == Goal::Add {
        demand_named(&mut absent, &args.stores.stores);
    }
    rows.extend(absent);
    let mut text = words(&rows);
    text.push_str(&beside);
    if goal == Goal::Add && rows.iter().any(|r| r.change == "added") {
        text.push_str("next: tamga check NAME or LABEL shows whether anyone would still warn\n");
    }
    if goal == Goal::Remove {
        text.push_str(&exceptions::copies(session, &rows));
    }
    text.push_str(&exceptions::running(session, &rows));
    let code = code_of(&rows);
    Ok(Done { text, json: json!({"stores": rows.iter().map(json_of).collect::<Vec<_>>()}), code })
}

/// Rows for stores that were named, but that this system does not have at all.
fn of_other_systems(
    session: &Session,
    args: &TrustArgs,
    stores: &[&'static dyn Store],
    all: &[Authority],
    rows: &[Row],
) -> Result<Vec<Row>> {
    let named = |s: &&'static dyn Store| args.stores.stores.iter().any(|n| n == s.id());
    if !stores.iter().any(|s| named(s) && !rows.iter().any(|r| r.store == s.id())) {
        return Ok(Vec::new());
    }
    let mut out = Vec::new();
    for root in roots(session, args, all, None)? {
        out.extend(of_no_place(session, &args.stores, &root, rows)?);
    }
    Ok(out)
}

/// Rows for stores that were named and have no place here.
pub(crate) fn of_no_place(session: &Session, args: &StoreArgs, root: &Root, rows: &[Row]) -> Result<Vec<Row>> {
    let mut out: Vec<Row> = Vec::new();
    for store in chosen(args)?.into_iter().filter(|s| args.stores.iter().any(|n| n == s.id())) {
        if rows.iter().chain(&out).any(|r| r.store == store.id()) {
            continue;
        }
        // A bundle is a file that is named; every other store is the system's or a client's.
        let (why, remedy) = match store.id() {
            "bundle" => ("no bundle was named", "name the file: --bundle FILE"),
            _ => ("this system has no such store", "tamga trust status shows those that are here"),
        };
        let hindrance = trust::Hindrance { why: why.into(), remedy: remedy.into(), absent: true };
        let (place, entries) = ("none".into(), Vec::new());
        let place = Place { store: store.id(), place, hindrance: Some(hindrance), entries, guarded: false };
        out.push(row_of(session, store, root, &place));
    }
    Ok(out)
}

fn dry(session: &Session, stores: &[&'static dyn Store], root: &Root, bundles: &[PathBuf], goal: Goal) -> Done {
    let mut text = String::new();
    let mut steps = Vec::new();
    for store in stores {
        for place in store.survey(&session.machine, bundles) {
            if let Some(h) = &place.hindrance {
                text.push_str(&format!("  {}: {}; do: {}\n", store.id(), h.why, h.remedy));
                continue;
            }
            let planned = store.change(goal, root, &place, &session.machine);
            if planned.is_empty() {
                text.push_str(&format!("  {}: nothing to do in {}\n", store.id(), place.place.shown()));
            }
            for p in planned {
                text.push_str(&format!("  {}: would {}\n", store.id(), p.step.words()));
                steps.push(json!({"store": store.id(), "step": p.step.words()}));
            }
        }
    }
    Done::good(text, json!({"stores": [], "steps": steps, "dry_run": true}))
}

/// Roots that bear our mark or stand in the ledger, wherever they are found in a place.
pub(crate) fn ours_in(place: &Place, authorities: &[Authority], leaves: &[Root]) -> Vec<(Root, bool)> {
    let mut out: Vec<(Root, bool)> = Vec::new();
    for e in &place.entries {
        let is_its = |a: &&Authority| a.certificate == e.certificate || a.earlier.contains(&e.certificate);
        let known = authorities.iter().find(is_its);
        let marked = e.mark.as_deref().and_then(|m| trust::label_of_mark(m, &e.certificate));
        let own = leaves.iter().find(|l| l.certificate == e.certificate);
        if let Some(own) = own {
            if !out.iter().any(|(r, _)| r.certificate == own.certificate) {
                out.push((own.clone(), true));
            }
            continue;
        }
        let root = match (known, marked) {
            (Some(a), _) => Root { label: a.label.clone(), certificate: e.certificate.clone() },
            (None, Some(label)) => Root { label: label.to_owned(), certificate: e.certificate.clone() },
            (None, None) => continue,
        };
        if !out.iter().any(|(r, _)| r.certificate == root.certificate) {
            out.push((root, known.is_some()));
        }
    }
    out
}

fn status(session: &Session, args: &TrustArgs) -> Result<Done> {
    let all = session.authorities()?;
    let mut meant: Vec<Root> = match &args.root {
        Some(_) => roots(session, args, &all, None)?,
        None if args.url.is_some() => roots(session, args, &all, None)?,
        None => {
            let roots = all.iter().filter(|a| a.is_root());
            roots.map(|a| Root { label: a.label.clone(), certificate: a.certificate.clone() }).collect()
        }
    };
    let everything: Vec<&'static dyn Store> = if args.stores.stores.is_empty() && args.sysroot.is_none() {
        trust::ALL.to_vec()
    } else {
        chosen(&args.stores)?
    };
    let wanted = chosen(&args.stores)?;
    let leaves = leaf::own(session)?;
    let (mut rows, mut orphans) = (Vec::new(), Vec::new());
    let mut surveys = Vec::new();
    for store in everything {
        for place in store.survey(&session.machine, &bundles(&args.stores)) {
            for (root, known) in ours_in(&place, &all, &leaves) {
                let leaf = known
                    && !all.iter().any(|a| a.certificate == root.certificate || a.earlier.contains(&root.certificate));
                if leaf && args.root.is_none() && !meant.iter().any(|m| m.certificate == root.certificate) {
                    meant.push(root);
                    continue;
                }
                if !known && !meant.iter().any(|m| m.certificate == root.certificate) && args.root.is_none() {
                    orphans.push(root.mark());
                    meant.push(root);
                }
            }
            surveys.push((store, place));
        }
    }
    for (store, place) in &surveys {
        for root in &meant {
            rows.push(row_of(session, *store, root, place));
        }
    }
    if !meant.is_empty() {
        rows.extend(of_other_systems(session, args, &wanted, &all, &rows)?);
    }
    let lacking = rows.iter().any(|r| {
        wanted.iter().any(|s| s.id() == r.store)
            && !matches!(r.state, State::Present | State::Unavailable)
            && all.iter().any(|a| !a.retired && a.key != KeyPlace::Discarded && a.certificate.sha256() == r.sha256)
    });
    let mut text = if meant.is_empty() {
        "no authority yet, and no root with Tamga's mark in any store\n".to_owned()
    } else {
        words(&rows)
    };
    for mark in &orphans {
        text.push_str(&format!(
            "{} {mark} is in a store, but this data folder does not know it\n  {}  tamga leave takes it out\n",
            human::care("leftover"),
            human::dim("do:")
        ));
    }
    let (more, findings) = match args.sysroot {
        // Whoever's exceptions and variables: they are not the image's.
        Some(_) => (String::new(), Vec::new()),
        None => exceptions::noticed(session, &meant)?,
    };
    text.push_str(&more);
    if lacking {
        text.push_str("next: tamga trust add puts the root where it is absent\n");
    }
    let code = if lacking { exit::BAD } else { exit::GOOD };
    Ok(Done {
        text,
        json: json!({"stores": rows.iter().map(json_of).collect::<Vec<_>>(), "leftovers": orphans, "findings": findings}),
        code,
    })
}
