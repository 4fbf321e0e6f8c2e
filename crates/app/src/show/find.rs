//! What a name stands for.

use crate::authority::list::KeyState;
use crate::env::Env;
use crate::failure::Result;
use crate::secret::Secret;
use std::path::Path;
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE, REQUEST_FILE};
use tamga_core::ca::report::{Authority, Issued};
use tamga_core::error::Error;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::crl::{self, Crl};
use tamga_core::pki::cert::csr::{self, Csr};
use tamga_core::pki::format::container::Container;
use tamga_core::pki::format::pem;
use tamga_core::pki::format::private_key::{self, Stored};
use tamga_core::pki::key::PublicKey;
use tamga_core::vocabulary::text::Shown;
use tamga_host::fs;
use tamga_host::ledger::Waiting;

/// One thing that can be shown.
pub enum Object {
    /// An authority of the ledger.
    Authority(Box<Authority>, KeyState),
    /// A certificate of the ledger.
    Issued(Box<Issued>),
    /// A key that waits for its certificate.
    Waiting(Box<Waiting>),
    /// Any other certificate.
    Certificate(Box<Certificate>),
    /// A certificate request.
    Request(Box<Csr>),
    /// A revocation list.
    List(Box<Crl>),
    /// A private key: its public key is shown.
    Key(PublicKey),
    /// An encrypted private key, by its file.
    LockedKey(String),
    /// A private key of a kind that Tamga does not use: the kind.
    UnusedKey(String),
    /// A key store or trust store, the names in it, and what in it was not read and why.
    Store(Container, Vec<String>, Vec<String>),
}

/// A path that is there, else a label, a serial, a fingerprint: in this order.
///
/// Errors: nothing of that name; a file in which nothing is read.
pub fn find(env: &Env, typed: &str, secret: &Secret) -> Result<Vec<Object>> {
    let path = Path::new(typed);
    if env.disk().is_named(path) {
        let ledger = env.open_to_look_if_reachable()?;
        let mut found =
            if env.disk().is_directory(path) { directory(env, path, secret)? } else { file(env, path, secret)? };
        // The report adds what the ledger knows of the certificate in the file.
        if let (Some(l), Some(Object::Certificate(c))) = (&ledger, found.first())
            && let Some(i) = l.by_fingerprint(&c.sha256())?
        {
            found[0] = Object::Issued(Box::new(i));
        }
        return Ok(found);
    }
    let Some(ledger) = env.open_to_look()? else { return Err(unknown(typed, Vec::new()).into()) };
    let authorities = ledger.authorities()?;
    if let Some(a) = authorities.iter().find(|a| a.label == typed) {
        return Ok(vec![Object::Authority(Box::new(a.clone()), KeyState::of(env, a))]);
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
        let is_it = |c: &Certificate| c.sha256() == *digits || c.serial == digits || c.serial == short;
        if let Some(a) = authorities.iter().find(|a| is_it(&a.certificate) || a.earlier.iter().any(is_it)) {
            return Ok(vec![Object::Authority(Box::new(a.clone()), KeyState::of(env, a))]);
        }
    }
    let mut known: Vec<String> = authorities.into_iter().map(|a| a.label.to_string()).collect();
    known.extend(ledger.labels(20)?);
    Err(unknown(typed, known).into())
}

fn unknown(typed: &str, known: Vec<String>) -> Error {
    Error::LabelUnknown { label: typed.to_owned(), sought: "file, label, serial or fingerprint", known }
}

fn directory(env: &Env, path: &Path, secret: &Secret) -> Result<Vec<Object>> {
    let mut out = Vec::new();
    for name in [CERTIFICATE_FILE, REQUEST_FILE, KEY_FILE] {
        let place = path.join(name);
        // Only regular files: whatever else lies there under that name was not named by anybody.
        if env.disk().is_file(&place) {
            out.extend(file(env, &place, secret)?);
        }
    }
    if out.is_empty() {
        let what = path.shown();
        let why = format!("the directory holds no {CERTIFICATE_FILE}, {REQUEST_FILE} or {KEY_FILE}");
        return Err(Error::Malformed { what, why }.into());
    }
    Ok(out)
}

/// A store of any form: what it is, its certificates, the public halves of its keys.
fn store(env: &Env, form: Container, bytes: &[u8], secret: &Secret, what: &str) -> Result<Vec<Object>> {
    let found = match form.open(bytes, secret.given(env)?.as_ref(), what) {
        Err(Error::PassphraseNeeded { .. }) => secret.open(env, what, |p| form.open(bytes, Some(p), what))?.0,
        other => other?,
    };
    let names = found.keys.iter().map(|k| &k.alias).chain(found.certificates.iter().map(|c| &c.alias));
    let mut aliases: Vec<String> = Vec::new();
    for name in names.flatten() {
        if !aliases.contains(name) {
            aliases.push(name.clone());
        }
    }
    let unread = found.unread.iter().map(|k| match &k.alias {
        Some(alias) => format!("{alias}: {}", k.thing),
        None => k.thing.clone(),
    });
    let mut out = vec![Object::Store(form, aliases, unread.collect())];
    for c in &found.certificates {
        out.push(Object::Certificate(Box::new(Certificate::read(&c.thing, what)?)));
    }
    out.extend(found.keys.iter().map(|k| Object::Key(k.thing.public().clone())));
    Ok(out)
}

fn file(env: &Env, path: &Path, secret: &Secret) -> Result<Vec<Object>> {
    let bytes = env.disk().read_named(path)?;
    let what = fs::name_of(path);
    if let Some(form) = Container::of(&bytes) {
        return store(env, form, &bytes, secret, &what);
    }
    if bytes.first() == Some(&0x30) {
        return der(env, &bytes, secret, &what).map(|o| vec![o]);
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
                Ok(stored) => out.push(key(env, stored, secret, &what)?),
                Err(Error::UnusedKey { kind, .. }) => out.push(Object::UnusedKey(kind)),
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
            return der(env, &bare, secret, &what).map(|o| vec![o]);
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
fn der(env: &Env, bytes: &[u8], secret: &Secret, what: &str) -> Result<Object> {
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
        Ok(stored) => key(env, stored, secret, what),
        Err(Error::UnusedKey { kind, .. }) => Ok(Object::UnusedKey(kind)),
        Err(e) if private_key::is_one(bytes) => Err(e.into()),
        Err(_) => Err(certificate.err().unwrap_or(Error::NoAuthority).into()),
    }
}

/// Returns the public key. Opens an encrypted key only if the caller named its passphrase, and never asks for one.
fn key(env: &Env, stored: Stored, secret: &Secret, what: &str) -> Result<Object> {
    let given = if stored.is_locked() { secret.given(env)? } else { None };
    Ok(match stored {
        Stored::Locked(_) if given.is_none() => Object::LockedKey(what.to_owned()),
        stored => match stored.open(given.as_ref()) {
            Ok(key) => Object::Key(key.public().clone()),
            Err(Error::UnusedKey { kind, .. }) => Object::UnusedKey(kind),
            Err(e) => return Err(e.into()),
        },
    })
}

impl Object {
    /// The label under which the ledger knows it.
    pub fn label(&self) -> Option<&str> {
        match self {
            Object::Authority(a, _) => Some(&a.label),
            Object::Issued(i) => Some(&i.label),
            Object::Waiting(w) => Some(&w.label),
            _ => None,
        }
    }
}
