//! Files before they are deployed: the chain, the key beside it, and who could read that.

use super::{Around, Checked};
use crate::env::Env;
use crate::failure::Result;
use crate::keys::certificates_as_sent as certificates;
use crate::report::Outcome as Ending;
use std::path::Path;
use std::str::FromStr;
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE};
use tamga_core::ca::report::Issued;
use tamga_core::deploy::access::{self as rights, Account};
use tamga_core::finding::{Code, Finding};
use tamga_core::pki::format::private_key::{self, Stored};
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::text::Shown;
use tamga_host::access;

pub(super) fn file(env: &Env, around: &Around<'_>, typed: &str, path: &Path) -> Result<Checked> {
    let is_directory = env.disk().is_directory(path);
    let file = if is_directory { path.join(CERTIFICATE_FILE) } else { path.to_path_buf() };
    let chain = certificates(env, std::slice::from_ref(&file))?;
    let known = around.issued_in(&file, &chain)?;
    let names = match &known {
        Some(issued) if around.names.is_empty() => hosts(issued),
        _ => around.names.clone(),
    };
    let of = known.as_ref().map(|i| format!(" for the names of {}", i.label)).unwrap_or_default();
    let mut checked = Checked::new(typed, "file", format!("the file {}, as a server would send it{of}", file.shown()));
    let answer = around.ask(&chain, &names, None, false)?;
    checked.take(&answer, chain);
    beside(env, around, &mut checked, &file, is_directory);
    Ok(checked)
}

pub(super) fn label(env: &Env, around: &Around<'_>, typed: &str, issued: &Issued) -> Result<Checked> {
    let file = issued.folder.join(CERTIFICATE_FILE);
    let chain = certificates(env, std::slice::from_ref(&file))?;
    let names: Vec<Name> = match around.names.is_empty() {
        false => around.names.clone(),
        true => hosts(issued),
    };
    let host = names.first().map(ToString::to_string).unwrap_or_default();
    let first = format!("the files of {} for every name in it; live: tamga check https://{host}", issued.label);
    let mut checked = Checked::new(typed, "label", first);
    let answer = around.ask(&chain, &names, None, false)?;
    checked.take(&answer, chain);
    let is_keyless = around.is_keyless(issued)?;
    beside(env, around, &mut checked, &file, !is_keyless);
    Ok(checked)
}

/// The host names and addresses of a certificate.
fn hosts(issued: &Issued) -> Vec<Name> {
    let names = issued.certificate.name_words();
    names.iter().filter_map(|n| Name::from_str(n).ok()).filter(Name::is_host).collect()
}

/// The key beside a certificate: is it there where it must be, is it its own, who may read it, and does it open without a person?
fn beside(env: &Env, around: &Around<'_>, checked: &mut Checked, file: &Path, needs_key: bool) {
    let path = file.parent().unwrap_or(Path::new(".")).join(KEY_FILE);
    if let Some(account) = &around.account {
        readable(env, checked, &path, account);
    }
    let about = path.shown();
    let Ok(bytes) = env.disk().read(&path) else {
        if needs_key && !env.disk().is_taken(&path) {
            checked.ending = Ending::Bad;
            checked.findings.insert(0, Finding::new(Code::KeyMissing, about));
        }
        return;
    };
    match (private_key::read(&bytes, &about), checked.chain.first()) {
        (Ok(Stored::Open(key)), Some(leaf)) if *key.public() != leaf.key => {
            checked.ending = Ending::Bad;
            checked.findings.insert(0, Finding::new(Code::KeyMismatch, about.clone()));
        }
        (Ok(Stored::Locked(_)), _) => checked.findings.push(Finding::new(Code::KeyAsksPassphrase, about.clone())),
        (Err(e), _) => {
            checked.findings.push(
                Finding::new(Code::Malformed, about.clone()).with_summary(format!(
                    "{about} cannot be read as a key: {}",
                    tamga_core::error::Diagnostic::why(&e)
                )),
            );
        }
        _ => {}
    }
    if env.disk().status(&path).is_ok_and(|s| s.mode & 0o077 != 0) {
        checked
            .findings
            .push(Finding::new(Code::KeyReadableByOthers, about.clone()).with_remedy(format!("chmod 600 {about}")));
    }
}

/// Whether an account reaches the key: by the modes, groups and lists of everything on the way.
fn readable(env: &Env, checked: &mut Checked, key: &Path, account: &Account) {
    let about = key.shown();
    let finding = match access::way(key) {
        Err(e) => {
            use tamga_core::error::Diagnostic;
            let remedy = "look as root, and at the directory that holds the key";
            Some(Finding::new(Code::KeyUnreadableByService, about).with_summary(format!("{}: {}", e.what(), e.why())).with_remedy(remedy))
        }
        Ok(way) => rights::obstacle(account, &way).map(|o| {
            let (what, needs) = if o.at.folder { ("enter", "x") } else { ("read", "r") };
            let place = o.at.path.shown();
            let owner = access::owner_name(&env.machine, o.at.owner);
            let by = match o.by {
                "list" => "its access-control list says so".to_owned(),
                by => format!("mode {:04o}, owned by {owner}: {} counts as {by}", o.at.mode, account.name),
            };
            Finding::new(Code::KeyUnreadableByService, about.clone())
                .with_summary(format!("{} cannot {what} {place}: {by}", account.name))
                .with_remedy(format!(
                    "a copy of its own: tamga recipe SERVER LABEL --owner {0}; or open the way: {1}setfacl -m u:{0}:{needs} {place}",
                    account.name,
                    env.raise()
                ))
        }),
    };
    match finding {
        Some(f) => {
            checked.ending = Ending::Bad;
            checked.findings.insert(0, f);
        }
        None => checked.remarks.push(format!("{} can read {}", account.name, key.shown())),
    }
}
