//! `tamga authority import LABEL`: a CA made elsewhere, checked before it is taken in.

use crate::args::{NewSecretArgs, SecretArgs, TokenArgs};
use crate::commands::parse;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::authority::import::{self, KeySource};
use tamga_app::report::Answer;
use tamga_app::secret::{AuthoritySecret, NewSecret};
use tamga_core::ca::authority::limits;
use tamga_core::ca::report::KeyPlace;
use tamga_core::finding::Code;
use tamga_core::pki::cert::profile::Links;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority import harbour --certificate ca.pem --key-file ca.key")]
pub(crate) struct ImportArgs {
    /// What to call it here
    label: Label,
    /// Its certificate, and what is above it (repeatable)
    #[arg(long, value_name = "FILE", required = true)]
    certificate: Vec<PathBuf>,
    /// Its private key: PKCS#8, SEC1 or PKCS#1, PEM or DER, encrypted or not
    #[arg(long, value_name = "FILE", required_unless_present = "key_uri", conflicts_with = "key_uri")]
    key_file: Option<PathBuf>,
    /// What it may issue for [default: what its certificate says, else server,client]
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = values::word::<Purpose>())]
    purpose: Vec<Purpose>,
    /// Where clients find its revocation list: written into what it issues
    #[arg(long, value_name = "URL")]
    crl_url: Option<String>,
    /// Where clients find its certificate: written into what it issues
    #[arg(long, value_name = "URL")]
    issuer_url: Option<String>,
    /// Lift exactly this objection
    #[arg(long, value_name = "CODE", value_parser = values::word::<Code>(), hide_possible_values = true)]
    accept: Vec<Code>,
    #[command(flatten)]
    token: TokenArgs,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: NewSecretArgs,
}

pub(super) fn run(session: &Session, args: ImportArgs) -> Result<Done> {
    let accepted = args.accept;
    let (key, new) = match args.token.named(&args.secrets, &args.new_secrets) {
        Some(token) => (KeySource::Token(Box::new(token)), NewSecret::default()),
        None => (KeySource::File(args.key_file.unwrap_or_default()), args.new_secrets.into()),
    };
    let request = import::Request {
        label: args.label,
        certificates: args.certificate,
        key,
        purposes: parse::distinct(args.purpose),
        links: Links { crl: args.crl_url, issuer: args.issuer_url, ocsp: None },
        secret: args.secrets.into(),
        new_secret: AuthoritySecret { new, accept_weak: accepted.contains(&Code::WeakPassphrase) },
        accepted,
    };
    let report = import::import(session, &request)?;
    let text = match &report {
        Answer::Planned(p) => {
            let c = &p.authority.certificate;
            format!("would take in {}, limited to {}\n", c.subject_words(), limits::briefly(c))
                + &human::findings(&p.findings)
        }
        Answer::Done(done) => render(done),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &import::Done) -> String {
    let a = &done.authority;
    let mut text = format!(
        "{} {} as {}: it may certify {}\nin     {}; the files that it came from are left as they are\nnext   tamga issue NAME --issuer {}\n",
        human::good("taken in"),
        a.certificate.subject_words(),
        human::strong(&a.label),
        limits::briefly(&a.certificate),
        a.folder.shown(),
        a.label
    );
    if let KeyPlace::Token(uri) = &a.key {
        text.push_str(&format!(
            "key    {}, {}: {}\n",
            human::on_token(uri),
            human::leaving(uri.extractable),
            uri.portable()
        ));
    }
    text.push_str(&human::findings(&done.findings));
    text
}
