//! `tamga authority …`: the life of a small CA, one file a command.

mod backup;
mod create;
mod crl;
mod import;
mod list;
mod offline;
mod online;
mod passphrase;
mod permit;
mod receive;
mod request;
mod restore;
mod retire;
mod rollover;
mod sign;

pub(crate) use list::in_full;

use crate::exit::{Done, Result};
use crate::session::Session;

#[derive(clap::Subcommand)]
pub(crate) enum AuthorityCommand {
    /// A root of your own, limited to names for tests and private networks; with --issuer an intermediate
    Create(Box<create::CreateArgs>),
    /// Every authority
    List,
    /// One in full
    Show(list::ShowArgs),
    /// Let it certify more names: made anew with the same key, and swapped in the stores
    Permit(permit::PermitArgs),
    /// Change, set or remove the passphrase of its key
    Passphrase(passphrase::PassphraseArgs),
    /// Sign its current revocation list
    Crl(crl::CrlArgs),
    /// An intermediate between two machines, 1: key and request, here
    Request(Box<request::RequestArgs>),
    /// 2: sign the request, on the isolated machine
    Sign(sign::SignArgs),
    /// 3: take the signed certificate back, here
    Receive(receive::ReceiveArgs),
    /// Take its key away to a removable place
    Offline(offline::OfflineArgs),
    /// Bring the key back
    Online(online::OnlineArgs),
    /// Take in a CA that was made elsewhere
    Import(import::ImportArgs),
    /// All authorities and the ledger in one encrypted file
    Backup(backup::BackupArgs),
    /// Such a file into an empty data folder
    Restore(restore::RestoreArgs),
    /// A successor beside an old root, each certified by the other
    Rollover(rollover::RolloverArgs),
    /// The end of one: last list, out of the stores; its records stay
    Retire(retire::RetireArgs),
}

pub(crate) fn run(session: &Session, command: AuthorityCommand) -> Result<Done> {
    match command {
        AuthorityCommand::Create(args) => create::run(session, *args),
        AuthorityCommand::List => list::run(session),
        AuthorityCommand::Show(args) => list::show(session, &args),
        AuthorityCommand::Permit(args) => permit::run(session, args),
        AuthorityCommand::Passphrase(args) => passphrase::run(session, args),
        AuthorityCommand::Crl(args) => crl::run(session, args),
        AuthorityCommand::Request(args) => request::run(session, *args),
        AuthorityCommand::Sign(args) => sign::run(session, args),
        AuthorityCommand::Receive(args) => receive::run(session, args),
        AuthorityCommand::Offline(args) => offline::run(session, args),
        AuthorityCommand::Online(args) => online::run(session, args),
        AuthorityCommand::Import(args) => import::run(session, args),
        AuthorityCommand::Backup(args) => backup::run(session, args),
        AuthorityCommand::Restore(args) => restore::run(session, args),
        AuthorityCommand::Rollover(args) => rollover::run(session, args),
        AuthorityCommand::Retire(args) => retire::run(session, args),
    }
}
