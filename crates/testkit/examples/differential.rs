//! Draws cases, serves them, lets every installed client visit them, judges them by the rules, and says where the two differ.
//!
//! `differential --seed N --cases N [--clients a,b] [--keep FILE] [--from FILE] [--least PERCENT] [--show NUMBER]
//! [--odd WORD] [--cover FILE] [--shrink N]`. Runs as root in a mount
//! namespace of its own (`unshare -m`), except with `--from`, which judges what an earlier run kept. `--shrink` reduces N
//! differences of each client, each of another kind, to their smallest chains, by visiting again.

#![allow(clippy::print_stdout, clippy::print_stderr, clippy::unwrap_used, reason = "it is a command of the tests")]

use std::path::PathBuf;
use std::process::ExitCode;
use tamga_core::check::client::Client;
use tamga_host::entropy::now;
use tamga_testkit::differential::kept::Kept;
use tamga_testkit::differential::situation::Case;
use tamga_testkit::differential::{cover, observe, odd, report, serve, shrink};
use tamga_testkit::matrix::chain::Pool;
use tamga_testkit::matrix::run::CLIENTS;

fn main() -> ExitCode {
    let options: Vec<String> = std::env::args().skip(1).collect();
    let option = |name: &str| options.iter().position(|o| o == name).and_then(|i| options.get(i + 1));
    let number = |name: &str, usual: usize| option(name).map_or(usual, |n| n.parse().unwrap());
    let kept = match option("--from") {
        Some(file) => Kept::read(&PathBuf::from(file)),
        None => ran(number("--seed", 1) as u64, number("--cases", 150), option("--clients"), option("--odd")),
    };
    if let Some(file) = option("--keep") {
        kept.write(&PathBuf::from(file));
    }
    if let Some(wanted) = option("--show") {
        show(&kept, wanted.parse().unwrap());
        return ExitCode::SUCCESS;
    }
    if let Some(file) = option("--cover") {
        let covered = cover::cover(kept);
        covered.write(&PathBuf::from(file));
        println!("{} cases; held by none: {:?}", covered.cases.len(), cover::unheld(&covered));
        return ExitCode::SUCCESS;
    }
    let columns = report::compared(&kept);
    print!("{}", report::differences(&kept, &columns, number("--most", 25)));
    println!("{}", report::figures(&kept, &columns));
    let tame = if option("--odd").is_some() { Vec::new() } else { report::tame(&kept, &columns) };
    for reason in &tame {
        println!("too tame: {reason}");
    }
    if option("--from").is_none() && option("--shrink").is_some() {
        let (seed, most) = (number("--seed", 1) as u64, number("--shrink", 0));
        smallest(&kept, &columns, seed, option("--odd").map(String::as_str), most);
    }
    let least = option("--least").map_or(0.0, |p| p.parse().unwrap());
    let poor = columns.iter().any(|c| c.agreement() < least || c.cases < kept.cases.len() * 9 / 10);
    ExitCode::from(u8::from(poor || !tame.is_empty()))
}

fn ran(seed: u64, count: usize, clients: Option<&String>, only: Option<&String>) -> Kept {
    let folder = tempfile::Builder::new().prefix("tamga-differential-").tempdir().unwrap();
    let pool = Pool::new();
    let other = odd::other_root(&pool);
    std::fs::write(folder.path().join("other-root.der"), other).unwrap();
    let began = std::time::Instant::now();
    let cases: Vec<Case> = (1..=count)
        .map(|n| {
            let (situation, words) = match only {
                Some(word) => odd::draw_one(seed, n, word),
                None => odd::draw(seed, n),
            };
            situation.case(&pool, words)
        })
        .collect();
    eprintln!("drawn after {:.1} s", began.elapsed().as_secs_f32());
    let port = serve::serve(&cases, &pool);
    let wanted: Vec<Client> = match clients {
        Some(words) => words.split(',').map(|w| w.parse().unwrap()).collect(),
        None => CLIENTS.to_vec(),
    };
    let at = now();
    let observed = observe::observe(&cases, port, folder.path(), &wanted);
    eprintln!("observed after {:.1} s", began.elapsed().as_secs_f32());
    for entry in std::fs::read_dir(folder.path())
        .unwrap()
        .flatten()
        .filter(|e| e.path().extension().is_some_and(|x| x == "errors"))
    {
        eprintln!("{}: {}", entry.path().display(), std::fs::read_to_string(entry.path()).unwrap());
    }
    Kept { at, cases, observed }
}

/// Makes some differences of each client small, each of another kind.
fn smallest(kept: &Kept, columns: &[report::Column], seed: u64, only: Option<&str>, most: usize) {
    let (pool, folder) = (Pool::new(), tempfile::Builder::new().prefix("tamga-shrink-").tempdir().unwrap());
    std::fs::write(folder.path().join("other-root.der"), odd::other_root(&pool)).unwrap();
    let ground = shrink::Ground { seed, only, pool: &pool, folder: folder.path(), now };
    let mut next = 1_000_000;
    for column in columns {
        let mut all: Vec<shrink::Difference> = Vec::new();
        for (i, foreseen, seen) in &column.different {
            let about = shrink::about(foreseen, seen, &kept.cases[*i].host);
            if all.len() < most && !all.iter().any(|d| d.about == about) {
                let drawn = kept.cases[*i].number;
                all.push(shrink::Difference { client: column.client, drawn, taken: Vec::new(), about });
            }
        }
        ground.shrink(column.client, &mut all, 12, &mut next);
        for d in &all {
            println!("{}", ground.words(d));
        }
    }
}

fn show(kept: &Kept, number: usize) {
    let case = kept.cases.iter().find(|c| c.number == number).unwrap();
    println!("{number}: {} at {}", case.odd.join(" + "), case.host);
    for (client, all) in &kept.observed.said {
        println!("{}: {:?}", client.word(), all.get(&number));
    }
    for (what, ders) in [("served", &case.chain), ("trusted", &case.anchors)] {
        for (i, der) in ders.iter().enumerate() {
            let file = format!("/tmp/case-{number}-{what}-{i}.der");
            std::fs::write(&file, der).unwrap();
            println!("{what} {i}: {} octets, {file}", der.len());
        }
    }
}
