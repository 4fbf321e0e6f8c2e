//! `tamga list`.

use crate::args::Format;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use serde::ser::SerializeSeq;
use serde::{Serialize, Serializer};
use std::cell::RefCell;
use tamga_app::certificate::list::{self, Counted, Report, Row};
use tamga_core::ca::report::Standing;
use tamga_core::vocabulary::text::cut;
use tamga_core::vocabulary::timestamp::Span;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::ledger::{Page, Sort};

/// So many rows fit before a person has lost the heading.
const ROWS: usize = 100;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga list --due 30d --sort ends")]
pub(crate) struct ListArgs {
    /// Only those whose label or names match: text that they contain, or a pattern with *
    #[arg(value_name = "PATTERN")]
    pattern: Option<String>,
    /// Only those that have expired
    #[arg(long)]
    expired: bool,
    /// Only those that were revoked
    #[arg(long)]
    revoked: bool,
    /// Only those that expire within this time
    #[arg(long, value_name = "SPAN", num_args = 0..=1, default_missing_value = "30d")]
    due: Option<Span>,
    /// Order of the rows
    #[arg(long, value_name = "ORDER", default_value = "issued")]
    sort: Order,
    /// One page of a hundred, counted from 1 [default: the first for a person, all for a program]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    page: Option<u32>,
    /// Evaluate as of then, RFC 3339
    #[arg(long, value_name = "TIME")]
    at: Option<Timestamp>,
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum Order {
    Issued,
    Label,
    Ends,
}

pub(crate) fn run(session: &Session, args: &ListArgs) -> Result<Done> {
    let number = args.page.unwrap_or(1) as usize - 1;
    let whole = session.common.format == Format::Json && args.page.is_none();
    let request = list::Request {
        pattern: args.pattern.clone(),
        expired: args.expired,
        revoked: args.revoked,
        due: args.due,
        sort: match args.sort {
            Order::Issued => Sort::Issued,
            Order::Label => Sort::Label,
            Order::Ends => Sort::Ends,
        },
        page: (!whole).then_some(Page { size: ROWS, number }),
        at: args.at,
    };
    if session.common.format == Format::Json {
        return stream(session, &request);
    }
    let report = list::list(session, &request)?;
    let text = match report.certificates.is_empty() {
        true => render_empty(&report),
        false => render(&report, request.at.unwrap_or(session.now), number),
    };
    Ok(Done::report(text, &report))
}

/// Bounds what a certificate of a thousand names puts into a row.
const LONGEST: usize = 300;

/// The object of the interface, whose rows are written as the ledger reads them.
#[derive(Serialize)]
struct Streamed<'a> {
    tamga: u8,
    command: &'static str,
    ok: bool,
    certificates: Rows<'a>,
    total: Total<'a>,
}

struct Rows<'a> {
    session: &'a Session,
    request: &'a list::Request,
    ended: &'a RefCell<Result<Counted>>,
}

/// It is known once the rows are written, which stand before it.
struct Total<'a>(&'a RefCell<Result<Counted>>);

impl Serialize for Rows<'_> {
    fn serialize<S: Serializer>(&self, s: S) -> std::result::Result<S::Ok, S::Error> {
        let mut rows = s.serialize_seq(None)?;
        let mut failed = None;
        let ended = list::each(self.session, self.request, &mut |row| {
            if failed.is_none() {
                failed = rows.serialize_element(&row).err();
            }
        });
        *self.ended.borrow_mut() = ended;
        failed.map_or_else(|| rows.end(), Err)
    }
}

impl Serialize for Total<'_> {
    fn serialize<S: Serializer>(&self, s: S) -> std::result::Result<S::Ok, S::Error> {
        self.0.borrow().as_ref().map_or(0, |c| c.total).serialize(s)
    }
}

fn stream(session: &Session, request: &list::Request) -> Result<Done> {
    // What cannot be listed is reported before anything is written.
    request.check()?;
    session.open_to_look()?;
    let ended = RefCell::new(Ok(Counted::default()));
    let certificates = Rows { session, request, ended: &ended };
    let whole = Streamed { tamga: 1, command: "list", ok: true, certificates, total: Total(&ended) };
    human::json_stream(&whole);
    ended.into_inner()?;
    Ok(Done::printed())
}

fn render_empty(report: &Report) -> String {
    match (report.total, report.is_narrowed) {
        (0, true) => "none\n".to_owned(),
        (0, false) => "nothing issued yet: tamga issue NAME, or everything at once: tamga setup\n".into(),
        (n, _) if n <= ROWS => "no such page: there is only one\n".to_owned(),
        (n, _) => format!("no such page: there are {}\n", n.div_ceil(ROWS)),
    }
}

fn render(report: &Report, now: Timestamp, number: usize) -> String {
    let mut rows = vec![["label", "state", "ends", "days", "under", "names"].map(human::dim).to_vec()];
    let names = |all: &[String]| cut(&all.join(", "), LONGEST);
    for row in &report.certificates {
        rows.push(match row {
            Row::Certificate(listed) => {
                let i = &listed.summary;
                let standing = i.standing(now);
                let state = match standing {
                    Standing::Valid => human::good(standing.word()),
                    Standing::EndsSoon => human::care(standing.word()),
                    Standing::Expired | Standing::Revoked => human::bad(standing.word()),
                    Standing::Superseded | Standing::Abandoned => human::dim(standing.word()),
                };
                let by = if i.is_self_issued { "itself" } else { "elsewhere" };
                vec![
                    human::strong(&i.label),
                    state,
                    i.not_after.date(),
                    i.not_after.days_after(now).to_string(),
                    i.authority.as_deref().unwrap_or(by).to_owned(),
                    names(&i.names),
                ]
            }
            Row::Waiting(w) => {
                let (w, blank) = (&w.waiting, String::new);
                let names = names(&w.csr.name_words());
                vec![human::strong(&w.label), human::care("waiting"), blank(), blank(), blank(), names]
            }
        });
    }
    // The names may be cut, then the authority, then the days go: a row is one line.
    let mut text = human::table_with(&rows, human::Fit { expendable: &[4, 3], cut: Some(5) });
    if report.total > report.shown {
        let pages = report.total.div_ceil(ROWS);
        text.push_str(&format!("page {} of {pages}, {} in all; --page N shows another\n", number + 1, report.total));
    }
    text
}
