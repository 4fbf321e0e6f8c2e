//! `tamga authority request LABEL`: key and request for an intermediate that is signed on another machine.

use crate::args::{AuthoritySecretArgs, SubjectArgs};
use crate::commands::issue::purposes;
use crate::exit::{Done, Result};
use crate::session::{Change, Session};
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::authority::create::Request;
use tamga_core::authority::limits::Wanted;
use tamga_core::authority::{self, REQUEST_FILE, request};
use tamga_core::cert::profile::Links;
use tamga_core::key::{KeyAlgorithm, PrivateKey};
use tamga_core::label::Label;
use tamga_core::purpose::Purpose;
use tamga_core::text::Shown;
use tamga_host::ledger::{Record, Waiting};
use tamga_host::{entropy, fs};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority request web --output web-request.pem")]
pub(crate) struct RequestArgs {
    /// What to call the intermediate
    label: String,
    /// A copy of the request to carry to the isolated machine; - is standard output
    #[arg(long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// Ask for these limits; without it the signer gives its own
    #[arg(long, value_name = "NAME|CIDR", value_delimiter = ',')]
    permit: Vec<String>,
    /// How many intermediates may follow below it
    #[arg(long, value_name = "N")]
    path_length: Option<u8>,
    /// p256 p384 p521 ed25519 rsa2048 rsa3072 rsa4096
    #[arg(long, value_name = "KIND", default_value = "p256")]
    key_algorithm: String,
    /// What it may issue for: server client mail code [default: server,client]
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    purpose: Vec<String>,
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
    let wanted = Request {
        label: Label::parse(&args.label)?,
        subject: args.subject.into(),
        wanted: Wanted { permit: args.permit, any: false },
        path_length: args.path_length,
        valid_for: None,
        purposes: match args.purpose.is_empty() {
            true => vec![Purpose::Server, Purpose::Client],
            false => purposes(&args.purpose)?,
        },
        links: Links { crl: args.crl_url, issuer: args.issuer_url },
    };
    let label = wanted.label.as_str();
    let algorithm = KeyAlgorithm::parse(&args.key_algorithm)?;
    let folder = session.authority_folder(label);
    if session.common.dry_run {
        let text = format!("would make a key and a request for the intermediate {label} in {}\n", folder.shown());
        return Ok(Done::good(text, json!({"authorities": [], "dry_run": true})));
    }
    let protect = args.new_secrets.wanted(&format!("the key of {label}"))?;
    let key = PrivateKey::generate(algorithm, &entropy::System)?;
    let (_lock, ledger) = session.open_for_change()?;
    let taken = ledger.waiting_place(label)?;
    authority::free(&wanted.label, &ledger.authorities()?, ledger.current(label)?.as_ref(), taken.as_deref())?;
    let asked = request::ask(&wanted, &key, protect.as_ref(), folder.clone(), &entropy::System)?;
    let waiting = Waiting {
        label: label.to_owned(),
        is_authority: true,
        csr: asked.csr,
        folder: folder.clone(),
        purposes: wanted.purposes.clone(),
        links: wanted.links.clone(),
    };
    session.publish(
        &ledger,
        &Change {
            what: "request",
            label,
            sha256: waiting.csr.sha256(),
            publication: &asked.publication,
            answers: false,
            record: Record::Request(&waiting),
        },
    )?;
    let file = folder.join(REQUEST_FILE);
    let pem = tamga_core::form::pem::write(tamga_core::form::pem::REQUEST, waiting.csr.der());
    let carried = match &args.output {
        Some(o) if o.as_os_str() == "-" => {
            return Ok(Done::good(pem.to_string(), json!({"authorities": [json::waiting(&waiting)]})));
        }
        Some(o) => {
            fs::write_whole(o, pem.as_bytes(), 0o644)?;
            o.clone()
        }
        None => file,
    };
    let text = format!(
        "{} a key and a request for the intermediate {}; the key stays here, readable by you alone\nin     {}\nnext   carry that file to the isolated machine: tamga authority sign FILE; then here: tamga authority receive {label} --certificate FILE\n",
        human::good("made  "),
        human::strong(label),
        carried.shown()
    );
    let mut member = json::waiting(&waiting);
    member["files"]["request"] = json!(carried);
    Ok(Done::good(text, json!({"authorities": [member]})))
}
