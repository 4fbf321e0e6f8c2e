//! `tamga enrollment`: certificates over the network, for servers that get and renew them by themselves.

mod accounts;
mod invite;
pub(crate) mod serve;
mod unit;

use crate::exit::{Done, Result};
use crate::session::Session;
use clap::Subcommand;

#[derive(Subcommand)]
pub(crate) enum EnrollmentCommand {
    /// Run the service: servers prove their names and fetch certificates (RFC 8555)
    Serve(serve::ServeArgs),
    /// Invite clients: write a key id and a key for their settings
    Invite(invite::InviteArgs),
    /// List accounts, show one, or block one
    Accounts(accounts::AccountsArgs),
    /// Print or install the unit by which systemd runs the service
    Unit(unit::UnitArgs),
}

pub(crate) fn run(session: &Session, command: EnrollmentCommand) -> Result<Done> {
    match command {
        EnrollmentCommand::Serve(args) => serve::run(session, args),
        EnrollmentCommand::Invite(args) => invite::run(session, args),
        EnrollmentCommand::Accounts(args) => accounts::run(session, args),
        EnrollmentCommand::Unit(args) => unit::run(session, args),
    }
}
