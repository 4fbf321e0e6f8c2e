//! `tamga revoke LABEL --reason REASON`: a certificate is taken back; who will notice, and what really helps.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::Value;
use tamga_core::client::Client;
use tamga_core::error::Error;
use tamga_core::reason::Reason;
use tamga_core::report::{Issued, KeyPlace};
use tamga_core::text::Shown;
use tamga_host::clients;
use tamga_host::ledger::Ledger;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga revoke charts.saltmarsh.test --reason key-compromise")]
pub(crate) struct RevokeArgs {
    /// Which: its current certificate
    label: String,
    /// unspecified key-compromise ca-compromise affiliation-changed superseded cessation-of-operation
    /// certificate-hold privilege-withdrawn aa-compromise
    #[arg(long, value_name = "REASON")]
    reason: String,
    /// An earlier certificate of this label, by its serial number
    #[arg(long, value_name = "HEX", conflicts_with = "every")]
    serial: Option<String>,
    /// Every certificate of this label that is still in force
    #[arg(long)]
    every: bool,
}

pub(crate) fn run(session: &Session, args: &RevokeArgs) -> Result<Done> {
    let reason = Reason::parse(&args.reason)?;
    if session.common.dry_run {
        let ledger = session.open_to_look()?;
        let (meant, _) = meant(session, ledger.as_ref(), args)?;
        let text: String =
            meant.iter().map(|i| format!("would revoke {} ({})\n", i.label, i.certificate.serial)).collect();
        return Ok(Done::good(text, json!({"revoked": [], "dry_run": true})));
    }
    if session.open_to_look()?.is_none() {
        return Err(super::issue::unknown(None, &args.label)?.into());
    }
    let (_lock, ledger) = session.open_for_change()?;
    let (meant, others) = meant(session, Some(&ledger), args)?;
    let (old, new): (Vec<&Issued>, Vec<&Issued>) = meant.iter().partition(|i| i.revoked.is_some());
    let Some(authority) = meant.first().and_then(|i| i.authority.clone()) else {
        let i = &meant[0];
        return Err(Error::Objection {
            code: "revocation-unknown",
            what: format!("{} cannot be revoked here", i.label),
            why: match i.certificate.is_self_signed() {
                true => "it vouches for itself: there is no authority that could take it back".into(),
                false => format!("it was signed elsewhere, by {}", i.certificate.issuer_words()),
            },
            instead: "take it out of the stores that trust it, and issue another; or have its signer revoke it".into(),
        }
        .into());
    };
    let serials: Vec<&str> = new.iter().map(|i| i.certificate.serial.as_str()).collect();
    if !serials.is_empty() {
        ledger.revoke(&args.label, &authority, &serials, reason, session.now)?;
    }
    let mut text = String::new();
    for i in &new {
        text.push_str(&format!(
            "{} {} ({}), reason {}\n",
            human::good("revoked"),
            human::strong(&i.label),
            i.certificate.serial,
            reason.word()
        ));
    }
    for i in &old {
        let since = i.revoked.map(|r| r.at.date()).unwrap_or_default();
        text.push_str(&format!(
            "{} ({}) was revoked already on {since}; nothing changed\n",
            i.label, i.certificate.serial
        ));
    }
    let watching = notice(session);
    if !new.is_empty() {
        text.push_str(&published(&ledger, &authority)?);
        text.push_str(&watching.0);
        text.push_str(&remedy(reason, &args.label));
    }
    for i in &others {
        text.push_str(&format!(
            "{} an earlier certificate of {} ({}) is in force until {}: --serial {} or --every revokes it too\n",
            human::care("note"),
            i.label,
            i.certificate.serial,
            i.certificate.not_after.date(),
            i.certificate.serial
        ));
    }
    let rows: Vec<Value> = meant
        .iter()
        .map(|i| {
            json!({"label": i.label, "serial": i.certificate.serial, "authority": authority,
                "reason": i.revoked.map_or(reason, |r| r.reason).word(),
                "change": if i.revoked.is_some() { "none" } else { "revoked" }, "published": false})
        })
        .collect();
    Ok(Done::good(text, json!({"revoked": rows, "notice": watching.1})))
}

/// Which are meant, and which others of the label are still in force.
fn meant(session: &Session, ledger: Option<&Ledger>, args: &RevokeArgs) -> Result<(Vec<Issued>, Vec<Issued>)> {
    let all = match ledger {
        Some(l) => l.issued(Some(&args.label))?,
        None => Vec::new(),
    };
    let hex: Option<String> =
        args.serial.as_ref().map(|s| s.chars().filter(char::is_ascii_hexdigit).collect::<String>().to_lowercase());
    let chosen = |i: &Issued| match &hex {
        Some(serial) => i.certificate.serial == *serial,
        None if args.every => i.is_in_force(session.now),
        None => i.is_live(),
    };
    let (meant, rest): (Vec<Issued>, Vec<Issued>) = all.into_iter().partition(|i| chosen(i));
    if meant.is_empty() {
        return Err(match (&hex, rest.is_empty()) {
            (_, true) => super::issue::unknown(ledger, &args.label)?,
            (Some(serial), _) => Error::LabelUnknown {
                label: serial.clone(),
                sought: "serial number of this label",
                known: rest.into_iter().map(|i| i.certificate.serial).collect(),
            },
            (None, _) => Error::Objection {
                code: "expired",
                what: format!("nothing of {} is in force", args.label),
                why: "every certificate of this label has ended or was taken back".into(),
                instead: "see: tamga show LABEL --history".into(),
            },
        }
        .into());
    }
    Ok((meant, rest.into_iter().filter(|i| i.is_in_force(session.now)).collect()))
}

fn published(ledger: &Ledger, authority: &str) -> Result<String> {
    let all = ledger.authorities()?;
    let key = all.iter().find(|a| a.label == authority).map(|a| a.key.clone());
    let how = match key {
        Some(KeyPlace::Offline(place)) => {
            format!("its key is offline: tamga authority online {}, then sign a list", place.shown())
        }
        Some(KeyPlace::Discarded) => "its key was thrown away: no list can be signed any more".into(),
        Some(KeyPlace::Elsewhere) => "its key is on another machine, which has to sign the list".into(),
        _ => format!("tamga authority crl {authority} --output FILE signs a list that says so"),
    };
    Ok(format!("not published yet: {how}\n"))
}

/// Which of the clients installed here will notice at all. None of them looks for lists of a private authority unasked.
fn notice(session: &Session) -> (String, Value) {
    let installed: Vec<Client> =
        Client::ALL.into_iter().filter(|c| clients::is_installed(*c, &session.machine)).collect();
    let rows: Vec<Value> =
        installed.iter().map(|c| json!({"client": c.word(), "notices": false, "how": how(*c)})).collect();
    let words: Vec<String> = installed.iter().map(|c| format!("{} ({})", c.word(), how(*c))).collect();
    let text = match words.is_empty() {
        true => "no client that is installed here will notice\n".to_owned(),
        false => format!("no client here notices by itself: {}\n", words.join("; ")),
    };
    (text, Value::Array(rows))
}

fn how(client: Client) -> &'static str {
    match client {
        Client::Curl => "only with --crlfile FILE",
        Client::Node | Client::Python | Client::Java | Client::Go | Client::Safari | Client::Windows => {
            "only if the program itself loads the list"
        }
        Client::Gnutls => "only with --crl-file FILE",
        Client::Firefox => "never looks for lists of a private authority",
        Client::Chromium => "never looks for lists of a private authority",
        Client::Standard => "not a program",
    }
}

fn remedy(reason: Reason, label: &str) -> String {
    let text = match reason {
        Reason::KeyCompromise | Reason::CaCompromise | Reason::AaCompromise => format!(
            "what helps: a stolen key works until its certificate ends. tamga renew {label} gives the server a new one; to stop\n            the thief, make a new root (tamga authority rollover OLD NEW) and take the old one out of every store"
        ),
        Reason::Superseded => "what helps: see that the server shows the new one: tamga check NAME".into(),
        _ => format!("what helps: take it off the server; if it is needed again: tamga renew {label}"),
    };
    text + "\n"
}
