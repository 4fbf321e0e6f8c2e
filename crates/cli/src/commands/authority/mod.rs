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
    /// Make a root limited to test names and private networks; with --issuer an intermediate
    Create(Box<create::CreateArgs>),
    /// List authorities
    List,
    /// Show one authority in full
    Show(list::ShowArgs),
    /// Permit more names: reissue it with the same key, and replace it in the stores
    Permit(permit::PermitArgs),
    /// Set, change or remove the passphrase of its key
    Passphrase(passphrase::PassphraseArgs),
    /// Sign its current revocation list
    Crl(crl::CrlArgs),
    /// Make an intermediate between two machines, step 1: its key and request, here
    Request(Box<request::RequestArgs>),
    /// Step 2: sign the request, on the isolated machine
    Sign(sign::SignArgs),
    /// Step 3: receive the signed certificate, here
    Receive(receive::ReceiveArgs),
    /// Move its key to a removable medium
    Offline(offline::OfflineArgs),
    /// Bring its key back
    Online(online::OnlineArgs),
    /// Import a CA that was made elsewhere
    Import(Box<import::ImportArgs>),
    /// Back up all authorities and the ledger into one encrypted file
    Backup(backup::BackupArgs),
    /// Restore a backup into an empty data directory
    Restore(restore::RestoreArgs),
    /// Make a successor to a root, each certified by the other
    Rollover(rollover::RolloverArgs),
    /// Retire an authority: sign its last list, remove it from the stores, keep its records
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
        AuthorityCommand::Import(args) => import::run(session, *args),
        AuthorityCommand::Backup(args) => backup::run(session, args),
        AuthorityCommand::Restore(args) => restore::run(session, args),
        AuthorityCommand::Rollover(args) => rollover::run(session, args),
        AuthorityCommand::Retire(args) => retire::run(session, args),
    }
}
