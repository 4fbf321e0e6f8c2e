//! The shape of the house: which crate may use which, and that no files use each other in a circle.

#![allow(clippy::disallowed_methods, clippy::unwrap_used, reason = "this test reads the sources")]

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// What a crate may use of the others.
const ARROWS: [(&str, &[&str]); 5] = [
    ("core", &[]),
    ("host", &["tamga_core"]),
    ("app", &["tamga_core", "tamga_host"]),
    ("enrollment", &["tamga_core", "tamga_host", "tamga_app"]),
    ("cli", &["tamga_core", "tamga_host", "tamga_app", "tamga_enrollment"]),
];

/// What a wing of the core may use of the others: only wings that stand before it. `error` and `vocabulary` are the ground: an
/// error shows text from outside, and what is parsed fails with an error.
const WINGS: [(&str, &[&str]); 11] = [
    ("error", &["vocabulary"]),
    ("vocabulary", &["error"]),
    ("finding", &["vocabulary"]),
    ("plan", &["vocabulary"]),
    ("pki", &["error", "vocabulary", "plan"]),
    ("stores", &["error", "vocabulary", "finding", "plan", "pki"]),
    ("ca", &["error", "vocabulary", "finding", "plan", "pki"]),
    ("sample", &["error", "vocabulary", "plan", "pki", "ca"]),
    ("check", &["error", "vocabulary", "finding", "plan", "pki", "stores", "ca"]),
    ("enrollment", &["error", "vocabulary", "plan", "pki"]),
    ("deploy", &["error", "vocabulary", "finding", "plan", "pki", "stores", "ca", "check", "enrollment"]),
];

/// Circles of two files that are allowed, each with its reason; at most three.
const CIRCLES: [(&str, &str, &str); 0] = [];

fn sources(name: &str) -> (PathBuf, Vec<PathBuf>) {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().join(name).join("src");
    let (mut files, mut directories) = (Vec::new(), vec![root.clone()]);
    while let Some(directory) = directories.pop() {
        for entry in std::fs::read_dir(directory).unwrap().flatten() {
            let path = entry.path();
            match path.is_dir() {
                true => directories.push(path),
                false if path.extension().is_some_and(|e| e == "rs") => files.push(path),
                false => {}
            }
        }
    }
    files.sort();
    (root, files)
}

/// The code of a file without its tests, comments and texts.
fn code(path: &Path) -> String {
    let text = std::fs::read_to_string(path).unwrap();
    let code = text.split("#[cfg(test)]").next().unwrap();
    code.lines().map(|l| l.split("//").next().unwrap_or_default()).collect::<Vec<_>>().join("\n")
}

/// `certificate::issue` for `src/certificate/issue.rs`, and nothing for the root.
fn module(root: &Path, file: &Path) -> Vec<String> {
    let inside = file.strip_prefix(root).unwrap().with_extension("");
    let mut parts: Vec<String> = inside.iter().map(|p| p.to_string_lossy().into_owned()).collect();
    if parts.last().is_some_and(|l| ["mod", "lib", "main"].contains(&l.as_str())) {
        parts.pop();
    }
    parts
}

/// Every path of this crate that a file names, in `use` with its braces and elsewhere.
fn paths(code: &str, own: &[String]) -> Vec<Vec<String>> {
    let mut out = Vec::new();
    for (start, base) in [("crate::", 0), ("super::", 1), ("self::", 2)] {
        for (at, _) in code.match_indices(start) {
            let before = code[..at].chars().next_back();
            if before.is_some_and(|c| c.is_alphanumeric() || c == '_' || c == ':') {
                continue;
            }
            let mut base: Vec<String> = match base {
                0 => Vec::new(),
                1 => own[..own.len().saturating_sub(1)].to_vec(),
                _ => own.to_vec(),
            };
            let mut rest = &code[at + start.len()..];
            while let Some(r) = rest.strip_prefix("super::") {
                base.pop();
                rest = r;
            }
            tree(rest, &base, &mut out);
        }
    }
    out
}

/// A path, or what is between its braces; returns how much of the text it is.
fn tree(text: &str, base: &[String], out: &mut Vec<Vec<String>>) -> usize {
    let mut path = base.to_vec();
    let mut at = 0;
    loop {
        let rest = &text[at..];
        let blank = rest.len() - rest.trim_start().len();
        let rest = rest.trim_start();
        at += blank;
        if let Some(inner) = rest.strip_prefix('{') {
            let mut within = 1;
            loop {
                let here = &inner[within - 1..];
                let skip = here.len() - here.trim_start_matches([' ', '\n', ',']).len();
                within += skip;
                if inner[within - 1..].starts_with('}') || inner[within - 1..].is_empty() {
                    return at + within + 1;
                }
                within += tree(&inner[within - 1..], &path, out).max(1);
            }
        }
        let word: String = rest.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
        at += word.len();
        if word.is_empty() {
            out.push(path);
            return at.max(1);
        }
        path.push(word);
        match text[at..].strip_prefix("::") {
            Some(_) => at += 2,
            None => {
                out.push(path);
                // `as another`, or whatever stands before the next one.
                return at + text[at..].find([',', '}', ';', '\n']).unwrap_or(text.len() - at);
            }
        }
    }
}

/// The files that each file of a crate uses.
fn uses(name: &str) -> BTreeMap<String, BTreeSet<String>> {
    let (root, files) = sources(name);
    let modules: BTreeMap<Vec<String>, String> = files
        .iter()
        .map(|f| (module(&root, f), f.strip_prefix(&root).unwrap().to_string_lossy().into_owned()))
        .collect();
    let mut out = BTreeMap::new();
    for file in &files {
        let own = module(&root, file);
        let own_file = modules[&own].clone();
        let mut used = BTreeSet::new();
        for path in paths(&code(file), &own) {
            // The deepest module on the way.
            let deepest = (0..=path.len()).rev().find_map(|n| modules.get(&path[..n]));
            used.extend(deepest.filter(|f| **f != own_file && !["lib.rs", "main.rs"].contains(&f.as_str())).cloned());
        }
        out.insert(own_file, used);
    }
    out
}

/// Files that reach each other, each set once.
fn circles(uses: &BTreeMap<String, BTreeSet<String>>) -> BTreeSet<BTreeSet<String>> {
    let reach = |from: &String| {
        let (mut seen, mut next): (BTreeSet<String>, Vec<String>) = (BTreeSet::new(), vec![from.clone()]);
        while let Some(at) = next.pop() {
            for to in uses.get(&at).into_iter().flatten() {
                if seen.insert(to.clone()) {
                    next.push(to.clone());
                }
            }
        }
        seen
    };
    let reached: BTreeMap<&String, BTreeSet<String>> = uses.keys().map(|f| (f, reach(f))).collect();
    let mut out = BTreeSet::new();
    for (f, reaches) in &reached {
        if reaches.contains(*f) {
            let mates = reaches.iter().filter(|m| reached.get(m).is_some_and(|r| r.contains(*f)));
            out.insert(mates.cloned().collect());
        }
    }
    out
}

/// The table "Where each concept is" is true.
#[test]
fn each_concept_is_where_the_table_says() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let page = std::fs::read_to_string(crates.parent().unwrap().join("ARCHITECTURE.md")).unwrap();
    let table = page.split("## Where each concept is").nth(1).unwrap().split("\n## ").next().unwrap();
    let rows: Vec<Vec<&str>> = table
        .lines()
        .filter(|l| l.contains(".rs` |"))
        .map(|l| l.split('|').map(|c| c.trim().trim_matches('`')).collect())
        .collect();
    assert!(rows.len() >= 13, "the table has {} rows", rows.len());
    for row in rows {
        let (item, file) = (row[2], row[3]);
        let text = code(&crates.join(file));
        let defined = ["struct", "enum", "trait"].iter().any(|kind| {
            let start = format!("pub {kind} {item}");
            text.match_indices(&start)
                .any(|(at, s)| !text[at + s.len()..].starts_with(|c: char| c.is_alphanumeric() || c == '_'))
        });
        assert!(defined, "{file} does not define {item}");
    }
}

/// No file is too long to read at once, no function too long for a screen.
#[test]
fn files_and_functions_stay_small() {
    let mut sizes = Vec::new();
    for file in ARROWS.iter().flat_map(|(name, _)| sources(name).1) {
        let text = code(&file);
        let lines: Vec<&str> = text.lines().collect();
        let size = lines.iter().filter(|l| !l.trim().is_empty()).count();
        assert!(size <= 400, "{} has {size} lines of code", file.display());
        sizes.push(size);
        for (at, line) in lines.iter().enumerate() {
            let words: Vec<&str> = line.split_whitespace().collect();
            if !words.contains(&"fn") || !line.ends_with('{') && !line.ends_with('(') {
                continue;
            }
            // As the formatter has it, a function ends with a brace as far in as it begins.
            let end = format!("{}}}", " ".repeat(line.len() - line.trim_start().len()));
            let long = lines[at..].iter().position(|l| *l == end).unwrap_or(0) + 1;
            assert!(long <= 100, "{}: {long} lines from {line:?}", file.display());
        }
    }
    sizes.sort_unstable();
    assert!(sizes[sizes.len() / 2] <= 120, "the middle file has {} lines of code", sizes[sizes.len() / 2]);
}

/// What Tamga prints as JSON is the `Serialize` of types, whose schemas are in `docs/schema/`; never built by hand. (The core writes
/// browsers' policy files and the host speaks browsers' protocols: those formats are others'.)
#[test]
fn no_json_is_built_by_hand() {
    for name in ["app", "cli"] {
        for file in sources(name).1 {
            let code = code(&file);
            for (at, _) in code.match_indices("json!(") {
                let is_schema = code[..at].ends_with("schemars::");
                assert!(is_schema, "{} builds JSON by hand", file.display());
            }
        }
    }
}

/// A use case knows files only as the machine's disk has them: on a machine in memory it could else reach the real one.
#[test]
fn use_cases_touch_no_file_of_their_own() {
    let direct = [
        "std::fs::",
        "symlink_metadata",
        "canonicalize(",
        ".exists()",
        ".is_dir()",
        ".is_file()",
        ".read_dir()",
        ".metadata()",
        "fs::read_",
        "fs::write_",
        "fs::remove",
        "fs::make_",
        "fs::publish",
        "fs::deploy",
        "fs::lock",
        "Sqlite",
    ];
    let mut seen = 0;
    for file in sources("app").1 {
        let code = code(&file);
        seen += code.matches("disk()").count();
        for word in direct {
            assert!(!code.contains(word), "{} has {word}", file.display());
        }
    }
    assert!(seen > 50, "{seen}");
}

/// The phrases of `docs/style-words.txt` are nowhere: not in code, comments, help or docs.
#[test]
fn the_phrases_of_the_list_are_nowhere() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().parent().unwrap();
    let list = std::fs::read_to_string(root.join("docs/style-words.txt")).unwrap();
    let phrases: Vec<Vec<&str>> =
        list.lines().filter(|l| !l.starts_with('#')).map(|l| l.split_whitespace().collect()).collect();
    assert!(phrases.len() > 10);
    let (mut wrong, mut files, mut left) = (Vec::new(), 0, vec![root.to_path_buf()]);
    while let Some(directory) = left.pop() {
        for path in std::fs::read_dir(directory).unwrap().flatten().map(|e| e.path()) {
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            let is_text = path.extension().is_some_and(|e| e == "rs" || e == "md" || e == "toml") || name == "check";
            match path.is_dir() {
                true if !["target", ".git", "corpus", "artifacts", "schema", "data", "screenshots"]
                    .contains(&&*name) =>
                {
                    left.push(path)
                }
                false if is_text => {
                    files += 1;
                    let text = std::fs::read_to_string(&path).unwrap_or_default().to_lowercase();
                    let words: Vec<&str> =
                        text.split(|c: char| !c.is_alphanumeric()).filter(|w| !w.is_empty()).collect();
                    for phrase in &phrases {
                        if words.windows(phrase.len()).any(|w| w == phrase.as_slice()) {
                            wrong.push(format!("{}: {}", path.display(), phrase.join(" ")));
                        }
                    }
                }
                _ => {}
            }
        }
    }
    assert!(files > 200 && wrong.is_empty(), "{files} files\n{}", wrong.join("\n"));
}

/// Labels, fingerprints, stores and goals are types wherever another crate can see them. What is typed by a person and may be one of
/// several things is not called a label.
#[test]
fn public_fields_hold_types_and_not_texts() {
    const WORDS: [&str; 10] = [
        "label",
        "labels",
        "authority",
        "root_label",
        "client_authority",
        "single_use_root",
        "sha256",
        "public_sha256",
        "store",
        "goal",
    ];
    // A label of RFC 7468 is another thing.
    const OTHERS: [&str; 1] = ["pki/format/pem.rs"];
    let mut wrong = Vec::new();
    for name in ARROWS.map(|(name, _)| name) {
        let (root, files) = sources(name);
        for file in files.iter().filter(|f| !OTHERS.contains(&&*f.strip_prefix(&root).unwrap().to_string_lossy())) {
            for line in code(file).lines().map(str::trim) {
                let Some((field, held)) = line.strip_prefix("pub ").and_then(|l| l.split_once(": ")) else { continue };
                if WORDS.contains(&field) && held.contains("String") {
                    wrong.push(format!("{}: {line}", file.display()));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// A published crate is only its own directory.
#[test]
fn no_crate_includes_a_file_of_outside() {
    let mut seen = 0;
    for (name, _) in ARROWS {
        let (root, files) = sources(name);
        for file in files {
            let text = std::fs::read_to_string(&file).unwrap();
            for (at, start) in ["include_str!(\"", "include_bytes!(\""].iter().flat_map(|m| text.match_indices(m)) {
                let named = text[at + start.len()..].split('"').next().unwrap();
                let included = file.parent().unwrap().join(named).canonicalize().unwrap();
                assert!(included.starts_with(root.canonicalize().unwrap()), "{} includes {named}", file.display());
                seen += 1;
            }
        }
    }
    assert!(seen > 0, "the sources were not read");
}

#[test]
fn no_crate_uses_one_above_it() {
    let all: BTreeSet<&str> = ARROWS.iter().map(|(name, _)| *name).collect();
    for (name, allowed) in ARROWS {
        let (_, files) = sources(name);
        assert!(files.len() > 5, "{name} has no sources");
        let mut found = BTreeSet::new();
        for file in files {
            let code = code(&file);
            for other in all.iter().filter(|o| **o != name) {
                let word = format!("tamga_{other}");
                if code.contains(&word) {
                    assert!(allowed.contains(&word.as_str()), "{} uses {word}", file.display());
                    found.insert(word);
                }
            }
        }
        assert_eq!(found.len(), allowed.len(), "{name} uses {found:?}: the table says more");
    }
}

#[test]
fn no_files_use_each_other_in_a_circle() {
    let mut wrong = Vec::new();
    let mut arrows = 0;
    for (name, _) in ARROWS {
        let uses = uses(name);
        arrows += uses.values().map(BTreeSet::len).sum::<usize>();
        for circle in circles(&uses) {
            let files: Vec<&str> = circle.iter().map(String::as_str).collect();
            let known = |(a, b, _): &(&str, &str, &str)| {
                files.len() == 2 && format!("{name}/{}", files[0]) == *a && format!("{name}/{}", files[1]) == *b
            };
            if !CIRCLES.iter().any(known) {
                wrong.push(format!("{name}: {}", files.join(" ")));
            }
        }
    }
    assert!(arrows > 500, "only {arrows} arrows were read");
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(CIRCLES.len() <= 3);
}

#[test]
fn no_wing_of_the_core_uses_one_that_it_may_not() {
    let mut found: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    let (root, files) = sources("core");
    for file in &files {
        let own = module(&root, file);
        let Some(wing) = own.first().filter(|w| *w != "test_entropy") else { continue };
        let (_, allowed) =
            WINGS.iter().find(|(w, _)| w == wing).unwrap_or_else(|| panic!("{wing} is not in the table of wings"));
        for path in paths(&code(file), &own) {
            // A macro is called by the crate's root, wherever it stands.
            let used = path.first().map(|p| if p == "words" { "vocabulary" } else { p });
            let Some(used) = used.filter(|p| p != wing) else { continue };
            assert!(allowed.contains(&used), "{} uses crate::{}", file.display(), path.join("::"));
            found.entry(wing.clone()).or_default().insert(used.to_owned());
        }
    }
    for (wing, allowed) in WINGS {
        assert_eq!(found[wing].len(), allowed.len(), "{wing} uses {:?}: the table says more", found[wing]);
    }
}

#[test]
fn braces_and_parents_are_read() {
    let own = ["a".to_owned(), "b".to_owned()];
    let mut found = paths("use crate::x::{y::{self, z}, w as v};\nuse super::c::D;\nlet q = crate::m::n();", &own);
    found.sort();
    let text: Vec<String> = found.iter().map(|p| p.join("::")).collect();
    assert_eq!(text, ["a::c::D", "m::n", "x::w", "x::y::self", "x::y::z"]);
}
