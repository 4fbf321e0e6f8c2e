//! The smallest cases that hold every objection in place: what real clients said, kept for machines without them.

use super::kept::Kept;
use super::predict::predicted;
use std::collections::{BTreeMap, BTreeSet};
use tamga_core::check::client::{Client, Outcome, agrees};
use tamga_core::check::predict::objections;

/// Cases for each objection.
const EACH: usize = 2;
/// Octets of the certificates of a case: larger ones are kept only where no smaller one holds an objection.
const SMALL: usize = 4_000;
/// And none is kept that is larger than this.
const LARGE: usize = 50_000;

/// The places of a client's cases that go wrong if it does not mind this, of those where it agrees otherwise.
pub fn held_by(client: Client, kept: &Kept, without: &'static str) -> Vec<usize> {
    let Some(said) = kept.observed.said.get(&client) else { return Vec::new() };
    let wrong = |i: &usize| {
        let case = &kept.cases[*i];
        let refused: Vec<usize> = kept.observed.refused.iter().filter(|r| r.0 == case.number).map(|r| r.1).collect();
        said.get(&case.number).filter(|s| s.0 != Outcome::Accepts).is_some_and(|seen| {
            let differs = |without| {
                let foreseen = predicted(client, case, &refused, kept.at, without);
                foreseen.0 != seen.0 || !agrees(foreseen.1.as_deref(), seen.1.as_deref())
            };
            differs(Some(without)) && !differs(None)
        })
    };
    (0..kept.cases.len()).filter(wrong).collect()
}

/// By client, the objections that no case holds.
pub fn unheld(kept: &Kept) -> BTreeMap<&'static str, Vec<&'static str>> {
    let clients = Client::ALL.into_iter().filter(|c| kept.observed.said.contains_key(c));
    clients
        .map(|c| (c.word(), objections(c).into_iter().filter(|o| held_by(c, kept, o).is_empty()).collect()))
        .collect()
}

/// Leaves only the cases that hold the objections, two for each, and of these those that all clients were met in.
pub fn cover(mut kept: Kept) -> Kept {
    let size = |i: &usize| {
        let case = &kept.cases[*i];
        case.chain.iter().chain(&case.anchors).map(Vec::len).sum::<usize>()
    };
    let clients: Vec<Client> = Client::ALL.into_iter().filter(|c| kept.observed.said.contains_key(c)).collect();
    let all: Vec<(Client, &'static str)> =
        clients.iter().flat_map(|c| objections(*c).into_iter().map(|o| (*c, o))).collect();
    let mut chosen: BTreeSet<usize> = BTreeSet::new();
    for (client, objection) in all {
        let mut holding = held_by(client, &kept, objection);
        holding.retain(|i| size(i) < LARGE);
        // Those that are there already come first, then the small ones.
        holding.sort_by_key(|i| (!chosen.contains(i), size(i)));
        let enough = holding.iter().take(EACH).enumerate().filter(|(n, i)| *n == 0 || size(i) < SMALL);
        chosen.extend(enough.map(|(_, i)| *i).collect::<Vec<_>>());
    }
    let numbers: BTreeSet<usize> = chosen.iter().map(|i| kept.cases[*i].number).collect();
    kept.cases.retain(|c| numbers.contains(&c.number));
    kept.observed.refused.retain(|r| numbers.contains(&r.0));
    // An answer that was not foreseen belongs in docs/agreement.md, and proves nothing here.
    for (client, said) in &mut kept.observed.said {
        let refused =
            |n: usize| kept.observed.refused.iter().filter(move |r| r.0 == n).map(|r| r.1).collect::<Vec<_>>();
        said.retain(|number, seen| {
            let case = kept.cases.iter().find(|c| c.number == *number);
            case.is_some_and(|case| {
                let foreseen = predicted(*client, case, &refused(*number), kept.at, None);
                foreseen.0 == seen.0 && agrees(foreseen.1.as_deref(), seen.1.as_deref())
            })
        });
    }
    kept
}
