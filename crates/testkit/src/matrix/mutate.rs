//! What if a client did not mind one thing: the cells that would then be wrong.

use super::run::{Matrix, predicted};
use tamga_core::check::client::{Client, agrees};
use tamga_core::check::predict::objections;

/// For a client: its objections, each with whether a cell notices that it is left out.
pub struct Held {
    /// Whose.
    pub client: Client,
    /// Word and whether it is noticed.
    pub objections: Vec<(&'static str, bool)>,
}

/// Leaves out every objection of every client.
pub fn held(matrix: &Matrix) -> Vec<Held> {
    let of = |(column, client): (usize, &Client)| {
        let noticed = |word: &'static str| {
            // From the end: the rarer kinds stand there.
            matrix.kinds.iter().zip(&matrix.cells).rev().any(|(kind, row)| {
                let said = predicted(*client, kind, &matrix.views[column], matrix.at, Some(word));
                let seen = &row[column].observed;
                said.0 != seen.0 || !agrees(said.1.as_deref(), seen.1.as_deref())
            })
        };
        let all = objections(*client).into_iter().map(|word| (word, noticed(word))).collect();
        Held { client: *client, objections: all }
    };
    std::thread::scope(|s| {
        let running: Vec<_> = matrix.clients.iter().enumerate().map(|c| s.spawn(move || of(c))).collect();
        running.into_iter().map(|t| t.join().unwrap()).collect()
    })
}
