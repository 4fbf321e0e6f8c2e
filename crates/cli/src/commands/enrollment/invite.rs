//! `tamga enrollment invite`.

use crate::exit::{Done, Failure, Result};
use crate::session::Session;
use crate::words::human;
use std::io::{IsTerminal, Write};
use std::path::PathBuf;
use tamga_core::error::Error;
use tamga_core::vocabulary::timestamp::Span;
use tamga_enrollment::manage::{self, INVITATION_LIFE, Invite, Invited};

#[derive(clap::Args)]
#[command(
    after_help = "Example: tamga enrollment invite --output charts.invitation --names charts.saltmarsh.test --uses 1"
)]
pub(crate) struct InviteArgs {
    /// The file for the invitation (0600); - prints it [default: printed, at a terminal alone]
    #[arg(long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// Only for these names, each with what lies under it, and these address blocks [default: all that the service certifies]
    #[arg(long, value_name = "PATTERNS", value_delimiter = ',')]
    names: Vec<String>,
    /// How many accounts may come by it [default: any number]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    uses: Option<u32>,
    /// How long it can be used: m h d w y [default: 30d]
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<Span>,
    /// Write the service's directory into the file, for the client
    #[arg(long, value_name = "URL")]
    directory: Option<String>,
}

pub(super) fn run(session: &Session, args: InviteArgs) -> Result<Done> {
    let printed = args.output.as_deref().is_none_or(|o| o.as_os_str() == "-");
    // A key in a log of a pipeline is everybody's: so it is printed only where that was asked for, or where a person looks.
    if args.output.is_none() && !std::io::stdout().is_terminal() {
        return Err(Failure::from(Error::Contradiction {
            what: "the invitation was not printed".into(),
            why: "it holds a key, and the output is no terminal".into(),
            instead: "write it to a file of its own: --output FILE; or print it all the same: --output -".into(),
        }));
    }
    let request = Invite {
        output: args.output.filter(|_| !printed),
        names: args.names,
        uses: args.uses,
        valid_for: args.valid_for.unwrap_or(INVITATION_LIFE),
        directory: args.directory,
    };
    let invited = manage::invite(session, &request)?;
    if printed && !session.env.dry_run && session.common.format == crate::args::Format::Text {
        // The one secret that is ever echoed; past everything that might keep what is printed.
        let mut out = std::io::stdout().lock();
        out.write_all(invited.text.as_bytes()).and_then(|()| out.flush()).map_err(|source| {
            tamga_host::error::Error::File { doing: "writing to", path: "standard output".into(), source }
        })?;
    }
    Ok(Done::report(render(&invited, session.env.dry_run), &invited))
}

fn render(invited: &Invited, is_dry: bool) -> String {
    let i = &invited.invitation;
    let names = if i.names.is_empty() { "every name that the service certifies".into() } else { i.names.join(", ") };
    let uses = i.uses.map_or("any number of accounts".into(), |n| match n {
        1 => "one account".to_owned(),
        n => format!("{n} accounts"),
    });
    let end = i.ends.split('T').next().unwrap_or_default();
    if is_dry {
        return format!("would invite {uses} for {names}, until {end}\n");
    }
    let mut text = format!("{} {uses} for {names}, until {end}\n", human::good("invited"));
    if let Some(file) = &i.file {
        text.push_str(&format!(
            "in      {}: a key id and a key, for the client's settings (external account binding)\n        or for our own client: tamga issue NAME --from URL --invitation FILE\n",
            human::strong(file)
        ));
    }
    text
}
