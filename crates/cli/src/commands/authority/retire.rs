//! `tamga authority retire LABEL`: the end of an authority; its records stay.

use crate::args::SecretArgs;
use crate::commands::trust;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::authority::{self, KEY_FILE};
use tamga_core::moment::DAY;
use tamga_core::report::{Authority, KeyPlace};
use tamga_core::text::Shown;
use tamga_host::fs;
use tamga_host::ledger::{Filter, Record, Sort, Work};
use tamga_host::repair::LIST_FILE;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority retire saltmarsh --discard-key")]
pub(crate) struct RetireArgs {
    /// Which
    label: String,
    /// Throw its private key away: it can never sign again, not even a list
    #[arg(long)]
    discard_key: bool,
    /// Where to write its last revocation list as well
    #[arg(long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// A PEM bundle that the root was put into (repeatable)
    #[arg(long, value_name = "FILE")]
    bundle: Vec<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(super) fn run(session: &Session, args: &RetireArgs) -> Result<Done> {
    if session.common.dry_run {
        let all = session.authorities()?;
        let a = authority::choose(Some(&args.label), &all, true)?;
        let key = if args.discard_key { ", and throw its key away" } else { "" };
        let text = format!("would sign the last list of {}, take it out of the stores{key}\n", a.label);
        return Ok(Done::good(text, json!({"authorities": [], "stores": [], "dry_run": true})));
    }
    let (_lock, ledger) = session.open_for_change()?;
    let all = ledger.authorities()?;
    let a = authority::choose(Some(&args.label), &all, true)?;
    let filter = Filter { ending: Some((session.now, tamga_core::moment::Moment::LAST)), ..Filter::default() };
    let (live, _) = ledger.page(&filter, Sort::Ends, None)?;
    let live: Vec<String> =
        live.into_iter().filter(|i| i.authority.as_deref() == Some(&a.label)).map(|i| i.label).collect();
    let mut text = String::new();
    let list = last_list(session, &ledger, a, args, &mut text)?;
    let rows =
        if a.is_root() { trust::everywhere(session, &ledger, a, &trust::absolute(&args.bundle))? } else { Vec::new() };
    ledger.retire(&a.label, session.now)?;
    let mut key = a.key.clone();
    if args.discard_key && a.key == KeyPlace::Here {
        let file = a.folder.join(KEY_FILE);
        let work = Work::KeyLeaves { label: a.label.clone(), file: file.clone().into(), into: None };
        let id = ledger.begin(&work, &Record::Nothing, session.now)?;
        ledger.set_key_place(&a.label, &KeyPlace::Discarded, "key-discarded", session.now)?;
        fs::remove(&file)?;
        ledger.finish(id, &work)?;
        key = KeyPlace::Discarded;
    }
    let gone = Authority { retired: true, key, ..a.clone() };
    text.push_str(&format!(
        "{} {}: it signs no more; its records stay\n",
        human::good("retired"),
        human::strong(&a.label)
    ));
    if args.discard_key {
        text.push_str(&match &gone.key {
            KeyPlace::Discarded => {
                "        its key was deleted; that a disk forgets the bytes nobody can promise\n".to_owned()
            }
            KeyPlace::Offline(p) => format!("        its key is in {}: delete it there\n", p.shown()),
            _ => "        its key was not here\n".to_owned(),
        });
    }
    if !rows.is_empty() {
        text.push_str(&trust::words(&rows));
    }
    if !live.is_empty() {
        let shown: Vec<&str> = live.iter().take(8).map(String::as_str).collect();
        let more = if live.len() > 8 { format!(" and {} more", live.len() - 8) } else { String::new() };
        text.push_str(&format!(
            "{} still in force under it: {}{more}; without the root in a store their visitors are warned\n",
            human::care("note"),
            shown.join(", ")
        ));
    }
    let stores: Vec<_> = rows.iter().map(trust::json_of).collect();
    let code = exit::worst(trust::code_of(&rows), exit::GOOD);
    let json = json!({"authorities": [json::authority(&gone)], "stores": stores, "list": list, "live": live});
    Ok(Done { text, json, code })
}

/// The last list, if the key is at hand; it counts until the authority's own end.
fn last_list(
    session: &Session,
    ledger: &tamga_host::ledger::Ledger,
    a: &Authority,
    args: &RetireArgs,
    text: &mut String,
) -> Result<serde_json::Value> {
    if authority::can_sign(a).is_err() {
        text.push_str(&format!("{} no last list: the key of {} is not at hand\n", human::care("note"), a.label));
        return Ok(json!(null));
    }
    let key = session.authority_key(a, &args.secrets)?;
    let file = args.output.clone().unwrap_or_else(|| a.folder.join(LIST_FILE));
    let left = (a.certificate.not_after.unix() - session.now.unix()).max(DAY);
    let life = tamga_core::moment::Span::seconds_of(left);
    let signed = super::crl::sign(session, ledger, a, &key, &file, None, life, &[])?;
    text.push_str(&format!(
        "{} the last list, number {}, with {}, good until {}: {}\n",
        human::good("signed "),
        signed.number,
        super::crl::count(signed.entries),
        signed.next.date(),
        file.shown()
    ));
    Ok(json!({"number": signed.number, "entries": signed.entries, "file": file}))
}
