//! One file a command: its arguments, and the one function that does it.

pub(crate) mod apply;
pub(crate) mod authority;
pub(crate) mod check;
pub(crate) mod completions;
pub(crate) mod demo;
pub(crate) mod explain;
pub(crate) mod export;
pub(crate) mod hosts;
pub(crate) mod identity;
pub(crate) mod issue;
pub(crate) mod leave;
pub(crate) mod list;
pub(crate) mod manual;
pub(crate) mod pairs;
pub(crate) mod receive;
pub(crate) mod recipe;
pub(crate) mod renew;
pub(crate) mod repair;
pub(crate) mod request;
pub(crate) mod revoke;
pub(crate) mod schedule;
pub(crate) mod serve;
pub(crate) mod setup;
pub(crate) mod show;
pub(crate) mod sign;
pub(crate) mod status;
pub(crate) mod status_page;
pub(crate) mod target;
pub(crate) mod trust;

use crate::cli::Command;
use crate::exit::{Done, Result};
use crate::session::Session;

pub(crate) fn run(session: &Session, command: Command) -> Result<Done> {
    match command {
        Command::Demo(args) => demo::run(session, &args),
        Command::Setup(args) => setup::run(session, args),
        Command::Leave(args) => leave::run(session, &args),
        Command::Authority(command) => authority::run(session, command),
        Command::Issue(args) => issue::run(session, args),
        Command::Request(args) => request::run(session, args),
        Command::Sign(args) => sign::run(session, args),
        Command::Receive(args) => receive::run(session, &args),
        Command::Renew(args) => renew::run(session, &args),
        Command::Revoke(args) => revoke::run(session, &args),
        Command::List(args) => list::run(session, &args),
        Command::Show(args) => show::run(session, &args),
        Command::Match(args) => pairs::run(session, &args),
        Command::Export(args) => export::run(session, &args),
        Command::Recipe(args) => recipe::run(session, &args),
        Command::Hosts(command) => hosts::run(session, command),
        Command::Trust(command) => trust::run(session, command),
        Command::Identity(command) => identity::run(session, command),
        Command::Run(args) => trust::run_program(session, &args),
        Command::Check(args) => check::run(session, &args),
        Command::Explain(args) => explain::run(session, &args),
        Command::Serve(args) => serve::run(session, &args),
        Command::Apply(args) => apply::run(session, &args),
        Command::Schedule(args) => schedule::run(session, &args),
        Command::Status(args) => status::run(session, &args),
        Command::Repair(args) => repair::run(session, &args),
        Command::Manual(args) => manual::run(session, &args),
        Command::Completions(args) => Ok(completions::run(&args)),
    }
}
