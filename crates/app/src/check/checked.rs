//! What came of the check of one target.

use super::wire::WireView;
use crate::report::{self, Outcome as Ending};
use schemars::JsonSchema;
use serde::Serialize;
use tamga_core::check::assess::Answer;
use tamga_core::check::client::{Client, Outcome, agrees};
use tamga_core::check::page::{self, Fate, Page, Part};
use tamga_core::check::redirect::Hop;
use tamga_core::check::wire::Reader;
use tamga_core::finding::{Code, Finding, Severity};
use tamga_core::pki::cert::Certificate;
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_host::clients::{Observed, Visit};
use tamga_host::dial::Met;

/// One client's verdict in one row.
pub struct Row {
    /// The client.
    pub client: Client,
    /// `predicted`, `documented` or `observed`.
    pub basis: &'static str,
    /// What it would do.
    pub outcome: Outcome,
    /// The words with which it says so.
    pub code: Option<String>,
    /// The findings that it acts on.
    pub findings: Vec<&'static str>,
}

/// How a verdict weighs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Weight {
    /// Nobody would warn.
    Good,
    /// Something could not be judged.
    Care,
    /// Somebody would warn, or something is missing.
    Bad,
}

/// What came of one target.
pub struct Checked {
    /// As it was named.
    pub target: String,
    /// The machine whose clients are meant; None for this one.
    pub host: Option<String>,
    /// `live`, `file` or `label`.
    pub kind: &'static str,
    /// What was checked, in one line.
    pub first_line: String,
    /// Good, bad, or blocked where nothing could be reached.
    pub ending: Ending,
    /// The connections, that which was judged first.
    pub met: Vec<Met>,
    /// What is served, leaf first.
    pub chain: Vec<Certificate>,
    /// The longest path that a client found.
    pub path: Vec<Certificate>,
    /// Each verdict.
    pub rows: Vec<Row>,
    /// The findings over all clients.
    pub findings: Vec<Finding>,
    /// What each client that was run printed.
    pub raw: Vec<String>,
    /// What browsers that were run found in the page.
    pub pages: Vec<Page>,
    /// What is worth knowing besides.
    pub remarks: Vec<String>,
    /// The redirects from plain HTTP on.
    pub hops: Vec<Hop>,
    /// What anybody on the way could read.
    pub wire: Reader,
    /// True if that was asked for.
    pub show_wire: bool,
    /// How the installed clients would meet it; None where they do not speak its protocol.
    pub(super) visit: Option<Visit>,
}

impl Checked {
    pub(super) fn new(target: &str, kind: &'static str, first_line: String) -> Checked {
        Checked {
            target: target.to_owned(),
            host: None,
            kind,
            first_line,
            ending: Ending::Good,
            met: Vec::new(),
            chain: Vec::new(),
            path: Vec::new(),
            rows: Vec::new(),
            findings: Vec::new(),
            raw: Vec::new(),
            pages: Vec::new(),
            remarks: Vec::new(),
            hops: Vec::new(),
            wire: Reader::default(),
            show_wire: false,
            visit: None,
        }
    }

    pub(super) fn take(&mut self, answer: &Answer, chain: Vec<Certificate>) {
        self.ending =
            if answer.is_good() || answer.verdicts.iter().all(|v| v.documented || v.outcome == Outcome::Unknown) {
                Ending::Good
            } else {
                Ending::Bad
            };
        self.path = answer
            .verdicts
            .iter()
            .max_by_key(|v| v.judgement.path.len())
            .map(|v| v.judgement.path.clone())
            .unwrap_or_default();
        for v in &answer.verdicts {
            let mut findings: Vec<&'static str> = Vec::new();
            for f in &v.judgement.faults {
                if !findings.contains(&f.code.word()) {
                    findings.push(f.code.word());
                }
            }
            let basis = if v.documented { "documented" } else { "predicted" };
            self.rows.push(Row { client: v.client, basis, outcome: v.outcome, code: v.code.clone(), findings });
        }
        self.findings.clone_from(&answer.findings);
        self.chain = chain;
    }

    pub(super) fn compare(&mut self, client: Client, observed: Option<Observed>) {
        let (Some(observed), Some(predicted)) = (observed, self.rows.iter().find(|r| r.client == client)) else {
            return;
        };
        if observed.outcome != Outcome::Unknown
            && (observed.outcome != predicted.outcome || !agrees(predicted.code.as_deref(), observed.code.as_deref()))
        {
            let said = |o: Outcome, c: &Option<String>| c.clone().unwrap_or_else(|| o.word().to_owned());
            let mut f = Finding::new(Code::PredictionDiffers, client.word()).with_summary(format!(
                "{}: expected \"{}\", seen \"{}\"",
                client.word(),
                said(predicted.outcome, &predicted.code),
                said(observed.outcome, &observed.code)
            ));
            f.clients = vec![client];
            self.findings.push(f);
        }
        if matches!(observed.outcome, Outcome::Warns | Outcome::Refuses) {
            self.ending = Ending::Bad;
        }
        self.raw.push(format!("{}: {}", client.word(), observed.raw));
        let findings = predicted.findings.clone();
        self.rows.push(Row { client, basis: "observed", outcome: observed.outcome, code: observed.code, findings });
    }
}

impl Checked {
    /// The target, and the machine where it is not this one.
    pub fn named(&self) -> String {
        match &self.host {
            Some(host) => format!("{} on {host}", self.target),
            None => self.target.clone(),
        }
    }

    /// What was checked, and over what connection.
    pub fn headline(&self) -> String {
        let connection = self.met.first().map(|m| {
            let exchange = m.key_exchange.as_ref().map(|k| format!(", key exchange {k}")).unwrap_or_default();
            format!(": {}{exchange}{}", m.protocol, if m.staple { ", status stapled" } else { "" })
        });
        let on = self.host.as_ref().map(|h| format!(", judged on {h}")).unwrap_or_default();
        format!("{}{on}{}", self.first_line, connection.unwrap_or_default())
    }

    /// The clients that would warn or refuse, each once; those of other systems do not count.
    pub fn minding(&self) -> Vec<&'static str> {
        let minds = |r: &&Row| r.basis != "documented" && matches!(r.outcome, Outcome::Warns | Outcome::Refuses);
        let mut out: Vec<&'static str> = Vec::new();
        for r in self.rows.iter().filter(minds) {
            if !out.contains(&r.client.word()) {
                out.push(r.client.word());
            }
        }
        out
    }

    /// The verdict in one line, and how it weighs.
    pub fn verdict(&self) -> (Weight, String) {
        let warned = self.minding();
        let unknown = self.rows.iter().filter(|r| r.outcome == Outcome::Unknown);
        let mut unjudged: Vec<&str> = unknown.map(|r| r.client.word()).collect();
        unjudged.dedup();
        let faulty = || self.pages.iter().any(|p| !p.parts.is_empty());
        match () {
            () if self.rows.is_empty() => (Weight::Bad, "no certificate received: the connection failed".to_owned()),
            () if !warned.is_empty() => (Weight::Bad, format!("{} would warn or refuse", warned.join(", "))),
            () if self.ending != Ending::Good && faulty() => (
                Weight::Bad,
                "no client would warn about the certificate, but parts of the page are blocked, missing or not protected"
                    .to_owned(),
            ),
            () if self.ending != Ending::Good => (Weight::Bad, "not good".to_owned()),
            () if self.rows.iter().all(|r| r.outcome != Outcome::Accepts) => {
                (Weight::Care, "no client could be judged".to_owned())
            }
            () if !unjudged.is_empty() => {
                let others = unjudged.join(", ");
                (Weight::Care, format!("no client that was judged would warn; not judged: {others}"))
            }
            () => (Weight::Good, "no client would warn".to_owned()),
        }
    }

    /// What was found in the pages counts like what was found in the chain.
    pub(super) fn take_pages(&mut self, pages: Vec<Page>) {
        for f in page::findings(&pages) {
            if f.severity > Severity::Note {
                self.ending = self.ending.worst(Ending::Bad);
            }
            self.findings.push(f);
        }
        self.pages = pages;
    }
}

#[derive(Serialize, JsonSchema)]
struct Connection {
    address: String,
    protocol: String,
    cipher: String,
    key_exchange: Option<String>,
    alpn: Option<String>,
    staple: bool,
}

/// A page, as a browser that was run saw it.
#[derive(Serialize, JsonSchema)]
struct PageView<'a> {
    #[schemars(with = "report::OneOf<Client>")]
    client: &'static str,
    url: &'a str,
    secure_context: bool,
    /// What it asks for, or sends to, over plain HTTP.
    insecure: Vec<&'a str>,
    refused: Vec<Refused<'a>>,
}

/// A part whose server the browser refused.
#[derive(Serialize, JsonSchema)]
struct Refused<'a> {
    url: &'a str,
    code: &'a str,
}

impl<'a> PageView<'a> {
    fn of(page: &'a Page) -> PageView<'a> {
        let refused = |p: &'a Part| match &p.fate {
            Fate::Refused(code) => Some(Refused { url: &p.url, code }),
            _ => None,
        };
        PageView {
            client: page.client.word(),
            url: &page.url,
            secure_context: page.secure_context,
            insecure: page.insecure(),
            refused: page.parts.iter().filter_map(refused).collect(),
        }
    }
}

#[derive(Serialize, JsonSchema)]
struct Verdict<'a> {
    #[schemars(with = "report::OneOf<Client>")]
    client: &'static str,
    place: (),
    basis: &'static str,
    #[schemars(with = "report::OneOf<Outcome>")]
    verdict: &'static str,
    code: Option<&'a str>,
    findings: &'a [&'static str],
}

impl<'a> Verdict<'a> {
    fn of(r: &'a Row) -> Verdict<'a> {
        Verdict {
            client: r.client.word(),
            place: (),
            basis: r.basis,
            verdict: r.outcome.word(),
            code: r.code.as_deref(),
            findings: &r.findings,
        }
    }
}

#[derive(Serialize, JsonSchema)]
struct Redirect {
    from: String,
    to: String,
    status: u16,
}

#[derive(Serialize, JsonSchema)]
struct View<'a> {
    target: &'a str,
    /// The machine whose clients are meant; absent for this one.
    #[serde(skip_serializing_if = "Option::is_none")]
    host: Option<&'a str>,
    kind: &'static str,
    ok: bool,
    connections: Vec<Connection>,
    #[serde(skip_serializing_if = "Option::is_none")]
    page: Option<PageView<'a>>,
    redirects: Vec<Redirect>,
    chain: Vec<report::CertificateOf>,
    paths: Vec<Vec<Sha256Fingerprint>>,
    clients: Vec<Verdict<'a>>,
    #[serde(serialize_with = "report::findings")]
    #[schemars(with = "Vec<crate::report::FindingView<'static>>")]
    findings: &'a [Finding],
    #[serde(skip_serializing_if = "Option::is_none")]
    wire: Option<WireView<'a>>,
}

crate::report::schema_as!(Checked => View<'static>);

impl Serialize for Checked {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let connection = |m: &Met| Connection {
            address: m.address.to_string(),
            protocol: m.protocol.to_string(),
            cipher: m.cipher.to_string(),
            key_exchange: m.key_exchange.clone(),
            staple: m.staple,
            alpn: m.alpn.as_ref().map(ToString::to_string),
        };
        let redirect = |h: &Hop| {
            let to = h.to.as_ref()?.to_string();
            Some(Redirect { from: h.from.to_string(), to, status: h.status })
        };
        let path: Vec<Sha256Fingerprint> = self.path.iter().map(Certificate::sha256).collect();
        View {
            target: &self.target,
            host: self.host.as_deref(),
            kind: self.kind,
            ok: self.ending == Ending::Good,
            connections: self.met.iter().map(connection).collect(),
            // Chromium's, if it was run: it tells of parts that Firefox is silent about.
            page: self.pages.iter().min_by_key(|p| p.client != Client::Chromium).map(PageView::of),
            redirects: self.hops.iter().filter_map(redirect).collect(),
            chain: self.chain.iter().map(report::CertificateOf::from).collect(),
            paths: if path.is_empty() { vec![] } else { vec![path] },
            clients: self.rows.iter().map(Verdict::of).collect(),
            findings: &self.findings,
            wire: self.show_wire.then(|| WireView::of(&self.wire)),
        }
        .serialize(s)
    }
}
