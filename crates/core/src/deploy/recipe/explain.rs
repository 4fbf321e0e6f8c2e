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
