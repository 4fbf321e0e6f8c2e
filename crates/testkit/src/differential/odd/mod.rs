//! What may be odd about a situation. Each is one thing, drawn alone or with one or two others.

pub mod authorities;
pub mod constraints;
pub mod extensions;
pub mod fields;
pub mod names;
pub mod shape;
pub mod tls;

use super::rng::Rng;
use super::situation::Situation;

/// A word, and the change.
pub type Odd = (&'static str, fn(&mut Situation, &mut Rng));

/// All of them.
pub fn all() -> Vec<Odd> {
    [authorities::ALL, constraints::ALL, extensions::ALL, fields::ALL, names::ALL, shape::ALL, tls::ALL].concat()
}

/// A situation with none, one, two or three of them. The first two are dealt from shuffled decks, so that none of
/// them is rare by chance.
pub fn draw(seed: u64, number: usize) -> (Situation, Vec<&'static str>) {
    draw_under(seed, number, number)
}

/// The same case with the names and addresses of another number: a client that has met the one knows nothing of the other.
pub fn draw_as(seed: u64, number: usize, name: usize, only: Option<&str>) -> (Situation, Vec<&'static str>) {
    match only {
        Some(word) => draw_one_under(seed, number, name, word),
        None => draw_under(seed, number, name),
    }
}

fn draw_under(seed: u64, number: usize, name: usize) -> (Situation, Vec<&'static str>) {
    let mut rng = Rng::of(seed, number as u64);
    let mut situation = Situation::good(seed, name, &mut rng);
    let all = all();
    let count = match rng.below(100) {
        0..3 => 0,
        3..30 => 1,
        30..80 => 2,
        _ => 3,
    };
    let mut picked: Vec<Odd> = Vec::new();
    for nth in 0..count {
        let one = match nth {
            0 => dealt(seed, number, &all),
            1 => dealt(seed.rotate_left(32), number, &all),
            _ => all[rng.below(all.len())],
        };
        if !picked.iter().any(|p| p.0 == one.0) {
            picked.push(one);
        }
    }
    picked.sort_by_key(|p| p.0 == authorities::ALONE);
    for (_, change) in &picked {
        change(&mut situation, &mut rng);
    }
    (situation, picked.iter().map(|p| p.0).collect())
}

/// The card of a case: as many cases as there are oddities share a deck.
fn dealt(seed: u64, number: usize, all: &[Odd]) -> Odd {
    let mut rng = Rng::of(!seed, (number / all.len()) as u64);
    let mut deck: Vec<usize> = (0..all.len()).collect();
    for i in (1..deck.len()).rev() {
        deck.swap(i, rng.below(i + 1));
    }
    all[deck[number % all.len()]]
}

/// A situation with this one alone.
pub fn draw_one(seed: u64, number: usize, word: &str) -> (Situation, Vec<&'static str>) {
    draw_one_under(seed, number, number, word)
}

fn draw_one_under(seed: u64, number: usize, name: usize, word: &str) -> (Situation, Vec<&'static str>) {
    let mut rng = Rng::of(seed, number as u64);
    let mut situation = Situation::good(seed, name, &mut rng);
    let (word, change) = all().into_iter().find(|o| o.0 == word).unwrap();
    change(&mut situation, &mut rng);
    (situation, vec![word])
}

/// A root that no case is about: every store holds it, since some clients refuse an empty one.
pub fn other_root(pool: &crate::matrix::chain::Pool) -> Vec<u8> {
    let mut s = Situation::good(0, 0, &mut Rng::of(0, 0));
    s.served = vec![super::situation::Thing::Line(s.root())];
    s.case(pool, Vec::new()).chain.remove(0)
}
