//! From a line of a log to what it means: the error texts of every recipe.

use super::{ALL, KnownError, Recipe};

/// A text that was recognised.
#[derive(Clone, Copy, Debug)]
pub struct Known {
    /// Whose complaint it is.
    pub recipe: &'static Recipe,
    /// Which.
    pub fault: &'static KnownError,
}

/// Every complaint that a text contains, the one with most letters in common first. Letters' case and runs of blanks do not count.
///
/// ```
/// use tamga_core::deploy::recipe::known;
///
/// let log = "nginx: [emerg] SSL_CTX_use_PrivateKey(\"/etc/nginx/key.pem\") failed (SSL: error:05800074:x509 certificate routines::key values mismatch)";
/// assert_eq!(known(log)[0].recipe.id, "nginx");
/// ```
pub fn known(text: &str) -> Vec<Known> {
    let text = plain(text);
    let mut out: Vec<(usize, Known)> = Vec::new();
    for &recipe in ALL {
        for fault in recipe.faults {
            if let Some(weight) = contains(&text, &plain(fault.text)) {
                out.push((weight, Known { recipe, fault }));
            }
        }
    }
    out.sort_by_key(|(weight, _)| std::cmp::Reverse(*weight));
    out.into_iter().map(|(_, k)| k).collect()
}

/// The recipes that promise this line for when all is well: the server says that it took up its certificate.
///
/// ```
/// use tamga_core::deploy::recipe::succeeded;
///
/// let found = succeeded("2026/11/24 10:00:00 [notice] 812#812: signal process started, reconfiguring");
/// assert_eq!(found.iter().map(|r| r.id).collect::<Vec<_>>(), ["nginx"]);
/// ```
pub fn succeeded(text: &str) -> Vec<&'static Recipe> {
    let text = plain(text);
    let promises =
        |r: &&&Recipe| r.proof.1.lines().any(|l| contains(&text, &plain(&without_marks(l))).is_some_and(|n| n > 8));
    ALL.iter().filter(promises).copied().collect()
}

/// A line of a template with anything in the places of its marks.
fn without_marks(line: &str) -> String {
    let mut out = String::new();
    for (n, piece) in line.split('{').enumerate() {
        match piece.split_once('}').filter(|_| n > 0) {
            Some((_, rest)) => out.push_str(&format!("…{rest}")),
            None => out.push_str(piece),
        }
    }
    out
}

fn plain(text: &str) -> String {
    text.to_lowercase().split_whitespace().collect::<Vec<_>>().join(" ")
}

/// True, with its letters, if the pieces of a pattern are in a text in their order.
fn contains(text: &str, pattern: &str) -> Option<usize> {
    let (mut rest, mut weight) = (text, 0);
    for piece in pattern.split('…').map(str::trim).filter(|p| !p.is_empty()) {
        rest = &rest[rest.find(piece)? + piece.len()..];
        weight += piece.len();
    }
    Some(weight)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_of_a_log_is_recognised_whatever_stands_around_it() {
        let line = "2026/11/24 10:00:00 [emerg] 1#1: SSL_CTX_use_PrivateKey(\"/etc/x.pem\")  failed (SSL: \
                    error:05800074:x509 certificate routines::Key Values Mismatch)";
        let found = known(line);
        assert_eq!(found[0].recipe.id, "nginx");
        assert_eq!(found[0].fault.code.map(|c| c.word()), Some("key-mismatch"));
        assert!(known("all is well").is_empty() && known("").is_empty());
        assert_eq!(contains("a b c", "a…c"), Some(2));
        assert_eq!(contains("c b a", "a…c"), None);
    }

    #[test]
    fn every_success_finds_itself_and_no_fault_is_one() {
        assert_eq!(without_marks("on port … {port}, tls {a}b"), "on port … …, tls …b");
        for recipe in ALL {
            for line in recipe.proof.1.lines().map(without_marks).filter(|l| l.replace('…', "").trim().len() > 8) {
                let found = succeeded(&format!("Nov 29 10:00:00 lab {}", line.replace('…', " 8443 ")));
                assert!(found.iter().any(|r| r.id == recipe.id), "{}: {line}", recipe.id);
            }
            for fault in recipe.faults {
                assert!(succeeded(fault.text).is_empty(), "{}: {}", recipe.id, fault.text);
            }
        }
        assert!(succeeded("").is_empty() && succeeded("all is well with the tide").is_empty());
    }

    #[test]
    fn every_fault_finds_itself() {
        for recipe in ALL {
            for fault in recipe.faults {
                let found = known(&fault.text.replace('…', " some words "));
                assert!(
                    found.iter().any(|k| k.recipe.id == recipe.id && k.fault.text == fault.text),
                    "{}: {}",
                    recipe.id,
                    fault.text
                );
            }
        }
    }
}
