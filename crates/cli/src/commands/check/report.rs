//! What came of a check, in words.

use super::wire;
use crate::words::human;
use tamga_app::check::{Checked, Row, Weight};
use tamga_core::check::client::Outcome;
use tamga_core::vocabulary::text::cut;

/// A client's own words are cut where they would fill the screen.
const LONGEST: usize = 300;

pub(super) fn words(c: &Checked, verbose: bool) -> String {
    let (weight, verdict) = c.verdict();
    let verdict = match weight {
        Weight::Good => human::good(&verdict),
        Weight::Care => human::care(&verdict),
        Weight::Bad => human::bad(&verdict),
    };
    // Nothing is called checked that was not reached.
    let (head, what) = match c.rows.is_empty() {
        true => ("target ", c.named()),
        false => ("checked", c.headline()),
    };
    let mut text = format!("{} {what}\n{verdict}\n", human::dim(head));
    if !c.findings.is_empty() {
        text.push('\n');
        text.push_str(&human::findings(&c.findings));
    }
    for h in &c.hops {
        let to = h.to.as_ref().map(|t| format!(" to {t}")).unwrap_or_default();
        text.push_str(&format!("{} {} answers {}{to}\n", human::dim("plain"), h.from, h.status));
    }
    for remark in &c.remarks {
        text.push_str(&format!("{} {remark}\n", human::dim("note")));
    }
    if !c.rows.is_empty() {
        text.push('\n');
        let rows = verdicts(&c.rows);
        text.push_str(&human::table(&rows));
    }
    if c.show_wire {
        text.push_str(&wire::words(&c.wire));
    }
    if verbose {
        for m in &c.met {
            text.push_str(&format!(
                "\n{} {} {} {}\n",
                m.address,
                m.protocol,
                m.cipher,
                m.alpn.clone().unwrap_or_default()
            ));
        }
        for cert in &c.chain {
            text.push_str(&format!(
                "  {} ({} to {}) {}\n",
                cert.subject_words(),
                cert.not_before.date(),
                cert.not_after.date(),
                cert.sha256()
            ));
        }
        for line in &c.raw {
            text.push_str(&format!("  {line}\n"));
        }
    }
    text
}

/// A row a client; where clients were run, what they did is shown beside what was predicted.
fn verdicts(all: &[Row]) -> Vec<Vec<String>> {
    let observed = |r: &&Row| r.basis == "observed";
    let message = |r: &Row| r.code.as_deref().map(|c| cut(c, LONGEST)).unwrap_or_default();
    if !all.iter().any(|r| observed(&r)) {
        let mut rows = vec![["client", "verdict", "basis", "its message"].map(human::dim).to_vec()];
        let cells = |r: &Row| vec![human::strong(r.client.word()), outcome(r.outcome), r.basis.to_owned(), message(r)];
        rows.extend(all.iter().map(cells));
        return rows;
    }
    let mut rows = vec![["client", "predicted", "observed", "its message"].map(human::dim).to_vec()];
    for r in all.iter().filter(|r| !observed(r)) {
        let ran = all.iter().filter(observed).find(|o| o.client == r.client);
        let seen = match ran {
            Some(o) => outcome(o.outcome),
            None if r.basis == "documented" => human::dim("documented"),
            None => human::dim("not run"),
        };
        rows.push(vec![human::strong(r.client.word()), outcome(r.outcome), seen, message(ran.unwrap_or(r))]);
    }
    rows
}

/// A verdict, coloured.
pub(crate) fn outcome(o: Outcome) -> String {
    match o {
        Outcome::Accepts => human::good(o.word()),
        Outcome::Warns | Outcome::Refuses => human::bad(o.word()),
        Outcome::Unknown => human::care(o.word()),
    }
}
