//! Putting a data directory right: a damaged or missing ledger is rebuilt from what still reads and from the files.

use crate::error::Result;
use crate::ledger::{self, Authorities as _, Ledger as _, Revocations as _, Salvaged, Sqlite};
use std::path::{Path, PathBuf};
use std::str::FromStr;
use tamga_core::ca::authority::import::{above, purposes};
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE, KEY_URI_FILE};
use tamga_core::ca::report::{Authority, Issued, KeyPlace, Life};
use tamga_core::pki::cert::{Certificate, crl};
use tamga_core::pki::format::pem;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Timestamp;

/// The list that is kept beside an authority's key: the latest that was signed here.
pub const LIST_FILE: &str = "crl.pem";

/// What was done.
#[derive(Debug, Default)]
pub struct Repaired {
    /// Where the damaged ledger was moved, if there was one.
    pub moved: Option<PathBuf>,
    /// What came over from it.
    pub salvaged: Salvaged,
    /// Labels of authorities that were found by their files.
    pub authorities: Vec<String>,
    /// Labels of certificates that were found by their files.
    pub certificates: Vec<String>,
    /// One line for each thing that a person should know.
    pub said: Vec<String>,
}

impl Repaired {
    /// True if nothing had to be done.
    pub fn is_nothing(&self) -> bool {
        self.moved.is_none() && self.authorities.is_empty() && self.certificates.is_empty() && self.said.is_empty()
    }
}

/// Opens the ledger, rebuilt where it has to be, and looks for what it does not know: authorities in the data directory,
/// certificates in the directories given. The caller holds the lock.
pub fn repair(data: &Path, folders: &[PathBuf], now: Timestamp) -> Result<(Sqlite, Repaired)> {
    let mut done = Repaired::default();
    let whole = match Sqlite::open_existing(data) {
        Ok(Some(l)) => l.damage().unwrap_or(Some("it does not read".into())).is_none(),
        Ok(None) => true,
        Err(crate::error::Error::LedgerDamaged { .. }) => false,
        Err(e) => return Err(e),
    };
    if !whole {
        done.moved = ledger::set_aside(data, "damaged", now)?;
    }
    let ledger = Sqlite::open(data)?;
    if let Some(damaged) = &done.moved {
        done.salvaged = ledger.salvage(damaged);
    }
    for name in files_in(&data.join("authorities")) {
        adopt_authority(&ledger, &data.join("authorities").join(&name), &name, now, &mut done)?;
    }
    let known = ledger.authorities()?;
    for folder in folders {
        for place in std::iter::once(folder.clone()).chain(files_in(folder).iter().map(|n| folder.join(n))) {
            adopt_certificate(&ledger, &place, &known, now, &mut done)?;
        }
    }
    Ok((ledger, done))
}

fn files_in(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> = std::fs::read_dir(folder)
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|e| e.file_name().into_string().ok())
        .collect();
    names.sort();
    names
}

fn certificates(file: &Path) -> Vec<Certificate> {
    let bytes = crate::fs::read_regular(file).unwrap_or_default();
    pem::certificates(&bytes).iter().filter_map(|der| Certificate::read(der, "a certificate").ok()).collect()
}

/// Where the key of an authority is, as its directory says.
fn key_place(folder: &Path) -> KeyPlace {
    if folder.join(KEY_FILE).exists() {
        return KeyPlace::Here;
    }
    let uri = crate::fs::read_regular(&folder.join(KEY_URI_FILE)).ok().and_then(|b| String::from_utf8(b.to_vec()).ok());
    match uri.and_then(|text| text.trim().parse().ok()) {
        Some(uri) => KeyPlace::Token(Box::new(uri)),
        None => KeyPlace::Elsewhere,
    }
}

/// An authority whose directory stands but which the ledger does not know.
fn adopt_authority(ledger: &Sqlite, folder: &Path, name: &str, now: Timestamp, done: &mut Repaired) -> Result<()> {
    let Ok(label) = Label::from_str(name) else { return Ok(()) };
    let known = ledger.authorities()?;
    let found = certificates(&folder.join(CERTIFICATE_FILE));
    let Some(first) = found.first().filter(|c| c.is_ca()) else { return Ok(()) };
    if known.iter().any(|a| a.label == label.as_str() || a.certificate == *first) {
        return Ok(());
    }
    let parent = known.iter().find(|a| a.certificate != *first && first.signed_by(&a.certificate).is_ok());
    let mut authority = Authority {
        above: above(first, &found),
        issuer: parent.filter(|_| !first.is_self_issued()).map(|p| p.label.clone()),
        key: key_place(folder),
        ..Authority::root(label.clone(), first.clone(), folder.to_owned())
    };
    authority.purposes = purposes(&authority);
    ledger.adopt_authority(&authority, now)?;
    if authority.key == KeyPlace::Elsewhere {
        done.said.push(format!(
            "the key of {label} is not in {}: if it was taken away, tamga authority online DIR brings it back",
            folder.shown()
        ));
    }
    // The latest list says what was revoked; without one it cannot be known whether there was any.
    let list = crate::fs::read_regular(&folder.join(LIST_FILE)).ok().and_then(|b| crl::find(&b, LIST_FILE).ok());
    match list.filter(|l| l.signed_by(first).is_ok()) {
        Some(l) => {
            ledger.merge_list(&label, l.count().unwrap_or(0), &l.entries, now)?;
        }
        None if done.salvaged.authorities == 0 => {
            ledger.may_be_behind(&format!("it was rebuilt from files on {}", now.date()), Some(&label))?;
        }
        None => {}
    }
    done.authorities.push(label.to_string());
    Ok(())
}

/// A certificate directory that the ledger does not know, of one of its authorities.
fn adopt_certificate(
    ledger: &Sqlite,
    folder: &Path,
    known: &[Authority],
    now: Timestamp,
    done: &mut Repaired,
) -> Result<()> {
    let found = certificates(&folder.join(CERTIFICATE_FILE));
    let Some(leaf) = found.first().filter(|c| !c.is_ca()) else { return Ok(()) };
    let Some(authority) = known.iter().find(|a| leaf.signed_by(&a.certificate).is_ok()) else { return Ok(()) };
    let folder = std::path::absolute(folder).unwrap_or_else(|_| folder.to_owned());
    let name = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let Ok(label) = Label::from_text(&name) else { return Ok(()) };
    let taken = known.iter().any(|a| a.label == label.as_str());
    let label = if taken { Label::from_text(&format!("{label}-found")).unwrap_or(label) } else { label };
    let issued = Issued {
        label: label.clone(),
        certificate: leaf.clone(),
        authority: Some(authority.label.clone()),
        folder,
        life: Life::Live,
        host: None,
        revoked: None,
    };
    if ledger.adopt_certificate(&issued, now)? {
        done.certificates.push(label.to_string());
    }
    Ok(())
}
