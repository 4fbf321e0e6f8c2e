//! `tamga authority rollover OLD NEW`: a new root beside the old one, each certified by the other.

use crate::args::{AuthoritySecretArgs, SecretArgs};
use crate::commands::trust;
use crate::exit::{Done, Result};
use crate::session::{Change, Session};
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::authority::create::{self, Request};
use tamga_core::authority::limits::{Wanted, briefly, permit_of};
use tamga_core::authority::{self, rollover};
use tamga_core::error::Error;
use tamga_core::key::{KeyAlgorithm, PrivateKey};
use tamga_core::label::Label;
use tamga_core::moment::Span;
use tamga_core::permit::Permit;
use tamga_core::renew;
use tamga_core::report::Authority;
use tamga_host::entropy;
use tamga_host::ledger::Record;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority rollover saltmarsh saltmarsh-2027")]
pub(crate) struct RolloverArgs {
    /// The root that there is
    old: String,
    /// What to call the new one
    new: String,
    /// How long the new one lives: m h d w y [default: 3650d]
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<String>,
    /// Another kind of key [default: as the old one]
    #[arg(long, value_name = "KIND")]
    key_algorithm: Option<String>,
    /// A PEM bundle that the old root was put into (repeatable)
    #[arg(long, value_name = "FILE")]
    bundle: Vec<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: AuthoritySecretArgs,
}

pub(super) fn run(session: &Session, args: &RolloverArgs) -> Result<Done> {
    let label = Label::parse(&args.new)?;
    if session.common.dry_run {
        let all = session.authorities()?;
        let old = root(&all, &args.old)?;
        authority::can_sign(old)?;
        let text = format!("would make the root {label} beside {} and certify each with the other's key\n", old.label);
        return Ok(Done::good(text, json!({"authorities": [], "stores": [], "dry_run": true})));
    }
    let asked = args.new_secrets.wanted(&format!("the key of {label}"))?;
    let (_lock, ledger) = session.open_for_change()?;
    let all = ledger.authorities()?;
    let old = root(&all, &args.old)?;
    let taken = ledger.waiting_place(label.as_str())?;
    authority::free(&label, &all, ledger.current(label.as_str())?.as_ref(), taken.as_deref())?;
    // The successor of an encrypted key is encrypted: with the same passphrase where no other is given.
    let (old_key, protect) = match (Session::is_locked(old), asked) {
        (true, None) => {
            let passphrase = args.secrets.needed(&format!("the key of {}", old.label))?;
            (session.authority_key_with(old, &passphrase)?, Some(passphrase))
        }
        (_, asked) => (session.authority_key(old, &args.secrets)?, asked),
    };
    let algorithm = match &args.key_algorithm {
        Some(typed) => KeyAlgorithm::parse(typed)?,
        None => renew::algorithm_of(&old.certificate),
    };
    let key = PrivateKey::generate(algorithm, &entropy::System)?;
    let request = Request {
        purposes: old.purposes.clone(),
        links: old.links.clone(),
        path_length: old.certificate.basic.and_then(|b| b.path_length),
        valid_for: args.valid_for.as_deref().map(Span::parse).transpose()?,
        wanted: wanted(old),
        ..Request::plain(label.clone())
    };
    let folder = session.authority_folder(label.as_str());
    let made = create::root(&request, &key, protect.as_ref(), folder, session.now, &entropy::System)?;
    let crossed = rollover::cross(old, &old_key, &made.authority, &key, session.now, &entropy::System)?;
    let new = Authority { crossed: vec![crossed.new_by_old], ..made.authority };
    session.publish(
        &ledger,
        &Change {
            what: "authority",
            label: label.as_str(),
            sha256: new.certificate.sha256(),
            publication: &made.publication,
            answers: false,
            record: Record::Successor { new: &new, old: &old.label, old_by_new: &crossed.old_by_new },
        },
    )?;
    let rows = trust::beside(session, &ledger, old, &new, &trust::absolute(&args.bundle))?;
    let code = trust::code_of(&rows);
    let mut text = format!(
        "{} the root {} beside {}: it may certify {}\n       each is certified by the other; what is issued from now on leads to both\n",
        human::good("made"),
        human::strong(&new.label),
        old.label,
        briefly(&new.certificate)
    );
    if rows.is_empty() {
        text.push_str(&format!(
            "no store here held {}; tamga trust add {} puts the new one into them\n",
            old.label, new.label
        ));
    } else {
        text.push_str(&trust::words(&rows));
    }
    text.push_str(&format!(
        "next   put {0} wherever {1} is trusted; issue and renew with --issuer {0}; at the end: tamga authority retire {1}\n",
        new.label, old.label
    ));
    let stores: Vec<_> = rows.iter().map(trust::json_of).collect();
    Ok(Done { text, json: json!({"authorities": [json::authority(&new)], "stores": stores}), code })
}

fn root<'a>(all: &'a [Authority], label: &str) -> Result<&'a Authority> {
    let a = authority::choose(Some(label), all, true)?;
    if !a.is_root() {
        return Err(Error::Contradiction {
            what: format!("{} is no root", a.label),
            why: "an intermediate is replaced by a new one under the same root".into(),
            instead: format!(
                "make it: tamga authority create {}-2 --issuer {}",
                a.label,
                a.issuer.as_deref().unwrap_or("LABEL")
            ),
        }
        .into());
    }
    Ok(a)
}

/// The limits of the old root, as they would be asked for.
fn wanted(old: &Authority) -> Wanted {
    match old.certificate.constraints.as_ref().map(permit_of) {
        Some(Permit::Only { domains, blocks }) => {
            Wanted { permit: domains.into_iter().chain(blocks.iter().map(ToString::to_string)).collect(), any: false }
        }
        _ => Wanted { permit: Vec::new(), any: true },
    }
}
