//! Orders, authorizations and challenges in SQLite.

use super::super::{Sqlite, certificates, events};
use super::{Enrolled, Orders};
use crate::error::Result;
use rusqlite::{Connection, OptionalExtension, Row, params};
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

fn json(column: Option<String>) -> Option<serde_json::Value> {
    column.and_then(|c| serde_json::from_str(&c).ok())
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

fn challenge(r: &Row<'_>) -> rusqlite::Result<Option<Challenge>> {
    let (kind, state) = (r.get_ref(2)?.as_str()?.parse(), r.get_ref(4)?.as_str()?.parse());
    let (Ok(kind), Ok(state)) = (kind, state) else { return Ok(None) };
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

const CHALLENGE: &str = "SELECT id, authorization, kind, token, state, validated, error FROM enrollment_challenge";

fn authorization(db: &Connection, id: i64) -> rusqlite::Result<Option<Authorization>> {
    let read = |r: &Row<'_>| -> rusqlite::Result<Option<Authorization>> {
        let (kind, name, state): (String, String, String) = (r.get(1)?, r.get(2)?, r.get(3)?);
        let identifier = Identifier::parse(&serde_json::json!({ "type": kind, "value": name }));
        let (Ok(identifier), Ok(state)) = (identifier, state.parse()) else { return Ok(None) };
        let expires = Timestamp::from_unix(r.get(4)?);
        Ok(Some(Authorization { id, account: r.get(0)?, identifier, state, expires, challenges: Vec::new() }))
    };
    let found = db
        .prepare_cached("SELECT account, kind, name, state, expires FROM enrollment_authorization WHERE id = ?1")?
        .query_row([id], read)
        .optional()?;
    let Some(Some(mut found)) = found else { return Ok(None) };
    let mut q = db.prepare_cached(&format!("{CHALLENGE} WHERE authorization = ?1 ORDER BY id"))?;
    let all: Vec<Option<Challenge>> = q.query_map([id], challenge)?.collect::<rusqlite::Result<_>>()?;
    found.challenges = all.into_iter().flatten().collect();
    Ok(Some(found))
}

fn order(db: &Connection, id: i64) -> rusqlite::Result<Option<Order>> {
    let read = |r: &Row<'_>| -> rusqlite::Result<Order> {
        Ok(Order {
            id,
            account: r.get(0)?,
            identifiers: identifiers(r.get_ref(1)?.as_str()?),
            profile: r.get(2)?,
            not_before: time(r.get(3)?),
            not_after: time(r.get(4)?),
            replaces: r.get(5)?,
            recorded: recorded(r.get_ref(6)?.as_str()?),
            error: json(r.get(7)?),
            expires: Timestamp::from_unix(r.get(8)?),
            certificate: r.get::<_, Option<String>>(9)?.and_then(|c| c.parse().ok()),
            authorizations: Vec::new(),
        })
    };
    let found = db
        .prepare_cached(
            "SELECT account, identifiers, profile, not_before, not_after, replaces, state, error, expires, certificate
             FROM enrollment_order WHERE id = ?1",
        )?
        .query_row([id], read)
        .optional()?;
    let Some(mut found) = found else { return Ok(None) };
    let mut q = db.prepare_cached(
        "SELECT authorization FROM enrollment_order_authorization WHERE of_order = ?1 ORDER BY place",
    )?;
    let ids: Vec<i64> = q.query_map([id], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?;
    for id in ids {
        found.authorizations.extend(authorization(db, id)?);
    }
    Ok(Some(found))
}

/// The authorization of an account for a name that still counts, or waits.
fn usable(db: &Connection, account: i64, name: &Identifier, now: Timestamp) -> rusqlite::Result<Option<i64>> {
    db.prepare_cached(
        "SELECT id FROM enrollment_authorization WHERE account = ?1 AND name = ?2 AND state = 'valid' AND expires > ?3
         ORDER BY id DESC LIMIT 1",
    )?
    .query_row(params![account, name.to_string(), now.unix()], |r| r.get(0))
    .optional()
}

fn make_authorization(
    db: &Connection,
    account: i64,
    name: &Identifier,
    token: &str,
    now: Timestamp,
) -> rusqlite::Result<i64> {
    let (kind, text) = name.parts();
    let id: i64 = db
        .prepare_cached(
            "INSERT INTO enrollment_authorization (account, kind, name, state, expires)
             VALUES (?1, ?2, ?3, 'pending', ?4) RETURNING id",
        )?
        .query_row(params![account, kind, text, now.plus(ORDER_LIFE).unix()], |r| r.get(0))?;
    let mut add = db.prepare_cached(
        "INSERT INTO enrollment_challenge (authorization, kind, token, state) VALUES (?1, ?2, ?3, 'pending')",
    )?;
    for kind in ChallengeType::possible(name) {
        add.execute(params![id, kind.word(), token])?;
    }
    Ok(id)
}

impl Orders for Sqlite {
    fn make_order(&self, new: &NewOrder, now: Timestamp) -> Result<Order> {
        self.write(|db| {
            let all = serde_json::to_string(&new.identifiers).unwrap_or_default();
            let id: i64 = db
                .prepare_cached(
                    "INSERT INTO enrollment_order
                       (account, identifiers, named, profile, not_before, not_after, replaces, state, expires, made_at)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, 'open', ?8, ?9) RETURNING id",
                )?
                .query_row(
                    params![
                        new.account,
                        all,
                        named(&new.identifiers),
                        new.profile,
                        new.not_before.map(Timestamp::unix),
                        new.not_after.map(Timestamp::unix),
                        new.replaces,
                        now.plus(ORDER_LIFE).unix(),
                        now.unix()
                    ],
                    |r| r.get(0),
                )?;
            for (place, (name, token)) in (0_i64..).zip(new.identifiers.iter().zip(&new.tokens)) {
                let authorization = match usable(db, new.account, name, now)? {
                    Some(known) => known,
                    None => make_authorization(db, new.account, name, token, now)?,
                };
                db.prepare_cached(
                    "INSERT INTO enrollment_order_authorization (of_order, place, authorization) VALUES (?1, ?2, ?3)",
                )?
                .execute(params![id, place, authorization])?;
            }
            order(db, id)?.ok_or(rusqlite::Error::QueryReturnedNoRows)
        })
    }

    fn order(&self, id: i64) -> Result<Option<Order>> {
        self.look(|db| order(db, id))
    }

    fn orders_of(&self, account: i64, skipped: u64, most: u64, now: Timestamp) -> Result<Vec<i64>> {
        self.look(|db| {
            let mut q = db.prepare_cached(
                "SELECT id FROM enrollment_order WHERE account = ?1 AND (state = 'issued' OR (state = 'open' AND expires > ?2))
                 ORDER BY id DESC LIMIT ?3 OFFSET ?4",
            )?;
            let number = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
            q.query_map(params![account, now.unix(), number(most), number(skipped)], |r| r.get(0))?.collect()
        })
    }

    fn issued_since(&self, account: i64, names: &[Identifier], since: Timestamp) -> Result<(u64, Option<Timestamp>)> {
        self.look(|db| {
            db.prepare_cached(
                "SELECT count(*), min(made_at) FROM enrollment_order
                 WHERE account = ?1 AND named = ?2 AND state = 'issued' AND made_at > ?3",
            )?
            .query_row(params![account, named(names), since.unix()], |r| {
                Ok((u64::try_from(r.get::<_, i64>(0)?).unwrap_or(0), time(r.get(1)?)))
            })
        })
    }

    fn open_orders(&self, account: i64, now: Timestamp) -> Result<u64> {
        self.look(|db| {
            db.prepare_cached(
                "SELECT count(*) FROM enrollment_order WHERE account = ?1 AND state = 'open' AND expires > ?2",
            )?
            .query_row(params![account, now.unix()], |r| Ok(u64::try_from(r.get::<_, i64>(0)?).unwrap_or(0)))
        })
    }

    fn enrolled_label(&self, account: i64, names: &[Identifier]) -> Result<Option<Label>> {
        self.look(|db| {
            let found: Option<String> = db
                .prepare_cached(
                    "SELECT c.label FROM enrollment_order o JOIN certificate c ON c.sha256 = o.certificate
                     WHERE o.account = ?1 AND o.named = ?2 ORDER BY o.id DESC LIMIT 1",
                )?
                .query_row(params![account, named(names)], |r| r.get(0))
                .optional()?;
            Ok(found.and_then(|l| l.parse().ok()))
        })
    }

    fn issue(&self, id: i64, issued: &Issued, now: Timestamp) -> Result<bool> {
        self.write(|db| {
            let sha256 = issued.certificate.sha256();
            let ended = db
                .prepare_cached(
                    "UPDATE enrollment_order SET state = 'issued', certificate = ?2 WHERE id = ?1 AND state = 'open'",
                )?
                .execute(params![id, sha256.as_str()])?;
            if ended == 0 {
                return Ok(false);
            }
            certificates::insert(db, issued, now)?;
            events::insert(db, now, "enrolled", &issued.label, sha256.as_str())?;
            Ok(true)
        })
    }

    fn fail_order(&self, id: i64, error: &serde_json::Value) -> Result<()> {
        self.write(|db| {
            db.execute(
                "UPDATE enrollment_order SET state = 'failed', error = ?2 WHERE id = ?1 AND state = 'open'",
                params![id, error.to_string()],
            )
            .map(|_| ())
        })
    }

    fn enrolled(&self, sha256: &Sha256Fingerprint) -> Result<Option<Enrolled>> {
        self.look(|db| {
            db.prepare_cached("SELECT account, id FROM enrollment_order WHERE certificate = ?1")?
                .query_row([sha256.as_str()], |r| Ok(Enrolled { account: r.get(0)?, order: r.get(1)? }))
                .optional()
        })
    }

    fn replaced_by(&self, certificate_id: &str) -> Result<Option<i64>> {
        self.look(|db| {
            db.prepare_cached("SELECT id FROM enrollment_order WHERE replaces = ?1 AND state <> 'failed' LIMIT 1")?
                .query_row([certificate_id], |r| r.get(0))
                .optional()
        })
    }

    fn enrolled_count(&self, ends_before: Timestamp) -> Result<(u64, u64)> {
        self.look(|db| {
            db.query_row(
                "SELECT count(*), count(*) FILTER (WHERE c.ends < ?1)
                 FROM certificate c LEFT JOIN revocation r ON r.authority = c.authority AND r.serial = c.serial
                 WHERE c.folder = '' AND c.state = 'live' AND r.at IS NULL",
                [ends_before.unix()],
                |r| {
                    let number = |n: i64| u64::try_from(n).unwrap_or(0);
                    Ok((number(r.get(0)?), number(r.get(1)?)))
                },
            )
        })
    }

    fn enrolled_ending(&self, most: usize) -> Result<Vec<(Summary, i64)>> {
        // `summary` reads its columns by number, so the account comes last.
        let (columns, from) = certificates::SUMMARY.split_once("FROM certificate").unwrap_or_default();
        let sql = format!(
            "SELECT {columns}, o.account FROM certificate{from} JOIN enrollment_order o ON o.certificate = c.sha256
             WHERE c.folder = '' AND c.state = 'live' AND r.at IS NULL ORDER BY c.ends, c.id LIMIT ?1"
        );
        self.look(|db| {
            let mut q = db.prepare_cached(&sql)?;
            let mut rows = q.query([i64::try_from(most).unwrap_or(i64::MAX)])?;
            let mut out = Vec::new();
            while let Some(r) = rows.next()? {
                let account = r.get("account")?;
                out.extend(certificates::summary(r)?.map(|s| (s, account)));
            }
            Ok(out)
        })
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
        self.write(|db| {
            db.execute(
                "UPDATE enrollment_authorization SET state = ?2 WHERE id = ?1 AND state IN ('pending', 'valid')",
                params![id, AuthorizationState::Deactivated.word()],
            )
            .map(|_| ())
        })
    }

    fn challenge(&self, id: i64) -> Result<Option<(Challenge, Authorization)>> {
        self.look(|db| {
            let of: Option<i64> = db
                .prepare_cached("SELECT authorization FROM enrollment_challenge WHERE id = ?1")?
                .query_row([id], |r| r.get(0))
                .optional()?;
            let Some(authorization) = of.map(|a| authorization(db, a)).transpose()?.flatten() else { return Ok(None) };
            let found = authorization.challenges.iter().find(|c| c.id == id).cloned();
            Ok(found.map(|c| (c, authorization)))
        })
    }

    fn begin_challenge(&self, id: i64) -> Result<bool> {
        self.write(|db| {
            let begun = db.execute(
                "UPDATE enrollment_challenge SET state = 'processing' WHERE id = ?1 AND state = 'pending'",
                [id],
            )?;
            Ok(begun == 1)
        })
    }

    fn end_challenge(&self, id: i64, kind: ChallengeType, outcome: &Outcome, now: Timestamp) -> Result<()> {
        let (challenge, authorization, error) = match outcome {
            Ok(()) => (ChallengeState::Valid, AuthorizationState::Valid, None),
            Err(p) => (ChallengeState::Invalid, AuthorizationState::Invalid, serde_json::to_string(p).ok()),
        };
        self.write(|db| {
            let of: Option<i64> = db
                .query_row(
                    "UPDATE enrollment_challenge SET state = ?2, validated = ?3, error = ?4
                     WHERE id = ?1 AND kind = ?5 AND state = 'processing' RETURNING authorization",
                    params![id, challenge.word(), outcome.is_ok().then(|| now.unix()), error, kind.word()],
                    |r| r.get(0),
                )
                .optional()?;
            let Some(of) = of else { return Ok(()) };
            let until = now.plus(if outcome.is_ok() { PROOF_LIFE } else { ORDER_LIFE });
            let changed = db.execute(
                "UPDATE enrollment_authorization SET state = ?2, expires = ?3 WHERE id = ?1 AND state = 'pending'",
                params![of, authorization.word(), until.unix()],
            )?;
            if changed == 1 && outcome.is_err() {
                db.execute(
                    "UPDATE enrollment_order SET state = 'failed', error = ?2 WHERE state = 'open' AND id IN
                       (SELECT of_order FROM enrollment_order_authorization WHERE authorization = ?1)",
                    params![of, error],
                )?;
            }
            Ok(())
        })
    }

    fn unfinished_challenges(&self) -> Result<Vec<i64>> {
        self.look(|db| {
            let mut q = db.prepare("SELECT id FROM enrollment_challenge WHERE state = 'processing' ORDER BY id")?;
            q.query_map([], |r| r.get(0))?.collect()
        })
    }

    fn sweep(&self, now: Timestamp) -> Result<()> {
        let (over, nonces) = (now.plus(-REMEMBERED).unix(), now.plus(-NONCE_KEPT).unix());
        self.write(|db| {
            db.execute("DELETE FROM enrollment_nonce WHERE at < ?1", [nonces])?;
            db.execute("DELETE FROM enrollment_order WHERE state <> 'issued' AND expires < ?1", [over])?;
            db.execute(
                "DELETE FROM enrollment_order_authorization WHERE of_order NOT IN (SELECT id FROM enrollment_order)",
                [],
            )?;
            db.execute(
                "DELETE FROM enrollment_authorization WHERE expires < ?1 AND id NOT IN
                   (SELECT authorization FROM enrollment_order_authorization)",
                [over],
            )?;
            db.execute(
                "DELETE FROM enrollment_challenge WHERE authorization NOT IN (SELECT id FROM enrollment_authorization)",
                [],
            )?;
            Ok(())
        })
    }
}
