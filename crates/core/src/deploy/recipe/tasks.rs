//! What of a recipe a machine carries out by itself.

use super::Recipe;
use super::act::{Act, Work};
use super::bring::Placed;
use crate::error::{Error, Result};
use std::net::IpAddr;
use std::path::{Component, Path, PathBuf};

/// A recipe filled in, for a machine.
#[derive(Clone, Debug)]
pub struct Tasks {
    /// Files that the server reads.
    pub placed: Vec<Placed>,
    /// Lines for the ends of files, besides the configuration.
    pub appended: Vec<(PathBuf, String)>,
    /// Commands before the server is started, one a line.
    pub programs: Vec<String>,
    /// Its own check of its configuration, likewise.
    pub check: Vec<String>,
    /// The command that makes sure of the pair, where the server would not notice in time.
    pub pair: Vec<String>,
    /// What is left to a person.
    pub by_hand: Vec<Work>,
    /// How it is started with this for the first time; empty where that is as after a renewal.
    pub start: Vec<String>,
    /// How it takes up renewed files; empty where it reads them for each connection.
    pub reload: Vec<String>,
    /// Where all that is well is said, and in which lines; `…` stands for anything.
    pub expect: (String, String),
    /// Its unit of systemd; empty where the recipe is for a person.
    pub unit: String,
    /// What `tamga check` is to look at.
    pub target: String,
    /// The name or address in it.
    pub host: String,
    /// Where the server listens; None for everywhere.
    pub address: Option<IpAddr>,
}

/// What is appended to files by these steps.
pub(super) fn appended(steps: &[Work]) -> Vec<(PathBuf, String)> {
    let text = |w: &Work| w.lines.iter().map(|l| format!("{l}\n")).collect::<String>();
    steps
        .iter()
        .filter_map(|w| match w.act {
            Act::AtEnd(path) => Some((PathBuf::from(path), text(w))),
            Act::Run | Act::Look | Act::ByHand => None,
        })
        .collect()
}

/// A command line as a program with its arguments, without a shell: a comment and a thrown-away output are left out.
///
/// Errors: only a shell understands it.
///
/// ```
/// use tamga_core::deploy::recipe::program;
///
/// assert_eq!(program("doveconf -n >/dev/null")?, ["doveconf", "-n"]);
/// assert_eq!(program("psql -c \"select 1 > 0\"")?, ["psql", "-c", "select 1 > 0"]);
/// assert!(program("one | two").is_err());
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn program(line: &str) -> Result<Vec<String>> {
    let by_shell = || Error::Contradiction {
        what: format!("the command cannot be run without a shell: {line}"),
        why: "it joins programs, or works with files".into(),
        instead: "type it as the recipe has it".into(),
    };
    let mut words = shlex::split(line).ok_or_else(by_shell)?;
    words.retain(|w| w != ">/dev/null");
    let joins = |w: &String| {
        ["|", "||", "&", "&&", ";", "<", ">", ">>"].contains(&w.as_str())
            || w.starts_with(['<', '>', '('])
            || w.ends_with(';')
            || w.contains("$(")
            || w.contains('`')
    };
    match words.first() {
        Some(first) if !first.contains('=') && !words.iter().any(joins) => Ok(words),
        _ => Err(by_shell()),
    }
}

/// A file's text with these lines at its end. `before`: the lines of an earlier time, which they replace.
///
/// ```
/// use tamga_core::deploy::recipe::at_end;
///
/// let first = at_end(b"port 1", None, "port 2\n");
/// assert_eq!(first, b"port 1\nport 2\n");
/// assert_eq!(at_end(&first, Some("port 2\n"), "port 3\n"), b"port 1\nport 3\n");
/// assert_eq!(at_end(&first, None, "port 2\n"), first, "once is enough");
/// ```
pub fn at_end(text: &[u8], before: Option<&str>, lines: &str) -> Vec<u8> {
    let mut out = match before {
        Some(earlier) if earlier != lines => without(text, earlier),
        _ => text.to_vec(),
    };
    if find(&out, lines.as_bytes()).is_none() {
        if !out.is_empty() && !out.ends_with(b"\n") {
            out.push(b'\n');
        }
        out.extend_from_slice(lines.as_bytes());
    }
    out
}

/// A file's text without these lines.
pub fn without(text: &[u8], lines: &str) -> Vec<u8> {
    match find(text, lines.as_bytes()) {
        Some(at) => [&text[..at], &text[at + lines.len()..]].concat(),
        None => text.to_vec(),
    }
}

/// Where whole lines begin in a text; the last time that they are there.
fn find(text: &[u8], lines: &[u8]) -> Option<usize> {
    let begins = |at: usize| at == 0 || text[at - 1] == b'\n';
    if lines.is_empty() {
        return None;
    }
    text.windows(lines.len()).enumerate().rev().find(|(at, w)| *w == lines && begins(*at)).map(|(at, _)| at)
}

/// The directory of a service: the one below `/etc` in which its configuration lies.
pub fn service_directory(config: &Path) -> PathBuf {
    let deep = config.components().count() > 3;
    if deep { config.components().take(3).collect() } else { config.parent().unwrap_or(config).to_owned() }
}

/// True for a path that this recipe, carried out, may change or link: its own, and what lies in its service's directory.
pub fn is_of(recipe: &Recipe, path: &Path) -> bool {
    let directory = service_directory(Path::new(recipe.config.path));
    let plain = path.is_absolute() && path.components().all(|c| !matches!(c, Component::ParentDir));
    let within = directory != Path::new("/etc") && path.starts_with(&directory);
    let named = recipe.steps.iter().any(|s| matches!(s.act, Act::AtEnd(p) if Path::new(p) == path));
    plain && (within || named || path == Path::new(recipe.config.path))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::deploy::recipe::ALL;
    use proptest::prelude::*;

    #[test]
    fn commands_of_services_need_no_shell() {
        for r in ALL.iter().filter(|r| !r.unit.is_empty()) {
            let steps = r.steps.iter().filter(|s| s.act == Act::Run).map(|s| s.text);
            for line in steps.chain([r.check, r.start]).flat_map(str::lines) {
                let line = line.replace("{sudo}", "").replace("{as_postgres}", "runuser -u postgres -- ");
                assert!(program(&line).is_ok(), "{}: {line}", r.id);
            }
        }
    }

    #[test]
    fn the_directory_of_a_service_is_its_own() {
        let of = |p: &str| service_directory(Path::new(p)).to_string_lossy().into_owned();
        assert_eq!(of("/etc/apache2/sites-available/charts.conf"), "/etc/apache2");
        assert_eq!(of("/etc/postfix/main.cf"), "/etc/postfix");
        assert_eq!(of("/etc/vsftpd.conf"), "/etc");
        let is_of = |word: &str, path: &str| is_of(crate::deploy::recipe::find(word).unwrap(), Path::new(path));
        assert!(is_of("vsftpd", "/etc/vsftpd.conf") && is_of("apache", "/etc/apache2/sites-enabled/charts.conf"));
        assert!(!is_of("vsftpd", "/etc/passwd") && !is_of("apache", "/etc/apache2/../passwd"));
        assert!(!is_of("apache", "apache2/x"));
    }

    proptest! {
        #[test]
        fn what_was_appended_can_be_taken_out(text in "([a-z]{0,9}\n){0,5}", lines in "([A-Z]{1,9}\n){1,3}") {
            let with = at_end(text.as_bytes(), None, &lines);
            prop_assert_eq!(&at_end(&with, Some(&lines), &lines), &with);
            prop_assert_eq!(without(&with, &lines), text.as_bytes());
        }
    }
}
