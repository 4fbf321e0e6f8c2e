//! `tamga identity add|remove|status [LABEL]`: certificates with their keys in the stores from which browsers take their own.

use crate::args::SecretArgs;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use tamga_app::identity::{self, Request, Row, Verb};
use tamga_app::report::Outcome;
use tamga_app::trust::row::Change;
use tamga_core::stores::StoreId;
use tamga_core::stores::identity::State;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Subcommand)]
pub(crate) enum IdentityCommand {
    /// Add a certificate with its key to the browsers' stores
    #[command(after_help = "Example: tamga identity add operator.saltmarsh.test")]
    Add(IdentityArgs),
    /// Remove it, with its key
    Remove(IdentityArgs),
    /// List which identity is in which store
    Status(IdentityArgs),
}

#[derive(clap::Args)]
pub(crate) struct IdentityArgs {
    /// A certificate's label; without it the only one for clients (status: all of them)
    label: Option<Label>,
    /// Exactly these stores: chromium firefox macos-user windows-user windows-machine [default: the user's]
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = values::word::<StoreId>(), hide_possible_values = true)]
    stores: Vec<StoreId>,
    /// Also let this service's account read the key (Windows stores)
    #[arg(long, value_name = "NAME")]
    account: Option<String>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, command: IdentityCommand) -> Result<Done> {
    let (args, verb) = match command {
        IdentityCommand::Add(a) => (a, Verb::Add),
        IdentityCommand::Remove(a) => (a, Verb::Remove),
        IdentityCommand::Status(a) => (a, Verb::Status),
    };
    let request =
        Request { verb, label: args.label, stores: args.stores, account: args.account, secret: args.secrets.into() };
    let report = identity::identity(session, &request)?;
    let mut text = render(&report.rows);
    if report.rows.iter().any(|r| r.change == Change::Added) {
        text.push_str(
            "next: a server that asks is shown it; the browser lets you choose (running ones: after a restart)\n",
        );
    }
    Ok(Done::report(text, &report).with_code(exit::of(report.outcome())))
}

fn render(rows: &[Row]) -> String {
    if rows.is_empty() {
        return "no certificate for clients yet: tamga issue NAME --purpose client\n".into();
    }
    let changes = rows.iter().any(|r| r.change != Change::None);
    let columns = ["store", "identity", "SHA-256", "state", if changes { "change" } else { "" }, "place"];
    let mut cells = vec![columns.into_iter().filter(|c| !c.is_empty()).map(human::dim).collect::<Vec<_>>()];
    for r in rows {
        let state = match r.state {
            State::Present => human::good(r.state.word()),
            State::WithoutKey | State::Older => human::bad(r.state.word()),
            _ => human::dim(r.state.word()),
        };
        let change = match r.change {
            Change::Failed => human::bad(r.change.word()),
            Change::None => human::dim(r.change.word()),
            Change::Added | Change::Removed => human::good(r.change.word()),
        };
        let mut row = vec![human::strong(r.store.word()), r.label.to_string(), human::dim(r.sha256.short()), state];
        row.extend(changes.then_some(change));
        row.push(r.place.shown());
        cells.push(row);
    }
    let mut text = human::table_with(&cells, human::Fit { expendable: &[2], cut: None });
    for r in rows {
        if let Some(why) = &r.why {
            let mark = if r.outcome == Outcome::Good { human::dim("note") } else { human::bad("failed") };
            text.push_str(&format!("{mark} {}: {why}\n", r.store));
            if let Some(remedy) = &r.remedy {
                text.push_str(&format!("  {}  {remedy}\n", human::dim("do:")));
            }
        }
    }
    text
}
