//! `tamga authority permit LABEL NAME|CIDR…`: the same authority with more names, swapped in the stores.

use crate::args::SecretArgs;
use crate::commands::trust;
use crate::exit::{Done, Result};
use crate::session::{Change, Session};
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::authority::{self, limits, permit};
use tamga_core::report::Authority;
use tamga_host::entropy;
use tamga_host::ledger::{Record, Work};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority permit saltmarsh tides.example 203.0.113.0/24")]
pub(crate) struct PermitArgs {
    /// Which
    label: String,
    /// Domains, names, addresses or blocks that it may certify from now on
    #[arg(required = true, value_name = "NAME|CIDR")]
    names: Vec<String>,
    /// A PEM bundle that the root was put into (repeatable)
    #[arg(long, value_name = "FILE")]
    bundle: Vec<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(super) fn run(session: &Session, args: &PermitArgs) -> Result<Done> {
    let bundles = trust::absolute(&args.bundle);
    if session.common.dry_run {
        let all = session.authorities()?;
        let a = authority::choose(Some(&args.label), &all, true)?;
        let parent = all.iter().find(|p| Some(&p.label) == a.issuer.as_ref());
        let text = match permit::wider(a, &args.names, parent)? {
            None => format!("{} may certify all of these already\n", a.label),
            Some(wider) => {
                format!("would make {} anew with the same key, for {wider}, and swap it in the stores\n", a.label)
            }
        };
        return Ok(Done::good(text, json!({"authorities": [], "stores": [], "dry_run": true})));
    }
    let (_lock, ledger) = session.open_for_change()?;
    let all = ledger.authorities()?;
    let a = authority::choose(Some(&args.label), &all, true)?;
    let parent = all.iter().find(|p| Some(&p.label) == a.issuer.as_ref());
    let Some(wider) = permit::wider(a, &args.names, parent)? else {
        let text = format!("{} may certify all of these already; nothing changed\n", a.label);
        return Ok(Done::good(text, json!({"authorities": [json::authority(a)], "stores": []})));
    };
    let key = session.authority_key(a, &args.secrets)?;
    let parent_key = match parent {
        Some(p) => Some(session.authority_key(p, &args.secrets)?),
        None => None,
    };
    let certificate = permit::reissue(a, &wider, &key, parent.zip(parent_key.as_ref()), &entropy::System)?;
    let mut earlier = a.earlier.clone();
    earlier.push(a.certificate.clone());
    let new = Authority { certificate, earlier, ..a.clone() };
    let publication = permit::publication(&new);
    let swap = Work::Swap { label: new.label.clone() };
    let change = Change {
        what: "reissue",
        label: &new.label,
        sha256: new.certificate.sha256(),
        publication: &publication,
        answers: false,
        record: Record::Reissued(&new),
    };
    let begun = session.publish_with(&ledger, &change, &[&swap])?;
    let rows = trust::swap(session, &ledger, &new, &bundles)?;
    for id in begun {
        ledger.finish(id, &swap)?;
    }
    let code = trust::code_of(&rows);
    let mut text = format!(
        "{} {} with the same key: it may certify {}\n",
        human::good("made anew"),
        human::strong(&new.label),
        limits::briefly(&new.certificate)
    );
    text.push_str(
        "what it has signed stays valid; root.pem in certificate folders is the earlier one until they are renewed\n",
    );
    if rows.is_empty() {
        text.push_str("no store here held it; tamga trust add puts it into them\n");
    } else {
        text.push_str(&trust::words(&rows));
    }
    let stores: Vec<_> = rows.iter().map(trust::json_of).collect();
    Ok(Done { text, json: json!({"authorities": [json::authority(&new)], "stores": stores}), code })
}
