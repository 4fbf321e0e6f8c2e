//! `tamga identity add|remove|status [LABEL]`: certificates with their keys in the stores from which browsers take their own.

use super::issue::current;
use crate::args::SecretArgs;
use crate::exit::{self, Done, Result};
use crate::session::{Session, certificates, key_of};
use crate::words::{human, json};
use serde_json::Value;
use tamga_core::authority::CERTIFICATE_FILE;
use tamga_core::cert::Certificate;
use tamga_core::error::{Error, Told};
use tamga_core::identity::{self, Holder, Identity, Parts, Place, State};
use tamga_core::purpose::Purpose;
use tamga_core::renew;
use tamga_core::report::Issued;
use tamga_core::text::Shown;
use tamga_host::{act, entropy};

#[derive(clap::Subcommand)]
pub(crate) enum IdentityCommand {
    /// Put a certificate with its key into the browsers' stores
    #[command(after_help = "Example: tamga identity add operator.saltmarsh.test")]
    Add(IdentityArgs),
    /// Take it out again, with its key
    Remove(IdentityArgs),
    /// Which identity is seen where
    Status(IdentityArgs),
}

#[derive(clap::Args)]
pub(crate) struct IdentityArgs {
    /// A certificate's label; without it the only one for clients (status: all of them)
    label: Option<String>,
    /// Exactly these stores: chromium firefox macos-user windows-user windows-machine [default: the person's]
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    stores: Vec<String>,
    /// An account that may read the key too, that of a service (stores of Windows)
    #[arg(long, value_name = "NAME")]
    account: Option<String>,
    #[command(flatten)]
    secrets: SecretArgs,
}

/// Where identities can be.
const STORES: [&str; 5] = ["chromium", "firefox", "macos-user", "windows-user", "windows-machine"];

/// One identity in one place, after all was done.
struct Row {
    store: &'static str,
    place: std::path::PathBuf,
    label: String,
    sha256: String,
    state: State,
    change: &'static str,
    why: Option<String>,
    remedy: Option<String>,
    code: u8,
}

pub(crate) fn run(session: &Session, command: IdentityCommand) -> Result<Done> {
    let (args, verb) = match command {
        IdentityCommand::Add(a) => (a, "add"),
        IdentityCommand::Remove(a) => (a, "remove"),
        IdentityCommand::Status(a) => (a, "status"),
    };
    if let Some(unknown) = args.stores.iter().find(|s| !STORES.contains(&s.as_str())) {
        let accepted = STORES.join(", ");
        return Err(Error::Word { what: "store of identities", typed: unknown.clone(), accepted }.into());
    }
    let of_windows = |p: &Place| matches!(p.holder, Holder::Windows { .. });
    if args.account.is_some() && !identity::places(&session.machine).iter().any(of_windows) {
        return Err(Error::Contradiction {
            what: "--account was given, but no store here gives single accounts a key".into(),
            why: "only the personal stores of Windows do; elsewhere a service reads the key's file".into(),
            instead: "whether an account can read that file: tamga check LABEL --account NAME".into(),
        }
        .into());
    }
    let meant = meant(session, args.label.as_deref(), verb == "status")?;
    let known = known(session)?;
    let mut rows = Vec::new();
    for issued in &meant {
        let chain =
            certificates(&[issued.folder.join(CERTIFICATE_FILE)]).unwrap_or_else(|_| vec![issued.certificate.clone()]);
        let identity = Identity { label: issued.label.clone(), chain };
        for mut place in identity::places(&session.machine) {
            identity::name_known(&mut place, &known);
            // The machine's is meant only by its name: it is the one of servers.
            let meant = args.stores.is_empty() && (place.store != "windows-machine" || verb == "status");
            if meant || args.stores.iter().any(|s| s == place.store) {
                rows.push(at(session, &args, issued, &identity, &place, verb)?);
            }
        }
    }
    let mut text = words(&rows);
    if verb == "add" && rows.iter().any(|r| r.change == "added") {
        text.push_str(
            "next: a server that asks is shown it; the browser lets you choose (running ones: after a restart)\n",
        );
    }
    let failed = rows.iter().filter(|r| r.code != 0).count();
    let there = rows.iter().filter(|r| r.state != State::Unavailable || r.code != 0).count();
    let worst = rows.iter().map(|r| r.code).fold(exit::GOOD, exit::worst);
    let lacking = verb == "status" && rows.iter().any(|r| matches!(r.state, State::WithoutKey | State::Older));
    let code = match (failed, lacking) {
        (0, true) => exit::BAD,
        (0, false) => exit::GOOD,
        (n, _) if n == there => worst,
        _ => exit::PARTLY,
    };
    Ok(Done { text, json: json!({"stores": rows.iter().map(json_of).collect::<Vec<_>>()}), code })
}

/// Every certificate of the ledger with its label.
fn known(session: &Session) -> Result<Vec<(String, Certificate)>> {
    let Some(ledger) = session.open_to_look()? else { return Ok(Vec::new()) };
    Ok(ledger.issued(None)?.into_iter().map(|i| (i.label, i.certificate)).collect())
}

/// The certificate that is named; else the only one for clients, or with `all` every one.
fn meant(session: &Session, label: Option<&str>, all: bool) -> Result<Vec<Issued>> {
    if let Some(label) = label {
        return Ok(vec![current(session, label)?]);
    }
    let issued = match session.open_to_look()? {
        Some(l) => l.issued(None)?,
        None => Vec::new(),
    };
    let found: Vec<Issued> = issued
        .into_iter()
        .filter(|i| i.is_live() && renew::purposes_of(&i.certificate).contains(&Purpose::Client))
        .collect();
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

fn at(
    session: &Session,
    args: &IdentityArgs,
    issued: &Issued,
    identity: &Identity,
    place: &Place,
    verb: &str,
) -> Result<Row> {
    let mut row = Row {
        store: place.store,
        place: place.folder.clone(),
        label: issued.label.clone(),
        sha256: issued.certificate.sha256(),
        state: identity::state(identity, place),
        change: "none",
        why: place.hindrance.as_ref().map(|h| h.why.clone()),
        remedy: place.hindrance.as_ref().map(|h| h.remedy.replace("trust add --stores firefox", "identity add")),
        code: exit::GOOD,
    };
    if row.state == State::WithoutKey && verb == "status" {
        row.why = Some("its private key is not there: no server is ever shown it".into());
        row.remedy = Some(format!("tamga identity add {}", issued.label));
    }
    if verb == "status" || place.hindrance.as_ref().is_some_and(|h| h.absent) {
        return Ok(row);
    }
    if place.hindrance.is_some() {
        row.change = "failed";
        row.code = exit::SURROUNDINGS;
        return Ok(row);
    }
    let adds = verb == "add" && row.state != State::Present;
    let steps = match (verb, adds) {
        ("add", true) => {
            let key = key_of(&issued.label, &issued.folder, &issued.certificate, &args.secrets)?;
            let parts = Parts { key: &key, entropy: &entropy::System, account: args.account.clone() };
            identity::add(identity, &parts, place, &session.machine)?
        }
        ("remove", _) => identity::remove(identity, place),
        _ => Vec::new(),
    };
    if steps.is_empty() {
        return Ok(row);
    }
    if session.common.dry_run {
        row.why = Some(steps.iter().map(|p| format!("would {}", p.step.words())).collect::<Vec<_>>().join("; "));
        return Ok(row);
    }
    if place.guarded && session.machine.password().is_none() && crate::ask::somebody() {
        let of = format!("the primary password of {}", place.folder.shown());
        session.machine.know_password(SecretArgs::default().needed(&of)?);
    } else if place.guarded
        && let Some(given) = args.secrets.given()?
    {
        session.machine.know_password(given);
    }
    match act::perform(&session.machine, &steps) {
        Ok(()) => {
            row.change = if verb == "add" { "added" } else { "removed" };
            row.state = if verb == "add" { State::Present } else { State::Absent };
            let (_lock, ledger) = session.open_for_change()?;
            let what = if verb == "add" { "identity added" } else { "identity removed" };
            ledger.note(session.now, what, &issued.label, &place.folder.shown())?;
        }
        Err(e) => {
            row.change = "failed";
            row.code = exit::code(e.kind());
            row.why = Some(format!("{}: {}", e.what(), e.why()));
            row.remedy = Some(e.remedy());
        }
    }
    Ok(row)
}

/// Every identity with our mark out of every browser: for each place what was done, or what stays.
pub(crate) fn clear(session: &Session) -> Vec<std::result::Result<String, String>> {
    let mut out = Vec::new();
    let known = known(session).unwrap_or_default();
    for mut place in identity::places(&session.machine) {
        identity::name_known(&mut place, &known);
        let (steps, count) = identity::remove_marked(&place);
        if steps.is_empty() {
            continue;
        }
        out.push(match act::perform(&session.machine, &steps) {
            Ok(()) => Ok(format!("removed {count} identities from {}\n", place.folder.shown())),
            Err(e) => Err(format!("{count} identities in {}: {}; {}", place.folder.shown(), e.why(), e.remedy())),
        });
    }
    out
}

fn words(rows: &[Row]) -> String {
    if rows.is_empty() {
        return "no certificate for clients yet: tamga issue NAME --purpose client\n".into();
    }
    let mut cells = vec![["store", "identity", "state", "change", "place"].map(human::dim).to_vec()];
    for r in rows {
        let state = match r.state {
            State::Present => human::good(r.state.word()),
            State::WithoutKey | State::Older => human::bad(r.state.word()),
            _ => human::dim(r.state.word()),
        };
        let change = match r.change {
            "failed" => human::bad(r.change),
            "none" => human::dim(r.change),
            other => human::good(other),
        };
        let name = format!("{} {}", r.label, human::dim(&r.sha256[..8]));
        cells.push(vec![human::strong(r.store), name, state, change, r.place.shown()]);
    }
    let mut text = human::table(&cells);
    for r in rows {
        if let Some(why) = &r.why {
            let mark = if r.code == 0 { human::dim("note") } else { human::bad("failed") };
            text.push_str(&format!("{mark} {}: {why}\n", r.store));
            if let Some(remedy) = &r.remedy {
                text.push_str(&format!("  {}  {remedy}\n", human::dim("do:")));
            }
        }
    }
    text
}

fn json_of(r: &Row) -> Value {
    json!({
        "store": r.store, "place": r.place, "identity": {"label": r.label, "sha256": r.sha256}, "state": r.state.word(),
        "change": r.change, "why": r.why, "remedy": r.remedy,
    })
}
