//! `tamga check TARGET…`: would any client warn, why, and what to do.

mod files;
mod live;
mod many;
mod page;
mod plain;
mod report;
mod wire;

pub(crate) use report::outcome;

use crate::args::SecretArgs;
use crate::exit::{self, Done, Result};
use crate::session::{Session, certificates};
use std::net::IpAddr;
use std::path::PathBuf;
use tamga_core::access::Account;
use tamga_core::assess::{self, Answer, Question};
use tamga_core::cert::Certificate;
use tamga_core::cert::crl::{self, Crl};
use tamga_core::chain::revocation::Revocation;
use tamga_core::client::view::{self, View};
use tamga_core::client::{Client, Outcome, agrees};
use tamga_core::error::Error;
use tamga_core::finding::{Code, Finding};
use tamga_core::moment::Moment;
use tamga_core::name::Name;
use tamga_core::purpose::Purpose;
use tamga_core::redirect::Hop;
use tamga_core::report::{Authority, Issued};
use tamga_core::text::Shown as _;
use tamga_core::trust::exceptions::{self, Exception};
use tamga_core::wire::Reader;
use tamga_host::clients::{self, Observed};
use tamga_host::dial::{Met, Shown};
use tamga_host::{access, fs};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga check https://charts.saltmarsh.test:8443 --observe")]
pub(crate) struct CheckArgs {
    /// https://HOST[:PORT], HOST:PORT, a file or folder, a label, or a host
    #[arg(required_unless_present = "list", value_name = "TARGET")]
    targets: Vec<String>,
    /// Targets from a file, one a line
    #[arg(long, value_name = "FILE")]
    list: Option<PathBuf>,
    /// So many side by side, at most 256 [default: 8]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    jobs: Option<u16>,
    /// Whose rules [default: standard and those installed here]
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    clients: Vec<String>,
    /// Run the installed clients for real too, and compare
    #[arg(long)]
    observe: bool,
    /// Judge against these roots alone (repeatable)
    #[arg(long, value_name = "FILE")]
    anchor: Vec<PathBuf>,
    /// Further intermediates (repeatable)
    #[arg(long, value_name = "FILE")]
    intermediate: Vec<PathBuf>,
    /// A revocation list to heed, PEM or DER (repeatable)
    #[arg(long, value_name = "FILE")]
    crl: Vec<PathBuf>,
    /// off, if-known or required: how much lists count
    #[arg(long, value_name = "HOW", default_value = "if-known")]
    revocation: String,
    /// For files: the name that a visitor would type (repeatable)
    #[arg(long, value_name = "NAME")]
    name: Vec<String>,
    /// Judge as of then, RFC 3339
    #[arg(long, value_name = "TIME")]
    at: Option<String>,
    /// server, client or any
    #[arg(long, value_name = "PURPOSE", default_value = "server")]
    purpose: String,
    /// Meet NAME at this address (repeatable)
    #[arg(long, value_name = "NAME=ADDRESS")]
    resolve: Vec<String>,
    /// Show this certificate, with its key, to servers that ask
    #[arg(long, value_name = "LABEL")]
    client_certificate: Option<String>,
    /// Write a page of it all, self-contained, to read in a browser or to print
    #[arg(long, value_name = "FILE.html")]
    report: Option<PathBuf>,
    /// Show what of this very connection anybody on the way could read
    #[arg(long)]
    wire: bool,
    /// For files: could this account, by name or number, read the private key?
    #[arg(long, value_name = "ACCOUNT")]
    account: Option<String>,
    #[command(flatten)]
    secrets: SecretArgs,
}

/// Everything that is the same for every target.
struct Around {
    clients: Vec<Client>,
    views: Vec<(Client, View)>,
    authorities: Vec<Authority>,
    issued: Vec<Issued>,
    extra: Vec<Certificate>,
    names: Vec<Name>,
    at: Moment,
    lists: Vec<Crl>,
    revocation: Revocation,
    purpose: Option<Purpose>,
    resolve: Vec<(String, IpAddr)>,
    anchored: bool,
    account: Option<Account>,
    wire: bool,
    shown: Option<Shown>,
    exceptions: Vec<Exception>,
    raise: &'static str,
}

/// One client's verdict in one row.
struct Row {
    client: Client,
    basis: &'static str,
    outcome: Outcome,
    code: Option<String>,
    findings: Vec<&'static str>,
}

/// What came of one target.
struct Checked {
    target: String,
    kind: &'static str,
    first_line: String,
    code: u8,
    met: Vec<Met>,
    chain: Vec<Certificate>,
    path: Vec<Certificate>,
    rows: Vec<Row>,
    findings: Vec<Finding>,
    raw: Vec<String>,
    remarks: Vec<String>,
    hops: Vec<Hop>,
    wire: Reader,
    show_wire: bool,
}

pub(crate) fn run(session: &Session, args: &CheckArgs) -> Result<Done> {
    let around = around(session, args)?;
    if args.observe && around.anchored {
        return Err(Error::Contradiction {
            what: "--observe and --anchor were both given".into(),
            why: "the installed clients look into their stores, not at a file".into(),
            instead: "leave one of the two away".into(),
        }
        .into());
    }
    let mut targets = args.targets.clone();
    if let Some(file) = &args.list {
        targets.extend(many::listed(file)?);
    }
    // Browsers that are run for real come one at a time.
    let jobs = if args.observe { 1 } else { args.jobs.unwrap_or(8) };
    let how = many::How { jobs: usize::from(jobs).max(1), observe: args.observe, report: args.report.as_deref() };
    many::all(session, &around, &targets, &how)
}

fn around(session: &Session, args: &CheckArgs) -> Result<Around> {
    let clients: Vec<Client> = if args.clients.is_empty() {
        Client::ALL
            .into_iter()
            .filter(|c| *c == Client::Standard || clients::is_installed(*c, &session.machine))
            .collect()
    } else {
        args.clients.iter().map(|c| Client::parse(c)).collect::<tamga_core::error::Result<_>>()?
    };
    let anchors = certificates(&args.anchor)?;
    let views = clients
        .iter()
        .map(|c| {
            let view = match args.anchor.is_empty() {
                true => view::of(*c, &session.machine),
                false => View { anchors: anchors.clone(), sources: args.anchor.clone(), ..View::default() },
            };
            (*c, view)
        })
        .collect();
    let (authorities, issued) = match session.open_to_look()? {
        Some(l) => (l.authorities()?, l.issued(None)?),
        None => Default::default(),
    };
    let purpose = match args.purpose.as_str() {
        "any" => None,
        word if Purpose::parse(word).is_some() => Purpose::parse(word),
        other => {
            return Err(Error::Word {
                what: "purpose",
                typed: other.into(),
                accepted: "server, client, mail, code or any".into(),
            }
            .into());
        }
    };
    let how = Revocation::WORDS.into_iter().find(|(word, _)| *word == args.revocation);
    let how = how.ok_or_else(|| Error::Word {
        what: "way with revocation lists",
        typed: args.revocation.clone(),
        accepted: Revocation::WORDS.map(|(word, _)| word).join(", "),
    })?;
    Ok(Around {
        lists: args.crl.iter().map(|f| list(f)).collect::<Result<_>>()?,
        revocation: how.1,
        clients,
        views,
        authorities,
        issued,
        extra: certificates(&args.intermediate)?,
        names: args.name.iter().map(|n| Name::parse(n)).collect::<tamga_core::error::Result<_>>()?,
        at: args.at.as_deref().map_or(Ok(session.now), Moment::parse)?,
        purpose,
        resolve: args.resolve.iter().map(|r| pair(r)).collect::<Result<_>>()?,
        anchored: !args.anchor.is_empty(),
        wire: args.wire,
        account: args.account.as_deref().map(|typed| account(session, typed)).transpose()?,
        shown: args.client_certificate.as_deref().map(|label| shown(session, label, &args.secrets)).transpose()?,
        exceptions: exceptions::all(&session.machine),
        raise: session.raise(),
    })
}

fn shown(session: &Session, label: &str, secrets: &SecretArgs) -> Result<Shown> {
    let (chain, key) = super::serve::identity(&super::issue::current(session, label)?, secrets)?;
    Ok(std::sync::Arc::new(tamga_host::serve::certified(&chain, &key)?))
}

fn list(file: &std::path::Path) -> Result<Crl> {
    let bytes = fs::read_named(file)?;
    Ok(crl::find(&bytes, &file.shown())?)
}

fn account(session: &Session, typed: &str) -> Result<Account> {
    access::account(&session.machine, typed).ok_or_else(|| {
        let accepted = "a name or number that stands in /etc/passwd".into();
        Error::Word { what: "account", typed: typed.to_owned(), accepted }.into()
    })
}

fn pair(typed: &str) -> Result<(String, IpAddr)> {
    typed
        .split_once('=')
        .and_then(|(n, a)| Some((n.to_lowercase(), a.trim_matches(['[', ']']).parse().ok()?)))
        .ok_or_else(|| {
            Error::Word {
                what: "name with its address",
                typed: typed.into(),
                accepted: "charts.saltmarsh.test=127.0.0.1".into(),
            }
            .into()
        })
}

impl Around {
    fn ask(&self, served: &[Certificate], names: &[Name], live: bool) -> Answer {
        assess::assess(&Question {
            served,
            extra: &self.extra,
            names,
            purpose: self.purpose,
            at: self.at,
            lists: &self.lists,
            revocation: self.revocation,
            views: &self.views,
            authorities: &self.authorities,
            issued: &self.issued,
            live,
            anchored: self.anchored,
            raise: self.raise,
        })
    }
}

impl Checked {
    fn new(target: &str, kind: &'static str, first_line: String) -> Checked {
        Checked {
            target: target.to_owned(),
            kind,
            first_line,
            code: exit::GOOD,
            met: Vec::new(),
            chain: Vec::new(),
            path: Vec::new(),
            rows: Vec::new(),
            findings: Vec::new(),
            raw: Vec::new(),
            remarks: Vec::new(),
            hops: Vec::new(),
            wire: Reader::default(),
            show_wire: false,
        }
    }

    fn take(&mut self, answer: Answer, chain: Vec<Certificate>) {
        self.code = if answer.is_good() || answer.verdicts.iter().all(|v| v.documented || v.outcome == Outcome::Unknown)
        {
            exit::GOOD
        } else {
            exit::BAD
        };
        self.path = answer
            .verdicts
            .iter()
            .max_by_key(|v| v.judgement.path.len())
            .map(|v| v.judgement.path.clone())
            .unwrap_or_default();
        for v in answer.verdicts {
            let mut findings: Vec<&'static str> = Vec::new();
            for f in &v.judgement.faults {
                if !findings.contains(&f.code.word()) {
                    findings.push(f.code.word());
                }
            }
            let basis = if v.documented { "documented" } else { "predicted" };
            self.rows.push(Row { client: v.client, basis, outcome: v.outcome, code: v.code, findings });
        }
        self.findings = answer.findings;
        self.chain = chain;
    }

    fn compare(&mut self, client: Client, observed: Option<Observed>) {
        let (Some(observed), Some(predicted)) = (observed, self.rows.iter().find(|r| r.client == client)) else {
            return;
        };
        if observed.outcome != Outcome::Unknown
            && (observed.outcome != predicted.outcome || !agrees(predicted.code.as_deref(), observed.code.as_deref()))
        {
            let said = |o: Outcome, c: &Option<String>| c.clone().unwrap_or_else(|| o.word().to_owned());
            let mut f = Finding::new(Code::PredictionDiffers, client.word()).saying(format!(
                "{}: expected \"{}\", seen \"{}\"",
                client.word(),
                said(predicted.outcome, &predicted.code),
                said(observed.outcome, &observed.code)
            ));
            f.clients = vec![client];
            self.findings.push(f);
        }
        if matches!(observed.outcome, Outcome::Warns | Outcome::Refuses) {
            self.code = exit::BAD;
        }
        self.raw.push(format!("{}: {}", client.word(), observed.raw));
        let findings = predicted.findings.clone();
        self.rows.push(Row { client, basis: "observed", outcome: observed.outcome, code: observed.code, findings });
    }
}
