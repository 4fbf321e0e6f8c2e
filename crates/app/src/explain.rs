//! A finding at length, and what a line of a log means.

use crate::failure::Result;
use crate::recipe::FaultView;
use crate::report::Outcome;
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::str::FromStr;
use tamga_core::check::client::{self, Client};
use tamga_core::deploy::recipe::{self, Known};
use tamga_core::error::Error;
use tamga_core::finding::{self, Code, Entry};

/// What is explained.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// Error texts of servers.
    #[serde(serialize_with = "servers", skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<Vec<KnownView>>")]
    pub servers: Option<Vec<Known>>,
    /// Findings.
    #[serde(serialize_with = "entries")]
    #[schemars(with = "Vec<EntryView>")]
    pub findings: Vec<&'static Entry>,
}

impl Report {
    /// Bad if a line of a log means nothing that is known.
    pub fn outcome(&self) -> Outcome {
        let known = !self.findings.is_empty() || self.servers.as_ref().is_none_or(|s| !s.is_empty());
        if known { Outcome::Good } else { Outcome::Bad }
    }
}

#[derive(Serialize, JsonSchema)]
struct KnownView {
    server: &'static str,
    #[serde(flatten)]
    fault: FaultView,
}

fn servers<S: Serializer>(all: &Option<Vec<Known>>, s: S) -> std::result::Result<S::Ok, S::Error> {
    let all = all.iter().flatten().map(|k| KnownView { server: k.recipe.id, fault: FaultView::from(k.fault) });
    s.collect_seq(all)
}

#[derive(Serialize, JsonSchema)]
struct Saying {
    client: &'static str,
    code: String,
}

#[derive(Serialize, JsonSchema)]
struct EntryView {
    code: &'static str,
    severity: &'static str,
    summary: &'static str,
    meaning: &'static str,
    cause: &'static str,
    remedy: &'static str,
    by_hand: &'static str,
    clients: Vec<Saying>,
}

fn entries<S: Serializer>(all: &[&'static Entry], s: S) -> std::result::Result<S::Ok, S::Error> {
    s.collect_seq(all.iter().map(|e| EntryView {
        code: e.code.word(),
        severity: e.severity.word(),
        summary: e.summary,
        meaning: e.meaning,
        cause: e.cause,
        remedy: e.remedy,
        by_hand: e.by_hand,
        clients: messages(e.code).into_iter().map(|(client, code)| Saying { client, code }).collect(),
    }))
}

/// Every finding.
pub fn all() -> Report {
    Report { servers: None, findings: finding::entries().collect() }
}

/// A finding by its code, or what a line of a log means: the server's own words first, else what a client says.
///
/// Errors: a word that is neither.
pub fn explain(typed: &str) -> Result<Report> {
    if let Ok(code) = Code::from_str(typed.trim()) {
        return Ok(Report { servers: None, findings: vec![finding::entry(code)] });
    }
    let mut servers = recipe::known(typed);
    // Of several texts only the longest count: short ones are in too many lines to tell anything.
    let strongest = servers.first().map(|k| k.fault.text.len());
    servers.retain(|k| Some(k.fault.text.len()) >= strongest.map(|n| n / 2));
    let mut codes: Vec<Code> = servers.iter().filter_map(|k| k.fault.code).collect();
    let lower = client::java::said(typed).to_lowercase();
    for e in finding::entries() {
        let says = |s: &str| {
            let s = s.to_lowercase();
            // What stands before and after the name; short pieces are in too many lines to tell anything.
            let mut pieces = s.split("name").map(str::trim).filter(|p| p.len() > 8).peekable();
            pieces.peek().is_some() && pieces.all(|p| lower.contains(p))
        };
        if messages(e.code).iter().any(|(_, s)| says(s)) && !codes.contains(&e.code) {
            codes.push(e.code);
        }
    }
    codes.dedup();
    if servers.is_empty() && codes.is_empty() && !typed.trim().contains(' ') {
        return Err(Error::Word {
            what: "finding or text of a log",
            typed: typed.to_owned(),
            accepted: "a code that tamga explain lists, or a line that a server or client wrote, between quotes".into(),
        }
        .into());
    }
    Ok(Report { servers: Some(servers), findings: codes.into_iter().map(finding::entry).collect() })
}

/// The words in which each client refuses because of a finding.
pub fn messages(code: Code) -> Vec<(&'static str, String)> {
    let of = |c: Client| client::words(c, code).into_iter().map(move |said| (c.word(), said));
    Client::ALL.into_iter().flat_map(of).collect()
}
