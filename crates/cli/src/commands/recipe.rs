//! `tamga recipe [SERVER] [LABEL]`: what to put where for a server, and every step to the padlock.

use super::install_text;
use crate::args::Format;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::{human, wrap};
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use tamga_app::interact::Question;
use tamga_app::recipe::{self, Report, install};
use tamga_app::report::Outcome;
use tamga_core::deploy::export::Form;
use tamga_core::deploy::recipe::{ALL, FileLocation, GENERAL, Placement, Recipe, Setting, System, Tried, Written};
use tamga_core::error::Error;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::{self, Shown};

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga recipe nginx charts.saltmarsh.test --redirect\n          tamga recipe postgresql archive.saltmarsh.test --output archive.conf\n          sudo tamga recipe nginx charts.saltmarsh.test --install"
)]
pub(crate) struct RecipeArgs {
    /// The server; without it, all servers are listed
    #[arg(value_parser = values::AnyServerParser)]
    server: Option<values::AnyServer>,
    /// The certificate [default: the only one]
    label: Option<Label>,
    /// For which system the steps are [default: this one, or the only one that is known]
    #[arg(long, value_name = "SYSTEM", requires = "server", value_parser = values::word::<System>())]
    system: Option<System>,
    /// Write the configuration into this file; - is standard output
    #[arg(long, value_name = "FILE", requires = "server")]
    output: Option<PathBuf>,
    /// The port for TLS [default: the server's usual one]
    #[arg(long, value_name = "PORT", value_parser = clap::value_parser!(u16).range(1..))]
    port: Option<u16>,
    /// Where it listens [default: everywhere]
    #[arg(long, value_name = "ADDRESS")]
    address: Option<IpAddr>,
    /// Send plain HTTP to HTTPS, from port 80 or from --redirect=PORT
    #[arg(long, value_name = "PORT", num_args = 0..=1, require_equals = true, default_missing_value = "80",
          value_parser = clap::value_parser!(u16).range(1..))]
    redirect: Option<u16>,
    /// The oldest protocol version
    #[arg(long, value_name = "VERSION", default_value = "1.2", value_parser = ["1.2", "1.3"])]
    tls_minimum: String,
    /// Accept only clients with a certificate of this authority
    #[arg(long, value_name = "LABEL")]
    client_authority: Option<Label>,
    /// The account that reads the key [default: the server's usual one]
    #[arg(long, value_name = "ACCOUNT")]
    owner: Option<String>,
    /// The directory from which the server reads
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// Carry the steps out: show them, change the server's files, reload it, and undo all of it if it does not show the certificate
    #[arg(long, requires = "server", conflicts_with = "output")]
    install: bool,
    /// Take away what --install put there
    #[arg(long, requires = "label", conflicts_with_all = ["output", "install"])]
    uninstall: bool,
    /// With --install: write into the file system of an image, and run nothing
    #[arg(long, value_name = "DIR", requires = "install")]
    sysroot: Option<PathBuf>,
}

pub(crate) fn run(session: &Session, args: RecipeArgs) -> Result<Done> {
    if let Some(word) = args.server.as_ref().and_then(|s| s.unknown.as_deref()) {
        let near = text::nearest(word, ALL.iter().flat_map(|r| r.also.iter().chain([&r.id])).copied());
        let meant = near.map(|n| format!(" (did you mean {n}?)")).unwrap_or_default();
        let word = text::harmless(word);
        human::aside(&session.common, &format!("there is no recipe for {word}{meant}; this one is for any server"));
    }
    let config_only = args.output.as_deref() == Some(Path::new("-"));
    let request = recipe::Request {
        server: args.server.map(|s| s.recipe),
        system: args.system,
        label: args.label,
        output: args.output.filter(|_| !config_only),
        config_only,
        port: args.port,
        address: args.address,
        redirect: args.redirect,
        only_13: args.tls_minimum == "1.3",
        client_authority: args.client_authority,
        owner: args.owner,
        into: args.into,
    };
    let report = match (args.install, args.uninstall, request.server, &request.label) {
        (_, true, Some(server), Some(label)) => Report::Uninstalled(Box::new(install::remove(session, server, label)?)),
        (true, ..) => installed(session, &request, args.sysroot.as_deref())?,
        _ => recipe::recipe(session, &request)?,
    };
    let code = match &report {
        Report::Uninstalled(removed) => exit::of(removed.outcome()),
        _ => exit::of(Outcome::Good),
    };
    let text = match &report {
        Report::All => render_all(),
        Report::Facts(r) => render_facts(r),
        Report::Config(text) => {
            // The configuration is the answer, in whichever format.
            if session.common.format != Format::Text {
                human::as_it_is(text);
            }
            text.clone()
        }
        Report::Planned(r, output) => {
            format!("would write the configuration for {} into {}\n", r.id, output.shown())
        }
        Report::PlannedInstall(plan) => install_text::plan(plan, "would "),
        Report::Installed(done) => install_text::done(done),
        Report::Uninstalled(removed) => install_text::removed(removed),
        Report::Written(both, output) => render(&both.0, &both.1, output.as_deref()),
    };
    Ok(Done::report(text, &report).with_code(code))
}

/// Shows the plan, and carries it out if nobody objects.
fn installed(session: &Session, request: &recipe::Request, image: Option<&Path>) -> Result<Report> {
    let plan = install::plan(session, request, image)?;
    if session.dry_run {
        return Ok(Report::PlannedInstall(Box::new(plan)));
    }
    if !plan.is_done() {
        human::proposal(&session.common, &install_text::plan(&plan, ""));
        if session.caller.confirm(Question::Other("carry this out")) == Some(false) {
            return Err(Error::Declined { what: format!("setting {} up", plan.recipe.id) }.into());
        }
    }
    Ok(Report::Installed(Box::new(install::carry_out(session, plan)?)))
}

/// All recipes in one table.
fn render_all() -> String {
    let mut rows = vec![["server", "port", "form", "run here", "what"].map(human::dim).to_vec()];
    for r in ALL {
        rows.push(vec![
            human::strong(r.id),
            r.facts.port.to_string(),
            r.facts.form.word().to_owned(),
            match r.tried {
                Tried::Run(_) => human::good("yes"),
                Tried::Form(_) => human::dim("no"),
            },
            r.title.to_owned(),
        ]);
    }
    let next = "next   tamga recipe SERVER LABEL; to issue a suitable certificate: tamga issue NAME… --for SERVER\n";
    format!("{}{next}", human::table_with(&rows, human::Fit { expendable: &[3, 2], cut: None }))
}

/// One recipe without a certificate.
fn render_facts(r: &Recipe) -> String {
    let mut text = render_head(r, r.facts.system.unwrap_or(System::HERE));
    text.push_str(&format!("\n{}\n", human::strong("what its log shows when it fails")));
    for f in r.faults {
        text.push_str(&format!("  {}\n      {}\n  {}  {}\n", human::care(f.text), f.why, human::dim("do:"), f.remedy));
    }
    text.push_str(&format!("next   tamga recipe {} LABEL, with one of the labels that tamga list shows\n", r.id));
    text
}

fn render_head(r: &Recipe, system: System) -> String {
    let f = &r.facts;
    let keys: Vec<&str> = f.keys.iter().map(|k| k.word()).collect();
    let is_stored = system == System::Windows && f.form == Form::Pkcs12 && f.place == FileLocation::Issued;
    let reader = match f.owner {
        _ if is_stored => "the service, in the machine's store",
        "" => "the account that starts it",
        owner => owner,
    };
    let mode = match system {
        System::Windows => String::new(),
        System::Linux => format!(", mode {:04o}", f.mode),
    };
    let purposes: Vec<&str> = f.purposes.iter().map(|p| p.word()).collect();
    let mut text = format!("{} {}: {}\n", human::dim("recipe    "), human::strong(r.id), r.title);
    for (what, words) in [
        ("tested    ", r.tried.words()),
        ("key       ", format!("{}; read by {reader}{mode}", keys.join(" "))),
        ("files     ", format!("{}: {}", f.form.word(), f.chain)),
        ("purpose   ", purposes.join(", ")),
        ("passphrase", f.passphrase.to_owned()),
    ] {
        text.push_str(&format!("{} {words}\n", human::dim(what)));
    }
    text
}

/// Where exactly in the file, after its name.
fn place_words(w: &Written) -> String {
    match w.recipe.config.place {
        Placement::AtEnd => ", at its end".to_owned(),
        other => other.detail().map(|d| format!(", {d}")).unwrap_or_default(),
    }
}

fn render(w: &Written, s: &Setting, output: Option<&Path>) -> String {
    let mut text = render_head(w.recipe, s.system);
    let names: Vec<String> = s.names.iter().map(ToString::to_string).collect();
    text.push_str(&format!("{} {} ({})\n", human::dim("for       "), human::strong(&s.label), names.join(", ")));
    let mut number = 0;
    let mut step = |text: &mut String, what: &str, lines: &[String]| {
        number += 1;
        text.push_str(&format!("\n{} {what}\n", human::strong(&format!("{number:>2}"))));
        for line in lines {
            text.push_str(format!("     {line}").trim_end());
            text.push('\n');
        }
    };
    for work in &w.files {
        step(&mut text, &work.what, &work.lines);
    }
    match output {
        Some(file) => {
            let what = format!("{} {}, for: {}{}", human::good("written"), file.shown(), w.path, place_words(w));
            step(&mut text, &what, &[]);
        }
        None => {
            let lines: Vec<String> = w.config.trim_end().lines().map(str::to_owned).collect();
            let path = human::strong(&w.path);
            let what = match w.recipe.config.place {
                Placement::AtEnd => format!("add at the end of {path}"),
                Placement::Within(_) => format!("put into {path}{}", place_words(w)),
                Placement::Whole | Placement::Yours(_) => format!("write {path}{}", place_words(w)),
            };
            step(&mut text, &what, &lines);
        }
    }
    for work in &w.steps {
        step(&mut text, &work.what, &work.lines);
    }
    if !w.renewal.is_empty() {
        step(&mut text, "run this again after each renewal (tamga renew)", &w.renewal);
    }
    for remark in &w.remarks {
        // The rest is to be copied as it stands; this is to be read.
        text.push_str(&wrap::for_terminal(&format!("\n{}  {remark}\n", human::care("note")), &std::io::stdout()));
    }
    let knows = match w.recipe.id == GENERAL.id {
        true => String::new(),
        false => format!(" (it knows {} messages of {})", w.recipe.faults.len(), w.recipe.id),
    };
    text.push_str(&format!("\n{} tamga explain \"LINE OF THE LOG\"{knows}\n", human::dim("if it fails")));
    text
}
