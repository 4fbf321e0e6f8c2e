//! Authorities: each with its certificates, what is above it, and where its key is.

use super::{Database, SqlResult, Store, StoreExt as _, events, restored, text, values};
use crate::error::Result;
use std::collections::BTreeMap;
use std::str::FromStr;
use tamga_core::ca::authority::{KEY_FILE, KEY_URI_FILE};
use tamga_core::ca::report::{Authority, KeyPlace};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::profile::Links;
use tamga_core::pki::token::TokenUri;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::timestamp::Timestamp;

/// As deep as any path that is judged.
const DEEPEST: usize = 9;

/// One row of each table, before they are put together.
struct Row {
    label: String,
    issuer: Option<String>,
    key_place: String,
    key_path: Option<String>,
    purposes: String,
    links: Links,
    retired: bool,
    /// True if its key is, or was last, on this machine.
    is_ours: bool,
}

/// Certificates of one authority by role, oldest first.
#[derive(Default)]
struct Held {
    own: Vec<Certificate>,
    above: Vec<Certificate>,
    crossed: Vec<Certificate>,
}

/// The authorities of a ledger.
pub trait Authorities {
    /// Every authority, oldest first.
    fn authorities(&self) -> Result<Vec<Authority>>;

    /// Where an authority's key is now.
    fn set_key_place(&self, label: &Label, place: &KeyPlace, kind: &str, now: Timestamp) -> Result<()>;

    /// That an authority signs no more.
    fn retire(&self, label: &Label, now: Timestamp) -> Result<()>;
}

impl<S: Store> Authorities for S {
    fn authorities(&self) -> Result<Vec<Authority>> {
        let (rows, mut held) = self.look(read)?;
        let mut out: Vec<Authority> = Vec::new();
        for row in &rows {
            // A label that is none would lead out of the data directory.
            let Ok(label) = Label::from_str(&row.label) else { continue };
            let Some(mut certificates) = held.remove(&row.label) else { continue };
            let Some(certificate) = certificates.own.pop() else { continue };
            out.push(Authority {
                label: label.clone(),
                root_label: label.clone(),
                certificate,
                earlier: certificates.own,
                // By its label alone: whatever the ledger says, an authority's key is in the data directory.
                folder: self.directory_of_authority(label.as_str()),
                issuer: row.issuer.as_ref().and_then(|i| i.parse().ok()),
                above: certificates.above,
                crossed: certificates.crossed,
                key: match (row.key_place.as_str(), &row.key_path) {
                    // A copy that was brought to this machine counts as well.
                    ("here", _)
                        if row.is_ours || self.directory_of_authority(label.as_str()).join(KEY_FILE).exists() =>
                    {
                        KeyPlace::Here
                    }
                    ("offline", Some(path)) => KeyPlace::Offline(restored(path)),
                    ("discarded", _) => KeyPlace::Discarded,
                    // How the token is reached is in a file of this machine: what a ledger says loads no code.
                    ("token", Some(uri))
                        if row.is_ours || self.directory_of_authority(label.as_str()).join(KEY_URI_FILE).exists() =>
                    {
                        uri.parse().map_or(KeyPlace::Elsewhere, |uri| KeyPlace::Token(Box::new(uri)))
                    }
                    _ => KeyPlace::Elsewhere,
                },
                purposes: row.purposes.split(',').flat_map(Purpose::from_str).collect(),
                links: row.links.clone(),
                retired: row.retired,
            });
        }
        // What is above one that is here is what that one says now: its certificate may be newer.
        let above: Vec<Above> = out.iter().map(|a| climb(a, &out)).collect();
        for (a, above) in out.iter_mut().zip(above) {
            a.above = above.certificates;
            a.crossed = above.crossed;
            a.root_label = above.root_label;
        }
        Ok(out)
    }

    fn set_key_place(&self, label: &Label, place: &KeyPlace, kind: &str, now: Timestamp) -> Result<()> {
        let path = key_path(place);
        self.write(|db| {
            db.execute(
                "UPDATE authority SET key_place = ?2, key_path = ?3, host = ?4 WHERE label = ?1",
                values![label.as_str(), place.word(), path.as_deref(), db.host()],
            )?;
            events::insert(db, now, kind, label, path.as_deref().unwrap_or_default())
        })
    }

    fn retire(&self, label: &Label, now: Timestamp) -> Result<()> {
        self.write(|db| {
            db.execute("UPDATE authority SET retired = 1 WHERE label = ?1", values![label.as_str()])?;
            events::insert(db, now, "retired", label, "")
        })
    }
}

/// Every authority with its certificates. Of several that were made in the same second the one whose first certificate was recorded first comes first.
fn read(db: &dyn Database) -> SqlResult<(Vec<Row>, BTreeMap<String, Held>)> {
    let sql =
        "SELECT a.label, c.role, c.der, issuer, key_place, key_path, purposes, crl_url, issuer_url, retired, ocsp_url, host
         FROM authority a JOIN authority_certificate c ON c.label = a.label
         ORDER BY made_at, (SELECT min(f.id) FROM authority_certificate f WHERE f.label = a.label), a.label, c.id";
    let (mut rows, mut held): (Vec<Row>, BTreeMap<String, Held>) = Default::default();
    db.each(sql, values![], &mut |r| {
        let label: &str = r.get(0)?;
        if rows.last().is_none_or(|row| row.label != label) {
            rows.push(Row {
                label: label.to_owned(),
                issuer: r.get(3)?,
                key_place: r.get(4)?,
                key_path: r.get(5)?,
                purposes: r.get(6)?,
                links: Links { crl: r.get(7)?, issuer: r.get(8)?, ocsp: r.get(10)? },
                retired: r.get(9)?,
                is_ours: r.get::<&str>(11)? == db.host(),
            });
        }
        let Ok(c) = Certificate::read(r.get(2)?, label) else { return Ok(()) };
        let held = held.entry(label.to_owned()).or_default();
        match r.get(1)? {
            "own" => held.own.push(c),
            "crossed" => held.crossed.push(c),
            _ => held.above.push(c),
        }
        Ok(())
    })?;
    Ok((rows, held))
}

/// What is above an authority and what leads from its top to an older root. Of one whose issuer is in the ledger nothing
/// else is kept.
fn climb(a: &Authority, all: &[Authority]) -> Above {
    let (mut above, mut crossed) = (a.above.clone(), a.crossed.clone());
    let mut at = a;
    for _ in 0..DEEPEST {
        let Some(parent) = at.issuer.as_ref().and_then(|l| all.iter().find(|p| p.label == *l)) else { break };
        above.push(parent.certificate.clone());
        if parent.issuer.is_none() {
            above.extend(parent.above.iter().cloned());
        }
        crossed.extend(parent.crossed.iter().cloned());
        at = parent;
    }
    Above { certificates: above, crossed, root_label: at.label.clone() }
}

/// What is above one authority.
struct Above {
    certificates: Vec<Certificate>,
    crossed: Vec<Certificate>,
    root_label: Label,
}

/// What is recorded of the place of a key. The module of a token is of one machine, and is not.
fn key_path(place: &KeyPlace) -> Option<String> {
    match place {
        KeyPlace::Offline(p) => Some(text(p)),
        KeyPlace::Token(uri) => Some(TokenUri { module: None, ..(**uri).clone() }.to_string()),
        _ => None,
    }
}

pub(super) fn insert(db: &dyn Database, a: &Authority, now: Timestamp) -> SqlResult<()> {
    let path = key_path(&a.key);
    db.execute(
        "INSERT INTO authority (label, folder, issuer, key_place, key_path, purposes, crl_url, issuer_url, ocsp_url, retired,
           made_at, host)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)",
        values![
            a.label.as_str(),
            text(&a.folder),
            a.issuer.as_deref(),
            a.key.word(),
            path.as_deref(),
            a.purposes.iter().map(|p| p.word()).collect::<Vec<_>>().join(","),
            a.links.crl.as_deref(),
            a.links.issuer.as_deref(),
            a.links.ocsp.as_deref(),
            a.retired,
            now.to_string(),
            db.host()
        ],
    )?;
    // Above an authority of the ledger stands what that one says; only what is not ours is kept with it.
    if a.issuer.is_none() {
        for c in &a.above {
            hold(db, &a.label, "above", c, now)?;
        }
        for c in &a.crossed {
            hold(db, &a.label, "crossed", c, now)?;
        }
    }
    for c in a.earlier.iter().chain([&a.certificate]) {
        hold(db, &a.label, "own", c, now)?;
    }
    Ok(())
}

pub(super) fn hold(db: &dyn Database, label: &Label, role: &str, c: &Certificate, now: Timestamp) -> SqlResult<()> {
    db.execute(
        "INSERT INTO authority_certificate (label, role, sha256, der, at) VALUES (?1, ?2, ?3, ?4, ?5)",
        values![label.as_str(), role, c.sha256().as_str(), c.der(), now.to_string()],
    )
    .map(drop)
}
