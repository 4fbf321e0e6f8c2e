//! Accounts and invitations in SQLite.

use super::super::{Sqlite, events};
use super::{Accounts, Held, NewAccount, texts};
use crate::error::Result;
use rusqlite::{Connection, OptionalExtension, Row, params};
use tamga_core::enrollment::jwk::Jwk;
use tamga_core::enrollment::object::{Account, Invitation};
use tamga_core::enrollment::state::AccountState;
use tamga_core::vocabulary::timestamp::Timestamp;
use zeroize::Zeroizing;

const COLUMNS: &str = "SELECT id, jwk, state, contact, invitation, made_at FROM enrollment_account";

fn account(r: &Row<'_>) -> rusqlite::Result<Option<Account>> {
    let (jwk, state): (String, String) = (r.get(1)?, r.get(2)?);
    let key = serde_json::from_str(&jwk).ok().and_then(|v| Jwk::parse(&v).ok());
    let (Some(key), Ok(state)) = (key, state.parse()) else { return Ok(None) };
    Ok(Some(Account {
        id: r.get(0)?,
        key,
        state,
        contact: texts(r.get_ref(3)?.as_str()?),
        invitation: r.get(4)?,
        made_at: Timestamp::from_unix(r.get(5)?),
    }))
}

fn one(db: &Connection, condition: &str, value: &dyn rusqlite::types::ToSql) -> rusqlite::Result<Option<Account>> {
    let found = db.prepare_cached(&format!("{COLUMNS} WHERE {condition}"))?.query_row([value], account).optional()?;
    Ok(found.flatten())
}

fn held(db: &Connection, account: Account) -> rusqlite::Result<Held> {
    let (certificates, latest) = db
        .prepare_cached(
            "SELECT count(*), max(id) FROM enrollment_order WHERE account = ?1 AND certificate IS NOT NULL",
        )?
        .query_row([account.id], |r| Ok((r.get::<_, i64>(0)?, r.get::<_, Option<i64>>(1)?)))?;
    let latest = db
        .prepare_cached("SELECT named, made_at FROM enrollment_order WHERE id = ?1")?
        .query_row([latest], |r| Ok((r.get::<_, String>(0)?, r.get::<_, i64>(1)?)))
        .optional()?;
    Ok(Held {
        account,
        certificates: u64::try_from(certificates).unwrap_or(0),
        names: latest.as_ref().map(|(named, _)| texts(named)).unwrap_or_default(),
        latest: latest.map(|(_, at)| Timestamp::from_unix(at)),
    })
}

fn invitation(r: &Row<'_>) -> rusqlite::Result<Invitation> {
    Ok(Invitation {
        key_id: r.get(0)?,
        sealed: Zeroizing::new(r.get(1)?),
        names: texts(r.get_ref(2)?.as_str()?),
        uses_left: r.get::<_, Option<i64>>(3)?.map(|n| u32::try_from(n).unwrap_or(0)),
        ends: Timestamp::from_unix(r.get(4)?),
        made_at: Timestamp::from_unix(r.get(5)?),
    })
}

const INVITATION: &str = "SELECT key_id, sealed, names, uses_left, ends, made_at FROM enrollment_invitation";

fn list(all: &[String]) -> String {
    serde_json::Value::from(all).to_string()
}

impl Accounts for Sqlite {
    fn make_account(&self, new: &NewAccount<'_>, now: Timestamp) -> Result<Option<(Account, bool)>> {
        let NewAccount { key, contact, invitation } = *new;
        let thumbprint = key.thumbprint();
        self.write(|db| {
            if let Some(known) = one(db, "thumbprint = ?1", &thumbprint)? {
                return Ok(Some((known, false)));
            }
            if let Some(key_id) = invitation {
                let taken = db.execute(
                    "UPDATE enrollment_invitation SET uses_left = uses_left - 1
                     WHERE key_id = ?1 AND ends > ?2 AND (uses_left IS NULL OR uses_left > 0)",
                    params![key_id, now.unix()],
                )?;
                if taken == 0 {
                    return Ok(None);
                }
            }
            let id: i64 = db
                .prepare_cached(
                    "INSERT INTO enrollment_account (thumbprint, jwk, state, contact, invitation, made_at)
                     VALUES (?1, ?2, 'valid', ?3, ?4, ?5) RETURNING id",
                )?
                .query_row(
                    params![thumbprint, key.to_value().to_string(), list(contact), invitation, now.unix()],
                    |r| r.get(0),
                )?;
            Ok(one(db, "id = ?1", &id)?.map(|a| (a, true)))
        })
    }

    fn account(&self, id: i64) -> Result<Option<Account>> {
        self.look(|db| one(db, "id = ?1", &id))
    }

    fn account_of_key(&self, thumbprint: &str) -> Result<Option<Account>> {
        self.look(|db| one(db, "thumbprint = ?1", &thumbprint))
    }

    fn accounts(&self) -> Result<Vec<Held>> {
        self.look(|db| {
            let mut q = db.prepare(&format!("{COLUMNS} ORDER BY id"))?;
            let all: Vec<Option<Account>> = q.query_map([], account)?.collect::<rusqlite::Result<_>>()?;
            all.into_iter().flatten().map(|a| held(db, a)).collect()
        })
    }

    fn account_held(&self, id: i64) -> Result<Option<Held>> {
        self.look(|db| one(db, "id = ?1", &id)?.map(|a| held(db, a)).transpose())
    }

    fn set_contact(&self, id: i64, contact: &[String]) -> Result<()> {
        self.write(|db| {
            db.execute("UPDATE enrollment_account SET contact = ?2 WHERE id = ?1", params![id, list(contact)])
                .map(|_| ())
        })
    }

    fn set_account_state(&self, id: i64, state: AccountState, now: Timestamp) -> Result<()> {
        self.write(|db| {
            db.execute("UPDATE enrollment_account SET state = ?2 WHERE id = ?1", params![id, state.word()])?;
            if state != AccountState::Valid {
                db.execute(
                    "UPDATE enrollment_authorization SET state = ?2 WHERE account = ?1 AND state IN ('pending', 'valid')",
                    params![id, state.word()],
                )?;
            }
            events::insert(db, now, "account-changed", &format!("account {id}"), state.word())
        })
    }

    fn set_account_key(&self, id: i64, key: &Jwk, now: Timestamp) -> Result<Option<i64>> {
        let thumbprint = key.thumbprint();
        self.write(|db| {
            if let Some(other) = one(db, "thumbprint = ?1", &thumbprint)? {
                return Ok(Some(other.id));
            }
            db.execute(
                "UPDATE enrollment_account SET thumbprint = ?2, jwk = ?3 WHERE id = ?1",
                params![id, thumbprint, key.to_value().to_string()],
            )?;
            events::insert(db, now, "account-changed", &format!("account {id}"), "another key")?;
            Ok(None)
        })
    }

    fn invite(&self, i: &Invitation) -> Result<()> {
        self.write(|db| {
            db.execute(
                "INSERT INTO enrollment_invitation (key_id, sealed, names, uses_left, ends, made_at)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                params![i.key_id, *i.sealed, list(&i.names), i.uses_left, i.ends.unix(), i.made_at.unix()],
            )?;
            events::insert(db, i.made_at, "invited", &i.key_id, &i.names.join(" "))
        })
    }

    fn invitation(&self, key_id: &str) -> Result<Option<Invitation>> {
        self.look(|db| {
            db.prepare_cached(&format!("{INVITATION} WHERE key_id = ?1"))?.query_row([key_id], invitation).optional()
        })
    }

    fn invitations(&self) -> Result<Vec<Invitation>> {
        self.look(|db| {
            let mut q = db.prepare(&format!("{INVITATION} ORDER BY made_at, key_id"))?;
            q.query_map([], invitation)?.collect()
        })
    }
}
