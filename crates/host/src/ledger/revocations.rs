//! What was revoked, and which lists were signed.

use super::{Sqlite, events};
use crate::error::Result;
use rusqlite::params;
use std::str::FromStr;
use tamga_core::pki::cert::crl::Revoked;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::reason::Reason;
use tamga_core::vocabulary::timestamp::Timestamp;

/// What the ledger knows of an authority's lists.
#[derive(Clone, Debug, Default)]
pub struct Listed {
    /// The number of the latest list; 0 if none was signed.
    pub number: u64,
    /// Why the ledger may not know everything that was revoked; None if it does.
    pub behind: Option<String>,
    /// Everything that is revoked, by serial.
    pub entries: Vec<Revoked>,
    /// How many of them no list has yet.
    pub unpublished: usize,
}

/// What was revoked, and what of it is published.
pub trait Revocations {
    /// Takes certificates of one authority back: authority, serials, reason. What was revoked already stays as it was.
    fn revoke(&self, label: &Label, authority: &Label, serials: &[&str], reason: Reason, now: Timestamp) -> Result<()>;

    /// What stands to be listed for an authority.
    fn listed(&self, authority: &Label) -> Result<Listed>;

    /// Takes up what an earlier list of this authority says; a later number and further entries count.
    fn merge_list(&self, authority: &Label, number: u64, entries: &[Revoked], now: Timestamp) -> Result<usize>;

    /// Uses a number up, durably, before the list with it is signed.
    fn take_number(&self, authority: &Label, number: u64) -> Result<()>;

    /// That a list with these entries was written. What was revoked since it was read is in the next one.
    fn published(&self, authority: &Label, number: u64, entries: &[Revoked], now: Timestamp) -> Result<()>;

    /// That the ledger may lack what was revoked after it was written: no list is signed before that is settled.
    fn may_be_behind(&self, why: &str, authority: Option<&Label>) -> Result<()>;
}

impl Revocations for Sqlite {
    fn revoke(&self, label: &Label, authority: &Label, serials: &[&str], reason: Reason, now: Timestamp) -> Result<()> {
        let run = || -> rusqlite::Result<()> {
            let tx = self.db.unchecked_transaction()?;
            for serial in serials {
                tx.execute(
                    "INSERT OR IGNORE INTO revocation (authority, serial, at, reason) VALUES (?1, ?2, ?3, ?4)",
                    params![authority.as_str(), serial, now.to_string(), reason.word()],
                )?;
                events::insert(&tx, now, "revoked", label, &format!("{serial} {}", reason.word()))?;
            }
            tx.commit()
        };
        run().map_err(|e| self.failed(e))
    }

    fn listed(&self, authority: &Label) -> Result<Listed> {
        let run = || -> rusqlite::Result<Listed> {
            let mut out = Listed::default();
            let mut q = self.db.prepare("SELECT list_number, list_behind FROM authority WHERE label = ?1")?;
            let mut rows = q.query([authority.as_str()])?;
            if let Some(r) = rows.next()? {
                out.number = u64::try_from(r.get::<_, i64>(0)?).unwrap_or(0);
                out.behind = r.get(1)?;
            }
            let mut q = self
                .db
                .prepare("SELECT serial, at, reason, published FROM revocation WHERE authority = ?1 ORDER BY serial")?;
            let mut rows = q.query([authority.as_str()])?;
            while let Some(r) = rows.next()? {
                let (at, reason): (String, String) = (r.get(1)?, r.get(2)?);
                let Ok(at) = Timestamp::from_str(&at) else { continue };
                out.unpublished += usize::from(!r.get::<_, bool>(3)?);
                let reason = Reason::from_str(&reason).unwrap_or(Reason::Unspecified);
                out.entries.push(Revoked { serial: r.get(0)?, at, reason });
            }
            Ok(out)
        };
        run().map_err(|e| self.failed(e))
    }

    fn merge_list(&self, authority: &Label, number: u64, entries: &[Revoked], now: Timestamp) -> Result<usize> {
        let run = || -> rusqlite::Result<usize> {
            let tx = self.db.unchecked_transaction()?;
            let mut added = 0;
            {
                let mut add = tx.prepare(
                    "INSERT OR IGNORE INTO revocation (authority, serial, at, reason, published) VALUES (?1, ?2, ?3, ?4, 1)",
                )?;
                for e in entries {
                    added += add.execute(params![authority.as_str(), e.serial, e.at.to_string(), e.reason.word()])?;
                }
            }
            tx.execute(
                "UPDATE authority SET list_number = max(list_number, ?2), list_behind = NULL WHERE label = ?1",
                params![authority.as_str(), i64::try_from(number).unwrap_or(i64::MAX)],
            )?;
            events::insert(&tx, now, "list-taken-up", authority, &format!("number {number}, {added} new entries"))?;
            tx.commit()?;
            Ok(added)
        };
        run().map_err(|e| self.failed(e))
    }

    fn take_number(&self, authority: &Label, number: u64) -> Result<()> {
        self.db
            .execute(
                "UPDATE authority SET list_number = ?2 WHERE label = ?1",
                params![authority.as_str(), i64::try_from(number).unwrap_or(i64::MAX)],
            )
            .map(|_| ())
            .map_err(|e| self.failed(e))
    }

    fn published(&self, authority: &Label, number: u64, entries: &[Revoked], now: Timestamp) -> Result<()> {
        let run = || -> rusqlite::Result<()> {
            let tx = self.db.unchecked_transaction()?;
            {
                let mut mark = tx.prepare(
                    "UPDATE revocation SET published = 1 WHERE authority = ?1 AND serial = ?2 AND published = 0",
                )?;
                for e in entries {
                    mark.execute(params![authority.as_str(), e.serial])?;
                }
            }
            tx.execute("UPDATE authority SET list_behind = NULL WHERE label = ?1", [authority.as_str()])?;
            events::insert(&tx, now, "list-signed", authority, &format!("number {number}, {} entries", entries.len()))?;
            tx.commit()
        };
        run().map_err(|e| self.failed(e))
    }

    fn may_be_behind(&self, why: &str, authority: Option<&Label>) -> Result<()> {
        self.db
            .execute(
                "UPDATE authority SET list_behind = ?1 WHERE ?2 IS NULL OR label = ?2",
                params![why, authority.map(Label::as_str)],
            )
            .map(|_| ())
            .map_err(|e| self.failed(e))
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
    use std::path::Path;

    /// The enrollment service records revocations while another command signs a list.
    #[test]
    fn what_is_revoked_while_a_list_is_signed_waits_for_the_next() {
        let ledger = Sqlite::in_memory("revoked-meanwhile", Path::new("/nowhere")).unwrap();
        let (authority, now) = ("saltmarsh".parse::<Label>().unwrap(), Timestamp::from_unix(1_800_000_000));
        let revoke = |serial: &str| {
            ledger.revoke(&authority, &authority, &[serial], Reason::Superseded, now).unwrap();
        };
        revoke("01");
        let listed = ledger.listed(&authority).unwrap();
        revoke("02");
        ledger.published(&authority, 1, &listed.entries, now).unwrap();
        assert_eq!(ledger.listed(&authority).unwrap().unpublished, 1);
    }
}
