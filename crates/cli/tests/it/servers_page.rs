//! The table of servers: what `docs/servers.md` and README say is what tests carry out, no more and no less.

use crate::carried::RUN;
use std::path::{Path, PathBuf};
use tamga_core::deploy::recipe::{ALL, FileLocation, Recipe, Tried};

/// What each test proves.
const PROVES: [(&str, &[&str]); 5] = [
    ("is_carried_out", &["start", "ipv6", "silent", "success-line", "wrong-pair", "renewal"]),
    ("lets_in_the_right_one", &["clients"]),
    ("redirects", &["redirect"]),
    ("exchanges_messages", &["start", "renewal"]),
    ("installs", &["install", "second-run", "leave"]),
];

const HEAD: &str = "# Servers, and what held

Written by `just recipes`, which carries every recipe out with the real server, on a machine of its own:

* start: started as the recipe says, the key read by the server's own account, verified by a real client.
* ipv6: verified at ::1 too, which is in the certificate.
* silent: connections that say nothing keep nobody waiting.
* clients: with `--client-authority`, the client with a certificate of that authority gets in; the one without, and the one of another
  authority that the machine trusts, do not.
* start and renewal of gateway: messages signed, encrypted and acknowledged in both directions, before and after.
* redirect: plain HTTP leads to HTTPS by name, address, IPv6 address and without Host.
* success-line: the log has the line that the recipe names.
* wrong-pair: a key of another certificate is noticed before the reload, `explain` knows the line, and the old pair is served on.
* renewal: what the recipe says to do after a renewal makes it serve the new certificate.
* install: `--install` on the package as it comes; second-run: again, and no file changed; leave: `leave` put every file back.

-: the server has nothing of the kind, or the recipe leaves it to a person.

";

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The judgements that tests make of a server.
fn declared(recipe: &Recipe) -> Option<Vec<&'static str>> {
    let (_, tests, connects) = RUN.iter().find(|(name, ..)| name.replace('_', "-") == recipe.id)?;
    let of = |test: &&str| PROVES.iter().find(|(name, _)| name == test).map(|(_, proves)| *proves).unwrap();
    // Where nothing is to be done after a renewal, there is nothing before which a wrong pair could be noticed.
    let has_renewal = !recipe.reload.is_empty() || recipe.facts.place != FileLocation::Issued;
    let counts = |j: &&str| match *j {
        "wrong-pair" => has_renewal,
        "silent" => *connects,
        // Where their packages let them.
        "ipv6" => !["mysql", "postgresql"].contains(&recipe.id),
        _ => true,
    };
    Some(tests.iter().flat_map(of).copied().filter(counts).collect())
}

fn table(holds: impl Fn(&Recipe) -> Option<Vec<String>>) -> String {
    let mut judgements: Vec<&str> = Vec::new();
    for judgement in PROVES.iter().flat_map(|(_, proves)| *proves) {
        if !judgements.contains(judgement) {
            judgements.push(judgement);
        }
    }
    let mut out =
        format!("{HEAD}| server | {} |\n|{}\n", judgements.join(" | "), " --- |".repeat(judgements.len() + 1));
    for recipe in ALL {
        if let Some(held) = holds(recipe) {
            let cell = |j: &&str| if held.iter().any(|h| h == j) { "yes" } else { "-" };
            out.push_str(&format!(
                "| {} | {} |\n",
                recipe.id,
                judgements.iter().map(cell).collect::<Vec<_>>().join(" | ")
            ));
        }
    }
    out.push_str("\nOf these only the form was checked:\n\n");
    for recipe in ALL.iter().filter(|r| holds(r).is_none()) {
        let how = match recipe.tried {
            Tried::Form(how) => how,
            Tried::Run(_) => panic!("{} is said to be run, and no test carries it out", recipe.id),
        };
        out.push_str(&format!("* {} ({}): {how}\n", recipe.id, recipe.title));
    }
    out
}

/// The two rows of README.
fn rows() -> String {
    let ids = |run: bool| {
        let of = |r: &&&Recipe| declared(r).is_some() == run;
        ALL.iter().filter(of).map(|r| format!("`{}`", r.id)).collect::<Vec<_>>()
    };
    let (run, form) = (ids(true), ids(false));
    format!(
        "| {} | {} carried out by tests to the letter, with the real server |\n| {} | {}: the form of what they write is checked |\n",
        run.join(" "),
        run.len(),
        form.join(" "),
        form.len()
    )
}

#[test]
fn the_page_says_what_tests_carry_out() {
    let page = root().join("docs/servers.md");
    if std::env::var_os("TAMGA_TESTS_WRITE").is_some() {
        // What the run has written down counts, where there was one.
        let written = std::env::var_os("TAMGA_TESTS_RECIPES").map(|f| std::fs::read_to_string(f).unwrap());
        let held = |r: &Recipe| {
            let declared = declared(r)?.into_iter().map(str::to_owned);
            Some(match &written {
                Some(w) => declared.filter(|j| w.lines().any(|l| l == format!("{}\t{j}", r.id))).collect(),
                None => declared.collect(),
            })
        };
        std::fs::write(&page, table(held)).unwrap();
    }
    let wanted = table(|r| Some(declared(r)?.into_iter().map(str::to_owned).collect()));
    assert_eq!(std::fs::read_to_string(page).unwrap(), wanted, "just recipes");
}

#[test]
fn readme_says_which_recipes_are_carried_out() {
    let file = root().join("README.md");
    let text = std::fs::read_to_string(&file).unwrap();
    let head = "| servers' recipes | how they are known to work |\n| --- | --- |\n";
    let (before, after) = text.split_once(head).unwrap();
    let (_, rest) = after.split_once("\n\n").map_or(("", after), |(_, rest)| ("", rest));
    let wanted = format!("{before}{head}{}\n{}", rows(), rest);
    if std::env::var_os("TAMGA_TESTS_WRITE").is_some() {
        std::fs::write(&file, &wanted).unwrap();
    }
    assert_eq!(std::fs::read_to_string(&file).unwrap(), wanted, "TAMGA_TESTS_WRITE=1");
}
