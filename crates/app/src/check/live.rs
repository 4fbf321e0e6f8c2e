//! A server that is connected to: at every address that its name leads to.

use super::{Around, Checked, hops};
use crate::env::Env;
use crate::failure::Result;
use crate::report::Outcome as Ending;
use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;
use tamga_core::check::client::case::Spoken;
use tamga_core::check::client::{Client, Outcome};
use tamga_core::check::suite_kind::Kind;
use tamga_core::finding::{Code, Finding, Severity};
use tamga_core::pki::cert::Certificate;
use tamga_core::stores::trust::hsts;
use tamga_core::vocabulary::name::Name;
use tamga_host::clients::Visit;
use tamga_host::dial::{self, Ask, Met, Missed, Prelude};

/// Upper bound on the addresses of one name that are asked.
const MOST_ADDRESSES: usize = 8;

/// Where a server is reached, and how its protocol begins.
pub(super) struct Meeting {
    pub(super) host: Name,
    pub(super) port: u16,
    pub(super) prelude: Prelude,
    /// Of a WebSocket.
    pub(super) path: String,
}

/// Connects, and judges what the server shows.
pub(super) fn live(env: &Env, around: &Around<'_>, typed: &str, meeting: &Meeting) -> Result<Checked> {
    let Meeting { host, port, prelude, .. } = meeting;
    let shown = match prelude {
        Prelude::None => format!("https://{}:{port}/", bracketed(host)),
        _ => typed.to_owned(),
    };
    let mut checked = Checked::new(typed, "live", format!("{shown}, a live server"));
    let mut met = match everywhere(around, meeting) {
        Ok(met) => met,
        Err(missed) => {
            checked.wire = *missed.wire.clone();
            return failed(env, around, checked, host, &missed);
        }
    };
    let first = met.remove(0);
    let sent = match parsed(around, &first) {
        Ok(sent) => sent,
        Err(e) => {
            checked.ending = Ending::Bad;
            checked.findings.push(Finding::new(Code::Malformed, host.to_string()).with_summary(e.to_string()));
            checked.met = vec![first];
            return Ok(checked);
        }
    };
    let answer = around.ask(
        &sent.chain,
        std::slice::from_ref(host),
        Some(spoken(&sent, &first)),
        *prelude == Prelude::Postgres,
    )?;
    checked.take(&answer, sent.chain);
    checked.wire.clone_from(&first.wire);
    if let Some(suite) = first.suite {
        checked.remarks.push(format!(
            "the server takes only {}, which Tamga does not speak itself: the chain was read and judged, and not used",
            Kind::of(suite).words()
        ));
    }
    if let Some(why) = &first.not_upgraded {
        let mut f = Finding::new(why.code, host.to_string())
            .with_summary(format!("there is no WebSocket: {}", why.detail))
            .with_remedy("check the path, and that the server or the proxy before it passes the upgrade on");
        f.severity = Severity::Error;
        checked.findings.insert(0, f);
        checked.ending = Ending::Bad;
    }
    about_client(around, &mut checked, host, &first);
    remembered(around, &mut checked, host, *port);
    over_tls_alone(env, around, &mut checked, host);
    for other in met.iter().filter(|m| m.chain != first.chain) {
        elsewhere(around, &mut checked, meeting, &first, other)?;
    }
    // Neither curl nor a browser speaks the other protocols; psql speaks one.
    if matches!(prelude, Prelude::None | Prelude::WebSocket | Prelude::Postgres) {
        let page = (*prelude == Prelude::None).then(|| meeting.path.clone());
        let of_database = *prelude == Prelude::Postgres;
        checked.visit = Some(Visit { host: host.clone(), address: first.address, page, of_database });
    }
    // What visitors meet who type the bare name.
    if *port == 443 && *prelude == Prelude::None {
        hops::beside(around, &mut checked, host, first.address.ip());
    }
    checked.met = vec![first];
    checked.met.extend(met);
    Ok(checked)
}

/// Every address that answers; if none does, why the one that got furthest did not.
fn everywhere(around: &Around<'_>, meeting: &Meeting) -> std::result::Result<Vec<Met>, Missed> {
    let Meeting { host, port, prelude, path } = meeting;
    let mut addresses: Vec<SocketAddr> = dial::resolve(host, *port, &around.resolve)?;
    addresses.dedup();
    let (mut met, mut last) = (Vec::new(), None);
    for address in addresses.into_iter().take(MOST_ADDRESSES) {
        match dial::meet(&Ask { host, prelude: *prelude, path, shown: around.shown.as_ref() }, address) {
            Ok(m) => met.push(m),
            Err(missed) => {
                if last.as_ref().is_none_or(|l: &Missed| l.code == Code::RefusedConnection) {
                    last = Some(missed);
                }
            }
        }
    }
    match (met.is_empty(), last) {
        (false, _) => Ok(met),
        (true, last) => Err(last.unwrap_or(Missed::new(Code::UnresolvedName, host.to_string()))),
    }
}

/// Errors: the ledger cannot be read.
fn failed(env: &Env, around: &Around<'_>, mut checked: Checked, host: &Name, missed: &Missed) -> Result<Checked> {
    let unreachable = matches!(missed.code, Code::UnresolvedName | Code::RefusedConnection | Code::SilentConnection);
    checked.ending = if unreachable { Ending::Blocked } else { Ending::Bad };
    let mut f = Finding::new(missed.code, host.to_string());
    f.summary = format!("{} ({})", f.summary, missed.detail);
    let is_for_hosts = host.to_string().parse::<Name>().is_ok();
    if missed.code == Code::UnresolvedName && is_for_hosts {
        f.remedy = format!(
            "{}tamga hosts add {host} if it is this machine, or check with --resolve {host}=127.0.0.1",
            env.raise()
        );
    }
    f.severity = Severity::Error;
    f.clients.clone_from(&around.clients);
    // A server with a key that is not its certificate's says nothing of it, or that nothing is in common: the files do.
    if matches!(missed.code, Code::HandshakeRefused | Code::NoCommonCipher)
        && let Some(wrong) = around.wrong_key(env, host)?
    {
        f = Finding { summary: format!("{} ({})", wrong.summary, missed.detail), ..wrong };
        // Nobody says that this server reads these files.
        f.remedy.push_str("; or check the right port, if this one is another service's");
        f.severity = Severity::Error;
        f.clients.clone_from(&around.clients);
    }
    checked.findings.push(f);
    Ok(checked)
}

/// What the server sent, and what of it has not the shape of a certificate.
struct Sent {
    chain: Vec<Certificate>,
    junk: Vec<(usize, Vec<u8>)>,
}

/// Errors: already the first is no certificate.
fn parsed(around: &Around<'_>, met: &Met) -> tamga_core::error::Result<Sent> {
    let mut sent = Sent { chain: Vec::new(), junk: Vec::new() };
    for (place, der) in met.chain.iter().enumerate() {
        match around.certificate(der) {
            Some(c) => sent.chain.push(c),
            None if place == 0 => return Certificate::read(der, "what the server sent").map(|_| sent),
            None => sent.junk.push((place, der.clone())),
        }
    }
    Ok(sent)
}

/// What the connection showed beside the certificates.
fn spoken<'a>(sent: &'a Sent, met: &Met) -> Spoken<'a> {
    let is_tls12 = met.protocol == "TLS 1.2";
    let is_p521 = met.key_exchange.as_deref() == Some("secp521r1");
    let (suite, demands_client) = (met.suite, met.refused.is_some());
    Spoken { junk: &sent.junk, demands_client, is_tls12, suite, is_p521, ..Spoken::default() }
}

/// What the server makes of the client's certificate, or of none.
fn about_client(around: &Around<'_>, checked: &mut Checked, host: &Name, met: &Met) {
    if !met.wants_client {
        if around.shown.is_some() {
            checked.remarks.push("the server asked for no client certificate: none was shown".into());
        }
        return;
    }
    match (&around.shown, &met.refused) {
        // The clients say so in their own words; where none of those asked notices, it is said once.
        (None, Some(said)) => {
            if checked.findings.iter().any(|f| f.code == Code::ClientCertificateWanted) {
                return;
            }
            let mut f = Finding::new(Code::ClientCertificateWanted, host.to_string())
                .with_summary(format!("the server demands a client certificate and was shown none: {said}"))
                .with_remedy("pass one: --client-certificate LABEL");
            f.severity = Severity::Error;
            checked.ending = checked.ending.worst(Ending::Bad);
            checked.findings.insert(0, f);
        }
        (None, None) => checked.findings.push(Finding::new(Code::ClientCertificateWanted, host.to_string())),
        (Some(_), None) => {
            checked.remarks.push("the server asked for a client certificate and took the one shown".into())
        }
        (Some(_), Some(said)) => {
            let mut f = Finding::new(Code::ClientCertificateWanted, host.to_string())
                .with_summary(format!("the server does not take the client certificate that it was shown: {said}"))
                .with_remedy("give the server the root under which that certificate was issued");
            f.severity = Severity::Error;
            checked.ending = checked.ending.worst(Ending::Bad);
            checked.findings.insert(0, f);
        }
    }
}

/// Where a browser remembers an exception, the missing warning proves nothing.
fn remembered(around: &Around<'_>, checked: &mut Checked, host: &Name, port: u16) {
    let typed = host.to_string();
    for e in around.exceptions.iter().filter(|e| e.host == typed && e.port == port) {
        let client = Client::from_str(e.client);
        if !client.as_ref().is_ok_and(|c| around.clients.contains(c)) {
            continue;
        }
        let place = format!("{}:{}", e.host, e.port);
        let mut f = Finding::new(Code::ExceptionRemembered, place.clone()).with_summary(format!(
            "{} remembers an exception for {place}: it shows no warning, whatever is served",
            e.client
        ));
        if e.client == "firefox" {
            f.remedy = format!("tamga trust remove --exception {place}");
        }
        f.clients.extend(client);
        checked.findings.push(f);
    }
}

/// Where a browser remembers Strict-Transport-Security, a warning has no button to go on.
fn over_tls_alone(env: &Env, around: &Around<'_>, checked: &mut Checked, host: &Name) {
    for mut f in hsts(env, around, &host.to_string()) {
        let warns = checked.rows.iter().any(|r| f.clients.contains(&r.client) && r.outcome == Outcome::Warns);
        if warns {
            f.summary.push_str(": its warning about the certificate has no button to go on");
            f.severity = Severity::Warning;
        }
        checked.findings.push(f);
    }
}

/// What browsers remember of a host: one finding for each that is one of the clients asked about.
pub(super) fn hsts(env: &Env, around: &Around<'_>, host: &str) -> Vec<Finding> {
    let all = hsts::remembered(&env.machine, host);
    let of = |client: Client| {
        let r = all.iter().filter(|r| r.client == client).max_by_key(|r| r.until)?;
        let whose =
            if r.domain == host { String::new() } else { format!(", by what {} said of its subdomains", r.domain) };
        let mut f = Finding::new(Code::HstsRemembered, host).with_summary(format!(
            "{} remembers until {} that {host} is asked over HTTPS alone, on every port{whose}",
            client.title(),
            r.until.date()
        ));
        f.remedy = match client {
            Client::Firefox => format!("in Firefox's history choose Forget About This Site for a page of {}", r.domain),
            _ => format!("in Chromium open chrome://net-internals/#hsts and delete the policy of {}", r.domain),
        };
        f.clients.push(client);
        Some(f)
    };
    [Client::Chromium, Client::Firefox].into_iter().filter(|c| around.clients.contains(c)).filter_map(of).collect()
}

/// Another address of the same name that shows another certificate.
fn elsewhere(around: &Around<'_>, checked: &mut Checked, meeting: &Meeting, first: &Met, other: &Met) -> Result<()> {
    let (here, there) = (first.address, other.address);
    let Ok(sent) = parsed(around, other) else {
        checked.ending = Ending::Bad;
        let f = Finding::new(Code::Malformed, there.to_string())
            .with_summary(format!("{there} sends something that is no certificate"));
        checked.findings.push(f);
        return Ok(());
    };
    let (names, of_database) = (std::slice::from_ref(&meeting.host), meeting.prelude == Prelude::Postgres);
    let answer = around.ask(&sent.chain, names, Some(spoken(&sent, other)), of_database)?;
    let verdict = if answer.is_good() { "which is good too" } else { "and there clients would warn" };
    checked.remarks.push(format!("{there} shows another certificate than {here}, {verdict}"));
    if !answer.is_good() {
        checked.ending = checked.ending.worst(Ending::Bad);
        for mut f in answer.findings.iter().filter(|f| f.severity == Severity::Error).cloned() {
            f.about = format!("{} at {there}", f.about);
            f.summary = format!("at {there}: {}", f.summary);
            checked.findings.push(f);
        }
    }
    Ok(())
}

fn bracketed(host: &Name) -> String {
    match host {
        Name::Ip(IpAddr::V6(a)) => format!("[{a}]"),
        other => other.to_string(),
    }
}
