//! A finding at length, and what a line of a log means.

use crate::failure::Result;
use crate::recipe::FaultView;
use crate::report::Outcome;
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::str::FromStr;
use tamga_core::check::client::{Client, java};
use tamga_core::check::messages::{self, Message};
use tamga_core::check::predict;
use tamga_core::deploy::recipe::{self, Known};
use tamga_core::error::Error;
use tamga_core::finding::{self, Code, Entry};
use tamga_core::vocabulary::text::nearest;
use tamga_core::vocabulary::word::Word;

/// What is explained.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// What TLS libraries mean by the line, the most likely first.
    #[serde(serialize_with = "libraries", skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<Vec<MessageView>>")]
    pub messages: Option<Vec<Message>>,
    /// Error texts of servers.
    #[serde(serialize_with = "servers", skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<Vec<KnownView>>")]
    pub servers: Option<Vec<Known>>,
    /// Servers that write this line when all is well.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub success: Vec<&'static str>,
    /// Findings.
    #[serde(serialize_with = "entries")]
    #[schemars(with = "Vec<EntryView>")]
    pub findings: Vec<&'static Entry>,
    /// True if the server's text says more about the line than the library's.
    #[serde(skip)]
    pub is_of_server: bool,
}

impl Report {
    /// Bad if a line of a log means nothing that is known.
    pub fn outcome(&self) -> Outcome {
        let is_known = !self.findings.is_empty() || self.messages.as_ref().is_some_and(|m| !m.is_empty());
        let known = is_known || !self.success.is_empty() || self.servers.as_ref().is_none_or(|s| !s.is_empty());
        if known { Outcome::Good } else { Outcome::Bad }
    }
}

#[derive(Serialize, JsonSchema)]
struct MessageView {
    library: &'static str,
    text: &'static str,
    code: &'static str,
    summary: &'static str,
    remedy: &'static str,
}

fn libraries<S: Serializer>(all: &Option<Vec<Message>>, s: S) -> std::result::Result<S::Ok, S::Error> {
    s.collect_seq(all.iter().flatten().map(|m| {
        let entry = finding::entry(m.code);
        MessageView {
            library: m.library.word(),
            text: m.text,
            code: m.code.word(),
            summary: m.says.unwrap_or(entry.summary),
            remedy: entry.remedy,
        }
    }))
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
        clients: said_by(e.code).into_iter().map(|(client, code)| Saying { client, code }).collect(),
    }))
}

/// Every finding.
pub fn all() -> Report {
    Report {
        messages: None,
        servers: None,
        success: Vec::new(),
        is_of_server: false,
        findings: finding::entries().collect(),
    }
}

/// A finding by its code, or what a line of a log means: by TLS library first, then by server, then by what a client says.
///
/// Errors: a word that is neither.
pub fn explain(typed: &str) -> Result<Report> {
    if let Ok(code) = Code::from_str(typed.trim()) {
        return Ok(Report {
            messages: None,
            servers: None,
            success: Vec::new(),
            is_of_server: false,
            findings: vec![finding::entry(code)],
        });
    }
    let messages = messages::recognize(typed);
    let mut servers = recipe::known(typed);
    // Of several texts only the longest count: short ones are in too many lines to tell anything.
    let strongest = servers.first().map(|k| k.fault.text.len());
    servers.retain(|k| Some(k.fault.text.len()) >= strongest.map(|n| n / 2));
    // What a server writes says more than the library below it only where the server's text has more words.
    let general = messages.first().map_or(0, |m| m.text.len());
    let is_more = servers.iter().any(|k| k.fault.text.len() > general + 4);
    let mut codes: Vec<Code> = messages.iter().map(|m| m.code).collect();
    codes.extend(servers.iter().filter_map(|k| k.fault.code));
    let lower = java::said(typed).to_lowercase();
    for e in finding::entries() {
        let says = |s: &str| {
            let s = s.to_lowercase();
            // What stands before and after the name; short pieces are in too many lines to tell anything.
            let mut pieces = s.split("name").map(str::trim).filter(|p| p.len() > 8).peekable();
            pieces.peek().is_some() && pieces.all(|p| lower.contains(p))
        };
        if messages.is_empty() && said_by(e.code).iter().any(|(_, s)| says(s)) && !codes.contains(&e.code) {
            codes.push(e.code);
        }
    }
    let mut seen = Vec::new();
    codes.retain(|c| {
        !seen.contains(c) && {
            seen.push(*c);
            true
        }
    });
    let success: Vec<&str> = match servers.is_empty() && codes.is_empty() {
        true => recipe::succeeded(typed).iter().map(|r| r.id).collect(),
        false => Vec::new(),
    };
    if servers.is_empty() && codes.is_empty() && success.is_empty() && !typed.trim().contains(' ') {
        let near = nearest(typed.trim(), Code::VALUES.iter().map(|c| c.word()));
        return Err(Error::Contradiction {
            what: format!("invalid finding or line of a log {typed:?}"),
            why: "expected: a code that tamga explain lists, or a line that a server or client wrote, between quotes"
                .into(),
            instead: match near {
                Some(near) => format!("did you mean {near}?"),
                None => "tamga explain lists the codes".into(),
            },
        }
        .into());
    }
    Ok(Report {
        messages: Some(messages),
        servers: Some(servers),
        success,
        is_of_server: is_more,
        findings: codes.into_iter().map(finding::entry).collect(),
    })
}

/// The words in which each client refuses because of a finding.
pub fn said_by(code: Code) -> Vec<(&'static str, String)> {
    let of = |c: Client| predict::words(c, code).into_iter().map(move |said| (c.word(), said));
    Client::ALL.into_iter().flat_map(of).collect()
}
