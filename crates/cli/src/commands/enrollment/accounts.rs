//! `tamga enrollment accounts [list|show ID|block ID]`.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use clap::Subcommand;
use tamga_enrollment::manage::{self, AccountView};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga enrollment accounts block 3")]
pub(crate) struct AccountsArgs {
    #[command(subcommand)]
    command: Option<AccountsCommand>,
}

#[derive(Subcommand)]
enum AccountsCommand {
    /// List accounts (this is what happens without a word)
    List,
    /// Show one account
    Show {
        /// Its number
        id: i64,
    },
    /// Block one: it can order nothing more; its certificates stay valid until they are revoked
    Block {
        /// Its number
        id: i64,
    },
}

pub(super) fn run(session: &Session, args: AccountsArgs) -> Result<Done> {
    match args.command {
        None | Some(AccountsCommand::List) => {
            let report = manage::accounts(session, None)?;
            let text = match report.accounts.as_slice() {
                [] => "no account yet: clients make theirs when they first ask for a certificate\n".into(),
                all => list(all),
            };
            Ok(Done::report(text, &report))
        }
        Some(AccountsCommand::Show { id }) => {
            let report = manage::accounts(session, Some(id))?;
            Ok(Done::report(report.accounts.iter().map(in_full).collect(), &report))
        }
        Some(AccountsCommand::Block { id }) => {
            let report = manage::block(session, id)?;
            let verb = if session.env.dry_run { "would block".into() } else { human::good("blocked") };
            let text = format!(
                "{verb} account {id}; revoke what it has, if it must not be trusted: tamga list, tamga revoke LABEL\n"
            );
            Ok(Done::report(text, &report))
        }
    }
}

fn state(a: &AccountView) -> String {
    match a.state {
        "valid" => human::good("valid"),
        "revoked" => human::bad("blocked"),
        other => human::dim(other),
    }
}

fn day(time: &str) -> String {
    time.split('T').next().unwrap_or_default().to_owned()
}

fn list(all: &[AccountView]) -> String {
    let mut rows = vec![["account", "state", "since", "certificates", "latest", "contact"].map(human::dim).to_vec()];
    for a in all {
        let latest = match &a.latest {
            Some(at) => format!("{} {}", day(at), a.names.join(", ")),
            None => human::dim("none"),
        };
        rows.push(vec![
            human::strong(&a.id.to_string()),
            state(a),
            day(&a.made_at),
            a.certificates.to_string(),
            latest,
            a.contact.join(", ").replace("mailto:", ""),
        ]);
    }
    human::table(&rows)
}

fn in_full(a: &AccountView) -> String {
    let mut rows = vec![
        vec![human::dim("account"), human::strong(&a.id.to_string())],
        vec![human::dim("state"), state(a)],
        vec![human::dim("since"), a.made_at.clone()],
        vec![human::dim("key"), format!("{} (thumbprint)", a.thumbprint)],
        vec![
            human::dim("invited by"),
            a.invitation.clone().unwrap_or_else(|| human::dim("nobody: the service was open")),
        ],
        vec![human::dim("certificates"), a.certificates.to_string()],
    ];
    if let Some(at) = &a.latest {
        rows.push(vec![human::dim("latest"), format!("{at} {}", a.names.join(", "))]);
    }
    for c in &a.contact {
        rows.push(vec![human::dim("contact"), c.clone()]);
    }
    human::table(&rows)
}
