//! Would anyone warn, why, and what to do: verdicts of clients and findings about one chain.

use crate::ca::report::{Authority, Issued};
use crate::check::client::case::Spoken;
use crate::check::client::case::{ChainFault, Input};
use crate::check::client::view::{Around, TrustView, Unreadable};
use crate::check::client::{Client, Outcome, Verdict};
use crate::check::predict::{covers, predict};
use crate::check::{address_limits, ledger};
use crate::finding::{Code, Finding, Severity, entry};
use crate::pki::cert::crl::Crl;
use crate::pki::cert::{Certificate, subject};
use crate::pki::chain::name_match;
use crate::pki::chain::revocation::Revocation;
use crate::pki::key::Strength;
use crate::pki::signature;
use crate::vocabulary::client_id::Roots;
use crate::vocabulary::name::{Name, Remark};
use crate::vocabulary::purpose::JudgedPurpose;
use crate::vocabulary::text::Shown;
use crate::vocabulary::timestamp::{DAY, Timestamp};

/// What is to be judged, and what is known around it.
pub struct Question<'a> {
    /// The chain, leaf first.
    pub served: &'a [Certificate],
    /// Further intermediates.
    pub extra: &'a [Certificate],
    /// The hosts under which it is visited; empty leaves names out.
    pub names: &'a [Name],
    /// The purpose; None takes any.
    pub purpose: Option<JudgedPurpose>,
    /// Judged as of then.
    pub at: Timestamp,
    /// Revocation lists that are at hand.
    pub lists: &'a [Crl],
    /// How much they count.
    pub revocation: Revocation,
    /// Each client with what it trusts.
    pub views: &'a [(Client, &'a TrustView)],
    /// The ledger's authorities.
    pub authorities: &'a [Authority],
    /// The ledger's certificates.
    pub issued: &'a [Issued],
    /// True for one of these whose key never was here: signed for a device, or found alone.
    pub keyless: &'a dyn Fn(&Issued) -> bool,
    /// True if a server sent it.
    pub live: bool,
    /// What the connection showed beside the certificates.
    pub spoken: Spoken<'a>,
    /// True if the anchors were given with `--anchor` and the stores do not matter.
    pub anchored: bool,
    /// What must stand before a command that changes the machine's stores: `sudo `, or nothing with rights.
    pub raise: &'a str,
    /// The machine whose clients are meant, where it is another than this one.
    pub on: Option<&'a str>,
}

/// The answer.
#[derive(Debug, Default)]
pub struct Answer {
    /// One verdict a client: of several names the worst.
    pub verdicts: Vec<Verdict>,
    /// What is wrong, gravest first.
    pub findings: Vec<Finding>,
}

impl Answer {
    /// True if no client would warn; an unknown verdict does not count.
    pub fn is_good(&self) -> bool {
        let off = self.findings.iter().any(|f| f.code == Code::VerificationOff);
        let counts = || self.verdicts.iter().filter(|v| !v.documented);
        !off && counts().all(|v| matches!(v.outcome, Outcome::Accepts | Outcome::Unknown))
            && counts().any(|v| v.outcome == Outcome::Accepts)
    }
}

/// Judges.
pub fn assess(q: &Question<'_>) -> Answer {
    let mut answer = Answer::default();
    let around = Around::of(q.served.iter().chain(q.extra));
    for (client, view) in q.views {
        let verdict = verdict(q, *client, view, &around);
        for fault in &verdict.judgement.faults {
            add(&mut answer.findings, of_fault(q, *client, view, &verdict, fault));
            if matches!(fault.code, Code::IssuerUnknown | Code::BadSignature)
                && let Some(f) = older_root(q, *client, view, verdict.judgement.path.get(fault.depth))
            {
                add(&mut answer.findings, f);
            }
        }
        for f in &view.findings {
            add(&mut answer.findings, Finding { clients: vec![*client], ..f.clone() });
        }
        answer.verdicts.push(verdict);
    }
    let served = ledger::Served { chain: q.served, names: q.names, issued: q.issued, keyless: q.keyless, live: q.live };
    for f in about_the_chain(q).into_iter().chain(ledger::compared(&served)) {
        add(&mut answer.findings, f);
    }
    one_remedy(q, &mut answer.findings);
    let counted = |c: &Client| answer.verdicts.iter().any(|v| v.client == *c && !v.documented);
    let bad = answer.verdicts.iter().any(|v| !v.documented && matches!(v.outcome, Outcome::Warns | Outcome::Refuses));
    for f in &mut answer.findings {
        // What only clients of other systems mind does not decide here.
        if f.severity == Severity::Error && !f.clients.is_empty() && !f.clients.iter().any(counted) {
            f.severity = Severity::Warning;
        }
        if f.code == Code::NotTheIssuedCertificate && !bad {
            f.severity = Severity::Warning;
        }
    }
    answer.findings.sort_by_key(|f| (std::cmp::Reverse(f.severity), f.code != Code::NotTheIssuedCertificate));
    answer
}

/// What one step fixes has one remedy: the right certificate in the server, or a renewal.
fn one_remedy(q: &Question<'_>, findings: &mut [Finding]) {
    let right = findings.iter().find(|f| f.code == Code::NotTheIssuedCertificate).map(|f| f.remedy.clone());
    let known = q.served.first().and_then(|leaf| q.issued.iter().find(|i| i.certificate == *leaf));
    let renewed = known.map(|i| format!("tamga renew {}, then reload the server", i.label));
    for f in findings {
        let one = match f.code {
            Code::NameNotCovered | Code::SelfSignedLeaf => right.as_ref(),
            Code::Expired | Code::EndsSoon => right.as_ref().or(renewed.as_ref()),
            _ => None,
        };
        if let Some(remedy) = one {
            f.remedy.clone_from(remedy);
        }
    }
}

fn verdict(q: &Question<'_>, client: Client, view: &TrustView, around: &Around) -> Verdict {
    let none = [None];
    let some: Vec<Option<&Name>> = q.names.iter().map(Some).collect();
    let names: &[Option<&Name>] = if some.is_empty() { &none } else { &some };
    let anchors = view.near(around);
    let mut worst: Option<Verdict> = None;
    for name in names {
        let input = Input {
            served: q.served,
            extra: q.extra,
            anchors: &anchors,
            distrusted: &view.distrusted,
            distrusted_keys: &view.distrusted_keys,
            name: *name,
            purpose: q.purpose,
            at: q.at,
            lists: q.lists,
            revocation: q.revocation,
            spoken: q.spoken,
        };
        let verdict = predict(client, &input);
        if worst.as_ref().is_none_or(|w| verdict.outcome > w.outcome) {
            worst = Some(verdict);
        }
    }
    let mut verdict = worst.unwrap_or(Verdict {
        client,
        outcome: Outcome::Unknown,
        code: None,
        judgement: Default::default(),
        documented: false,
    });
    verdict.documented = view.documented;
    if let Some(why) = view.unreadable.as_ref().filter(|_| !q.anchored) {
        let (outcome, why) = match why {
            Unreadable::Refuses(why) => (Outcome::Refuses, why),
            Unreadable::Unknown(why) => (Outcome::Unknown, why),
        };
        (verdict.outcome, verdict.code) = (outcome, Some(why.clone()));
    } else if q.names.is_empty() && client != Client::Standard && verdict.outcome == Outcome::Accepts {
        verdict.outcome = Outcome::Unknown;
    }
    verdict
}

fn add(findings: &mut Vec<Finding>, new: Finding) {
    match findings.iter_mut().find(|f| f.code == new.code && f.about == new.about && f.remedy == new.remedy) {
        Some(f) => {
            f.severity = f.severity.max(new.severity);
            for c in new.clients {
                if !f.clients.contains(&c) {
                    f.clients.push(c);
                }
            }
        }
        None => findings.push(new),
    }
}

/// True if a trusted root signed the top of a path, whatever else the client minds about it.
fn is_there(view: &TrustView, top: &Certificate) -> bool {
    view.anchors.iter().any(|a| a == top || subject::same(&a.subject, &top.issuer) && top.signed_by(a).is_ok())
}

/// The authority of our ledger whose key signed the top of a path.
fn our_authority<'a>(q: &'a Question<'_>, top: &Certificate) -> Option<&'a Authority> {
    q.authorities
        .iter()
        .find(|a| subject::same(&a.certificate.subject, &top.issuer) && top.signed_by(&a.certificate).is_ok())
}

fn of_fault(q: &Question<'_>, client: Client, view: &TrustView, verdict: &Verdict, fault: &ChainFault) -> Finding {
    let path = &verdict.judgement.path;
    let about = path.get(fault.depth).map_or_else(String::new, Certificate::subject_words);
    let mut f = Finding::new(fault.code, about);
    f.severity = Severity::Error;
    f.clients = vec![client];
    match fault.code {
        Code::IssuerUnknown => {
            f.about = fault.detail.clone();
            match path.get(fault.depth).and_then(|t| our_authority(q, t)) {
                Some(a) => {
                    let label = &a.label;
                    f = f.with_summary(format!("the root of {label} is in no store that these clients read"));
                    f.remedy = trusting(q, client, label);
                }
                None if path.iter().any(|c| view.distrusts(c)) => {
                    f = f
                        .with_summary("it is marked as distrusted in the store")
                        .with_remedy("remove that entry from the store");
                }
                None if path.last().is_some_and(|c| is_there(view, c)) => {
                    f = f
                        .with_summary("the client does not accept the root in its store as the issuer of this chain")
                        .with_remedy("issue under an authority whose certificate and limits this client reads");
                }
                None => {
                    f.remedy = "put the root of this authority into the store, or check with --anchor ROOT.pem".into()
                }
            }
        }
        Code::SelfSignedLeaf if q.issued.iter().any(|i| Some(&i.certificate) == path.first()) => {
            f.remedy =
                "put certificate.pem itself into the client's store, or use an authority: tamga setup NAME".into();
        }
        Code::NameNotCovered => {
            let names: Vec<String> = q
                .names
                .iter()
                .filter(|n| path.first().is_some_and(|c| !covers(client, c, n)))
                .map(ToString::to_string)
                .collect();
            f.about = names.join(", ");
            f = f.with_summary(format!(
                "the certificate does not name {}; it names {}",
                names.join(", "),
                some_of(&fault.detail)
            ));
            f.remedy = format!("issue one that does: tamga issue {}", names.join(" "));
        }
        Code::PurposeMissing if q.purpose.is_some_and(|p| p != JudgedPurpose::Server) => {
            let purpose = q.purpose.map_or("", JudgedPurpose::word);
            f = f
                .with_summary(format!("the extended key usage does not allow the purpose {purpose}"))
                .with_remedy("use a certificate that was issued for this purpose: tamga issue NAME --purpose PURPOSE");
        }
        Code::IpConstraintUnsupported => {
            f.about = fault.detail.clone();
            f = f.with_summary(format!(
                "the certificate names {} under an authority that limits addresses, which these clients do not know",
                fault.detail
            ));
            f.remedy = address_limits::remedy(path.first());
        }
        Code::ConstraintViolated if !fault.detail.is_empty() => {
            f = f.with_summary(format!("{} lies outside what its authority may certify", fault.detail));
            f.about = fault.detail.clone();
        }
        Code::Revoked => {
            f = f.with_summary(format!(
                "its authority's revocation list says: revoked {}; only clients that read the list notice",
                fault.detail
            ));
            f.remedy = match q.issued.iter().find(|i| path.get(fault.depth) == Some(&i.certificate)) {
                Some(i) => format!("tamga renew {}, then reload the server", i.label),
                None => "ask its authority for a new one".into(),
            };
        }
        Code::RevocationUnknown => {
            f = f.with_summary(format!("its revocation status is unknown: {}", fault.detail));
            if let Some(a) = path.get(fault.depth).and_then(|c| our_authority(q, c)) {
                f.remedy = format!("tamga authority crl {} --output FILE, then --crl FILE", a.label);
            }
        }
        Code::Expired | Code::NotYetValid => {
            f.summary = format!("{}: {}", entry(fault.code).summary, fault.detail);
        }
        _ if !fault.detail.is_empty() && fault.detail != f.about => {
            f.summary = format!("{} ({})", entry(fault.code).summary, fault.detail);
        }
        _ => {}
    }
    f
}

/// A list of names for a person: the first of many.
fn some_of(names: &str) -> String {
    const MOST: usize = 8;
    let all: Vec<&str> = names.split(", ").collect();
    match all.len() {
        _ if names.is_empty() => "nothing".into(),
        n if n > MOST => format!("{} and {} more", all[..MOST].join(", "), n - MOST),
        _ => names.to_owned(),
    }
}

/// The command that puts our root where the client looks.
fn trusting(q: &Question<'_>, client: Client, label: &str) -> String {
    if let Some(host) = q.on {
        return format!("tamga trust add {label} --on {host}");
    }
    match client {
        _ if q.anchored => format!("give the root of {label} with --anchor"),
        Client::Curl => {
            format!("{}tamga trust add {label} --scope machine (or for one call: curl --cacert root.pem)", q.raise)
        }
        Client::Psql => "tamga run -- psql …, or eval \"$(tamga trust environment --replacing)\"".into(),
        Client::Node | Client::Deno => {
            format!("eval \"$(tamga trust environment)\", or for one call: tamga run -- {client} …")
        }
        _ if client.roots() == Roots::Machine => format!("{}tamga trust add {label} --scope machine", q.raise),
        Client::Java => format!("{}tamga trust add {label} --stores java", q.raise),
        Client::Safari => format!("on the Mac: tamga trust add {label} --stores macos-user"),
        Client::Windows => format!("on Windows: tamga trust add {label} --stores windows-user"),
        _ => format!("tamga trust add {label}"),
    }
}

/// A trusted root that has the issuer's name but did not sign.
fn older_root(q: &Question<'_>, client: Client, view: &TrustView, top: Option<&Certificate>) -> Option<Finding> {
    let top = top?;
    let other = view.anchors.iter().find(|a| subject::same(&a.subject, &top.issuer) && top.signed_by(a).is_err())?;
    let place = view.sources.first().map(|p| p.shown()).unwrap_or_default();
    let label = our_authority(q, top).map(|a| a.label.to_string()).unwrap_or_default();
    let mut f = Finding::new(Code::OlderRootTrusted, other.subject_words())
        .with_summary(format!(
            "{place} holds another root of that name (SHA-256 {}…), whose key did not sign this",
            &other.sha256()[..16]
        ))
        .with_remedy(trusting(q, client, &label));
    f.clients = vec![client];
    Some(f)
}

/// What is worth knowing though nobody refuses because of it.
fn about_the_chain(q: &Question<'_>) -> Vec<Finding> {
    let mut out = Vec::new();
    let Some(leaf) = q.served.first() else { return out };
    if q.names.is_empty() {
        out.push(Finding::new(Code::NameNotJudged, leaf.subject_words()));
    }
    if leaf.not_after >= q.at && leaf.not_after.plus(-30 * DAY) < q.at {
        out.push(Finding::new(Code::EndsSoon, leaf.subject_words()).with_summary(format!(
            "the certificate ends on {}, in {} days",
            leaf.not_after.date(),
            leaf.not_after.days_after(q.at)
        )));
    }
    if let Some(address) = name_match::has_address_as_dns(leaf) {
        out.push(Finding::new(Code::AddressAsDnsName, address));
    }
    if leaf.is_ca() {
        out.push(Finding::new(Code::CaAsLeaf, leaf.subject_words()));
    }
    if q.served.iter().skip(1).any(|c| c.is_self_signed()) {
        out.push(Finding::new(Code::RootServed, leaf.subject_words()));
    }
    let in_order = q.served.windows(2).all(|w| subject::same(&w[0].issuer, &w[1].subject));
    if !in_order {
        out.push(Finding::new(Code::ChainMisordered, leaf.subject_words()));
    }
    if q.served.windows(2).any(|w| subject::same(&w[0].issuer, &w[1].subject) && w[0].not_after > w[1].not_after) {
        out.push(Finding::new(Code::OutlivesIssuer, leaf.subject_words()));
    }
    for c in q.served {
        if signature::is_weak(&c.algorithm.oid) && !c.is_self_signed() {
            out.push(Finding::new(Code::WeakSignature, c.subject_words()));
        }
        if matches!(c.key.strength(), Strength::Rsa(bits) if bits < 2048) {
            out.push(Finding::new(Code::WeakKey, c.subject_words()));
        }
    }
    for name in q.names.iter().filter(|n| n.remarks().contains(&Remark::Public)) {
        if q.authorities.iter().any(|a| leaf.signed_by(&a.certificate).is_ok()) {
            out.push(Finding::new(Code::PublicName, name.to_string()));
        }
    }
    out
}
