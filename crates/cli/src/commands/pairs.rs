//! `tamga match PATH…`: which private key belongs to which certificate and request.

use crate::args::SecretArgs;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::Value;
use std::path::{Path, PathBuf};
use tamga_core::pairs::{self, Found, Reach};
use tamga_core::text::Shown;
use tamga_host::fs;
use zeroize::Zeroizing;

/// Nothing of the kind is larger.
const LARGEST: u64 = 4 << 20;
/// A folder is looked into so deep.
const DEEPEST: usize = 6;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga match /etc/nginx ./charts.saltmarsh.test")]
pub(crate) struct MatchArgs {
    /// Files and folders
    #[arg(required = true, value_name = "PATH")]
    paths: Vec<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(_: &Session, args: &MatchArgs) -> Result<Done> {
    let passphrase = args.secrets.given()?;
    let mut files = Vec::new();
    for path in &args.paths {
        let meta = std::fs::metadata(path).map_err(tamga_host::error::Error::file("reading", path))?;
        match meta.is_dir() {
            true => walk(path, 0, &mut files),
            false => files.push((path.clone(), true)),
        }
    }
    let (mut places, mut found): (Vec<(PathBuf, bool)>, Vec<Found>) = Default::default();
    let mut unreadable = Vec::new();
    for (path, named) in files {
        let bytes = match fs::read_regular(&path) {
            Ok(bytes) => Zeroizing::new(bytes),
            Err(e) if named => return Err(tamga_host::error::Error::file("reading", &path)(e).into()),
            Err(_) => {
                unreadable.push(path);
                continue;
            }
        };
        let here = pairs::look(&bytes, passphrase.as_ref());
        if here.is_empty() && named {
            unreadable.push(path.clone());
        }
        for f in here {
            places.push((path.clone(), named));
            found.push(f);
        }
    }
    let groups = pairs::group(&found);
    let mut text = String::new();
    let mut members = Vec::new();
    let path = |i: &usize| places[*i].0.shown();
    // Pairs first, then what stands alone; what only completes chains is counted.
    let authorities = |g: &&pairs::Group| {
        let is_ca = |i: &usize| matches!(&found[*i], Found::Certificate(c) if c.is_ca());
        g.keys.is_empty() && g.requests.is_empty() && g.certificates.iter().all(is_ca)
    };
    let above = groups.iter().filter(authorities).count();
    for g in groups.iter().filter(|g| g.is_pair()).chain(groups.iter().filter(|g| !g.is_pair() && !authorities(g))) {
        let mut rows = Vec::new();
        for i in &g.keys {
            rows.push(vec![human::dim("private key"), path(i)]);
        }
        let mut certificates = Vec::new();
        for i in &g.certificates {
            let Found::Certificate(c) = &found[*i] else { continue };
            let reach = pairs::reach(c, &found);
            let word = match reach {
                Reach::Itself => "signed by itself",
                Reach::Root => "chain complete",
                Reach::Missing => "what signed it is not here",
            };
            rows.push(vec![human::dim("certificate"), path(i), format!("{}, {word}", c.subject_words())]);
            certificates.push(json!({"path": places[*i].0, "subject": c.subject_words(), "sha256": c.sha256(),
                "chain": match reach { Reach::Itself => "self-signed", Reach::Root => "complete", Reach::Missing => "incomplete" }}));
        }
        for i in &g.requests {
            let Found::Request(r) = &found[*i] else { continue };
            rows.push(vec![human::dim("request"), path(i), r.subject_words()]);
        }
        let verdict = match (g.is_pair(), g.keys.is_empty()) {
            (true, _) => human::good("belong together"),
            (false, true) => human::care("without its private key"),
            (false, false) => human::care("a private key alone"),
        };
        text.push_str(&format!(
            "{verdict} {}\n{}",
            human::dim(&format!("{} {}…", g.strength, &g.key.fingerprint()[..16])),
            human::table(&rows)
        ));
        members.push(json!({
            "public_sha256": g.key.fingerprint(), "key": g.strength.to_string(), "pair": g.is_pair(),
            "private_keys": g.keys.iter().map(path).collect::<Vec<_>>(), "certificates": certificates,
            "requests": g.requests.iter().map(path).collect::<Vec<_>>(),
        }));
    }
    if above > 0 {
        let what = if above == 1 {
            "certificate of an authority".into()
        } else {
            format!("certificates of {above} authorities")
        };
        text.push_str(&format!("{}\n", human::dim(&format!("and the {what}, without a key here"))));
    }
    let locked: Vec<String> =
        found.iter().enumerate().filter(|(_, f)| matches!(f, Found::LockedKey)).map(|(i, _)| path(&i)).collect();
    for p in &locked {
        text.push_str(&format!(
            "{} {p}\n  {}  give its passphrase: --passphrase-file PATH\n",
            human::care("an encrypted key, not opened"),
            human::dim("do:")
        ));
    }
    for p in &unreadable {
        text.push_str(&format!("{} {}\n", human::dim("nothing of the kind in"), p.shown()));
    }
    // Files that were named must each belong to a pair; of folders, something must.
    let alone = |g: &pairs::Group| {
        let certificate_of_others = |i: &usize| matches!(&found[*i], Found::Certificate(c) if c.is_ca());
        let all = g.keys.iter().chain(&g.certificates).chain(&g.requests);
        !g.is_pair() && all.into_iter().any(|i| places[*i].1 && !certificate_of_others(i))
    };
    let pair = groups.iter().any(pairs::Group::is_pair);
    let bad = !pair || groups.iter().any(alone);
    if !pair {
        text.push_str(&format!(
            "{}\n",
            human::bad("no match: no private key here belongs to any certificate or request")
        ));
    }
    let json: Value = json!({"groups": members, "locked": locked});
    Ok(Done { text, json, code: if bad { exit::BAD } else { exit::GOOD } })
}

fn walk(folder: &Path, depth: usize, out: &mut Vec<(PathBuf, bool)>) {
    if depth > DEEPEST {
        return;
    }
    let mut entries: Vec<PathBuf> =
        std::fs::read_dir(folder).into_iter().flatten().flatten().map(|e| e.path()).collect();
    entries.sort();
    for path in entries {
        // Links are not followed into folders: they may lead round in a circle.
        let Ok(meta) = path.symlink_metadata() else { continue };
        if meta.is_dir() {
            walk(&path, depth + 1, out);
        } else if std::fs::metadata(&path).is_ok_and(|m| m.is_file() && m.len() <= LARGEST) {
            out.push((path, false));
        }
    }
}
