//! `tamga move LABEL DIR`: a certificate's files in another directory.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::certificate::relocate::{self, Change, Request};
use tamga_app::report::Answer;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga move charts.saltmarsh.test /etc/ssl/charts")]
pub(crate) struct MoveArgs {
    /// The certificate's label
    label: Label,
    /// The directory itself; if the files are there already, Tamga takes note of it
    dir: PathBuf,
}

pub(crate) fn run(session: &Session, args: MoveArgs) -> Result<Done> {
    let report = relocate::relocate(session, &Request { label: args.label, into: args.dir })?;
    let text = match &report {
        Answer::Planned(p) => match p.done.change {
            Change::None => render(&p.done),
            Change::Moved => {
                format!("would move {} to {}\n", p.done.before.shown(), p.done.folder.shown())
            }
            Change::Adopted => format!("would record that {} is in {}\n", p.done.label, p.done.folder.shown()),
        },
        Answer::Done(done) => render(done),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &relocate::Done) -> String {
    let (label, folder, before) = (human::strong(&done.label), done.folder.shown(), done.before.shown());
    let next = "change the path in the configuration of a server that reads the old one, then reload it";
    match done.change {
        Change::None => format!("{label} is in {folder} already: nothing to do\n"),
        Change::Moved => {
            format!("{} {label} from {before}\nto    {folder}\nnext  {next}\n", human::good("moved"))
        }
        Change::Adopted => {
            format!(
                "{} {label} in {folder}: renewals go there, no longer to {before}\nnext  {next}\n",
                human::good("found")
            )
        }
    }
}
