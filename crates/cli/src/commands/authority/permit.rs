//! `tamga authority permit LABEL NAME|CIDR…`: the same authority with more names, swapped in the stores.

use crate::args::SecretArgs;
use crate::commands::parse;
use crate::commands::trust::render_rows;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::authority::permit;
use tamga_app::report::Answer;
use tamga_core::ca::authority::limits;
use tamga_core::vocabulary::label::Label;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority permit saltmarsh tides.example 203.0.113.0/24")]
pub(crate) struct PermitArgs {
    /// Which
    label: Label,
    /// Domains, names, addresses or blocks that it may certify from now on
    #[arg(required = true, value_name = "NAME|CIDR")]
    names: Vec<String>,
    /// A PEM bundle that the root was put into (repeatable)
    #[arg(long, value_name = "FILE")]
    bundle: Vec<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(super) fn run(session: &Session, args: PermitArgs) -> Result<Done> {
    let request = permit::Request {
        label: args.label,
        names: args.names,
        bundles: parse::absolute(&args.bundle),
        secret: args.secrets.into(),
    };
    let report = permit::permit(session, &request)?;
    Ok(match &report {
        Answer::Planned(p) => Done::report(render_plan(p), &report),
        Answer::Done(d) => Done::report(render(d), &report).with_code(exit::of(d.outcome())),
    })
}

fn render_plan(plan: &permit::Plan) -> String {
    match &plan.wider {
        None => format!("{} may certify all of these already\n", plan.label),
        Some(wider) => {
            format!("would reissue {} with the same key, for {wider}, and replace it in the stores\n", plan.label)
        }
    }
}

fn render(done: &permit::Done) -> String {
    let a = &done.authority;
    if !done.is_changed {
        return format!("{} may certify all of these already; nothing changed\n", a.label);
    }
    let mut text = format!(
        "{} {} with the same key: it may certify {}\n",
        human::good("reissued"),
        human::strong(&a.label),
        limits::briefly(&a.certificate)
    );
    text.push_str(
        "what it has signed stays valid; root.pem in certificate directories is the earlier one until they are renewed\n",
    );
    if done.rows.is_empty() {
        text.push_str("no store here held it; tamga trust add puts it into them\n");
    } else {
        text.push_str(&render_rows(&done.rows));
    }
    text
}
