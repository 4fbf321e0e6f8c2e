//! What was revoked, and which lists were signed.

use super::{Store, StoreExt as _, events, values};
use crate::error::Result;
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

    /// Takes the next number for a list, no less than `at_least`, durably, before the list with it is signed: of several machines that sign
    /// at once each gets its own.
    fn take_number(&self, authority: &Label, at_least: u64) -> Result<u64>;

    /// That a list with these entries was written. What was revoked since it was read is in the next one.
    fn published(&self, authority: &Label, number: u64, entries: &[Revoked], now: Timestamp) -> Result<()>;

    /// That the ledger may lack what was revoked after it was written: no list is signed before that is settled.
    fn may_be_behind(&self, why: &str, authority: Option<&Label>) -> Result<()>;
}

impl<S: Store> Revocations for S {
    fn revoke(&self, label: &Label, authority: &Label, serials: &[&str], reason: Reason, now: Timestamp) -> Result<()> {
        let sql =
            "INSERT INTO revocation (authority, serial, at, reason) VALUES (?1, ?2, ?3, ?4) ON CONFLICT DO NOTHING";
        self.write(|db| {
            for serial in serials {
                db.execute(sql, values![authority.as_str(), *serial, now.to_string(), reason.word()])?;
                events::insert(db, now, "revoked", label, &format!("{serial} {}", reason.word()))?;
            }
            Ok(())
        })
    }

    fn listed(&self, authority: &Label) -> Result<Listed> {
        let sql = "SELECT serial, at, reason, published FROM revocation WHERE authority = ?1 ORDER BY serial";
        self.look(|db| {
            let state = "SELECT list_number, list_behind FROM authority WHERE label = ?1";
            let found: Option<(i64, Option<String>)> =
                db.one(state, values![authority.as_str()], |r| Ok((r.get(0)?, r.get(1)?)))?;
            let (number, behind) = found.unwrap_or_default();
            let mut out = Listed { number: u64::try_from(number).unwrap_or(0), behind, ..Listed::default() };
            db.each(sql, values![authority.as_str()], &mut |r| {
                let Ok(at) = Timestamp::from_str(r.get(1)?) else { return Ok(()) };
                out.unpublished += usize::from(!r.get::<bool>(3)?);
                let reason = Reason::from_str(r.get(2)?).unwrap_or(Reason::Unspecified);
                out.entries.push(Revoked { serial: r.get(0)?, at, reason });
                Ok(())
            })?;
            Ok(out)
        })
    }

    fn merge_list(&self, authority: &Label, number: u64, entries: &[Revoked], now: Timestamp) -> Result<usize> {
        let sql = "INSERT INTO revocation (authority, serial, at, reason, published) VALUES (?1, ?2, ?3, ?4, 1)
             ON CONFLICT DO NOTHING";
        self.write(|db| {
            let mut added = 0;
            for e in entries {
                added += db.execute(sql, values![authority.as_str(), &e.serial, e.at.to_string(), e.reason.word()])?;
            }
            let of = values![authority.as_str(), count(number)];
            db.execute("UPDATE authority SET list_number = ?2 WHERE label = ?1 AND list_number < ?2", of)?;
            db.execute("UPDATE authority SET list_behind = NULL WHERE label = ?1", &of[..1])?;
            events::insert(db, now, "list-taken-up", authority, &format!("number {number}, {added} new entries"))?;
            Ok(added)
        })
    }

    fn take_number(&self, authority: &Label, at_least: u64) -> Result<u64> {
        let sql = "UPDATE authority SET list_number = CASE WHEN list_number < ?2 THEN ?2 ELSE list_number + 1 END
             WHERE label = ?1 RETURNING list_number";
        let at_least = count(at_least);
        let taken: i64 = self.write(|db| db.single(sql, values![authority.as_str(), at_least], |r| r.get(0)))?;
        Ok(u64::try_from(taken).unwrap_or(0))
    }

    fn published(&self, authority: &Label, number: u64, entries: &[Revoked], now: Timestamp) -> Result<()> {
        let mark = "UPDATE revocation SET published = 1 WHERE authority = ?1 AND serial = ?2 AND published = 0";
        self.write(|db| {
            for e in entries {
                db.execute(mark, values![authority.as_str(), &e.serial])?;
            }
            db.execute("UPDATE authority SET list_behind = NULL WHERE label = ?1", values![authority.as_str()])?;
            events::insert(db, now, "list-signed", authority, &format!("number {number}, {} entries", entries.len()))
        })
    }

    fn may_be_behind(&self, why: &str, authority: Option<&Label>) -> Result<()> {
        let sql = "UPDATE authority SET list_behind = ?1 WHERE ?2 IS NULL OR label = ?2";
        self.write(|db| db.execute(sql, values![why, authority.map(Label::as_str)]).map(drop))
    }
}

fn count(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
    use crate::ledger::Sqlite;
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
