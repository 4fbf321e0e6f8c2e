//! What the matrix came to, in words.

use super::mutate::Held;
use super::run::{Matrix, Said};
use std::fmt::Write as _;
use tamga_core::check::client::Outcome;

fn said(said: &Said) -> String {
    match &said.1 {
        Some(code) => format!("{}: {code}", said.0.word()),
        None => said.0.word().to_owned(),
    }
}

/// A line for every cell whose prediction differs; empty if all agree.
pub fn differing(matrix: &Matrix) -> String {
    let mut text = String::new();
    for (kind, row) in matrix.kinds.iter().zip(&matrix.cells) {
        for cell in row.iter().filter(|c| !c.agrees()) {
            let (expected, seen) = (said(&cell.predicted), said(&cell.observed));
            let who = cell.client.word();
            writeln!(text, "{who} | {}\n    expected {expected}\n    seen     {seen}", kind.word).unwrap();
            if cell.observed.0 == Outcome::Unknown {
                writeln!(text, "    raw      {}", cell.raw).unwrap();
            }
        }
    }
    text
}

/// Kinds that one client takes and another does not.
pub fn divided(matrix: &Matrix) -> usize {
    let takes = |row: &Vec<super::run::Cell>| row.iter().filter(|c| c.observed.0 == Outcome::Accepts).count();
    matrix.cells.iter().filter(|row| (1..row.len()).contains(&takes(row))).count()
}

/// The document: what each client does with each kind, and what holds the rules in place.
pub fn document(matrix: &Matrix, held: &[Held]) -> String {
    let mut text = String::from(HEAD);
    let cells = matrix.kinds.len() * matrix.clients.len();
    let right = matrix.cells.iter().flatten().filter(|c| c.agrees()).count();
    writeln!(
        text,
        "{} kinds of chain × {} clients: {right} of {cells} cells are as predicted, the client's own words included.\n\
         {} kinds divide the clients.\n",
        matrix.kinds.len(),
        matrix.clients.len(),
        divided(matrix)
    )
    .unwrap();
    let clients: Vec<&str> = matrix.clients.iter().map(|c| c.word()).collect();
    writeln!(text, "| kind | {} |", clients.join(" | ")).unwrap();
    writeln!(text, "| --- |{}", " --- |".repeat(clients.len())).unwrap();
    for (kind, row) in matrix.kinds.iter().zip(&matrix.cells) {
        let marks: Vec<&str> = row.iter().map(|c| mark(c.observed.0)).collect();
        writeln!(text, "| {} | {} |", kind.word, marks.join(" | ")).unwrap();
    }
    text.push_str("\n## Their words\n\nEach with the kinds in which it was heard, up to three.\n");
    for (i, client) in matrix.clients.iter().enumerate() {
        writeln!(text, "\n### {}\n", client.word()).unwrap();
        let mut words: Vec<(&str, Vec<&str>)> = Vec::new();
        for (kind, row) in matrix.kinds.iter().zip(&matrix.cells) {
            // As expected, which names two where the words depend on what a signature happened to be.
            let Some(code) = row[i].predicted.1.as_deref() else { continue };
            match words.iter_mut().find(|w| w.0 == code) {
                Some(found) => found.1.push(&kind.word),
                None => words.push((code, vec![&kind.word])),
            }
        }
        for (code, heard) in words {
            let some: Vec<&str> = heard.iter().take(3).copied().collect();
            let more = if heard.len() > 3 { format!(" and {} more", heard.len() - 3) } else { String::new() };
            writeln!(text, "* `{code}`: {}{more}", some.join("; ")).unwrap();
        }
    }
    text.push_str(
        "\n## What holds the objections in place\n\nLeave one objection of a client out, and cells go wrong:\n\n",
    );
    for h in held {
        let kept = h.objections.iter().filter(|o| o.1).count();
        let missing: Vec<&str> = h.objections.iter().filter(|o| !o.1).map(|o| o.0).collect();
        let rest = if missing.is_empty() { String::new() } else { format!("; no cell needs {}", missing.join(", ")) };
        writeln!(text, "* {}: {kept} of {}{rest}", h.client.word(), h.objections.len()).unwrap();
    }
    text
}

fn mark(outcome: Outcome) -> &'static str {
    match outcome {
        Outcome::Accepts => "yes",
        Outcome::Warns => "warns",
        Outcome::Refuses => "no",
        Outcome::Unknown => "?",
    }
}

/// What stands above the table.
const HEAD: &str = "\
# What Tamga predicts and what the clients do

Made by `just agreement`: every kind of chain is served on loopback, judged by the rules, and visited by every client that is installed.
A kind is a fault (or none) with a shape of chain and a state of the stores; where nothing else is said, one P-256 leaf stands directly
under one P-256 root that every store holds. *yes*: it connects without a word. *warns*: a person may go on. *no*: it does not connect.

";

/// The heading in `docs/agreement.md` under which the figures of `just differential` are.
pub const DRAWN: &str = "\n## On chains drawn at random\n";

/// So many kinds there are at the least.
pub const LEAST_KINDS: usize = 100;
/// So many divide the clients at the least.
pub const LEAST_DIVIDED: usize = 15;
