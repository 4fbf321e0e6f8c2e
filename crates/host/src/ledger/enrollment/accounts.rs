//! Accounts and invitations.

use super::super::sql::Value;
use super::super::{Database, Row, SqlResult, Store, StoreExt as _, events, values};
use super::{Accounts, Held, NewAccount, texts};
use crate::error::Result;
use tamga_core::enrollment::jwk::Jwk;
use tamga_core::enrollment::object::{Account, Invitation};
use tamga_core::enrollment::state::AccountState;
use tamga_core::vocabulary::timestamp::Timestamp;
use zeroize::Zeroizing;

const COLUMNS: &str = "SELECT id, jwk, state, contact, invitation, made_at FROM enrollment_account";

fn account(r: Row<'_>) -> SqlResult<Option<Account>> {
    let key = serde_json::from_str(r.get(1)?).ok().and_then(|v| Jwk::parse(&v).ok());
    let (Some(key), Ok(state)) = (key, r.get::<&str>(2)?.parse()) else { return Ok(None) };
    Ok(Some(Account {
        id: r.get(0)?,
        key,
        state,
        contact: texts(r.get(3)?),
        invitation: r.get(4)?,
        made_at: Timestamp::from_unix(r.get(5)?),
    }))
}

fn one<'a>(db: &dyn Database, condition: &str, value: impl Into<Value<'a>>) -> SqlResult<Option<Account>> {
    Ok(db.one(&format!("{COLUMNS} WHERE {condition}"), &[value.into()], account)?.flatten())
}

fn held(db: &dyn Database, account: Account) -> SqlResult<Held> {
    let of_account = "SELECT count(*), max(id) FROM enrollment_order WHERE account = ?1 AND certificate IS NOT NULL";
    let (certificates, latest) =
        db.single(of_account, values![account.id], |r| Ok((r.get::<i64>(0)?, r.get::<Option<i64>>(1)?)))?;
    let of_order = "SELECT named, made_at FROM enrollment_order WHERE id = ?1";
    let latest = db.one(of_order, values![latest], |r| Ok((texts(r.get(0)?), Timestamp::from_unix(r.get(1)?))))?;
    let (names, latest) = latest.unzip();
    let certificates = u64::try_from(certificates).unwrap_or(0);
    Ok(Held { account, certificates, names: names.unwrap_or_default(), latest })
}

fn invitation(r: Row<'_>) -> SqlResult<Invitation> {
    Ok(Invitation {
        key_id: r.get(0)?,
        sealed: Zeroizing::new(r.get(1)?),
        names: texts(r.get(2)?),
        uses_left: r.get::<Option<i64>>(3)?.map(|n| u32::try_from(n).unwrap_or(0)),
        ends: Timestamp::from_unix(r.get(4)?),
        made_at: Timestamp::from_unix(r.get(5)?),
    })
}

const INVITATION: &str = "SELECT key_id, sealed, names, uses_left, ends, made_at FROM enrollment_invitation";

fn list(all: &[String]) -> String {
    serde_json::Value::from(all).to_string()
}

impl<S: Store> Accounts for S {
    fn make_account(&self, new: &NewAccount<'_>, now: Timestamp) -> Result<Option<(Account, bool)>> {
        let NewAccount { key, contact, invitation } = *new;
        let thumbprint = key.thumbprint();
        let take = "UPDATE enrollment_invitation SET uses_left = uses_left - 1
             WHERE key_id = ?1 AND ends > ?2 AND (uses_left IS NULL OR uses_left > 0)";
        let make = "INSERT INTO enrollment_account (thumbprint, jwk, state, contact, invitation, made_at)
             VALUES (?1, ?2, 'valid', ?3, ?4, ?5) RETURNING id";
        self.write(|db| {
            if let Some(known) = one(db, "thumbprint = ?1", &thumbprint)? {
                return Ok(Some((known, false)));
            }
            if let Some(key_id) = invitation
                && db.execute(take, values![key_id, now.unix()])? == 0
            {
                return Ok(None);
            }
            let all = values![&thumbprint, key.to_value().to_string(), list(contact), invitation, now.unix()];
            let id: i64 = db.single(make, all, |r| r.get(0))?;
            Ok(one(db, "id = ?1", id)?.map(|a| (a, true)))
        })
    }

    fn account(&self, id: i64) -> Result<Option<Account>> {
        self.look(|db| one(db, "id = ?1", id))
    }

    fn account_of_key(&self, thumbprint: &str) -> Result<Option<Account>> {
        self.look(|db| one(db, "thumbprint = ?1", thumbprint))
    }

    fn accounts(&self) -> Result<Vec<Held>> {
        self.look(|db| {
            let all = db.all(&format!("{COLUMNS} ORDER BY id"), values![], account)?;
            all.into_iter().flatten().map(|a| held(db, a)).collect()
        })
    }

    fn account_held(&self, id: i64) -> Result<Option<Held>> {
        self.look(|db| one(db, "id = ?1", id)?.map(|a| held(db, a)).transpose())
    }

    fn set_contact(&self, id: i64, contact: &[String]) -> Result<()> {
        let sql = "UPDATE enrollment_account SET contact = ?2 WHERE id = ?1";
        self.write(|db| db.execute(sql, values![id, list(contact)]).map(drop))
    }

    fn set_account_state(&self, id: i64, state: AccountState, now: Timestamp) -> Result<()> {
        let of_account = values![id, state.word()];
        let proofs =
            "UPDATE enrollment_authorization SET state = ?2 WHERE account = ?1 AND state IN ('pending', 'valid')";
        self.write(|db| {
            db.execute("UPDATE enrollment_account SET state = ?2 WHERE id = ?1", of_account)?;
            if state != AccountState::Valid {
                db.execute(proofs, of_account)?;
            }
            events::insert(db, now, "account-changed", &format!("account {id}"), state.word())
        })
    }

    fn set_account_key(&self, id: i64, key: &Jwk, now: Timestamp) -> Result<Option<i64>> {
        let thumbprint = key.thumbprint();
        let sql = "UPDATE enrollment_account SET thumbprint = ?2, jwk = ?3 WHERE id = ?1";
        self.write(|db| {
            if let Some(other) = one(db, "thumbprint = ?1", &thumbprint)? {
                return Ok(Some(other.id));
            }
            db.execute(sql, values![id, &thumbprint, key.to_value().to_string()])?;
            events::insert(db, now, "account-changed", &format!("account {id}"), "another key")?;
            Ok(None)
        })
    }

    fn invite(&self, i: &Invitation) -> Result<()> {
        let sql = "INSERT INTO enrollment_invitation (key_id, sealed, names, uses_left, ends, made_at)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6)";
        self.write(|db| {
            let sealed: &[u8] = &i.sealed;
            let all = values![&i.key_id, sealed, list(&i.names), i.uses_left, i.ends.unix(), i.made_at.unix()];
            db.execute(sql, all)?;
            events::insert(db, i.made_at, "invited", &i.key_id, &i.names.join(" "))
        })
    }

    fn invitation(&self, key_id: &str) -> Result<Option<Invitation>> {
        self.look(|db| db.one(&format!("{INVITATION} WHERE key_id = ?1"), values![key_id], invitation))
    }

    fn invitations(&self) -> Result<Vec<Invitation>> {
        self.look(|db| db.all(&format!("{INVITATION} ORDER BY made_at, key_id"), values![], invitation))
    }
}
