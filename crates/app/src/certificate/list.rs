//! The certificates of the ledger, by page.

use crate::env::Env;
use crate::failure::Result;
use crate::report::{Certificate, Listed, Request as Waiting};
use serde::{Serialize, Serializer};
use tamga_core::vocabulary::timestamp::{Span, Timestamp};
use tamga_host::ledger::{Filter, Page, Sort};

/// Which certificates.
#[derive(Clone, Copy, Debug)]
pub struct Request {
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

/// The certificates.
#[derive(Serialize)]
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
/// Errors: the ledger cannot be read.
pub fn list(env: &Env, request: &Request) -> Result<Report> {
    let now = request.at.unwrap_or(env.now);
    let filter = Filter {
        label: None,
        ended_by: request.expired.then_some(now),
        ending: request.due.map(|d| (now, now.plus(d.seconds()))),
        revoked: request.revoked,
    };
    let ((all, total), waiting) = match env.open_to_look()? {
        Some(ledger) => (ledger.page(&filter, request.sort, request.page)?, ledger.all_waiting()?),
        None => Default::default(),
    };
    let is_narrowed = request.expired || request.revoked || request.due.is_some();
    let with_waiting = !is_narrowed && request.page.is_none_or(|p| p.number == 0);
    let shown = all.len();
    let row = |i| Row::Certificate(Box::new(Listed { certificate: Certificate::with_all_files(i), now }));
    let waiting = waiting.into_iter().filter(|w| !w.is_authority && with_waiting);
    let waiting = waiting.map(|waiting| Row::Waiting(Box::new(Waiting { waiting, carried: None })));
    Ok(Report { certificates: all.into_iter().map(row).chain(waiting).collect(), total, shown, is_narrowed })
}
