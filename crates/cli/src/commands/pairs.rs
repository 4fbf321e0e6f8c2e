//! `tamga match PATH…`: which private key belongs to which certificate and request.

use crate::args::SecretArgs;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::certificate::pairs::{self, Report};
use tamga_core::ca::pairs::{Found, Group, Reach, reach};
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga match /etc/nginx ./charts.saltmarsh.test")]
pub(crate) struct MatchArgs {
    /// Files and directories
    #[arg(required = true, value_name = "PATH")]
    paths: Vec<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, args: MatchArgs) -> Result<Done> {
    let report = pairs::pairs(session, &pairs::Request { paths: args.paths, secret: args.secrets.into() })?;
    let text = render(&report);
    Ok(Done::report(text, &report).with_code(exit::of(report.outcome())))
}

fn render(report: &Report) -> String {
    let mut text = String::new();
    for g in report.ordered() {
        let verdict = match (g.is_pair(), g.keys.is_empty()) {
            (true, _) => human::good("belong together"),
            (false, true) => human::care("without its private key"),
            (false, false) => human::care("a private key alone"),
        };
        text.push_str(&format!(
            "{verdict} {}\n{}",
            human::dim(&format!("{} {}…", g.strength, &g.key.fingerprint()[..16])),
            render_group(report, g)
        ));
    }
    let above = report.groups.iter().filter(|g| !g.is_pair() && report.is_above(g)).count();
    if above > 0 {
        let what = if above == 1 {
            "certificate of an authority".into()
        } else {
            format!("certificates of {above} authorities")
        };
        text.push_str(&format!("{}\n", human::dim(&format!("and the {what}, without a key here"))));
    }
    for p in report.locked() {
        text.push_str(&format!(
            "{} {p}\n  {}  give its passphrase: --passphrase-file PATH\n",
            human::care("an encrypted key, not opened"),
            human::dim("do:")
        ));
    }
    for p in &report.unreadable {
        text.push_str(&format!("{} {}\n", human::dim("nothing of the kind in"), p.shown()));
    }
    if !report.has_pair() {
        text.push_str(&format!(
            "{}\n",
            human::bad("no match: no private key here belongs to any certificate or request")
        ));
    }
    text
}

fn render_group(report: &Report, g: &Group) -> String {
    let mut rows = Vec::new();
    for i in &g.keys {
        rows.push(vec![human::dim("private key"), report.path(*i)]);
    }
    for i in &g.certificates {
        let Found::Certificate(c) = &report.found[*i] else { continue };
        let word = match reach(c, &report.found) {
            Reach::Itself => "signed by itself",
            Reach::Root => "chain complete",
            Reach::Missing => "what signed it is not here",
        };
        rows.push(vec![human::dim("certificate"), report.path(*i), format!("{}, {word}", c.subject_words())]);
    }
    for i in &g.requests {
        let Found::Request(r) = &report.found[*i] else { continue };
        rows.push(vec![human::dim("request"), report.path(*i), r.subject_words()]);
    }
    human::table(&rows)
}
