//! The figures of a run, and its differences.

use super::kept::Kept;
use super::observe::Said;
use super::predict::predicted;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use tamga_core::check::client::{Client, Outcome, agrees};

/// One client's part.
pub struct Column {
    /// Whose.
    pub client: Client,
    /// Cases in which it was met.
    pub cases: usize,
    /// Those of them in which prediction and observation agree, words included.
    pub agreed: usize,
    /// Those of them that it accepted.
    pub accepted: usize,
    /// What differs: the case, predicted, observed.
    pub different: Vec<(usize, Said, Said)>,
}

impl Column {
    /// In percent.
    pub fn agreement(&self) -> f64 {
        100.0 * self.agreed as f64 / self.cases.max(1) as f64
    }

    /// Wilson's interval of 95 %, in percent.
    pub fn interval(&self) -> (f64, f64) {
        let (n, p, z) = (self.cases.max(1) as f64, self.agreed as f64 / self.cases.max(1) as f64, 1.96);
        let middle = (p + z * z / (2.0 * n)) / (1.0 + z * z / n);
        let half = z * (p * (1.0 - p) / n + z * z / (4.0 * n * n)).sqrt() / (1.0 + z * z / n);
        (100.0 * (middle - half), 100.0 * (middle + half))
    }
}

/// Judges every case and compares.
pub fn compared(kept: &Kept) -> Vec<Column> {
    let clients: Vec<Client> = Client::ALL.iter().copied().filter(|c| kept.observed.said.contains_key(c)).collect();
    std::thread::scope(|s| {
        let threads: Vec<_> = clients.iter().map(|c| s.spawn(|| column(*c, kept))).collect();
        threads.into_iter().map(|t| t.join().unwrap()).collect()
    })
}

fn column(client: Client, kept: &Kept) -> Column {
    let said = &kept.observed.said[&client];
    let mut column = Column { client, cases: 0, agreed: 0, accepted: 0, different: Vec::new() };
    for (i, case) in kept.cases.iter().enumerate() {
        let Some(seen) = said.get(&case.number) else { continue };
        let refused = kept.observed.refused.iter().filter(|r| r.0 == case.number).map(|r| r.1);
        let foreseen = predicted(client, case, &refused.collect::<Vec<_>>(), kept.at, None);
        column.cases += 1;
        column.accepted += usize::from(seen.0 == Outcome::Accepts);
        if foreseen.0 == seen.0 && agrees(foreseen.1.as_deref(), seen.1.as_deref()) {
            column.agreed += 1;
        } else {
            column.different.push((i, foreseen, seen.clone()));
        }
    }
    column
}

/// In how many cases two clients disagree, one accepting and another not.
pub fn divided(kept: &Kept) -> usize {
    let accepts =
        |n: usize| kept.observed.said.values().filter_map(move |all| all.get(&n)).map(|s| s.0 == Outcome::Accepts);
    kept.cases.iter().filter(|c| accepts(c.number).any(|a| a) && accepts(c.number).any(|a| !a)).count()
}

/// How often each oddity was drawn.
pub fn drawn(kept: &Kept) -> BTreeMap<&'static str, usize> {
    let mut out: BTreeMap<&'static str, usize> = super::odd::all().iter().map(|o| (o.0, 0)).collect();
    for word in kept.cases.iter().flat_map(|c| &c.odd) {
        *out.entry(word).or_default() += 1;
    }
    out
}

/// From how many cases on the figures of [`tame`] mean something.
pub const MANY: usize = 5000;

/// What makes a run prove too little: a client that says nearly always the same, clients that hardly disagree, an oddity
/// that hardly came up.
pub fn tame(kept: &Kept, columns: &[Column]) -> Vec<String> {
    let mut out = Vec::new();
    if kept.cases.len() < MANY {
        return out;
    }
    for c in columns {
        let share = 100 * c.accepted / c.cases.max(1);
        if !(30..=70).contains(&share) {
            out.push(format!("{} accepts {share} %: not between 30 and 70", c.client.word()));
        }
    }
    let share = 100 * divided(kept) / kept.cases.len();
    if columns.len() > 1 && share < 20 {
        out.push(format!("two clients disagree in {share} %: fewer than 20"));
    }
    for (word, times) in drawn(kept).into_iter().filter(|d| d.1 < 30) {
        out.push(format!("{word} came up {times} times: fewer than 30"));
    }
    out
}

/// The table of figures.
pub fn figures(kept: &Kept, columns: &[Column]) -> String {
    let mut out = String::from("| client | cases | agreement | 95 % | accepted |\n| --- | --- | --- | --- | --- |\n");
    for c in columns {
        let (low, high) = c.interval();
        let accepted = 100.0 * c.accepted as f64 / c.cases.max(1) as f64;
        writeln!(
            out,
            "| {} | {} | {:.2} % | {low:.2} to {high:.2} | {accepted:.0} % |",
            c.client.word(),
            c.cases,
            c.agreement()
        )
        .unwrap();
    }
    let share = 100.0 * divided(kept) as f64 / kept.cases.len().max(1) as f64;
    let rarest = drawn(kept).into_iter().min_by_key(|d| d.1).unwrap_or_default();
    writeln!(
        out,
        "\nIn {share:.0} % of the cases two clients disagree. Rarest oddity: {} ({} times).",
        rarest.0, rarest.1
    )
    .unwrap();
    out
}

/// What differs, grouped by client and by what was foreseen and seen.
pub fn differences(kept: &Kept, columns: &[Column], most: usize) -> String {
    let mut out = String::new();
    for c in columns {
        let mut groups: BTreeMap<String, Vec<usize>> = BTreeMap::new();
        for (i, foreseen, seen) in &c.different {
            let said = |s: &Said| {
                format!("{} {}", s.0.word(), s.1.clone().unwrap_or_default().replace(&kept.cases[*i].host, "HOST"))
            };
            groups.entry(format!("{} <> {}", said(foreseen), said(seen))).or_default().push(*i);
        }
        let mut groups: Vec<_> = groups.into_iter().collect();
        groups.sort_by_key(|g| std::cmp::Reverse(g.1.len()));
        writeln!(out, "== {}: {} differ", c.client.word(), c.different.len()).unwrap();
        for (what, cases) in groups.into_iter().take(most) {
            writeln!(out, "{:4}  {what}", cases.len()).unwrap();
            let mut by: BTreeMap<String, Vec<usize>> = BTreeMap::new();
            for i in &cases {
                by.entry(kept.cases[*i].odd.join(" + ")).or_default().push(kept.cases[*i].number);
            }
            let mut by: Vec<_> = by.into_iter().collect();
            by.sort_by_key(|b| (std::cmp::Reverse(b.1.len()), b.0.len()));
            for (odd, numbers) in by.into_iter().take(6) {
                writeln!(out, "        {:3} {odd}  [{}]", numbers.len(), numbers[0]).unwrap();
            }
        }
    }
    out
}
