//! `tamga revoke LABEL --reason REASON`: a certificate is revoked; who will notice, and what really helps.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use tamga_app::certificate::revoke::{self, Which};
use tamga_app::report::Answer;
use tamga_core::ca::report::KeyPlace;
use tamga_core::check::client::Client;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::reason::Reason;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga revoke charts.saltmarsh.test --reason key-compromise")]
pub(crate) struct RevokeArgs {
    /// The certificate to revoke: the current one of this label
    label: Label,
    /// Why (RFC 5280, section 5.3.1)
    #[arg(long, value_name = "REASON", value_parser = values::word::<Reason>())]
    reason: Reason,
    /// An earlier certificate of this label, by its serial number
    #[arg(long, value_name = "HEX", conflicts_with = "every")]
    serial: Option<String>,
    /// Every certificate of this label that is still in force
    #[arg(long)]
    every: bool,
}

pub(crate) fn run(session: &Session, args: RevokeArgs) -> Result<Done> {
    let request = revoke::Request {
        label: args.label,
        which: match (args.serial, args.every) {
            (Some(serial), _) => Which::Serial(serial),
            (None, true) => Which::Every,
            (None, false) => Which::Current,
        },
        reason: args.reason,
        is_confirmed: false,
    };
    let report = revoke::revoke(session, &request)?;
    let text = match &report {
        Answer::Planned(p) => {
            p.planned.iter().map(|i| format!("would revoke {} ({})\n", i.label, i.certificate.serial)).collect()
        }
        Answer::Done(done) => render(done, &request.label),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &revoke::Done, label: &str) -> String {
    let mut text = String::new();
    for r in done.revoked.iter().filter(|r| r.is_new()) {
        text.push_str(&format!(
            "{} {} ({}), reason {}\n",
            human::good("revoked"),
            human::strong(&r.issued.label),
            r.issued.certificate.serial,
            r.reason.word()
        ));
    }
    for r in done.revoked.iter().filter(|r| !r.is_new()) {
        let i = &r.issued;
        let since = i.revoked.map(|r| r.at.date()).unwrap_or_default();
        text.push_str(&format!(
            "{} ({}) was revoked already on {since}; nothing changed\n",
            i.label, i.certificate.serial
        ));
    }
    if let Some(r) = done.revoked.iter().find(|r| r.is_new()) {
        let enrolled = r.issued.is_enrolled();
        match enrolled {
            true => text.push_str("published by tamga enrollment serve while it runs with --publish-listen\n"),
            false => text.push_str(&render_publishing(done.key.as_ref(), &r.authority)),
        }
        text.push_str(&render_notice(&done.notice));
        match enrolled {
            true => text.push_str(
                "do: its client gets another when it next asks; so that it gets none: tamga enrollment accounts, then block its account\n",
            ),
            false => text.push_str(&remedy(done.reason, label)),
        }
    }
    for i in &done.others {
        text.push_str(&format!(
            "{} an earlier certificate of {} ({}) is in force until {}: --serial {} or --every revokes it too\n",
            human::care("note"),
            i.label,
            i.certificate.serial,
            i.certificate.not_after.date(),
            i.certificate.serial
        ));
    }
    text
}

fn render_publishing(key: Option<&KeyPlace>, authority: &str) -> String {
    let how = match key {
        Some(KeyPlace::Offline(place)) => {
            format!("its key is offline: tamga authority online {}, then sign a revocation list", place.shown())
        }
        Some(KeyPlace::Discarded) => "its key was deleted: it can sign no more revocation lists".into(),
        Some(KeyPlace::Elsewhere) => "its key is on another machine, which must sign the revocation list".into(),
        _ => format!("tamga authority crl {authority} --output FILE signs a revocation list with it"),
    };
    format!("not published yet: {how}\n")
}

fn render_notice(clients: &[Client]) -> String {
    if clients.is_empty() {
        return "no client is installed here that would check it\n".to_owned();
    }
    let mut groups: Vec<(&'static str, Vec<&'static str>)> = Vec::new();
    for client in clients {
        match groups.iter_mut().find(|(when, _)| *when == client.lists()) {
            Some((_, words)) => words.push(client.word()),
            None => groups.push((client.lists(), vec![client.word()])),
        }
    }
    let rows: Vec<Vec<String>> = groups.into_iter().map(|(when, words)| vec![words.join(", "), when.into()]).collect();
    format!("no client here checks it by itself:\n{}", human::table(&rows))
}

fn remedy(reason: Reason, label: &str) -> String {
    let text = match reason {
        Reason::KeyCompromise | Reason::CaCompromise | Reason::AaCompromise => format!(
            "do: tamga renew {label} gives the server a new key. Anyone who has the old one can use it until its certificate expires:\n    to prevent that, make a new root (tamga authority rollover OLD NEW) and remove the old one from every store"
        ),
        Reason::Superseded => "do: check that the server uses the new certificate: tamga check NAME".into(),
        _ => format!("do: remove it from the server; if you need it again: tamga renew {label}"),
    };
    text + "\n"
}
