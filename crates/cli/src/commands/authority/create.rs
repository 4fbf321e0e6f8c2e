//! `tamga authority create LABEL`: a root, or an intermediate under another authority.

use crate::args::{AuthoritySecretArgs, SecretArgs, SubjectArgs};
use crate::commands::issue::purposes;
use crate::exit::{Done, Result};
use crate::session::{Change, Session};
use crate::words::{human, json};
use tamga_core::authority::create::{self, Made, Request};
use tamga_core::authority::limits::{self, Wanted};
use tamga_core::authority::{self};
use tamga_core::cert::profile::Links;
use tamga_core::key::{KeyAlgorithm, PrivateKey};
use tamga_core::label::Label;
use tamga_core::moment::Span;
use tamga_core::purpose::Purpose;
use tamga_core::report::Authority;
use tamga_core::secret::Passphrase;
use tamga_core::text::Shown;
use tamga_host::entropy;
use tamga_host::ledger::{Ledger, Record};

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga authority create saltmarsh --permit tides.example\n          tamga authority create web --issuer saltmarsh"
)]
pub(crate) struct CreateArgs {
    /// What to call it
    label: String,
    /// Under this authority: an intermediate
    #[arg(long, value_name = "LABEL")]
    issuer: Option<String>,
    /// A domain, address or block that it may certify: a root besides the usual ones, an intermediate only these
    #[arg(long, value_name = "NAME|CIDR", value_delimiter = ',')]
    permit: Vec<String>,
    /// No constraints: a stolen key can then pose as every site of the world to machines that trust this root
    #[arg(long, conflicts_with = "permit")]
    permit_any: bool,
    /// How many intermediates may follow below it [default: any number, or what the issuer leaves]
    #[arg(long, value_name = "N")]
    path_length: Option<u8>,
    /// How long it lives: m h d w y [default: 3650d, an intermediate 1825d]
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<String>,
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
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: AuthoritySecretArgs,
}

pub(super) fn run(session: &Session, args: CreateArgs) -> Result<Done> {
    let request = Request {
        label: Label::parse(&args.label)?,
        subject: args.subject.into(),
        wanted: Wanted { permit: args.permit, any: args.permit_any },
        path_length: args.path_length,
        valid_for: args.valid_for.as_deref().map(Span::parse).transpose()?,
        purposes: match args.purpose.is_empty() {
            true => vec![Purpose::Server, Purpose::Client],
            false => purposes(&args.purpose)?,
        },
        links: Links { crl: args.crl_url, issuer: args.issuer_url },
    };
    let algorithm = KeyAlgorithm::parse(&args.key_algorithm)?;
    let permitted = limits::of_root(&request.wanted)?;
    if session.common.dry_run {
        let (authorities, issued, waiting) = match session.open_to_look()? {
            Some(l) => {
                let label = request.label.as_str();
                (l.authorities()?, l.current(label)?, l.waiting_place(label)?)
            }
            None => Default::default(),
        };
        authority::free(&request.label, &authorities, issued.as_ref(), waiting.as_deref())?;
        let what = match &args.issuer {
            Some(issuer) => {
                let parent = authority::choose(Some(issuer), &authorities, true)?;
                limits::of_intermediate(&request.wanted, parent)?;
                format!("would make the intermediate {} under {}", request.label, parent.label)
            }
            None => format!("would make the root {} for {permitted}", request.label),
        };
        let text = format!("{what} in {}\n", session.authority_folder(request.label.as_str()).shown());
        return Ok(Done::good(text, json!({"authorities": [], "dry_run": true})));
    }
    let protect = args.new_secrets.wanted(&format!("the key of {}", request.label))?;
    let key = PrivateKey::generate(algorithm, &entropy::System)?;
    let (_lock, ledger) = session.open_for_change()?;
    let parent = match &args.issuer {
        Some(issuer) => {
            let authorities = ledger.authorities()?;
            let parent = authority::choose(Some(issuer), &authorities, true)?.clone();
            let key = session.authority_key(&parent, &args.secrets)?;
            Some((parent, key))
        }
        None => None,
    };
    let made = make(session, &ledger, &request, &key, protect.as_ref(), parent.as_ref().map(|(a, k)| (a, k)))?;
    let a = &made.authority;
    let mut text = format!(
        "{} the {} {} until {}: it may certify {}\n",
        human::good("made"),
        if a.is_root() { "root" } else { "intermediate" },
        human::strong(&a.label),
        a.certificate.not_after.date(),
        limits::briefly(&a.certificate)
    );
    let how = if protect.is_some() { "encrypted, readable by you alone" } else { "readable by you alone" };
    text.push_str(&format!("in   {} (the key stays there, {how})\n", a.folder.shown()));
    text.push_str(&match &a.issuer {
        None => "next tamga issue NAME, then tamga trust add\n".to_owned(),
        Some(_) => format!("next tamga issue NAME --issuer {}; clients trust the root alone\n", a.label),
    });
    if args.permit_any && a.is_root() {
        text.push_str(&format!(
            "{} without constraints: whoever steals its key can pose as any site to every machine that trusts it\n",
            human::care("note")
        ));
    }
    if made.shortened {
        text.push_str(&format!(
            "{} shortened to {}: its issuer ends then\n",
            human::care("note"),
            a.certificate.not_after.date()
        ));
    }
    Ok(Done::good(text, json!({"authorities": [json::authority(a)]})))
}

/// Makes an authority and records it. The ledger is locked.
pub(crate) fn make(
    session: &Session,
    ledger: &Ledger,
    request: &Request,
    key: &PrivateKey,
    protect: Option<&Passphrase>,
    parent: Option<(&Authority, &PrivateKey)>,
) -> Result<Made> {
    let label = request.label.as_str();
    let waiting = ledger.waiting_place(label)?;
    authority::free(&request.label, &ledger.authorities()?, ledger.current(label)?.as_ref(), waiting.as_deref())?;
    let folder = session.authority_folder(label);
    let made = match parent {
        None => create::root(request, key, protect, folder, session.now, &entropy::System)?,
        Some((parent, parent_key)) => {
            create::intermediate(request, key, parent, parent_key, protect, folder, session.now, &entropy::System)?
        }
    };
    session.publish(
        ledger,
        &Change {
            what: "authority",
            label,
            sha256: made.authority.certificate.sha256(),
            publication: &made.publication,
            answers: false,
            record: Record::Authority(&made.authority),
        },
    )?;
    Ok(made)
}
