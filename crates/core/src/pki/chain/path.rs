//! Path building: every way from a leaf to a trusted root, within a budget (RFC 4158).

use crate::pki::cert::Certificate;
use crate::pki::cert::subject;

/// At most so many certificates between leaf and root: deeper than any lab, and than rustls-webpki's 6.
const MOST_INTERMEDIATES: usize = 8;
/// At most so many complete paths are judged; clients stop far earlier (Go at 100 signature checks in all).
const MOST_PATHS: usize = 64;
/// At most so many steps of the search, so that certificates which sign each other end it too.
const MOST_STEPS: usize = 4_000;

/// What a search found.
#[derive(Debug, Default)]
pub struct Paths {
    /// Complete paths: leaf first, the anchor last. A leaf that is an anchor itself is a path of one.
    pub complete: Vec<Vec<Certificate>>,
    /// The longest path that ended without an anchor.
    pub dead_end: Vec<Certificate>,
    /// True if the search was stopped by its budget.
    pub exhausted: bool,
}

/// Searches paths from `leaf` over `intermediates` to `anchors`, by name. Signatures are not looked at here.
///
/// `by_identifier`: an issuer whose key identifier contradicts the certificate's is no candidate, and what signed itself has no other issuer
/// (OpenSSL does so).
pub fn search(
    leaf: &Certificate,
    intermediates: &[Certificate],
    anchors: &[Certificate],
    by_identifier: bool,
) -> Paths {
    let mut search = Search { intermediates, anchors, by_identifier, steps: 0, found: Paths::default() };
    if anchors.contains(leaf) {
        search.found.complete.push(vec![leaf.clone()]);
    }
    search.extend(&mut vec![leaf.clone()]);
    search.found
}

struct Search<'a> {
    intermediates: &'a [Certificate],
    anchors: &'a [Certificate],
    by_identifier: bool,
    steps: usize,
    found: Paths,
}

impl Search<'_> {
    fn extend(&mut self, path: &mut Vec<Certificate>) {
        self.steps += 1;
        if self.steps > MOST_STEPS || self.found.complete.len() >= MOST_PATHS {
            self.found.exhausted = true;
            return;
        }
        let Some(top) = path.last().cloned() else { return };
        // OpenSSL looks for no other issuer of what signed itself, whatever root has the same name (measured with curl 7.88).
        if self.by_identifier && top.is_self_signed() {
            if path.len() > self.found.dead_end.len() {
                self.found.dead_end.clone_from(path);
            }
            return;
        }
        let mut ended = true;
        for anchor in self.anchors {
            if self.may_issue(anchor, &top) && !path.contains(anchor) && self.found.complete.len() < MOST_PATHS {
                let mut whole = path.clone();
                whole.push(anchor.clone());
                self.found.complete.push(whole);
                ended = false;
            }
        }
        if path.len() <= MOST_INTERMEDIATES {
            for next in self.intermediates {
                if self.may_issue(next, &top) && !path.contains(next) && !self.anchors.contains(next) {
                    ended = false;
                    path.push(next.clone());
                    self.extend(path);
                    path.pop();
                }
            }
        }
        if ended && path.len() > self.found.dead_end.len() {
            self.found.dead_end.clone_from(path);
        }
    }

    fn may_issue(&self, issuer: &Certificate, subject: &Certificate) -> bool {
        subject::same(&issuer.subject, &subject.issuer)
            && !(self.by_identifier && identifiers_contradict(issuer, subject))
    }
}

/// True if both identifiers are there and differ (RFC 5280 §4.2.1.1).
pub fn identifiers_contradict(issuer: &Certificate, subject: &Certificate) -> bool {
    matches!((&issuer.key_identifier, &subject.issuer_key_identifier), (Some(a), Some(b)) if a != b)
}
