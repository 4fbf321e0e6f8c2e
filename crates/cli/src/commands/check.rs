//! `tamga check TARGET…`: would any client warn, why, and what to do.

use super::target::{self, Target};
use crate::exit::{self, Done, Result};
use crate::session::{Session, certificates};
use crate::words::{human, json};
use serde_json::{Value, json};
use std::net::IpAddr;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use tamga_core::assess::{self, Answer, Question};
use tamga_core::authority::{CERTIFICATE_FILE, KEY_FILE};
use tamga_core::cert::Certificate;
use tamga_core::client::view::{self, View};
use tamga_core::client::{Client, Outcome};
use tamga_core::error::Error;
use tamga_core::finding::{Code, Finding, Severity};
use tamga_core::form::private_key::{self, Stored};
use tamga_core::moment::Moment;
use tamga_core::name::Name;
use tamga_core::purpose::Purpose;
use tamga_core::report::{Authority, Issued};
use tamga_host::clients::{self, Observed, Visit};
use tamga_host::dial::{self, Met, Missed};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga check https://charts.saltmarsh.test:8443 --observe")]
pub(crate) struct CheckArgs {
    /// https://HOST[:PORT], HOST:PORT, a file or folder, a label, or a host
    #[arg(required = true, value_name = "TARGET")]
    targets: Vec<String>,
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
    purpose: Option<Purpose>,
    resolve: Vec<(String, IpAddr)>,
    anchored: bool,
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
    met: Option<Met>,
    chain: Vec<Certificate>,
    path: Vec<String>,
    rows: Vec<Row>,
    findings: Vec<Finding>,
    raw: Vec<String>,
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
    let (mut text, mut members, mut codes) = (String::new(), Vec::new(), Vec::new());
    for typed in &args.targets {
        let checked = match target::parse(typed, &around.issued)? {
            Target::Live { host, port } => live(session, &around, typed, &host, port, args.observe),
            Target::File(path) => file(&around, typed, &path)?,
            Target::Label(issued) => label(&around, typed, &issued)?,
        };
        if !text.is_empty() {
            text.push('\n');
        }
        text.push_str(&words(&checked, session.common.verbose));
        members.push(json_of(&checked));
        codes.push(checked.code);
    }
    let unreached = codes.iter().filter(|c| **c == exit::SURROUNDINGS).count();
    let mut code = codes.iter().copied().filter(|c| *c != exit::SURROUNDINGS).fold(exit::GOOD, exit::worst);
    if unreached > 0 {
        code = exit::worst(code, if unreached == codes.len() { exit::SURROUNDINGS } else { exit::PARTLY });
    }
    Ok(Done { text, json: json!({"targets": members}), code })
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
    Ok(Around {
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
        raise: session.raise(),
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
            views: &self.views,
            authorities: &self.authorities,
            issued: &self.issued,
            live,
            anchored: self.anchored,
            raise: self.raise,
        })
    }
}

fn live(session: &Session, around: &Around, typed: &str, host: &Name, port: u16, observe: bool) -> Checked {
    let mut checked = Checked::new(typed, "live", format!("https://{}:{port}/, a server met now", bracketed(host)));
    let met = dial::resolve(host, port, &around.resolve).and_then(|addresses| {
        let mut last = None;
        for address in addresses {
            match dial::meet(host, address) {
                Ok(met) => return Ok(met),
                Err(missed) => {
                    // Of several addresses the one that got furthest tells most.
                    if last.as_ref().is_none_or(|l: &Missed| l.code == Code::RefusedConnection) {
                        last = Some(missed);
                    }
                }
            }
        }
        Err(last.unwrap_or(Missed { code: Code::UnresolvedName, detail: host.to_string() }))
    });
    let met = match met {
        Ok(met) => met,
        Err(missed) => {
            let unreachable =
                matches!(missed.code, Code::UnresolvedName | Code::RefusedConnection | Code::SilentConnection);
            checked.code = if unreachable { exit::SURROUNDINGS } else { exit::BAD };
            let mut f = Finding::new(missed.code, host.to_string());
            f.summary = format!("{} ({})", f.summary, missed.detail);
            if missed.code == Code::UnresolvedName {
                f.remedy = format!(
                    "{}tamga hosts add {host} if it is this machine, or check with --resolve {host}=127.0.0.1",
                    session.raise()
                );
            }
            f.severity = Severity::Error;
            f.clients.clone_from(&around.clients);
            checked.findings.push(f);
            return checked;
        }
    };
    let parsed: tamga_core::error::Result<Vec<Certificate>> =
        met.chain.iter().map(|der| Certificate::read(der, "what the server sent")).collect();
    let chain = match parsed {
        Ok(chain) => chain,
        Err(e) => {
            checked.code = exit::BAD;
            checked.findings.push(Finding::new(Code::Malformed, host.to_string()).saying(e.to_string()));
            checked.met = Some(met);
            return checked;
        }
    };
    let answer = around.ask(&chain, std::slice::from_ref(host), true);
    checked.take(answer, chain);
    if met.wants_client {
        checked.findings.push(Finding::new(Code::ClientCertificateWanted, host.to_string()));
    }
    if observe {
        let visit = Visit { host: host.clone(), address: met.address };
        for client in &around.clients {
            if let Some(seen) = clients::observe(*client, &session.machine, std::slice::from_ref(&visit)) {
                checked.compare(*client, seen.into_iter().next());
            }
        }
    }
    checked.met = Some(met);
    checked
}

fn bracketed(host: &Name) -> String {
    match host {
        Name::Ip(IpAddr::V6(a)) => format!("[{a}]"),
        other => other.to_string(),
    }
}

fn file(around: &Around, typed: &str, path: &Path) -> Result<Checked> {
    let file = if path.is_dir() { path.join(CERTIFICATE_FILE) } else { path.to_path_buf() };
    let chain = certificates(std::slice::from_ref(&file))?;
    let mut checked = Checked::new(typed, "file", format!("the file {}, as a server would send it", file.display()));
    let answer = around.ask(&chain, &around.names, false);
    checked.take(answer, chain);
    beside(&mut checked, &file);
    Ok(checked)
}

fn label(around: &Around, typed: &str, issued: &Issued) -> Result<Checked> {
    let file = issued.folder.join(CERTIFICATE_FILE);
    let chain = certificates(std::slice::from_ref(&file))?;
    let names: Vec<Name> = match around.names.is_empty() {
        false => around.names.clone(),
        true => {
            issued.certificate.name_words().iter().filter_map(|n| Name::parse(n).ok()).filter(Name::is_host).collect()
        }
    };
    let host = names.first().map(ToString::to_string).unwrap_or_default();
    let first = format!("the files of {} for every name in it; live: tamga check https://{host}", issued.label);
    let mut checked = Checked::new(typed, "label", first);
    let answer = around.ask(&chain, &names, false);
    checked.take(answer, chain);
    beside(&mut checked, &file);
    Ok(checked)
}

/// The key beside a certificate: is it its own, and who may read it?
fn beside(checked: &mut Checked, file: &Path) {
    let path = file.parent().unwrap_or(Path::new(".")).join(KEY_FILE);
    let Ok(bytes) = std::fs::read(&path).map(zeroize::Zeroizing::new) else { return };
    let about = path.display().to_string();
    match (private_key::read(&bytes, &about), checked.chain.first()) {
        (Ok(Stored::Open(key)), Some(leaf)) if *key.public() != leaf.key => {
            checked.code = exit::BAD;
            checked.findings.insert(0, Finding::new(Code::KeyMismatch, about.clone()));
        }
        (Err(e), _) => {
            checked.findings.push(
                Finding::new(Code::Malformed, about.clone())
                    .saying(format!("{about} cannot be read as a key: {}", tamga_core::error::Told::why(&e))),
            );
        }
        _ => {}
    }
    if std::fs::metadata(&path).is_ok_and(|m| m.permissions().mode() & 0o077 != 0) {
        checked
            .findings
            .push(Finding::new(Code::KeyReadableByOthers, about.clone()).mended_by(format!("chmod 600 {about}")));
    }
}

impl Checked {
    fn new(target: &str, kind: &'static str, first_line: String) -> Checked {
        Checked {
            target: target.to_owned(),
            kind,
            first_line,
            code: exit::GOOD,
            met: None,
            chain: Vec::new(),
            path: Vec::new(),
            rows: Vec::new(),
            findings: Vec::new(),
            raw: Vec::new(),
        }
    }

    fn take(&mut self, answer: Answer, chain: Vec<Certificate>) {
        self.code = if answer.is_good() || answer.verdicts.iter().all(|v| v.outcome == Outcome::Unknown) {
            exit::GOOD
        } else {
            exit::BAD
        };
        self.path = answer
            .verdicts
            .iter()
            .max_by_key(|v| v.judgement.path.len())
            .map(|v| v.judgement.path.iter().map(Certificate::sha256).collect())
            .unwrap_or_default();
        for v in answer.verdicts {
            let mut findings: Vec<&'static str> = Vec::new();
            for f in &v.judgement.faults {
                if !findings.contains(&f.code.word()) {
                    findings.push(f.code.word());
                }
            }
            self.rows.push(Row { client: v.client, basis: "predicted", outcome: v.outcome, code: v.code, findings });
        }
        self.findings = answer.findings;
        self.chain = chain;
    }

    fn compare(&mut self, client: Client, observed: Option<Observed>) {
        let (Some(observed), Some(predicted)) = (observed, self.rows.iter().find(|r| r.client == client)) else {
            return;
        };
        if observed.outcome != Outcome::Unknown
            && (observed.outcome, &observed.code) != (predicted.outcome, &predicted.code)
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

fn words(c: &Checked, verbose: bool) -> String {
    let warned: Vec<&str> = {
        let mut out: Vec<&str> = Vec::new();
        for r in c.rows.iter().filter(|r| matches!(r.outcome, Outcome::Warns | Outcome::Refuses)) {
            if !out.contains(&r.client.word()) {
                out.push(r.client.word());
            }
        }
        out
    };
    let verdict = if c.rows.is_empty() {
        human::bad("nobody gets as far as a certificate")
    } else if !warned.is_empty() {
        human::bad(&format!("{} would warn or refuse", warned.join(", ")))
    } else if c.code != exit::GOOD {
        human::bad("not good")
    } else if c.rows.iter().all(|r| r.outcome != Outcome::Accepts) {
        human::care("cannot be told")
    } else {
        human::good("no client would warn")
    };
    let mut text = format!("{} {}\n{verdict}\n", human::dim("checked"), c.first_line);
    if !c.findings.is_empty() {
        text.push('\n');
        text.push_str(&human::findings(&c.findings));
    }
    if !c.rows.is_empty() {
        text.push('\n');
        let mut rows = vec![["client", "verdict", "basis", "its own words"].map(human::dim).to_vec()];
        for r in &c.rows {
            rows.push(vec![
                human::strong(r.client.word()),
                outcome(r.outcome),
                r.basis.to_owned(),
                r.code.clone().unwrap_or_default(),
            ]);
        }
        text.push_str(&human::table(&rows));
    }
    if verbose {
        if let Some(m) = &c.met {
            text.push_str(&format!(
                "\n{} {} {} {}\n",
                m.address,
                m.protocol,
                m.cipher,
                m.alpn.clone().unwrap_or_default()
            ));
        }
        for cert in &c.chain {
            text.push_str(&format!(
                "  {} ({} to {}) {}\n",
                cert.subject_words(),
                cert.not_before.date(),
                cert.not_after.date(),
                cert.sha256()
            ));
        }
        for line in &c.raw {
            text.push_str(&format!("  {line}\n"));
        }
    }
    text
}

/// A verdict, coloured.
pub(crate) fn outcome(o: Outcome) -> String {
    match o {
        Outcome::Accepts => human::good(o.word()),
        Outcome::Warns | Outcome::Refuses => human::bad(o.word()),
        Outcome::Unknown => human::care(o.word()),
    }
}

fn json_of(c: &Checked) -> Value {
    let connections: Vec<Value> = c
        .met
        .iter()
        .map(|m| json!({"address": m.address.to_string(), "protocol": m.protocol, "cipher": m.cipher, "alpn": m.alpn}))
        .collect();
    let clients: Vec<Value> = c
        .rows
        .iter()
        .map(|r| {
            json!({"client": r.client.word(), "place": null, "basis": r.basis, "verdict": r.outcome.word(), "code": r.code,
                "findings": r.findings})
        })
        .collect();
    let paths: Vec<&Vec<String>> = if c.path.is_empty() { vec![] } else { vec![&c.path] };
    json!({
        "target": c.target, "kind": c.kind, "ok": c.code == exit::GOOD, "connections": connections, "redirects": [],
        "chain": c.chain.iter().map(json::certificate).collect::<Vec<_>>(), "paths": paths, "clients": clients,
        "findings": c.findings.iter().map(json::finding).collect::<Vec<_>>(),
    })
}
