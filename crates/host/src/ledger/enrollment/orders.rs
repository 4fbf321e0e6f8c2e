//! Orders, authorizations and challenges.

use super::super::{Database, Row, SqlResult, Store, StoreExt as _, certificates, events, values};
use super::{Enrolled, Orders};
use crate::database::SqlError;
use crate::error::Result;
use tamga_core::ca::report::{Issued, Summary};
use tamga_core::enrollment::challenge::ChallengeType;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::object::{Authorization, Challenge, NewOrder, ORDER_LIFE, Order, Outcome, PROOF_LIFE};
use tamga_core::enrollment::state::{AuthorizationState, ChallengeState, Recorded};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::timestamp::Timestamp;

/// How long an order that is over can still be asked for, in seconds.
const REMEMBERED: i64 = 30 * 86_400;
/// How long a used nonce is kept: longer than a nonce is taken.
const NONCE_KEPT: i64 = 2 * 3600;

/// The names as one text, by which orders for the same ones are found.
fn named(identifiers: &[Identifier]) -> String {
    let mut all: Vec<String> = identifiers.iter().map(ToString::to_string).collect();
    all.sort();
    all.dedup();
    serde_json::Value::from(all).to_string()
}

fn identifiers(column: &str) -> Vec<Identifier> {
    let all: Vec<serde_json::Value> = serde_json::from_str(column).unwrap_or_default();
    all.iter().filter_map(|v| Identifier::parse(v).ok()).collect()
}

fn json(column: Option<&str>) -> Option<serde_json::Value> {
    column.and_then(|c| serde_json::from_str(c).ok())
}

fn time(column: Option<i64>) -> Option<Timestamp> {
    column.map(Timestamp::from_unix)
}

fn recorded(word: &str) -> Recorded {
    match word {
        "open" => Recorded::Open,
        "issued" => Recorded::Issued,
        _ => Recorded::Failed,
    }
}

fn challenge(r: Row<'_>) -> SqlResult<Option<Challenge>> {
    let (Ok(kind), Ok(state)) = (r.get::<&str>(2)?.parse(), r.get::<&str>(4)?.parse()) else { return Ok(None) };
    Ok(Some(Challenge {
        id: r.get(0)?,
        authorization: r.get(1)?,
        kind,
        token: r.get(3)?,
        state,
        validated: time(r.get(5)?),
        error: json(r.get(6)?),
    }))
}

// `authorization` is a reserved word of SQL: as the name of a column it is quoted.
const CHALLENGE: &str = r#"SELECT id, "authorization", kind, token, state, validated, error FROM enrollment_challenge"#;

fn authorization(db: &dyn Database, id: i64) -> SqlResult<Option<Authorization>> {
    let read = |r: Row<'_>| -> SqlResult<Option<Authorization>> {
        let (kind, name): (&str, &str) = (r.get(1)?, r.get(2)?);
        let identifier = Identifier::parse(&serde_json::json!({ "type": kind, "value": name }));
        let (Ok(identifier), Ok(state)) = (identifier, r.get::<&str>(3)?.parse()) else { return Ok(None) };
        let expires = Timestamp::from_unix(r.get(4)?);
        Ok(Some(Authorization { id, account: r.get(0)?, identifier, state, expires, challenges: Vec::new() }))
    };
    let sql = "SELECT account, kind, name, state, expires FROM enrollment_authorization WHERE id = ?1";
    let Some(Some(mut found)) = db.one(sql, values![id], read)? else { return Ok(None) };
    let all = db.all(&format!(r#"{CHALLENGE} WHERE "authorization" = ?1 ORDER BY id"#), values![id], challenge)?;
    found.challenges = all.into_iter().flatten().collect();
    Ok(Some(found))
}

fn order(db: &dyn Database, id: i64) -> SqlResult<Option<Order>> {
    let read = |r: Row<'_>| -> SqlResult<Order> {
        Ok(Order {
            id,
            account: r.get(0)?,
            identifiers: identifiers(r.get(1)?),
            profile: r.get(2)?,
            not_before: time(r.get(3)?),
            not_after: time(r.get(4)?),
            replaces: r.get(5)?,
            recorded: recorded(r.get(6)?),
            error: json(r.get(7)?),
            expires: Timestamp::from_unix(r.get(8)?),
            certificate: r.get::<Option<&str>>(9)?.and_then(|c| c.parse().ok()),
            authorizations: Vec::new(),
        })
    };
    let sql =
        "SELECT account, identifiers, profile, not_before, not_after, replaces, state, error, expires, certificate
         FROM enrollment_order WHERE id = ?1";
    let Some(mut found) = db.one(sql, values![id], read)? else { return Ok(None) };
    let of_order = r#"SELECT "authorization" FROM enrollment_order_authorization WHERE of_order = ?1 ORDER BY place"#;
    for id in db.all(of_order, values![id], |r| r.get(0))? {
        found.authorizations.extend(authorization(db, id)?);
    }
    Ok(Some(found))
}

/// The authorization of an account for a name that still counts, or waits.
fn usable(db: &dyn Database, account: i64, name: &Identifier, now: Timestamp) -> SqlResult<Option<i64>> {
    let sql =
        "SELECT id FROM enrollment_authorization WHERE account = ?1 AND name = ?2 AND state = 'valid' AND expires > ?3
         ORDER BY id DESC LIMIT 1";
    db.one(sql, values![account, name.to_string(), now.unix()], |r| r.get(0))
}

fn make_authorization(
    db: &dyn Database,
    account: i64,
    name: &Identifier,
    token: &str,
    now: Timestamp,
) -> SqlResult<i64> {
    let (kind, text) = name.parts();
    let make = "INSERT INTO enrollment_authorization (account, kind, name, state, expires)
         VALUES (?1, ?2, ?3, 'pending', ?4) RETURNING id";
    let all = values![account, kind, text, now.plus(ORDER_LIFE).unix()];
    let id: i64 = db.single(make, all, |r| r.get(0))?;
    let add =
        r#"INSERT INTO enrollment_challenge ("authorization", kind, token, state) VALUES (?1, ?2, ?3, 'pending')"#;
    for kind in ChallengeType::possible(name) {
        db.execute(add, values![id, kind.word(), token])?;
    }
    Ok(id)
}

fn number(n: u64) -> i64 {
    i64::try_from(n).unwrap_or(i64::MAX)
}

fn count(n: i64) -> u64 {
    u64::try_from(n).unwrap_or(0)
}

impl<S: Store> Orders for S {
    fn make_order(&self, new: &NewOrder, now: Timestamp) -> Result<Order> {
        let all = serde_json::to_string(&new.identifiers).unwrap_or_default();
        let make = "INSERT INTO enrollment_order
               (account, identifiers, named, profile, not_before, not_after, replaces, state, expires, made_at)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, 'open', ?8, ?9) RETURNING id";
        let add =
            r#"INSERT INTO enrollment_order_authorization (of_order, place, "authorization") VALUES (?1, ?2, ?3)"#;
        self.write(|db| {
            let row = values![
                new.account,
                &all,
                named(&new.identifiers),
                new.profile.as_deref(),
                new.not_before.map(Timestamp::unix),
                new.not_after.map(Timestamp::unix),
                new.replaces.as_deref(),
                now.plus(ORDER_LIFE).unix(),
                now.unix()
            ];
            let id: i64 = db.single(make, row, |r| r.get(0))?;
            for (place, (name, token)) in (0_i64..).zip(new.identifiers.iter().zip(&new.tokens)) {
                let authorization = match usable(db, new.account, name, now)? {
                    Some(known) => known,
                    None => make_authorization(db, new.account, name, token, now)?,
                };
                db.execute(add, values![id, place, authorization])?;
            }
            order(db, id)?.ok_or(SqlError::Vanished)
        })
    }

    fn order(&self, id: i64) -> Result<Option<Order>> {
        self.look(|db| order(db, id))
    }

    fn orders_of(&self, account: i64, skipped: u64, most: u64, now: Timestamp) -> Result<Vec<i64>> {
        let sql =
            "SELECT id FROM enrollment_order WHERE account = ?1 AND (state = 'issued' OR (state = 'open' AND expires > ?2))
             ORDER BY id DESC LIMIT ?3 OFFSET ?4";
        self.look(|db| db.all(sql, values![account, now.unix(), number(most), number(skipped)], |r| r.get(0)))
    }

    fn issued_since(&self, account: i64, names: &[Identifier], since: Timestamp) -> Result<(u64, Option<Timestamp>)> {
        let sql = "SELECT count(*), min(made_at) FROM enrollment_order
             WHERE account = ?1 AND named = ?2 AND state = 'issued' AND made_at > ?3";
        let all = values![account, named(names), since.unix()];
        self.look(|db| db.single(sql, all, |r| Ok((count(r.get(0)?), time(r.get(1)?)))))
    }

    fn open_orders(&self, account: i64, now: Timestamp) -> Result<u64> {
        let sql = "SELECT count(*) FROM enrollment_order WHERE account = ?1 AND state = 'open' AND expires > ?2";
        self.look(|db| db.single(sql, values![account, now.unix()], |r| r.get(0).map(count)))
    }

    fn enrolled_label(&self, account: i64, names: &[Identifier]) -> Result<Option<Label>> {
        let sql = "SELECT c.label FROM enrollment_order o JOIN certificate c ON c.sha256 = o.certificate
             WHERE o.account = ?1 AND o.named = ?2 ORDER BY o.id DESC LIMIT 1";
        let found = self.look(|db| db.one(sql, values![account, named(names)], |r| Ok(r.get::<&str>(0)?.parse().ok())));
        found.map(Option::flatten)
    }

    fn issue(&self, id: i64, issued: &Issued, now: Timestamp) -> Result<bool> {
        let end = "UPDATE enrollment_order SET state = 'issued', certificate = ?2 WHERE id = ?1 AND state = 'open'";
        let sha256 = issued.certificate.sha256();
        self.write(|db| {
            if db.execute(end, values![id, sha256.as_str()])? == 0 {
                return Ok(false);
            }
            certificates::insert(db, issued, now)?;
            events::insert(db, now, "enrolled", &issued.label, sha256.as_str())?;
            Ok(true)
        })
    }

    fn fail_order(&self, id: i64, error: &serde_json::Value) -> Result<()> {
        let sql = "UPDATE enrollment_order SET state = 'failed', error = ?2 WHERE id = ?1 AND state = 'open'";
        self.write(|db| db.execute(sql, values![id, error.to_string()]).map(drop))
    }

    fn enrolled(&self, sha256: &Sha256Fingerprint) -> Result<Option<Enrolled>> {
        let sql = "SELECT account, id FROM enrollment_order WHERE certificate = ?1";
        let read = |r: Row<'_>| Ok(Enrolled { account: r.get(0)?, order: r.get(1)? });
        self.look(|db| db.one(sql, values![sha256.as_str()], read))
    }

    fn replaced_by(&self, certificate_id: &str) -> Result<Option<i64>> {
        let sql = "SELECT id FROM enrollment_order WHERE replaces = ?1 AND state <> 'failed' LIMIT 1";
        self.look(|db| db.one(sql, values![certificate_id], |r| r.get(0)))
    }

    fn enrolled_count(&self, ends_before: Timestamp) -> Result<(u64, u64)> {
        let sql = "SELECT count(*), count(*) FILTER (WHERE c.ends < ?1)
             FROM certificate c LEFT JOIN revocation r ON r.authority = c.authority AND r.serial = c.serial
             WHERE c.folder = '' AND c.state = 'live' AND r.at IS NULL";
        self.look(|db| db.single(sql, values![ends_before.unix()], |r| Ok((count(r.get(0)?), count(r.get(1)?)))))
    }

    fn enrolled_ending(&self, most: usize) -> Result<Vec<(Summary, i64)>> {
        // `summary` reads its columns by number, so the account comes last.
        let (columns, from) = certificates::SUMMARY.split_once("FROM certificate").unwrap_or_default();
        let sql = format!(
            "SELECT {columns}, o.account FROM certificate{from} JOIN enrollment_order o ON o.certificate = c.sha256
             WHERE c.folder = '' AND c.state = 'live' AND r.at IS NULL ORDER BY c.ends, c.id LIMIT ?1"
        );
        let last = columns.split(',').count();
        let most = values![i64::try_from(most).unwrap_or(i64::MAX)];
        let rows =
            self.look(|db| db.all(&sql, most, |r| Ok((certificates::summary(r, db.host())?, r.get::<i64>(last)?))))?;
        Ok(rows.into_iter().filter_map(|(s, account)| Some((s?, account))).collect())
    }

    fn authorization(&self, id: i64) -> Result<Option<Authorization>> {
        self.look(|db| authorization(db, id))
    }

    fn has_proved(&self, account: i64, names: &[Identifier], now: Timestamp) -> Result<bool> {
        self.look(|db| {
            for name in names {
                if usable(db, account, name, now)?.is_none() {
                    return Ok(false);
                }
            }
            Ok(!names.is_empty())
        })
    }

    fn deactivate(&self, id: i64) -> Result<()> {
        let sql = "UPDATE enrollment_authorization SET state = ?2 WHERE id = ?1 AND state IN ('pending', 'valid')";
        self.write(|db| db.execute(sql, values![id, AuthorizationState::Deactivated.word()]).map(drop))
    }

    fn challenge(&self, id: i64) -> Result<Option<(Challenge, Authorization)>> {
        let sql = r#"SELECT "authorization" FROM enrollment_challenge WHERE id = ?1"#;
        self.look(|db| {
            let of: Option<i64> = db.one(sql, values![id], |r| r.get(0))?;
            let Some(authorization) = of.map(|a| authorization(db, a)).transpose()?.flatten() else { return Ok(None) };
            let found = authorization.challenges.iter().find(|c| c.id == id).cloned();
            Ok(found.map(|c| (c, authorization)))
        })
    }

    fn begin_challenge(&self, id: i64) -> Result<bool> {
        let sql = "UPDATE enrollment_challenge SET state = 'processing' WHERE id = ?1 AND state = 'pending'";
        self.write(|db| Ok(db.execute(sql, values![id])? == 1))
    }

    fn end_challenge(&self, id: i64, kind: ChallengeType, outcome: &Outcome, now: Timestamp) -> Result<()> {
        let (challenge, authorization, error) = match outcome {
            Ok(()) => (ChallengeState::Valid, AuthorizationState::Valid, None),
            Err(p) => (ChallengeState::Invalid, AuthorizationState::Invalid, serde_json::to_string(p).ok()),
        };
        let end = r#"UPDATE enrollment_challenge SET state = ?2, validated = ?3, error = ?4
             WHERE id = ?1 AND kind = ?5 AND state = 'processing' RETURNING "authorization""#;
        let follow = "UPDATE enrollment_authorization SET state = ?2, expires = ?3 WHERE id = ?1 AND state = 'pending'";
        let fail = r#"UPDATE enrollment_order SET state = 'failed', error = ?2 WHERE state = 'open' AND id IN
             (SELECT of_order FROM enrollment_order_authorization WHERE "authorization" = ?1)"#;
        let validated = outcome.is_ok().then(|| now.unix());
        let until = now.plus(if outcome.is_ok() { PROOF_LIFE } else { ORDER_LIFE });
        self.write(|db| {
            let all = values![id, challenge.word(), validated, error.as_deref(), kind.word()];
            let of: Option<i64> = db.one(end, all, |r| r.get(0))?;
            let Some(of) = of else { return Ok(()) };
            let changed = db.execute(follow, values![of, authorization.word(), until.unix()])?;
            if changed == 1 && outcome.is_err() {
                db.execute(fail, values![of, error.as_deref()])?;
            }
            Ok(())
        })
    }

    fn unfinished_challenges(&self) -> Result<Vec<i64>> {
        let sql = "SELECT id FROM enrollment_challenge WHERE state = 'processing' ORDER BY id";
        self.look(|db| db.all(sql, values![], |r| r.get(0)))
    }

    fn sweep(&self, now: Timestamp) -> Result<()> {
        let (over, nonces) = (now.plus(-REMEMBERED).unix(), now.plus(-NONCE_KEPT).unix());
        self.write(|db| {
            db.execute("DELETE FROM enrollment_nonce WHERE at < ?1", values![nonces])?;
            db.execute("DELETE FROM enrollment_order WHERE state <> 'issued' AND expires < ?1", values![over])?;
            db.execute(
                "DELETE FROM enrollment_order_authorization WHERE of_order NOT IN (SELECT id FROM enrollment_order)",
                values![],
            )?;
            db.execute(
                r#"DELETE FROM enrollment_authorization WHERE expires < ?1 AND id NOT IN
                     (SELECT "authorization" FROM enrollment_order_authorization)"#,
                values![over],
            )?;
            db.execute(
                r#"DELETE FROM enrollment_challenge WHERE "authorization" NOT IN (SELECT id FROM enrollment_authorization)"#,
                values![],
            )?;
            Ok(())
        })
    }
}
