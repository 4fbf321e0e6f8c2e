//! Chains that nobody chose: drawn at random, served, judged, and visited by the real clients.

#![allow(clippy::unwrap_used, reason = "tests")]

use std::process::Command;
use std::time::{SystemTime, UNIX_EPOCH};
use tamga_testkit::differential::odd;
use tamga_testkit::differential::rng::Rng;
use tamga_testkit::matrix::chain::Pool;
use tamga_testkit::sandbox::has;

#[test]
fn on_chains_drawn_now_every_client_does_what_was_foreseen() {
    if !has(&["curl", "chromium", "firefox-esr", "node", "python3", "java", "go", "wget", "unshare"]) {
        return;
    }
    // Cargo builds examples beside the tests.
    let own = std::env::current_exe().unwrap();
    let program = own.ancestors().nth(2).unwrap().join("examples/differential");
    let seed = match std::env::var("TAMGA_TESTS_SEED") {
        Ok(seed) => seed,
        Err(_) => (SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs() % 1_000_000).to_string(),
    };
    let mut c = Command::new("unshare");
    c.args(["--map-root-user", "--mount"]).arg(&program).args(["--seed", &seed, "--cases", "150", "--least", "97"]);
    let ran = c.output().unwrap();
    let said = String::from_utf8_lossy(&ran.stdout);
    eprintln!("seed {seed}\n{said}");
    assert!(ran.status.success(), "seed {seed}\n{said}\n{}", String::from_utf8_lossy(&ran.stderr));
}

#[test]
fn a_seed_draws_the_same_situations_again_and_another_seed_others() {
    let words = |seed| (1..60).map(|n| odd::draw(seed, n).1).collect::<Vec<_>>();
    assert_eq!(words(3), words(3));
    assert_ne!(words(3), words(4));
    let draw = |seed| (0..20).map(|_| Rng::of(seed, 1).draw()).collect::<Vec<_>>();
    assert_eq!(draw(9), draw(9));
}

#[test]
fn any_two_and_three_oddities_go_together_and_none_is_rare() {
    let mut drawn = std::collections::BTreeMap::new();
    for word in (1..=5000).flat_map(|n| odd::draw(11, n).1) {
        *drawn.entry(word).or_insert(0) += 1;
    }
    assert_eq!(drawn.len(), odd::all().len());
    let rarest = drawn.iter().min_by_key(|d| d.1).unwrap();
    assert!(*rarest.1 >= 30, "{rarest:?}");
    for seed in 20..60 {
        (1..=1000).for_each(|n| drop(odd::draw(seed, n)));
    }
}

#[test]
fn every_oddity_can_be_drawn_with_every_shape_and_has_a_word_of_its_own() {
    let pool = Pool::new();
    let all = odd::all();
    for (i, (word, _)) in all.iter().enumerate() {
        assert!(!all[..i].iter().any(|o| o.0 == *word), "{word} is there twice");
        for seed in 0..4 {
            let (situation, _) = odd::draw_one(seed, 1 + i, word);
            assert!(!situation.case(&pool, vec![word]).chain.is_empty(), "{word}");
        }
    }
    assert!(all.len() > 150, "{}", all.len());
}
