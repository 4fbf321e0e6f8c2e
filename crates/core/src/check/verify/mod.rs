//! How the verifying libraries go about it, step by step and in their own order: what each client does with a chain follows from the
//! library's procedure, not from a list of faults. Each is our own account of what its makers document and of what was measured.

pub mod chromium;
pub mod firefox;
pub mod gnutls;
pub mod go;
pub mod java;
pub mod openssl;
pub mod parts;
pub mod webpki;

use crate::check::client::case::{ChainFault, Input};
use crate::finding::Code;
use crate::pki::cert::Certificate;

/// One thing that a library minds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Objection {
    /// The library's own name for it.
    pub word: &'static str,
    /// What it is to us.
    pub code: Code,
    /// Where in the path: 0 is the leaf.
    pub depth: usize,
    /// What a person may want to know besides.
    pub detail: String,
}

/// What a library made of a chain.
#[derive(Clone, Debug, Default)]
pub struct Trail {
    /// The path that it judged.
    pub path: Vec<Certificate>,
    /// What it minds, in the order in which it looked.
    pub objections: Vec<Objection>,
    /// An objection that is left out on purpose: what would the library say if it did not mind this?
    pub without: Option<&'static str>,
}

impl Trail {
    /// A trail that leaves one objection out.
    pub fn new(without: Option<&'static str>) -> Trail {
        Trail { without, ..Trail::default() }
    }

    /// Notes an objection.
    pub fn object(&mut self, word: &'static str, code: Code, depth: usize, detail: impl Into<String>) {
        if self.without != Some(word) {
            self.objections.push(Objection { word, code, depth, detail: detail.into() });
        }
    }

    /// The faults as findings want them, each kind once a place.
    pub fn faults(&self) -> Vec<ChainFault> {
        let mut out: Vec<ChainFault> = Vec::new();
        for o in &self.objections {
            if !out.iter().any(|f| f.code == o.code && f.depth == o.depth) {
                let mut fault = ChainFault::new(o.code, o.depth, o.detail.clone());
                fault.anchor = o.depth > 0 && o.depth + 1 == self.path.len();
                out.push(fault);
            }
        }
        out
    }
}

/// Every certificate that a library could choose from, in the order in which it came.
pub fn served<'a>(input: &Input<'a>) -> impl Iterator<Item = &'a Certificate> + use<'a> {
    input.served.iter().chain(input.extra)
}

/// Texts without those that came before.
fn distinct(texts: impl Iterator<Item = String>) -> Vec<String> {
    let mut out: Vec<String> = Vec::new();
    for text in texts {
        if !out.contains(&text) {
            out.push(text);
        }
    }
    out
}
