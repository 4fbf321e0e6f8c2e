//! `tamga authority create LABEL`: a root, or an intermediate under another authority.

use crate::args::{AuthoritySecretArgs, SecretArgs, SubjectArgs, TokenArgs};
use crate::commands::parse;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use tamga_app::authority::create;
use tamga_app::report::Answer;
use tamga_app::secret::AuthoritySecret;
use tamga_core::ca::authority::create::Request;
use tamga_core::ca::authority::limits::{Wanted, briefly};
use tamga_core::ca::report::KeyPlace;
use tamga_core::pki::cert::profile::Links;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Span;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority create saltmarsh --permit tides.example")]
pub(crate) struct CreateArgs {
    /// Its label
    label: Label,
    /// Make an intermediate under this authority
    #[arg(long, value_name = "LABEL")]
    issuer: Option<Label>,
    /// Domains, addresses or blocks that it may certify besides the usual ones
    #[arg(long, value_name = "NAME|CIDR", value_delimiter = ',')]
    permit: Vec<String>,
    /// Set no limits: a stolen key can then impersonate any site
    #[arg(long, conflicts_with = "permit")]
    permit_any: bool,
    /// How many intermediates may follow below it
    #[arg(long, value_name = "N")]
    path_length: Option<u8>,
    /// How long it is valid [default: 3650d, an intermediate 1825d]
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<Span>,
    /// p256, p384, p521, ed25519, rsa2048, rsa3072, rsa4096 [default: p256]
    #[arg(long, value_name = "KIND", value_parser = values::word::<KeyAlgorithm>(), hide_possible_values = true)]
    key_algorithm: Option<KeyAlgorithm>,
    /// server, client, mail, code [default: server,client]
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = values::word::<Purpose>(), hide_possible_values = true)]
    purpose: Vec<Purpose>,
    /// URL of its revocation list, written into what it issues
    #[arg(long, value_name = "URL")]
    crl_url: Option<String>,
    /// URL of its certificate, written into what it issues
    #[arg(long, value_name = "URL")]
    issuer_url: Option<String>,
    #[command(flatten)]
    subject: SubjectArgs,
    #[command(flatten)]
    token: TokenArgs,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: AuthoritySecretArgs,
}

/// What an authority may issue for, if nothing is typed: for servers and clients.
pub(super) fn purposes(typed: Vec<Purpose>) -> Vec<Purpose> {
    if typed.is_empty() { vec![Purpose::Server, Purpose::Client] } else { parse::distinct(typed) }
}

pub(super) fn run(session: &Session, args: CreateArgs) -> Result<Done> {
    let any = args.permit_any;
    let token = args.token.named(&args.secrets, &args.new_secrets.new);
    // The PIN of a token encrypts nothing.
    let new_secret = if token.is_some() { AuthoritySecret::default() } else { args.new_secrets.into() };
    let request = create::Request {
        authority: Request {
            label: args.label,
            subject: args.subject.into(),
            wanted: Wanted { permit: args.permit, any },
            path_length: args.path_length,
            valid_for: args.valid_for,
            purposes: purposes(args.purpose),
            links: Links { crl: args.crl_url, issuer: args.issuer_url, ocsp: None },
            own_links: None,
        },
        issuer: args.issuer,
        key_algorithm: args.key_algorithm,
        secret: args.secrets.into(),
        token,
        new_secret,
    };
    let report = create::create(session, &request)?;
    let text = match &report {
        Answer::Planned(plan) => render_plan(plan),
        Answer::Done(done) => render(done, any),
    };
    Ok(Done::report(text, &report))
}

fn render_plan(plan: &create::Plan) -> String {
    let what = match &plan.issuer {
        Some(issuer) => format!("would make the intermediate {} under {issuer}", plan.label),
        None => format!("would make the root {} for {}", plan.label, plan.permit),
    };
    format!("{what} in {}\n", plan.directory.shown())
}

fn render(done: &create::Done, any: bool) -> String {
    let a = &done.authority;
    let mut text = format!(
        "{} the {} {} until {}: it may certify {}\n",
        human::good("made"),
        if a.is_root() { "root" } else { "intermediate" },
        human::strong(&a.label),
        a.certificate.not_after.date(),
        briefly(&a.certificate)
    );
    let how = if done.is_encrypted { "encrypted, readable by you alone" } else { "readable by you alone" };
    text.push_str(&match &a.key {
        KeyPlace::Token(uri) => {
            let found = if done.is_found { "found" } else { "made" };
            let (place, leaving) = (human::on_token(uri), human::leaving(uri.extractable));
            format!("key  {found} {place}, {leaving}: {}\nin   {}\n", uri.portable(), a.folder.shown())
        }
        _ => format!("in   {} (the key stays there, {how})\n", a.folder.shown()),
    });
    text.push_str(&match &a.issuer {
        None => "next tamga issue NAME, then tamga trust add\n".to_owned(),
        Some(_) => format!("next tamga issue NAME --issuer {}; clients trust the root alone\n", a.label),
    });
    if any && a.is_root() {
        text.push_str(&format!(
            "{} without constraints: anyone who steals its key can impersonate any site to every machine that trusts it\n",
            human::care("note")
        ));
    }
    if done.is_shortened {
        text.push_str(&format!(
            "{} shortened to {}: its issuer ends then\n",
            human::care("note"),
            a.certificate.not_after.date()
        ));
    }
    text
}
