//! `tamga authority list` and `show LABEL`.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::Value;
use tamga_core::authority::{self, KEY_FILE, limits};
use tamga_core::report::{Authority, KeyPlace};
use tamga_core::text::Shown;

#[derive(clap::Args)]
pub(crate) struct ShowArgs {
    /// Which
    label: String,
}

pub(super) fn run(session: &Session) -> Result<Done> {
    let (all, waiting) = match session.open_to_look()? {
        Some(l) => (l.authorities()?, l.all_waiting()?),
        None => Default::default(),
    };
    let waiting: Vec<_> = waiting.into_iter().filter(|w| w.is_authority).collect();
    if all.is_empty() && waiting.is_empty() {
        let text = "no authority yet: tamga authority create LABEL, or everything at once: tamga setup\n";
        return Ok(Done::good(text.into(), json!({"authorities": []})));
    }
    let mut rows = vec![["label", "under", "ends", "key", "may certify"].map(human::dim).to_vec()];
    for a in &all {
        rows.push(vec![
            human::strong(&a.label),
            a.issuer.clone().unwrap_or_else(|| if a.is_root() { "root".into() } else { "elsewhere".into() }),
            match a.retired {
                true => human::dim("retired"),
                false if a.certificate.not_after < session.now => human::bad(&a.certificate.not_after.date()),
                false => a.certificate.not_after.date(),
            },
            key_briefly(a),
            limits::briefly(&a.certificate),
        ]);
    }
    for w in &waiting {
        rows.push(vec![
            human::strong(&w.label),
            human::care("waiting"),
            String::new(),
            w.csr.key.strength().to_string(),
        ]);
    }
    let mut members: Vec<Value> = all.iter().map(json::authority).collect();
    members.extend(waiting.iter().map(json::waiting));
    Ok(Done::good(human::table(&rows), json!({"authorities": members})))
}

pub(super) fn show(session: &Session, args: &ShowArgs) -> Result<Done> {
    let all = session.authorities()?;
    let a = authority::choose(Some(&args.label), &all, false)?;
    let mut text = in_full(a);
    if let Some(ledger) = session.open_to_look()? {
        let listed = ledger.listed(&a.label)?;
        if !listed.entries.is_empty() || listed.number > 0 {
            let number = if listed.number > 0 { format!("number {}", listed.number) } else { "never signed".into() };
            let open = match listed.unpublished {
                0 => String::new(),
                n => format!(", {n} not published yet: tamga authority crl {} --output FILE", a.label),
            };
            text.push_str(&human::table(&[vec![
                human::dim("list"),
                format!("{number}, {} revoked{open}", listed.entries.len()),
            ]]));
        }
    }
    Ok(Done::good(text, json!({"authorities": [json::authority(a)]})))
}

fn key_briefly(a: &Authority) -> String {
    let kind = a.certificate.key.strength().to_string();
    match &a.key {
        KeyPlace::Here if Session::is_locked(a) => format!("{kind}, encrypted"),
        KeyPlace::Here => kind,
        KeyPlace::Offline(place) => format!("{kind}, offline in {}", place.shown()),
        KeyPlace::Elsewhere => format!("{kind}, on another machine"),
        KeyPlace::Discarded => format!("{kind}, thrown away"),
    }
}

/// All that is known of an authority.
pub(crate) fn in_full(a: &Authority) -> String {
    let c = &a.certificate;
    let key = match &a.key {
        KeyPlace::Here => {
            let file = a.folder.join(KEY_FILE);
            match (file.exists(), Session::is_locked(a)) {
                (false, _) => format!("missing: it should be {}", file.shown()),
                (true, true) => format!("{} (encrypted)", file.shown()),
                (true, false) => format!("{} (not encrypted)", file.shown()),
            }
        }
        KeyPlace::Offline(place) => format!("offline in {}", place.shown()),
        KeyPlace::Elsewhere => "on the machine that asked for the certificate".into(),
        KeyPlace::Discarded => "thrown away".into(),
    };
    let kind = if a.is_root() { "root" } else { "intermediate" };
    let mut rows = vec![
        vec![human::dim(kind), human::strong(&a.label)],
        vec![human::dim("subject"), c.subject_words()],
        vec![human::dim("may certify"), limits::words(c.constraints.as_ref())],
        vec![human::dim("for"), a.purposes.iter().map(|p| p.word()).collect::<Vec<_>>().join(", ")],
        vec![human::dim("valid"), format!("{} to {}", c.not_before, c.not_after)],
        vec![human::dim("key"), format!("{}, {key}", c.key.strength())],
        vec![human::dim("serial"), c.serial.clone()],
        vec![human::dim("SHA-256"), c.sha256()],
    ];
    if !a.is_root() {
        let above: Vec<String> = a.above.iter().map(tamga_core::cert::Certificate::subject_words).collect();
        rows.insert(2, vec![human::dim("under"), above.join(", then ")]);
    }
    if let Some(n) = c.basic.and_then(|b| b.path_length) {
        rows.insert(rows.len() - 2, vec![human::dim("path length"), n.to_string()]);
    }
    for c in &a.earlier {
        rows.push(vec![human::dim("earlier"), format!("{} (the same key)", c.sha256())]);
    }
    if a.retired {
        rows.push(vec![human::dim("state"), "retired: it signs no more".into()]);
    }
    human::table(&rows)
}
