//! `tamga authority create|list|show`.

use crate::cli::SubjectArgs;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::{Value, json};
use tamga_core::authority::{self, ROOT_LIFE, Request};
use tamga_core::issue::{permitted_briefly, permitted_words};
use tamga_core::key::KeyAlgorithm;
use tamga_core::label::Label;
use tamga_core::moment::Span;
use tamga_core::permit::Permit;
use tamga_core::report::Authority;
use tamga_host::entropy;
use tamga_host::ledger::{Ledger, Record};

#[derive(clap::Subcommand)]
pub(crate) enum AuthorityCommand {
    /// A root of your own, limited to names for tests and private networks
    #[command(after_help = "Example: tamga authority create saltmarsh --permit tides.example")]
    Create(Box<CreateArgs>),
    /// Every authority
    List,
    /// One in full
    Show {
        /// Which
        label: String,
    },
}

#[derive(clap::Args)]
pub(crate) struct CreateArgs {
    /// What to call it
    label: String,
    /// A further domain, address or block that it may certify (repeatable)
    #[arg(long, value_name = "NAME|CIDR", value_delimiter = ',')]
    permit: Vec<String>,
    /// No constraints: a stolen key can then pose as every site of the world to machines that trust this root
    #[arg(long, conflicts_with = "permit")]
    permit_any: bool,
    /// How long it lives: m h d w y
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<String>,
    /// p256 p384 p521 ed25519 rsa2048 rsa3072 rsa4096
    #[arg(long, value_name = "KIND", default_value = "p256")]
    key_algorithm: String,
    #[command(flatten)]
    subject: SubjectArgs,
}

pub(crate) fn run(session: &Session, command: AuthorityCommand) -> Result<Done> {
    match command {
        AuthorityCommand::Create(args) => create(session, *args),
        AuthorityCommand::List => list(session),
        AuthorityCommand::Show { label } => {
            let all = session.authorities()?;
            let a = authority::choose(Some(&label), &all)?;
            Ok(Done::good(in_full(a), json!({"authorities": [json_of(a)]})))
        }
    }
}

fn create(session: &Session, args: CreateArgs) -> Result<Done> {
    let mut permit = if args.permit_any { Permit::Any } else { Permit::default_set() };
    for typed in &args.permit {
        permit.extend(typed)?;
    }
    let request = Request {
        label: Label::parse(&args.label)?,
        subject: args.subject.into(),
        permit,
        algorithm: KeyAlgorithm::parse(&args.key_algorithm)?,
        valid_for: args.valid_for.as_deref().map_or(Ok(ROOT_LIFE), Span::parse)?,
    };
    if session.common.dry_run {
        let (authorities, issued) = match session.open_to_look()? {
            Some(l) => (l.authorities()?, l.issued(Some(request.label.as_str()))?),
            None => Default::default(),
        };
        authority::free(&request.label, &authorities, &issued)?;
        let text = format!(
            "would make the root {} for {} in {}\n",
            request.label,
            request.permit,
            session.machine.data().join("authorities").join(request.label.as_str()).display()
        );
        return Ok(Done::good(text, json!({"authorities": [], "dry_run": true})));
    }
    let (_lock, ledger) = session.open_for_change()?;
    let a = make(session, &ledger, &request)?;
    let mut text = format!(
        "{} the root {} until {}: it may certify {}\n",
        human::good("made"),
        human::strong(&a.label),
        a.certificate.not_after.date(),
        permitted_briefly(&a)
    );
    text.push_str(&format!("in   {} (the key stays there, readable by you alone)\n", a.folder.display()));
    text.push_str("next tamga issue NAME, then tamga trust add\n");
    if args.permit_any {
        text.push_str(&format!(
            "{} without constraints: whoever steals its key can pose as any site to every machine that trusts it\n",
            human::care("note")
        ));
    }
    Ok(Done::good(text, json!({"authorities": [json_of(&a)]})))
}

/// Makes a root and records it. The ledger is locked.
pub(crate) fn make(session: &Session, ledger: &Ledger, request: &Request) -> Result<Authority> {
    let issued = ledger.issued(Some(request.label.as_str()))?;
    authority::free(&request.label, &ledger.authorities()?, &issued)?;
    let folder = session.machine.data().join("authorities").join(request.label.as_str());
    let made = authority::create(request, folder.clone(), session.now, &entropy::System)?;
    let a = Authority { label: request.label.to_string(), certificate: made.certificate, folder };
    session.publish(ledger, "authority", &made.publication, &Record::Authority(&a))?;
    Ok(a)
}

fn list(session: &Session) -> Result<Done> {
    let all = session.authorities()?;
    if all.is_empty() {
        let text = "no authority yet: tamga authority create LABEL, or everything at once: tamga setup\n";
        return Ok(Done::good(text.into(), json!({"authorities": []})));
    }
    let mut rows = vec![["label", "ends", "key", "may certify"].map(human::dim).to_vec()];
    for a in &all {
        rows.push(vec![
            human::strong(&a.label),
            a.certificate.not_after.date(),
            a.certificate.key.strength().to_string(),
            permitted_briefly(a),
        ]);
    }
    let members: Vec<Value> = all.iter().map(json_of).collect();
    Ok(Done::good(human::table(&rows), json!({"authorities": members})))
}

/// All that is known of an authority.
pub(crate) fn in_full(a: &Authority) -> String {
    let c = &a.certificate;
    let key = a.folder.join(tamga_core::authority::KEY_FILE);
    let key = if key.exists() { format!("{} (not encrypted)", key.display()) } else { "not here".into() };
    human::table(&[
        vec![human::dim("root"), human::strong(&a.label)],
        vec![human::dim("subject"), c.subject_words()],
        vec![human::dim("may certify"), permitted_words(a)],
        vec![human::dim("valid"), format!("{} to {}", c.not_before, c.not_after)],
        vec![human::dim("key"), format!("{}, {key}", c.key.strength())],
        vec![human::dim("serial"), c.serial.clone()],
        vec![human::dim("SHA-256"), c.sha256()],
    ])
}

pub(crate) fn json_of(a: &Authority) -> Value {
    let mut v = json::certificate(&a.certificate);
    v["label"] = json!(a.label);
    v["folder"] = json!(a.folder);
    v["permitted"] = json!(
        a.certificate.constraints.as_ref().map(|s| { s.permitted.iter().map(|g| g.words()).collect::<Vec<_>>() })
    );
    v
}
