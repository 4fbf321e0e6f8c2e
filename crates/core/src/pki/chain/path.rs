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
pub fn search(leaf: &Certificate, intermediates: &[Certificate], anchors: &[Certificate]) -> Paths {
    let mut search = Search { intermediates, anchors, steps: 0, found: Paths::default() };
    if anchors.contains(leaf) {
        search.found.complete.push(vec![leaf.clone()]);
    }
    search.extend(&mut vec![leaf.clone()]);
    search.found
}

struct Search<'a> {
    intermediates: &'a [Certificate],
    anchors: &'a [Certificate],
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
        let mut ended = true;
        for anchor in self.anchors {
            if may_issue(anchor, &top) && !path.contains(anchor) && self.found.complete.len() < MOST_PATHS {
                let mut whole = path.clone();
                whole.push(anchor.clone());
                self.found.complete.push(whole);
                ended = false;
            }
        }
        if path.len() <= MOST_INTERMEDIATES {
            for next in self.intermediates {
                if may_issue(next, &top) && !path.contains(next) && !self.anchors.contains(next) {
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
}

fn may_issue(issuer: &Certificate, subject: &Certificate) -> bool {
    subject::same(&issuer.subject, &subject.issuer)
}
