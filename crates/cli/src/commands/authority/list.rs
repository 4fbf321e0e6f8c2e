//! `tamga authority list` and `show LABEL`.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use tamga_app::authority::list::{self, KeyState};
use tamga_app::report::Member;
use tamga_core::ca::authority::{KEY_FILE, limits};
use tamga_core::ca::report::{Authority, KeyPlace};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Timestamp;

#[derive(clap::Args)]
pub(crate) struct ShowArgs {
    /// Which
    label: Label,
}

pub(super) fn run(session: &Session) -> Result<Done> {
    let report = list::list(session)?;
    if report.authorities.is_empty() {
        let text = "no authority yet: tamga authority create LABEL, or everything at once: tamga setup\n";
        return Ok(Done::report(text.into(), &report));
    }
    let mut rows = vec![["label", "under", "ends", "key", "may certify"].map(human::dim).to_vec()];
    rows.extend(report.authorities.iter().zip(&report.keys).map(|(m, key)| row(m, key.as_ref(), session.now)));
    Ok(Done::report(human::table(&rows), &report))
}

fn row(member: &Member, key: Option<&KeyState>, now: Timestamp) -> Vec<String> {
    match member {
        Member::Waiting(w) => vec![
            human::strong(&w.waiting.label),
            human::care("waiting"),
            String::new(),
            w.waiting.csr.key.strength().to_string(),
        ],
        Member::Authority(a) | Member::Signed(a, _) => {
            let end = a.certificate.not_after;
            vec![
                human::strong(&a.label),
                a.issuer.as_deref().unwrap_or(if a.is_root() { "root" } else { "elsewhere" }).to_owned(),
                match a.retired {
                    true => human::dim("retired"),
                    false if end < now => human::bad(&end.date()),
                    false => end.date(),
                },
                key_briefly(a, key),
                limits::briefly(&a.certificate),
            ]
        }
    }
}

pub(super) fn show(session: &Session, args: &ShowArgs) -> Result<Done> {
    let report = list::show(session, &args.label)?;
    let mut text = in_full(&report.authority, &report.key);
    if let Some(listed) = report.listed.as_ref().filter(|l| !l.entries.is_empty() || l.number > 0) {
        let number = if listed.number > 0 { format!("number {}", listed.number) } else { "never signed".into() };
        let open = match listed.unpublished {
            0 => String::new(),
            n => format!(", {n} not published yet: tamga authority crl {} --output FILE", report.authority.label),
        };
        // In the column of the table above.
        text.push_str(&format!("  {}          {number}, {} revoked{open}\n", human::dim("CRL"), listed.entries.len()));
    }
    Ok(Done::report(text, &report))
}

fn key_briefly(a: &Authority, key: Option<&KeyState>) -> String {
    let kind = a.certificate.key.strength().to_string();
    match key {
        Some(KeyState::Encrypted) => format!("{kind}, encrypted"),
        Some(KeyState::Away(KeyPlace::Offline(place))) => format!("{kind}, offline in {}", place.shown()),
        Some(KeyState::Away(KeyPlace::Elsewhere)) => format!("{kind}, on another machine"),
        Some(KeyState::Away(KeyPlace::Discarded)) => format!("{kind}, deleted"),
        Some(KeyState::Away(KeyPlace::Token(uri))) => format!("{kind}, {}", human::on_token(uri)),
        Some(KeyState::Open | KeyState::Missing | KeyState::Away(KeyPlace::Here)) | None => kind,
    }
}

/// All that is known of an authority.
pub(crate) fn in_full(a: &Authority, key: &KeyState) -> String {
    let c = &a.certificate;
    let file = a.folder.join(KEY_FILE).shown();
    let key = match key {
        KeyState::Missing => format!("missing: it should be {file}"),
        KeyState::Encrypted => format!("{file} (encrypted)"),
        KeyState::Open | KeyState::Away(KeyPlace::Here) => format!("{file} (not encrypted)"),
        KeyState::Away(KeyPlace::Offline(place)) => format!("offline in {}", place.shown()),
        KeyState::Away(KeyPlace::Elsewhere) => "on the machine that asked for the certificate".into(),
        KeyState::Away(KeyPlace::Discarded) => "deleted".into(),
        KeyState::Away(KeyPlace::Token(uri)) => {
            format!("{}, {}: {}", human::on_token(uri), human::leaving(uri.extractable), uri.portable())
        }
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
        vec![human::dim("SHA-256"), c.sha256().to_string()],
    ];
    if !a.is_root() {
        let above: Vec<String> = a.above.iter().map(tamga_core::pki::cert::Certificate::subject_words).collect();
        rows.insert(2, vec![human::dim("under"), above.join(", then ")]);
    }
    if let Some(n) = c.basic.and_then(|b| b.path_length) {
        rows.insert(rows.len() - 2, vec![human::dim("path length"), n.to_string()]);
    }
    for c in &a.earlier {
        rows.push(vec![human::dim("earlier"), format!("{} (the same key)", c.sha256())]);
    }
    if a.retired {
        rows.push(vec![human::dim("state"), "retired: it can no longer sign".into()]);
    }
    human::table(&rows)
}
