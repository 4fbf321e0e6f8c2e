//! `tamga enrollment unit systemd`.

use super::serve::ServeArgs;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use tamga_app::service_unit::{self, Report, Request};
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(
    after_help = "Example: tamga enrollment unit systemd --install --listen 0.0.0.0:443 --name enroll.saltmarsh.test"
)]
pub(crate) struct UnitArgs {
    /// The manager that runs it
    #[arg(value_name = "MANAGER", value_parser = ["systemd"])]
    manager: String,
    /// Put it in place and start it (tamga leave takes it away)
    #[arg(long)]
    install: bool,
    #[command(flatten)]
    serve: ServeArgs,
}

pub(super) fn run(session: &Session, args: UnitArgs) -> Result<Done> {
    let request = Request {
        install: args.install,
        words: args.serve.words(),
        passphrase_file: args.serve.passphrase_file(),
        low_port: args.serve.listens_low(),
    };
    let report = service_unit::unit(session, &request)?;
    let text = match &report {
        Report::Part { place, text } => format!("# {}\n{text}", place.shown()),
        Report::Planned { steps, .. } => steps.iter().map(|l| format!("would {l}\n")).collect(),
        Report::Installed { place, .. } => format!(
            "{} {}: the service runs, and starts with the system; tamga leave takes it away\n",
            human::good("installed"),
            place.shown()
        ),
    };
    Ok(Done::report(text, &report))
}
