//! `tamga show WHAT`.

use super::authority;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::{Value, json};
use std::path::Path;
use tamga_core::authority::{CERTIFICATE_FILE, read_key};
use tamga_core::cert::Certificate;
use tamga_core::error::Error;
use tamga_core::form::pem;
use tamga_core::purpose::usage_words;
use tamga_core::report::Issued;

#[derive(clap::Args)]
pub(crate) struct ShowArgs {
    /// A file or folder, a label, a serial, or a SHA-256 fingerprint (colons, spaces and case do not matter)
    what: String,
}

pub(crate) fn run(session: &Session, args: &ShowArgs) -> Result<Done> {
    let path = Path::new(&args.what);
    if path.exists() {
        return file(path);
    }
    let (authorities, issued) = match session.open_to_look()? {
        Some(l) => (l.authorities()?, l.issued(None)?),
        None => Default::default(),
    };
    if let Some(a) = authorities.iter().find(|a| a.label == args.what) {
        return Ok(Done::good(
            authority::in_full(a),
            json!({"objects": [with_kind("authority", authority::json_of(a))]}),
        ));
    }
    // The invisible mark of a console's copy, colons and spaces do not matter.
    let digits: String = args.what.chars().filter(char::is_ascii_hexdigit).collect::<String>().to_lowercase();
    let whole = digits.len() == args.what.chars().filter(|c| c.is_alphanumeric()).count() && digits.len() >= 16;
    let of = |i: &&Issued| {
        i.label == args.what || (whole && (i.certificate.serial == digits || i.certificate.sha256() == digits))
    };
    if let Some(i) = issued.iter().rfind(of) {
        let mut text = in_full(&i.certificate);
        text.push_str(&human::table(&[
            vec![human::dim("label"), human::strong(&i.label)],
            vec![human::dim("state"), i.standing(session.now).word().into()],
            vec![human::dim("folder"), i.folder.display().to_string()],
        ]));
        return Ok(Done::good(text, json!({"objects": [with_kind("certificate", json::listed(i, session.now))]})));
    }
    if let Some(a) =
        authorities.iter().find(|a| whole && (a.certificate.sha256() == digits || a.certificate.serial == digits))
    {
        return Ok(Done::good(
            authority::in_full(a),
            json!({"objects": [with_kind("authority", authority::json_of(a))]}),
        ));
    }
    Err(Error::LabelUnknown {
        label: args.what.clone(),
        sought: "file, label, serial or fingerprint",
        known: authorities.into_iter().map(|a| a.label).chain(issued.into_iter().map(|i| i.label)).collect(),
    }
    .into())
}

fn file(path: &Path) -> Result<Done> {
    let path = if path.is_dir() { path.join(CERTIFICATE_FILE) } else { path.to_path_buf() };
    let bytes =
        zeroize::Zeroizing::new(std::fs::read(&path).map_err(tamga_host::error::Error::file("reading", &path))?);
    let what = path.display().to_string();
    let (mut text, mut objects): (String, Vec<Value>) = Default::default();
    for der in pem::certificates(&bytes) {
        let c = Certificate::read(&der, &what)?;
        text.push_str(&in_full(&c));
        text.push('\n');
        objects.push(with_kind("certificate", json::certificate(&c)));
    }
    if pem::read(&bytes).0.iter().any(|b| b.label == pem::PRIVATE_KEY) {
        let key = read_key(&bytes, &what)?;
        text.push_str(&human::table(&[
            vec![human::dim("private key"), key.public().strength().to_string()],
            vec![human::dim("public half"), format!("SHA-256 {}", key.public().fingerprint())],
        ]));
        objects.push(json!({"kind": "private-key", "algorithm": key.public().strength().to_string(), "public_sha256": key.public().fingerprint()}));
    }
    if objects.is_empty() {
        return Err(Error::Malformed {
            what,
            why: "it holds no certificate and no private key that Tamga reads".into(),
        }
        .into());
    }
    Ok(Done::good(text.trim_end().to_owned() + "\n", json!({"objects": objects})))
}

fn with_kind(kind: &str, mut v: Value) -> Value {
    v["kind"] = json!(kind);
    v
}

/// All that a certificate says that matters to a visitor.
fn in_full(c: &Certificate) -> String {
    let mut rows = vec![
        vec![human::dim("certificate"), human::strong(&c.subject_words())],
        vec![human::dim("names"), c.name_words().join(", ")],
        vec![human::dim("issued by"), if c.is_self_signed() { "itself".into() } else { c.issuer_words() }],
        vec![human::dim("valid"), format!("{} to {}", c.not_before, c.not_after)],
        vec![human::dim("key"), c.key.strength().to_string()],
        vec![human::dim("may sign"), if c.is_ca() { "yes: it is an authority" } else { "no" }.into()],
    ];
    if let Some(purposes) = &c.purposes {
        rows.push(vec![human::dim("purposes"), purposes.iter().map(usage_words).collect::<Vec<_>>().join(", ")]);
    }
    if let Some(s) = &c.constraints {
        let names: Vec<String> = s.permitted.iter().map(|g| g.words()).collect();
        rows.push(vec![human::dim("limited to"), names.join(", ")]);
    }
    rows.push(vec![human::dim("serial"), c.serial.clone()]);
    rows.push(vec![human::dim("SHA-256"), c.sha256()]);
    human::table(&rows)
}
