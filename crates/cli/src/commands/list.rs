//! `tamga list`.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::Value;
use tamga_core::moment::{Moment, Span};
use tamga_core::report::Standing;
use tamga_host::ledger::{Filter, Page, Sort};

/// So many rows fit before a person has lost the heading.
const ROWS: usize = 100;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga list --due 30d --sort ends")]
pub(crate) struct ListArgs {
    /// Only those that have ended
    #[arg(long)]
    expired: bool,
    /// Only those that were revoked
    #[arg(long)]
    revoked: bool,
    /// Only those that end within this time
    #[arg(long, value_name = "SPAN", num_args = 0..=1, default_missing_value = "30d")]
    due: Option<String>,
    /// issued, label or ends
    #[arg(long, value_name = "ORDER", default_value = "issued")]
    sort: Order,
    /// One page of a hundred, counted from 1 [default: the first for a person, all for a program]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    page: Option<u32>,
    /// As of then, RFC 3339
    #[arg(long, value_name = "TIME")]
    at: Option<String>,
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum Order {
    Issued,
    Label,
    Ends,
}

pub(crate) fn run(session: &Session, args: &ListArgs) -> Result<Done> {
    let now = args.at.as_deref().map_or(Ok(session.now), Moment::parse)?;
    let due = args.due.as_deref().map(Span::parse).transpose()?;
    let filter = Filter {
        label: None,
        ended_by: args.expired.then_some(now),
        ending: due.map(|d| (now, now.plus(d.seconds()))),
        revoked: args.revoked,
    };
    let sort = match args.sort {
        Order::Issued => Sort::Issued,
        Order::Label => Sort::Label,
        Order::Ends => Sort::Ends,
    };
    let number = args.page.unwrap_or(1) as usize - 1;
    let whole = session.common.format == crate::args::Format::Json && args.page.is_none();
    let page = (!whole).then_some(Page { size: ROWS, number });
    let ((all, count), waiting) = match session.open_to_look()? {
        Some(ledger) => (ledger.page(&filter, sort, page)?, ledger.all_waiting()?),
        None => Default::default(),
    };
    let narrowed = args.expired || args.revoked || due.is_some();
    let waiting: Vec<_> = waiting.into_iter().filter(|w| !w.is_authority && !narrowed && number == 0).collect();
    if all.is_empty() && waiting.is_empty() {
        let text = match (count, narrowed) {
            (0, true) => "none\n".to_owned(),
            (0, false) => "nothing issued yet: tamga issue NAME, or everything at once: tamga setup\n".into(),
            (n, _) => format!("no such page: there are {} of them\n", n.div_ceil(ROWS)),
        };
        return Ok(Done::good(text, json!({"certificates": [], "total": count})));
    }
    let mut rows = vec![["label", "state", "ends", "days", "under", "names"].map(human::dim).to_vec()];
    for i in &all {
        let standing = i.standing(now);
        let state = match standing {
            Standing::Valid => human::good(standing.word()),
            Standing::EndsSoon => human::care(standing.word()),
            Standing::Expired | Standing::Revoked => human::bad(standing.word()),
            Standing::Superseded | Standing::Abandoned => human::dim(standing.word()),
        };
        let by = if i.certificate.is_self_issued() { "itself" } else { "elsewhere" };
        rows.push(vec![
            human::strong(&i.label),
            state,
            i.certificate.not_after.date(),
            i.certificate.not_after.days_after(now).to_string(),
            i.authority.clone().unwrap_or_else(|| by.into()),
            tamga_core::text::cut(&i.certificate.name_words().join(", "), 60),
        ]);
    }
    for w in &waiting {
        let names = tamga_core::text::cut(&w.csr.name_words().join(", "), 60);
        let blank = String::new;
        rows.push(vec![human::strong(&w.label), human::care("waiting"), blank(), blank(), blank(), names]);
    }
    let mut text = human::table(&rows);
    if count > all.len() {
        let pages = count.div_ceil(ROWS);
        text.push_str(&format!("page {} of {pages}, {count} in all; --page N shows another\n", number + 1));
    }
    let mut members: Vec<Value> = all.iter().map(|i| json::listed(i, now)).collect();
    members.extend(waiting.iter().map(json::waiting));
    Ok(Done::good(text, json!({"certificates": members, "total": count})))
}
