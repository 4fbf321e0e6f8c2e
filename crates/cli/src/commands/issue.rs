//! `tamga issue NAME…` and `tamga issue --list FILE`.

use super::{export, parse};
use crate::args::{NewSecretArgs, SecretArgs, SubjectArgs};
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::certificate::Signer;
use tamga_app::certificate::issue::{self, Issuer, Terms};
use tamga_app::certificate::issue_list;
use tamga_app::enroll;
use tamga_app::report::Answer;
use tamga_core::ca::list_file;
use tamga_core::ca::renew;
use tamga_core::deploy::export::Form;
use tamga_core::deploy::recipe::Recipe;
use tamga_core::finding::Code;
use tamga_core::finding::Finding;
use tamga_core::pki::cert::profile::Links;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Span;
use tamga_core::vocabulary::timestamp::Timestamp;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga issue charts.saltmarsh.test 10.0.0.7 --into tls")]
pub(crate) struct IssueArgs {
    /// Host names, IP addresses, mailboxes; of a web address its host
    #[arg(required_unless_present = "list", value_name = "NAME")]
    names: Vec<String>,
    /// Issue many: a file with the names of one on each line
    #[arg(long, value_name = "FILE", conflicts_with_all = ["names", "label", "key_file"])]
    list: Option<PathBuf>,
    /// The authority that signs, where there are several
    #[arg(long, value_name = "LABEL")]
    issuer: Option<Label>,
    /// Issue without an authority; every client must trust it by itself
    #[arg(long, conflicts_with = "issuer")]
    self_signed: bool,
    /// Sign with a new root whose key is never written anywhere
    #[arg(long, conflicts_with_all = ["issuer", "self_signed"])]
    single_use_root: bool,
    /// Its label [default: from the first name]
    #[arg(long, value_name = "TEXT")]
    label: Option<Label>,
    /// Directory for its files [default: ./LABEL]; with --list their parent
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// Take purposes, key kind, validity and issuer from this certificate
    #[arg(long, value_name = "LABEL")]
    like: Option<String>,
    /// Choose key kind, purposes and form for this server
    #[arg(long = "for", value_name = "SERVER", conflicts_with_all = ["list", "like"], value_parser = values::server(), hide_possible_values = true, ignore_case = true)]
    server: Option<&'static Recipe>,
    /// Use this private key instead of a new one
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
    /// How long it is valid: m h d w y [default: 397d]
    #[arg(long, value_name = "SPAN", conflicts_with = "not_after")]
    valid_for: Option<Span>,
    /// Valid from, RFC 3339
    #[arg(long, value_name = "TIME")]
    not_before: Option<Timestamp>,
    /// Valid until, RFC 3339
    #[arg(long, value_name = "TIME")]
    not_after: Option<Timestamp>,
    /// p256, p384, p521, ed25519, rsa2048, rsa3072, rsa4096 [default: p256]
    #[arg(long, value_name = "KIND", conflicts_with = "key_file", value_parser = values::word::<KeyAlgorithm>(), hide_possible_values = true)]
    key_algorithm: Option<KeyAlgorithm>,
    /// server, client, mail, code [default: server]
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = values::word::<Purpose>(), hide_possible_values = true)]
    purpose: Vec<Purpose>,
    /// Where clients find the authority's revocation list
    #[arg(long, value_name = "URL")]
    crl_url: Option<String>,
    /// Where clients find the authority's certificate
    #[arg(long, value_name = "URL")]
    issuer_url: Option<String>,
    /// Lift exactly this finding (repeatable)
    #[arg(long, value_name = "CODE", value_parser = values::word::<Code>(), hide_possible_values = true)]
    accept: Vec<Code>,
    #[command(flatten)]
    from: Box<super::issue_from::FromArgs>,
    #[command(flatten)]
    subject: SubjectArgs,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: NewSecretArgs,
}

pub(crate) fn run(session: &Session, args: IssueArgs) -> Result<Done> {
    let of_service = || {
        Ok(enroll::Request {
            names: parse::names(&args.names)?,
            label: args.label.clone(),
            into: args.into.clone(),
            key_algorithm: args.key_algorithm,
            secret: args.secrets.clone().into(),
            new_secret: args.new_secrets.clone().into(),
            ..enroll::Request::default()
        })
    };
    if let Some(done) = super::issue_from::run(session, &args.from, of_service)? {
        return Ok(done);
    }
    let server = args.server;
    let terms = Terms {
        issuer: match (args.self_signed, args.single_use_root, args.issuer) {
            (true, ..) => Issuer::Itself,
            (_, true, _) => Issuer::SingleUseRoot,
            (.., Some(label)) => Issuer::Named(label),
            (.., None) => Issuer::Default,
        },
        like: args.like,
        server,
        purposes: parse::distinct(args.purpose),
        key_algorithm: args.key_algorithm,
        valid_for: args.valid_for,
        not_before: args.not_before,
        not_after: args.not_after,
        subject: args.subject.into(),
        links: Links { crl: args.crl_url, issuer: args.issuer_url, ocsp: None },
        accepted: args.accept,
    };
    let (secret, new_secret) = (args.secrets.into(), args.new_secrets.into());
    if let Some(file) = &args.list {
        let text = session.disk().read_named_text(file)?;
        let entries = list_file::read(&text, &file.shown())?;
        let request = issue_list::Request { entries, into: args.into, terms, secret, new_secret };
        let report = issue_list::issue_list(session, &request)?;
        return Ok(Done::report(render_list(&report), &report));
    }
    let request = issue::Request {
        names: parse::names(&args.names)?,
        label: args.label,
        into: args.into,
        key_file: args.key_file,
        terms,
        secret,
        new_secret,
    };
    let report = issue::issue(session, &request)?;
    let text = match &report {
        Answer::Done(done) => render_done(done, server),
        Answer::Planned(plan) => render_plan(plan),
    };
    Ok(Done::report(text, &report))
}

fn render_plan(plan: &issue::Plan) -> String {
    let by = match (&plan.issuer, &plan.authority) {
        (_, Some(label)) => format!("under {label}"),
        (Issuer::SingleUseRoot, _) => "under a root for it alone".to_owned(),
        _ => "signed by itself".to_owned(),
    };
    let names: Vec<String> = plan.names.iter().map(ToString::to_string).collect();
    format!("would issue {} for {} {by} into {}\n", plan.label, names.join(", "), plan.directory.shown())
}

/// Three lines: what, where, what next.
fn render_done(done: &issue::Done, server: Option<&Recipe>) -> String {
    let [certificate] = &done.certificates;
    let issued = &certificate.issued;
    let c = &issued.certificate;
    let by = issued.authority.as_ref().map_or("signed by itself".into(), |a| format!("under {a}"));
    let mut text = format!(
        "{} {} for {}, {by}, until {}\n",
        human::good("issued"),
        human::strong(&issued.label),
        c.name_words().join(", "),
        c.not_after.date()
    );
    text.push_str(&format!(
        "in     {}: certificate.pem, private-key.pem (readable by you alone), root.pem\n",
        issued.folder.shown()
    ));
    let next = match done.signer.authority() {
        Some(_) if !renew::purposes_of(c).contains(&Purpose::Server) => {
            let (who, where_) = match renew::purposes_of(c).as_slice() {
                [Purpose::Client] => ("the client program", "the server that asks for it"),
                _ => ("the program that signs with them", "the programs that check its signatures"),
            };
            format!("give the first two files to {who}, and root.pem to {where_}")
        }
        Some(a) => format!(
            "tamga trust add {}, then give the first two files to the server, or: tamga serve {}",
            a.root_label, issued.label
        ),
        None => "put root.pem into each client's store, and give the first two files to the server".into(),
    };
    if server.is_none() {
        text.push_str(&format!("next   {next}\n"));
    }
    text.push_str(&human::findings(&done.findings));
    if let Signer::SingleUse(root, _) = &done.signer {
        text.push_str(&render_single_use(&root.label));
    }
    text.push_str(&render_form(done.form.as_ref(), server, &issued.label));
    text
}

/// The file in the server's own form, and what comes next.
pub(crate) fn render_form(
    form: Option<&tamga_app::recipe::form::Report>,
    server: Option<&Recipe>,
    label: &str,
) -> String {
    let Some(server) = server else { return String::new() };
    let mut written = form.map(|f| export::render_file(&f.export)).unwrap_or_default();
    if let Some(leaf) = form.filter(|f| f.export.form == Form::Pkcs12).and_then(|f| f.export.chain.first()) {
        written.push_str(&format!("{} {}, the thumbprint that Windows shows\n", human::dim("SHA-1  "), leaf.sha1()));
    }
    if let Some(file) = form.and_then(|f| f.passphrase_file.as_ref()) {
        let file = file.shown();
        written.push_str(&format!("{} its passphrase is in {file} (readable by you alone)\n", human::dim("note   ")));
    }
    format!("{written}{}   tamga recipe {} {label}\n", human::dim("next"), server.id)
}

fn render_list(report: &issue_list::Report) -> String {
    let done = match report {
        Answer::Done(done) => done,
        Answer::Planned(plan) => {
            return format!("would issue {} certificates into directories below {}\n", plan.count, plan.parent.shown());
        }
    };
    let mut text = format!(
        "{} {} certificates into directories below {}\n",
        human::good("issued"),
        done.certificates.len(),
        done.parent.shown()
    );
    if done.unchanged > 0 {
        text.push_str(&format!(
            "{} {} stood already with the same names and were left as they are\n",
            human::dim("note  "),
            done.unchanged
        ));
    }
    let mut kinds: Vec<(&Finding, usize)> = Vec::new();
    for f in &done.findings {
        match kinds.iter_mut().find(|(k, _)| k.code == f.code) {
            Some((_, n)) => *n += 1,
            None => kinds.push((f, 1)),
        }
    }
    for (f, n) in kinds {
        let among = if n > 1 { format!(" (and {} more of this kind)", n - 1) } else { String::new() };
        text.push_str(&format!("{} {}{among}\n", human::dim("note  "), f.summary));
    }
    if let Some(label) = &done.single_use_root {
        text.push_str(&render_single_use(label));
    }
    text.push_str("next   tamga list shows them; tamga trust add puts their root into the stores\n");
    text
}

/// What a person must know of a root whose key is gone.
fn render_single_use(label: &str) -> String {
    format!(
        "{} the key of its root {label} was never written to disk and no longer exists: nothing more can be issued, renewed or revoked under it;\n       the private keys of the certificates remain, and anyone who has one can impersonate its names until it expires\n",
        human::care("note")
    )
}
