//! `tamga authority request LABEL`: key and request for an intermediate that is signed on another machine.

use super::create::purposes;
use crate::args::{AuthoritySecretArgs, SubjectArgs};
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::path::{Path, PathBuf};
use tamga_app::authority::request;
use tamga_app::report::Answer;
use tamga_core::ca::authority::create::Request;
use tamga_core::ca::authority::limits::Wanted;
use tamga_core::pki::cert::profile::Links;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority request web --output web-request.pem")]
pub(crate) struct RequestArgs {
    /// What to call the intermediate
    label: Label,
    /// A copy of the request to carry to the isolated machine; - is standard output
    #[arg(long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// Ask for these limits; without it the signer gives its own
    #[arg(long, value_name = "NAME|CIDR", value_delimiter = ',')]
    permit: Vec<String>,
    /// How many intermediates may follow below it
    #[arg(long, value_name = "N")]
    path_length: Option<u8>,
    /// The kind of the new key
    #[arg(long, value_name = "KIND", default_value_t = KeyAlgorithm::P256, value_parser = values::word::<KeyAlgorithm>())]
    key_algorithm: KeyAlgorithm,
    /// What it may issue for [default: server,client]
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = values::word::<Purpose>())]
    purpose: Vec<Purpose>,
    /// Where clients will find its revocation list: written into what it issues
    #[arg(long, value_name = "URL")]
    crl_url: Option<String>,
    /// Where clients will find its certificate: written into what it issues
    #[arg(long, value_name = "URL")]
    issuer_url: Option<String>,
    #[command(flatten)]
    subject: SubjectArgs,
    #[command(flatten)]
    new_secrets: AuthoritySecretArgs,
}

pub(super) fn run(session: &Session, args: RequestArgs) -> Result<Done> {
    let to_screen = args.output.as_deref() == Some(Path::new("-"));
    let request = request::Request {
        authority: Request {
            label: args.label,
            subject: args.subject.into(),
            wanted: Wanted { permit: args.permit, any: false },
            path_length: args.path_length,
            valid_for: None,
            purposes: purposes(args.purpose),
            links: Links { crl: args.crl_url, issuer: args.issuer_url, ocsp: None },
            own_links: None,
        },
        key_algorithm: args.key_algorithm,
        output: args.output.filter(|_| !to_screen),
        new_secret: args.new_secrets.into(),
    };
    let report = request::request(session, &request)?;
    let text = match &report {
        Answer::Planned(p) => format!(
            "would make a key and a request for the intermediate {} in {}\n",
            request.authority.label,
            p.directory.shown()
        ),
        Answer::Done(done) if to_screen => done.pem.clone(),
        Answer::Done(done) => render(done),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &request::Done) -> String {
    format!(
        "{} a key and a request for the intermediate {}; the key stays here, readable by you alone\nin     {}\nnext   carry that file to the isolated machine: tamga authority sign FILE; then here: tamga authority receive {} --certificate FILE\n",
        human::good("made  "),
        human::strong(&done.label),
        done.carried.shown(),
        done.label
    )
}
