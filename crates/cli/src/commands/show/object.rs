//! What a person may name to be shown, found and worded.

use crate::args::SecretArgs;
use crate::commands::authority;
use crate::commands::sign::request_json;
use crate::exit::Result;
use crate::session::Session;
use crate::words::{human, json};
use serde_json::Value;
use std::path::Path;
use tamga_core::authority::{CERTIFICATE_FILE, KEY_FILE, REQUEST_FILE};
use tamga_core::cert::crl::{self, Crl};
use tamga_core::cert::csr::{self, Csr};
use tamga_core::cert::{Certificate, subject};
use tamga_core::error::Error;
use tamga_core::form::contents::Container;
use tamga_core::form::pem;
use tamga_core::form::private_key::{self, Stored};
use tamga_core::key::PublicKey;
use tamga_core::purpose::usage_words;
use tamga_core::report::{Authority, Issued};
use tamga_core::text::Shown;
use tamga_host::fs;
use tamga_host::ledger::Waiting;

/// One thing that can be shown.
pub(super) enum Object {
    Authority(Box<Authority>),
    Issued(Box<Issued>),
    Waiting(Box<Waiting>),
    Certificate(Box<Certificate>),
    Request(Box<Csr>),
    List(Box<Crl>),
    Key(PublicKey),
    LockedKey(String),
    Store(Container, Vec<String>),
}

/// A path that is there, else a label, a serial, a fingerprint: in this order.
///
/// Errors: nothing of that name; a file in which nothing is read.
pub(super) fn find(session: &Session, typed: &str, secrets: &SecretArgs) -> Result<Vec<Object>> {
    let path = Path::new(typed);
    let ledger = session.open_to_look()?;
    if path.exists() {
        let mut found = if path.is_dir() { folder(path, secrets)? } else { file(path, secrets)? };
        // What the ledger knows of the certificate in the file is told as well.
        if let (Some(l), Some(Object::Certificate(c))) = (&ledger, found.first())
            && let Some(i) = l.by_number(&c.sha256())?.pop()
        {
            found[0] = Object::Issued(Box::new(i));
        }
        return Ok(found);
    }
    let Some(ledger) = ledger else { return Err(unknown(typed, Vec::new()).into()) };
    let authorities = ledger.authorities()?;
    if let Some(a) = authorities.iter().find(|a| a.label == typed) {
        return Ok(vec![Object::Authority(Box::new(a.clone()))]);
    }
    if let Some(i) = ledger.current(typed)? {
        return Ok(vec![Object::Issued(Box::new(i))]);
    }
    if let Some(w) = ledger.waiting(typed)? {
        return Ok(vec![Object::Waiting(Box::new(w))]);
    }
    // Colons and spaces do not matter, nor the invisible mark of a console's copy.
    let digits: String = typed.chars().filter(char::is_ascii_hexdigit).collect::<String>().to_lowercase();
    let is_hex = digits.len() >= 2 && digits.len() == typed.chars().filter(|c| c.is_alphanumeric()).count();
    if is_hex {
        // A console writes the zero in front of a serial that begins with a high bit.
        let short = digits.strip_prefix("00").filter(|s| !s.is_empty()).unwrap_or(&digits);
        for number in [digits.as_str(), short] {
            let found = ledger.by_number(number)?;
            if !found.is_empty() {
                return Ok(found.into_iter().map(|i| Object::Issued(Box::new(i))).collect());
            }
        }
        let is_it = |c: &Certificate| c.sha256() == digits || c.serial == digits || c.serial == short;
        if let Some(a) = authorities.iter().find(|a| is_it(&a.certificate) || a.earlier.iter().any(is_it)) {
            return Ok(vec![Object::Authority(Box::new(a.clone()))]);
        }
    }
    let mut known: Vec<String> = authorities.into_iter().map(|a| a.label).collect();
    known.extend(ledger.labels(20)?);
    Err(unknown(typed, known).into())
}

fn unknown(typed: &str, known: Vec<String>) -> Error {
    Error::LabelUnknown { label: typed.to_owned(), sought: "file, label, serial or fingerprint", known }
}

fn folder(path: &Path, secrets: &SecretArgs) -> Result<Vec<Object>> {
    let mut out = Vec::new();
    for name in [CERTIFICATE_FILE, REQUEST_FILE, KEY_FILE] {
        let place = path.join(name);
        // Only regular files: whatever else lies there under that name was not named by anybody.
        if place.is_file() {
            out.extend(file(&place, secrets)?);
        }
    }
    if out.is_empty() {
        let what = path.shown();
        let why = format!("the folder holds no {CERTIFICATE_FILE}, {REQUEST_FILE} or {KEY_FILE}");
        return Err(Error::Malformed { what, why }.into());
    }
    Ok(out)
}

/// A store of any form: what it is, its certificates, the public halves of its keys.
fn store(form: Container, bytes: &[u8], secrets: &SecretArgs, what: &str) -> Result<Vec<Object>> {
    let found = match form.open(bytes, secrets.given()?.as_ref(), what) {
        Err(Error::PassphraseNeeded { .. }) => form.open(bytes, Some(&secrets.needed(what)?), what)?,
        other => other?,
    };
    let names = found.keys.iter().map(|k| &k.alias).chain(found.certificates.iter().map(|c| &c.alias));
    let mut aliases: Vec<String> = names.flatten().cloned().collect();
    aliases.dedup();
    let mut out = vec![Object::Store(form, aliases)];
    for c in &found.certificates {
        out.push(Object::Certificate(Box::new(Certificate::read(&c.thing, what)?)));
    }
    out.extend(found.keys.iter().map(|k| Object::Key(k.thing.public().clone())));
    Ok(out)
}

fn file(path: &Path, secrets: &SecretArgs) -> Result<Vec<Object>> {
    let bytes = fs::read_named(path)?;
    let what = path.shown();
    if let Some(form) = Container::of(&bytes) {
        return store(form, &bytes, secrets, &what);
    }
    if bytes.first() == Some(&0x30) {
        return der(&bytes, &what).map(|o| vec![o]);
    }
    let mut out = Vec::new();
    for der in pem::certificates(&bytes) {
        out.push(Object::Certificate(Box::new(Certificate::read(&der, &what)?)));
    }
    let (blocks, broken) = pem::read(&bytes);
    let mut broken_key = None;
    for b in &blocks {
        match b.label.as_str() {
            pem::REQUEST | "NEW CERTIFICATE REQUEST" => out.push(Object::Request(Box::new(Csr::read(&b.der, &what)?))),
            pem::CRL => out.push(Object::List(Box::new(Crl::read(&b.der, &what)?))),
            "PUBLIC KEY" => out.push(Object::Key(PublicKey::from_spki(b.der.to_vec()))),
            label if label.ends_with("PRIVATE KEY") => match private_key::read(&bytes, &what) {
                Ok(stored) => out.push(key(stored, &what)),
                // Something else in the file may be what is meant.
                Err(e) => broken_key = Some(e),
            },
            _ => {}
        }
    }
    if let (true, Some(e)) = (out.is_empty(), broken_key) {
        return Err(e.into());
    }
    if out.is_empty() && blocks.is_empty() && broken == 0 {
        // What consoles hand out: base64 without any marks.
        if let Some(bare) = std::str::from_utf8(&bytes).ok().and_then(pem::bare) {
            return der(&bare, &what).map(|o| vec![o]);
        }
    }
    if out.is_empty() {
        let why = match broken {
            0 => "it holds no certificate, request, list or key that Tamga reads".into(),
            n => format!("{n} of its PEM objects are damaged or never end"),
        };
        return Err(Error::Malformed { what, why }.into());
    }
    Ok(out)
}

/// DER of whatever kind it turns out to be; the error is the certificate's, which most such files are.
fn der(bytes: &[u8], what: &str) -> Result<Object> {
    let certificate = Certificate::read(bytes, what);
    if let Ok(c) = certificate {
        return Ok(Object::Certificate(Box::new(c)));
    }
    if let Ok(r) = csr::find(bytes, what) {
        return Ok(Object::Request(Box::new(r)));
    }
    if let Ok(l) = crl::find(bytes, what) {
        return Ok(Object::List(Box::new(l)));
    }
    match private_key::read(bytes, what) {
        Ok(stored) => Ok(key(stored, what)),
        Err(_) => Err(certificate.err().unwrap_or(Error::NoAuthority).into()),
    }
}

fn key(stored: Stored, what: &str) -> Object {
    match stored {
        Stored::Open(key) => Object::Key(key.public().clone()),
        Stored::Locked(_) => Object::LockedKey(what.to_owned()),
    }
}

impl Object {
    /// The label under which the ledger knows it.
    pub(super) fn label(&self) -> Option<&str> {
        match self {
            Object::Authority(a) => Some(&a.label),
            Object::Issued(i) => Some(&i.label),
            Object::Waiting(w) => Some(&w.label),
            _ => None,
        }
    }

    /// For a person.
    pub(super) fn words(&self, session: &Session) -> String {
        match self {
            Object::Authority(a) => authority::in_full(a),
            Object::Issued(i) => {
                let mut rows = vec![
                    vec![human::dim("label"), human::strong(&i.label)],
                    vec![human::dim("state"), i.standing(session.now).word().into()],
                    vec![human::dim("folder"), i.folder.shown()],
                ];
                if let Some(r) = i.revoked {
                    let listed = if r.published { "in a signed list" } else { "not published yet" };
                    rows.push(vec![human::dim("revoked"), format!("{} ({}), {listed}", r.at, r.reason.word())]);
                }
                rows.extend(certificate_rows(&i.certificate));
                human::table(&rows)
            }
            Object::Waiting(w) => {
                let mut rows = vec![
                    vec![human::dim("label"), human::strong(&w.label)],
                    vec![human::dim("state"), "its key waits for the signed certificate".into()],
                    vec![human::dim("folder"), w.folder.shown()],
                ];
                rows.extend(request_rows(&w.csr));
                human::table(&rows)
            }
            Object::Certificate(c) => certificate(c),
            Object::Request(r) => request(r),
            Object::List(l) => list(l),
            Object::Key(k) => human::table(&[
                vec![human::dim("private key"), k.strength().to_string()],
                vec![human::dim("public half"), format!("SHA-256 {}", k.fingerprint())],
            ]),
            Object::Store(form, aliases) => {
                let mut rows = vec![vec![human::dim("store"), human::strong(form.word())]];
                if !aliases.is_empty() {
                    rows.push(vec![human::dim("names in it"), aliases.join(", ")]);
                }
                human::table(&rows)
            }
            Object::LockedKey(what) => human::table(&[
                vec![human::dim("private key"), what.clone()],
                vec![human::dim("state"), "encrypted: a passphrase opens it".into()],
            ]),
        }
    }

    /// For a program.
    pub(super) fn json(&self, session: &Session) -> Value {
        let kind = |word: &str, mut v: Value| {
            v["kind"] = json!(word);
            v
        };
        match self {
            Object::Authority(a) => kind("authority", json::authority(a)),
            Object::Issued(i) => {
                kind("certificate", merged(json::certificate(&i.certificate), json::listed(i, session.now)))
            }
            Object::Waiting(w) => kind("request", merged(request_json(&w.csr), json::waiting(w))),
            Object::Certificate(c) => {
                let mut v = json::certificate(c);
                v["key"] = json!(c.key.strength().to_string());
                v["public_sha256"] = json!(c.key.fingerprint());
                v["is_authority"] = json!(c.is_ca());
                v["purposes"] = json!(c.purposes.iter().flatten().map(usage_words).collect::<Vec<_>>());
                kind("certificate", v)
            }
            Object::Request(r) => kind("request", request_json(r)),
            Object::List(l) => kind("crl", list_json(l)),
            Object::Key(k) => json!({"kind": "private-key", "algorithm": k.strength().to_string(),
                "public_sha256": k.fingerprint(), "encrypted": false}),
            Object::Store(form, aliases) => json!({"kind": "store", "form": form.word(), "aliases": aliases}),
            Object::LockedKey(what) => json!({"kind": "private-key", "file": what, "encrypted": true}),
        }
    }
}

fn merged(mut a: Value, b: Value) -> Value {
    if let (Some(into), Value::Object(from)) = (a.as_object_mut(), b) {
        into.extend(from.into_iter().filter(|(k, v)| !(v.is_null() && k == "sha256")));
    }
    a
}

fn certificate(c: &Certificate) -> String {
    human::table(&certificate_rows(c))
}

/// All that a certificate says that matters to a visitor.
fn certificate_rows(c: &Certificate) -> Vec<Vec<String>> {
    let names = c.name_words();
    let mut rows = vec![vec![human::dim("certificate"), human::strong(&c.subject_words())]];
    // An authority has no names of its own, and needs none.
    if !(names.is_empty() && c.is_ca()) {
        rows.push(vec![human::dim("names"), if names.is_empty() { "none".into() } else { names.join(", ") }]);
    }
    rows.extend([
        vec![human::dim("issued by"), if c.is_self_signed() { "itself".into() } else { c.issuer_words() }],
        vec![human::dim("valid"), format!("{} to {}", c.not_before, c.not_after)],
        vec![human::dim("key"), c.key.strength().to_string()],
        vec![human::dim("may sign"), if c.is_ca() { "yes: it is an authority" } else { "no" }.into()],
    ]);
    if let Some(n) = c.basic.and_then(|b| b.path_length) {
        rows.push(vec![human::dim("path length"), n.to_string()]);
    }
    if let Some(usage) = c.usage {
        rows.push(vec![human::dim("key usage"), usage.words()]);
    }
    if let Some(purposes) = &c.purposes {
        rows.push(vec![human::dim("purposes"), purposes.iter().map(usage_words).collect::<Vec<_>>().join(", ")]);
    }
    if let Some(s) = &c.constraints {
        rows.push(vec![human::dim("limited to"), tamga_core::authority::limits::words(Some(s))]);
    }
    for url in &c.crl_urls {
        rows.push(vec![human::dim("list at"), tamga_core::text::harmless(url)]);
    }
    for url in &c.issuer_urls {
        rows.push(vec![human::dim("issuer at"), tamga_core::text::harmless(url)]);
    }
    for oid in &c.broken {
        rows.push(vec![human::dim("broken"), format!("extension {oid} does not parse, or stands twice")]);
    }
    for oid in &c.unknown_critical {
        rows.push(vec![human::dim("critical"), format!("extension {oid} is known to nobody here: clients refuse it")]);
    }
    rows.push(vec![human::dim("serial"), c.serial.clone()]);
    rows.push(vec![human::dim("SHA-256"), c.sha256()]);
    rows
}

fn request(r: &Csr) -> String {
    human::table(&request_rows(r))
}

fn request_rows(r: &Csr) -> Vec<Vec<String>> {
    let names = r.name_words();
    let good = match r.proves_possession() {
        Ok(()) => "good: made with the key inside".to_owned(),
        Err(tamga_core::signature::Fault::Unsupported) => format!("{} cannot be verified here", r.algorithm.oid),
        Err(tamga_core::signature::Fault::Wrong) => human::bad("wrong: not made with the key inside"),
    };
    let mut rows = vec![
        vec![human::dim("request of"), human::strong(&r.subject_words())],
        vec![human::dim("names"), if names.is_empty() { "none".into() } else { names.join(", ") }],
        vec![human::dim("key"), r.key.strength().to_string()],
        vec![human::dim("signature"), good],
    ];
    if let Some(purposes) = &r.wishes.purposes {
        rows.push(vec![human::dim("purposes"), purposes.iter().map(usage_words).collect::<Vec<_>>().join(", ")]);
    }
    if r.wishes.basic.is_some_and(|b| b.ca) {
        rows.push(vec![human::dim("wants"), "to be an authority".into()]);
    }
    rows.push(vec![human::dim("public half"), format!("SHA-256 {}", r.key.fingerprint())]);
    rows
}

fn list(l: &Crl) -> String {
    const MOST: usize = 20;
    let next = l.next_update.map_or("never said".into(), |n| n.to_string());
    let mut text = human::table(&[
        vec![human::dim("list of"), human::strong(&l.issuer_words())],
        vec![human::dim("number"), l.count().map_or("none".into(), |n| n.to_string())],
        vec![human::dim("made"), l.this_update.to_string()],
        vec![human::dim("next"), next],
        vec![human::dim("revoked"), l.entries.len().to_string()],
        vec![human::dim("SHA-256"), l.sha256()],
    ]);
    if !l.entries.is_empty() {
        let mut rows = vec![["serial", "revoked at", "reason"].map(human::dim).to_vec()];
        let entry =
            |e: &tamga_core::cert::crl::Revoked| vec![e.serial.clone(), e.at.to_string(), e.reason.word().into()];
        rows.extend(l.entries.iter().take(MOST).map(entry));
        text.push_str(&format!("\n{}", human::table(&rows)));
    }
    if l.entries.len() > MOST {
        text.push_str(&format!("  and {} more\n", l.entries.len() - MOST));
    }
    text
}

fn list_json(l: &Crl) -> Value {
    let entries: Vec<Value> = l
        .entries
        .iter()
        .map(|e| json!({"serial": e.serial, "at": e.at.to_string(), "reason": e.reason.word()}))
        .collect();
    json!({
        "issuer": subject::words(&l.issuer), "number": l.count(), "this_update": l.this_update.to_string(),
        "next_update": l.next_update.map(|n| n.to_string()), "sha256": l.sha256(), "entries": entries,
    })
}
