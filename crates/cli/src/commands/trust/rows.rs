//! The matrix of stores and roots.

use crate::words::human;
use tamga_app::report::Outcome;
use tamga_app::trust::row::{Change, Row};
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::State;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::word::joined;

/// Every root in every place, and what to do about those that are not as they should be.
pub(crate) fn render_rows(rows: &[Row]) -> String {
    render(rows, rows.iter().any(|r| r.change != Change::None))
}

/// The same where nothing was to be changed.
pub(crate) fn render_found(rows: &[Row]) -> String {
    render(rows, false)
}

fn render(rows: &[Row], with_change: bool) -> String {
    let mut head = vec!["store", "root", "SHA-256", "state"];
    head.extend(with_change.then_some("change"));
    head.push("place");
    let mut cells = vec![head.into_iter().map(human::dim).collect::<Vec<_>>()];
    for r in rows {
        let state = match r.state {
            State::Present => human::good(r.state.word()),
            State::Absent | State::Unavailable => human::dim(r.state.word()),
            _ => human::bad(r.state.word()),
        };
        let change = match r.change {
            Change::Failed => human::bad(r.change.word()),
            Change::None => human::dim(r.change.word()),
            Change::Added | Change::Removed => human::good(r.change.word()),
        };
        let mut row = vec![human::strong(r.store.word()), r.label.to_string(), human::dim(r.sha256.short()), state];
        row.extend(with_change.then_some(change));
        row.push(r.place.shown());
        cells.push(row);
    }
    let mut text = human::table_with(&cells, human::Fit { expendable: &[2], cut: None });
    // One line for all stores with the same problem and the same remedy.
    let same = |a: &Row, b: &Row| {
        (&a.why, &a.remedy, a.outcome == Outcome::Good) == (&b.why, &b.remedy, b.outcome == Outcome::Good)
    };
    for (at, r) in rows.iter().enumerate() {
        let Some(why) = &r.why else { continue };
        if rows[..at].iter().any(|earlier| same(earlier, r)) {
            continue;
        }
        let mut stores: Vec<StoreId> =
            rows[at..].iter().filter(|other| same(other, r)).map(|other| other.store).collect();
        stores.dedup();
        let word = if r.outcome == Outcome::Good { human::dim("note") } else { human::bad("failed") };
        text.push_str(&format!("{word} {}: {why}\n", joined(&stores)));
        if let Some(remedy) = &r.remedy {
            text.push_str(&format!("  {}  {remedy}\n", human::dim("do:")));
        }
    }
    text
}
