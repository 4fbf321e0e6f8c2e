//! The certificates of the ledger, by page.

use crate::env::Env;
use crate::failure::Result;
use crate::report::{Listed, Request as Waiting};
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use tamga_core::error::Error;
use tamga_core::vocabulary::timestamp::{Span, Timestamp};
use tamga_host::ledger::{Filter, Page, Sort};

/// Upper bound on a pattern: a DNS name has at most 253 octets (RFC 1035 section 2.3.4), and a list must not take a minute.
const LONGEST_PATTERN: usize = 300;

/// Which certificates.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// Only those whose label or a name of which matches: `*` is any text, and without one the pattern may stand anywhere.
    pub pattern: Option<String>,
    /// Only those that have expired.
    pub expired: bool,
    /// Only those that were revoked.
    pub revoked: bool,
    /// Only those that expire within this time.
    pub due: Option<Span>,
    /// In which order.
    pub sort: Sort,
    /// One page; None for all of them.
    pub page: Option<Page>,
    /// As of this time instead of now.
    pub at: Option<Timestamp>,
}

impl Request {
    /// Refuses what no list can answer.
    ///
    /// Errors: a pattern that is longer than any name.
    pub fn check(&self) -> Result<()> {
        match &self.pattern {
            Some(p) if p.len() > LONGEST_PATTERN => Err(Error::Contradiction {
                what: format!("the pattern is longer than {LONGEST_PATTERN} octets"),
                why: "no label or name is that long".into(),
                instead: "type a part of a name, or a pattern such as *.buoys.*".into(),
            }
            .into()),
            _ => Ok(()),
        }
    }
}

/// The certificates.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// Those of the page, and on the first one the keys that wait.
    pub certificates: Vec<Row>,
    /// How many there are on all pages, without the keys that wait.
    pub total: usize,
    /// How many certificates of the ledger are in `certificates`.
    #[serde(skip)]
    pub shown: usize,
    /// True if the request asked for some only.
    #[serde(skip)]
    pub is_narrowed: bool,
}

/// A row.
#[derive(Debug)]
pub enum Row {
    /// A certificate.
    Certificate(Box<Listed>),
    /// A key that waits for its certificate.
    Waiting(Box<Waiting>),
}

crate::report::schema_as!(Row => Listed);

impl Serialize for Row {
    fn serialize<S: Serializer>(&self, s: S) -> std::result::Result<S::Ok, S::Error> {
        match self {
            Row::Certificate(c) => c.serialize(s),
            Row::Waiting(w) => w.serialize(s),
        }
    }
}

/// Lists certificates.
///
/// Errors: as for [`each`].
pub fn list(env: &Env, request: &Request) -> Result<Report> {
    let mut certificates = Vec::new();
    let counted = each(env, request, &mut |row| certificates.push(row))?;
    Ok(Report { certificates, total: counted.total, shown: counted.shown, is_narrowed: counted.is_narrowed })
}

/// What [`each`] counted.
#[derive(Clone, Copy, Debug, Default)]
pub struct Counted {
    /// How many certificates there are on all pages.
    pub total: usize,
    /// How many of them were handed out.
    pub shown: usize,
    /// True if the request asked for some only.
    pub is_narrowed: bool,
}

/// Hands out the rows as they are read, so that a million of them take no memory.
///
/// Errors: the ledger cannot be read; a pattern that is longer than any name.
pub fn each(env: &Env, request: &Request, row: &mut dyn FnMut(Row)) -> Result<Counted> {
    let now = request.at.unwrap_or(env.now);
    request.check()?;
    let filter = Filter {
        pattern: request.pattern.clone(),
        ended_by: request.expired.then_some(now),
        ending: request.due.map(|d| (now, now.plus(d.seconds()))),
        revoked: request.revoked,
    };
    let is_narrowed = request.expired || request.revoked || request.due.is_some() || request.pattern.is_some();
    let mut counted = Counted { is_narrowed, ..Counted::default() };
    let Some(ledger) = env.open_to_look()? else { return Ok(counted) };
    counted.total = ledger.summaries(&filter, request.sort, request.page, &mut |summary| {
        counted.shown += 1;
        row(Row::Certificate(Box::new(Listed { summary, now })));
    })?;
    if !is_narrowed && request.page.is_none_or(|p| p.number == 0) {
        for waiting in ledger.all_waiting()?.into_iter().filter(|w| !w.is_authority) {
            row(Row::Waiting(Box::new(Waiting { waiting, carried: None })));
        }
    }
    Ok(counted)
}
