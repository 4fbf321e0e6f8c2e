//! `tamga leave`: everything undone, from the stores' marks alone if the data folder is gone.

use super::trust as stores;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use std::collections::BTreeSet;
use std::path::PathBuf;
use tamga_core::authority::KEY_FILE;
use tamga_core::text::Shown;
use tamga_core::trust::{self, Goal, Root};
use tamga_host::fs;
use tamga_host::ledger::Ledger;

#[derive(clap::Args)]
pub(crate) struct LeaveArgs {
    /// A PEM bundle that our root was put into (repeatable)
    #[arg(long, value_name = "FILE")]
    bundle: Vec<PathBuf>,
}

pub(crate) fn run(session: &Session, args: &LeaveArgs) -> Result<Done> {
    let data = session.machine.data().to_path_buf();
    let has_data = Ledger::file(&data).exists();
    let bundles: Vec<PathBuf> =
        args.bundle.iter().map(|b| std::path::absolute(b).unwrap_or_else(|_| b.clone())).collect();
    let authorities = session.authorities()?;
    let leaves = stores::own_leaves(session)?;
    let mut found: Vec<(&'static dyn trust::Store, Root, bool)> = Vec::new();
    for store in trust::ALL {
        for place in store.survey(&session.machine, &bundles) {
            for (root, known) in stores::ours_in(&place, &authorities, &leaves) {
                if !found.iter().any(|(s, r, _)| s.id() == store.id() && r.certificate == root.certificate) {
                    found.push((*store, root, known));
                }
            }
        }
    }
    let mut text = String::new();
    let folders: BTreeSet<PathBuf> = match session.open_to_look()? {
        Some(l) => {
            let waiting = l.all_waiting()?.into_iter().filter(|w| !w.is_authority).map(|w| w.folder);
            l.issued(None)?.into_iter().map(|i| i.folder).chain(waiting).filter(|f| f.exists()).collect()
        }
        None => BTreeSet::new(),
    };
    if session.common.dry_run {
        for (store, root, _) in &found {
            text.push_str(&format!("would take {} out of {}\n", root.mark(), store.id()));
        }
        if has_data {
            text.push_str(&format!("would ask whether to remove the data folder {}\n", data.shown()));
        }
        return Ok(Done::good(text, json!({"stores": [], "remains": [], "dry_run": true})));
    }
    let (mut rows, mut code, mut remains) = (Vec::new(), exit::GOOD, Vec::<String>::new());
    if !found.is_empty() {
        // The lock and journal need a data folder; one that is gone is not made again for long.
        let (_lock, ledger) = session.open_for_change()?;
        for (store, root, known) in &found {
            let sure = *known
                || crate::ask::confirm(
                    session,
                    &format!(
                        "{} in {} bears Tamga's mark, but no ledger here knows it: take it out?",
                        root.mark(),
                        store.id()
                    ),
                )
                .unwrap_or(false);
            if !sure {
                code = exit::PARTLY;
                remains.push(format!(
                    "the root {} in {}: its mark is Tamga's, but no ledger knows it; tamga leave --yes takes it out",
                    root.mark(),
                    store.id()
                ));
                continue;
            }
            rows.extend(stores::apply(session, &ledger, &[*store], root, &bundles, Goal::Remove)?);
        }
        for r in rows.iter().filter(|r| r.code != 0) {
            code = exit::worst(code, if r.code == 6 { 6 } else { exit::PARTLY });
            remains.push(format!("the root {} in {} ({}): sudo tamga leave", r.label, r.store, r.place.shown()));
        }
    }
    for r in rows.iter().filter(|r| r.store == "chromium" && r.change == "removed") {
        remains
            .push(format!("{}: the browser's own database; it makes the same one at its first start", r.place.shown()));
    }
    for line in super::identity::clear(session).into_iter().chain(super::schedule::clear(session)) {
        match line {
            Ok(done) => text.push_str(&done),
            Err(left) => {
                code = exit::worst(code, exit::PARTLY);
                remains.push(left);
            }
        }
    }
    if let Some(n) = stores::forget_all(session)? {
        text.push_str(&format!("made Firefox forget {n} exceptions for names of yours\n"));
    }
    match super::hosts::clear(session) {
        Some(Ok(())) => text.push_str(&format!("removed Tamga's names from {}\n", super::hosts::PLACE)),
        Some(Err(left)) => {
            code = exit::worst(code, exit::PARTLY);
            remains.push(left);
        }
        None => {}
    }
    if rows.is_empty() && remains.is_empty() {
        text.push_str("no root of Tamga's is in any store\n");
    } else {
        text.push_str(&stores::words(&rows));
    }
    data_folder(session, has_data, code, &mut text, &mut remains)?;
    for folder in &folders {
        let key = if folder.join(KEY_FILE).exists() { " with its private key" } else { "" };
        remains.push(format!("{}{key}: delete it if no server uses it", folder.shown()));
    }
    if !remains.is_empty() {
        text.push_str(&format!("{}\n", human::strong("remains")));
        for line in &remains {
            text.push_str(&format!("  {line}\n"));
        }
    }
    let json = json!({"stores": rows.iter().map(stores::json_of).collect::<Vec<_>>(), "remains": remains});
    Ok(Done { text, json, code })
}

/// The data folder goes if the person says so, and only when nothing is left in a store that it would be needed for.
fn data_folder(session: &Session, had: bool, code: u8, text: &mut String, remains: &mut Vec<String>) -> Result<()> {
    let data = session.machine.data();
    if !data.exists() {
        return Ok(());
    }
    if !had {
        // Made by this run for its lock alone.
        return remove(data);
    }
    if code != exit::GOOD {
        remains.push(format!("the data folder {}: kept while a root is still in a store", data.shown()));
        return Ok(());
    }
    let question =
        format!("remove the data folder {} with the authorities' keys? what they signed stays valid", data.shown());
    match crate::ask::confirm(session, &question) {
        Some(true) => {
            remove(data)?;
            text.push_str(&format!("removed the data folder {}\n", data.shown()));
        }
        Some(false) => remains.push(format!("the data folder {}, as you said", data.shown())),
        None => remains.push(format!("the data folder {}: tamga leave --yes removes it", data.shown())),
    }
    Ok(())
}

/// Removes what Tamga put into the data directory, then the directory if nothing else is in it. Under its lock: nobody else is at
/// work in it then, and the lock itself goes last.
fn remove(data: &std::path::Path) -> Result<()> {
    let _lock = fs::lock(data)?;
    for name in tamga_host::ledger::FILES {
        fs::remove(&data.join(name))?;
    }
    for name in ["authorities", "trust"] {
        fs::remove_tree(&data.join(name))?;
    }
    for name in [fs::APPLY, fs::CHANGE] {
        fs::remove(&data.join(name))?;
    }
    // Something of the person's own in it: the directory stays.
    fs::remove_directory(data);
    Ok(())
}
