//! `tamga check TARGET…`: would any client warn, why, and what to do.

pub(crate) mod many;
mod page;
mod report;
mod wire;

pub(crate) use report::outcome;
use tamga_core::vocabulary::timestamp::Timestamp;

use super::parse;
use crate::args::SecretArgs;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values::{self, OrAny};
use std::path::PathBuf;
use tamga_app::check::{self, Request, Terms};
use tamga_core::check::client::Client;
use tamga_core::pki::chain::revocation::Revocation;
use tamga_core::stores::InScope;
use tamga_core::vocabulary::purpose::JudgedPurpose;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga check https://charts.saltmarsh.test:8443 --observe")]
pub(crate) struct CheckArgs {
    // No doc comment: the brackets would be read as a link.
    #[arg(
        required_unless_present = "list",
        value_name = "TARGET",
        help = "https://HOST[:PORT], HOST:PORT, a file or directory, a label, or a host"
    )]
    targets: Vec<String>,
    /// Targets from a file, one a line
    #[arg(long, value_name = "FILE")]
    list: Option<PathBuf>,
    /// Targets to check in parallel, at most 256 [default: 8]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    jobs: Option<u16>,
    /// Clients to evaluate [default: standard and every client installed here]
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = values::word::<Client>())]
    clients: Vec<Client>,
    /// Count only clients whose stores are in this scope
    #[arg(long, default_value_t = InScope::Both, value_parser = values::word::<InScope>())]
    scope: InScope,
    /// Run the installed clients too, and compare
    #[arg(long)]
    observe: bool,
    /// Judge as the clients of these machines would, by what they trust there: a [[host]] of tamga.toml,
    /// ssh://[USER@]HOST[:PORT], container:NAME, or all. The connections are made from here
    #[arg(long, value_name = "HOST", value_delimiter = ',', conflicts_with_all = ["observe", "anchor", "scope", "account"])]
    on: Vec<String>,
    /// The file with the hosts [default: tamga.toml]
    #[arg(long, value_name = "FILE", requires = "on")]
    lab_file: Option<PathBuf>,
    /// Evaluate against these roots alone (repeatable)
    #[arg(long, value_name = "FILE")]
    anchor: Vec<PathBuf>,
    /// Further intermediates (repeatable)
    #[arg(long, value_name = "FILE")]
    intermediate: Vec<PathBuf>,
    /// A revocation list to honor, PEM or DER (repeatable)
    #[arg(long, value_name = "FILE")]
    crl: Vec<PathBuf>,
    /// How much revocation lists count
    #[arg(long, value_name = "HOW", default_value_t, value_parser = values::word::<Revocation>())]
    revocation: Revocation,
    /// For files: the name that a client would ask for (repeatable)
    #[arg(long, value_name = "NAME")]
    name: Vec<String>,
    /// Evaluate as of then, RFC 3339
    #[arg(long, value_name = "TIME")]
    at: Option<Timestamp>,
    /// What the certificate is used for
    #[arg(long, value_name = "PURPOSE", default_value = "server", value_parser = values::word_or_any::<JudgedPurpose>())]
    purpose: OrAny<JudgedPurpose>,
    /// Connect to NAME at this address (repeatable)
    #[arg(long, value_name = "NAME=ADDRESS")]
    resolve: Vec<String>,
    /// Present this certificate to servers that ask for one
    #[arg(long, value_name = "LABEL")]
    client_certificate: Option<String>,
    /// Write a self-contained HTML page of the results
    #[arg(long, value_name = "FILE.html")]
    report: Option<PathBuf>,
    /// Show what anyone on the network could read of this connection
    #[arg(long)]
    wire: bool,
    /// For files: could this account, by name or number, read the private key?
    #[arg(long, value_name = "ACCOUNT")]
    account: Option<String>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, args: CheckArgs) -> Result<Done> {
    let terms = Terms {
        clients: args.clients,
        scope: args.scope,
        anchors: args.anchor,
        intermediates: args.intermediate,
        lists: args.crl,
        revocation: args.revocation,
        names: parse::names(&args.name)?,
        at: args.at,
        purpose: args.purpose.0,
        resolve: args.resolve.iter().map(|r| Ok(values::name_and_address(r)?)).collect::<Result<_>>()?,
        client_certificate: args.client_certificate,
        wire: args.wire,
        account: args.account,
        secret: args.secrets.into(),
    };
    let mut targets = args.targets;
    if let Some(file) = &args.list {
        targets.extend(check::listed(session, file)?);
    }
    let jobs = args.jobs.map_or(8, usize::from).max(1);
    let hosts = parse::machines(session, &args.on, args.lab_file.as_deref())?;
    many::all(session, &Request { targets, jobs, observe: args.observe, terms }, &hosts, args.report.as_deref())
}
