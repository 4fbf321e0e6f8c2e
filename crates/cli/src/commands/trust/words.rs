//! The matrix of stores and roots, for a person and for a program.

use super::Row;
use crate::exit;
use crate::words::{human, json};
use serde_json::Value;
use tamga_core::text::Shown;
use tamga_core::trust::{Scope, State};

/// 0 if nothing failed; 5 if some did; the failure's own code if all did.
pub(crate) fn code_of(rows: &[Row]) -> u8 {
    let failed: Vec<u8> = rows.iter().map(|r| r.code).filter(|c| *c != 0).collect();
    let worst = failed.iter().copied().fold(0, exit::worst);
    // A place that is not there was neither done nor missed.
    let there = rows.iter().filter(|r| r.state != State::Unavailable || r.code != 0).count();
    if failed.is_empty() || failed.len() == there || worst == 6 { worst } else { exit::PARTLY }
}

/// A store that was named must have the root afterwards: exit code 1 where it has not, 4 where a file or a program for it is missing. A
/// store that was in scope by itself, and whose client has no profile yet, is a note.
pub(crate) fn demand_named(rows: &mut [Row], named: &[String]) {
    for r in rows.iter_mut().filter(|r| r.code == 0 && named.iter().any(|n| n == r.store)) {
        match r.state {
            State::Present => {}
            State::Unavailable => {
                r.code = exit::SURROUNDINGS;
                r.change = "failed";
            }
            // Put in, and no good all the same: its row says so.
            State::Expired if r.change == "added" => {}
            _ => {
                r.code = exit::BAD;
                r.change = "failed";
                r.why.get_or_insert_with(|| "the root is not in this store".into());
            }
        }
    }
}

/// The matrix.
pub(crate) fn words(rows: &[Row]) -> String {
    let mut cells = vec![["store", "root", "state", "change", "place"].map(human::dim).to_vec()];
    for r in rows {
        let state = match r.state {
            State::Present => human::good(r.state.word()),
            State::Absent | State::Unavailable => human::dim(r.state.word()),
            _ => human::bad(r.state.word()),
        };
        let change = match r.change {
            "failed" => human::bad(r.change),
            "none" => human::dim("none"),
            other => human::good(other),
        };
        cells.push(vec![
            human::strong(r.store),
            format!("{} {}", r.label, human::dim(&r.sha256[..8])),
            state,
            change,
            r.place.shown(),
        ]);
    }
    let mut text = human::table(&cells);
    // Stores with the same trouble and the same step are told together.
    let same = |a: &Row, b: &Row| (&a.why, &a.remedy, a.code == 0) == (&b.why, &b.remedy, b.code == 0);
    for (at, r) in rows.iter().enumerate() {
        let Some(why) = &r.why else { continue };
        if rows[..at].iter().any(|earlier| same(earlier, r)) {
            continue;
        }
        let mut stores: Vec<&str> = rows[at..].iter().filter(|other| same(other, r)).map(|other| other.store).collect();
        stores.dedup();
        let word = if r.code == 0 { human::dim("note") } else { human::bad("failed") };
        text.push_str(&format!("{word} {}: {why}\n", stores.join(", ")));
        if let Some(remedy) = &r.remedy {
            text.push_str(&format!("  {}  {remedy}\n", human::dim("do:")));
        }
    }
    text
}

pub(crate) fn json_of(r: &Row) -> Value {
    json!({
        "store": r.store, "place": r.place, "root": {"label": r.label, "sha256": r.sha256}, "state": r.state.word(),
        "change": r.change, "why": r.why, "remedy": r.remedy,
        "scope": if r.scope == Scope::User { "user" } else { "machine" },
    })
}
