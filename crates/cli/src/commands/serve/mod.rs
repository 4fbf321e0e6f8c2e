//! `tamga serve LABEL`.

mod page;

pub(crate) use page::page;

use super::issue::current;
use crate::args::SecretArgs;
use crate::exit::{Done, Result};
use crate::session::{Session, key_of, stored_key};
use crate::words::{human, json};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use tamga_core::authority::{self, CERTIFICATE_FILE, KEY_FILE};
use tamga_core::cert::Certificate;
use tamga_core::error::Error;
use tamga_core::fault::{self, Fault};
use tamga_core::form::pem;
use tamga_core::key::PrivateKey;
use tamga_core::name::Name;
use tamga_core::report::Issued;
use tamga_host::fs;
use tamga_host::serve::{self, Content, Line, Minimum, Served, Site, Upstream};

/// How often the folder is looked at for a renewed certificate.
const LOOK_AGAIN: Duration = Duration::from_secs(1);

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga serve charts.saltmarsh.test --port 8443\n          tamga serve charts.saltmarsh.test --folder ./site --redirect-from 8080\n          tamga serve charts.saltmarsh.test --proxy-to http://127.0.0.1:3000"
)]
pub(crate) struct ServeArgs {
    /// A certificate's label
    label: String,
    /// The port on loopback; 0 lets the system choose a free one
    #[arg(long, default_value_t = 0)]
    port: u16,
    /// Serve the files below this folder (never hidden ones, never private keys) [default: a page about the certificate]
    #[arg(long, value_name = "DIR")]
    folder: Option<PathBuf>,
    /// Pass requests and WebSockets on to an application that speaks plain HTTP
    #[arg(long, value_name = "URL", conflicts_with = "folder")]
    proxy_to: Option<String>,
    /// A server that is broken on purpose, so that a lab can try its clients
    #[arg(long, value_name = "FAULT",
          value_parser = ["expired", "not-yet", "wrong-name", "no-intermediate", "old-root", "self-signed", "weak-key"])]
    fault: Option<String>,
    /// Answer plain HTTP on this port with a redirect to HTTPS
    #[arg(long, value_name = "PORT")]
    redirect_from: Option<u16>,
    /// The oldest protocol
    #[arg(long, value_name = "VERSION", default_value = "1.2", value_parser = ["1.2", "1.3"])]
    tls_minimum: String,
    /// Let in only clients that show a certificate of this authority
    #[arg(long, value_name = "LABEL")]
    client_authority: Option<String>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, args: &ServeArgs) -> Result<Done> {
    let meant = &current(session, &args.label)?;
    let fault = args.fault.as_deref().and_then(Fault::parse);
    let (chain, key) = match fault {
        Some(fault) => broken(session, fault, meant, &args.secrets)?,
        None => identity(meant, &args.secrets)?,
    };
    let clients_under = match &args.client_authority {
        Some(label) => vec![authority::choose(Some(label), &session.authorities()?, false)?.certificate.clone()],
        None => Vec::new(),
    };
    let shown = serve::Page::new(std::sync::RwLock::new(page(meant)));
    let content = match (&args.folder, &args.proxy_to) {
        (_, Some(typed)) => Content::Proxy(Upstream::parse(typed).ok_or_else(|| Error::Word {
            what: "address of an application",
            typed: typed.clone(),
            accepted: "http://HOST:PORT, without a path".into(),
        })?),
        (Some(folder), None) => {
            let failed = tamga_host::error::Error::file("serving", folder);
            let is_folder = std::fs::metadata(folder).map_err(failed)?.is_dir();
            let why = std::io::Error::from(std::io::ErrorKind::NotADirectory);
            if !is_folder {
                return Err(tamga_host::error::Error::file("serving", folder)(why).into());
            }
            Content::Folder(folder.clone())
        }
        (None, None) => Content::Page(shown.clone()),
    };
    let minimum = if args.tls_minimum == "1.3" { Minimum::Tls13 } else { Minimum::Tls12 };
    let is_json = session.common.format != crate::args::Format::Text;
    let quiet = session.common.quiet;
    let site = Site::with(&chain, &key, content, minimum, &clients_under)?.watched(Arc::new(move |line| {
        if !quiet {
            tell(line, is_json);
        }
    }));
    let listeners = serve::bind(args.port)?;
    let port = listeners[0].local_addr().map_or(args.port, |a| a.port());
    let plain = args.redirect_from.map_or(Ok(Vec::new()), serve::bind)?;
    let plain_port = plain.first().and_then(|l| l.local_addr().ok()).map(|a| a.port());
    let urls = urls(&meant.certificate, port);
    if is_json {
        let line = json!({"tamga": 1, "command": "serve", "ok": true, "event": "listening", "port": port, "urls": urls,
            "redirect_port": plain_port, "fault": fault.map(Fault::word)});
        human::json_line(&line);
    } else if !quiet {
        human::out(&format!("{} {} on loopback; Ctrl-C stops\n", human::good("serving"), human::strong(&meant.label)));
        for url in &urls {
            human::out(&format!("  {url}\n"));
        }
        if let Some(typed) = &args.proxy_to {
            human::out(&format!("  {typed} stands behind it\n"));
        }
        if let Some(fault) = fault {
            human::out(&format!(
                "{} {}: {}. A client that takes it without a word does not look.\n",
                human::bad("broken on purpose"),
                fault.word(),
                fault.seen()
            ));
        }
        if let Some(p) = plain_port {
            human::out(&format!("  http on port {p} is sent there (307)\n"));
        }
    }
    let runtime = serve::runtime().map_err(|source| tamga_host::error::Error::Port { port, source })?;
    let served = site.served();
    runtime.block_on(async {
        let renewals = renewals(session, meant, &args.secrets, &served, &shown);
        tokio::select! {
            done = serve::run(listeners, plain, site, stopped()) => done,
            () = renewals, if fault.is_none() => Ok(()),
        }
    })?;
    Ok(Done::good("stopped\n".into(), json!({"event": "stopped", "port": port})))
}

/// A certificate that is wrong on purpose, in memory alone; the ledger knows that there was one.
fn broken(session: &Session, fault: Fault, meant: &Issued, secrets: &SecretArgs) -> Result<(Vec<Vec<u8>>, PrivateKey)> {
    let all = session.authorities()?;
    let Some(a) = meant.authority.as_deref().and_then(|label| all.iter().find(|a| a.label == label)) else {
        return Err(Error::Contradiction {
            what: format!("{} has no authority whose certificates could go wrong", meant.label),
            why: "it is self-signed, or its authority is not in this data folder".into(),
            instead: "take one that was issued under an authority: tamga list".into(),
        }
        .into());
    };
    let key = match fault.needs_the_authority() {
        true => Some(session.authority_key(a, secrets)?),
        false => None,
    };
    let names: Vec<Name> = meant.certificate.name_words().iter().filter_map(|n| Name::parse(n).ok()).collect();
    let made = fault::make(fault, &names, a, key.as_ref(), session.now, &tamga_host::entropy::System)?;
    let (_lock, ledger) = session.open_for_change()?;
    let said = format!("{}: serial {}, in memory only", fault.word(), made.chain[0].serial);
    ledger.note(session.now, "fault served", &meant.label, &said)?;
    Ok((made.chain.iter().map(|c| c.der().to_vec()).collect(), made.key))
}

/// One answer in one line.
fn tell(line: &Line, is_json: bool) {
    let at = tamga_host::entropy::now();
    let path = tamga_core::text::harmless(&line.path);
    if is_json {
        let object = json!({"event": "request", "at": at.to_string(), "peer": line.peer.ip().to_string(), "method": line.method,
            "path": line.path, "status": line.status, "length": line.length, "protocol": line.protocol, "http": line.http});
        human::json_line(&object);
    } else {
        let status = if line.status < 400 {
            human::good(&line.status.to_string())
        } else {
            human::bad(&line.status.to_string())
        };
        let words = format!(
            "{at} {} {} {path} {status} {} {} {}\n",
            line.peer.ip(),
            line.method,
            line.length,
            line.protocol,
            line.http
        );
        human::line(&words);
    }
}

/// Serves a renewed certificate as soon as it stands in the folder whole. Never ends by itself.
async fn renewals(session: &Session, meant: &Issued, secrets: &SecretArgs, served: &Served, shown: &serve::Page) {
    let is_json = session.common.format != crate::args::Format::Text;
    let mut now = meant.certificate.sha256();
    loop {
        tokio::time::sleep(LOOK_AGAIN).await;
        let place = meant.folder.join(CERTIFICATE_FILE);
        let Some(new) = fs::read_regular(&place).ok().and_then(|b| pem::certificates(&b).into_iter().next()) else {
            continue;
        };
        let Ok(certificate) = Certificate::read(&new, "it") else { continue };
        if certificate.sha256() == now {
            continue;
        }
        let asks = stored_key(&meant.label, &meant.folder.join(KEY_FILE)).is_ok_and(|k| k.is_locked())
            && secrets.passphrase_file.is_none()
            && secrets.passphrase_env.is_none();
        let renewed = Issued { certificate: certificate.clone(), ..meant.clone() };
        now = certificate.sha256();
        if asks {
            human::aside(&session.common, "the certificate was renewed; its key needs a passphrase: start serve again");
            continue;
        }
        if let Err(_) | Ok(Err(_)) = identity(&renewed, secrets).map(|(chain, key)| served.replace(&chain, &key)) {
            // Between the two renames the key is the other one's: the next look finds both.
            now.clear();
            continue;
        }
        *shown.write().unwrap_or_else(|e| e.into_inner()) = page(&renewed);
        if is_json {
            human::json_line(&json!({"event": "renewed", "sha256": certificate.sha256()}));
        } else if !session.common.quiet {
            let until = certificate.not_after.date();
            human::out(&format!(
                "{} the renewed certificate is served from now on, until {until}\n",
                human::good("renewed")
            ));
        }
    }
}

/// Ctrl-C, or the signal by which service managers stop a program.
#[cfg(unix)]
pub(crate) async fn stopped() {
    use tokio::signal::unix::{SignalKind, signal};
    match signal(SignalKind::terminate()) {
        Ok(mut terminate) => {
            tokio::select! {
                _ = tokio::signal::ctrl_c() => {}
                _ = terminate.recv() => {}
            }
        }
        Err(_) => {
            let _ = tokio::signal::ctrl_c().await;
        }
    }
}

/// Ctrl-C.
#[cfg(not(unix))]
pub(crate) async fn stopped() {
    let _ = tokio::signal::ctrl_c().await;
}

/// The chain and key of a certificate, from its folder; the key is its own.
pub(crate) fn identity(i: &Issued, secrets: &SecretArgs) -> Result<(Vec<Vec<u8>>, PrivateKey)> {
    let path = i.folder.join(CERTIFICATE_FILE);
    let bytes = fs::read_named(&path)?;
    Ok((pem::certificates(&bytes), key_of(&i.label, &i.folder, &i.certificate, secrets)?))
}

fn urls(c: &Certificate, port: u16) -> Vec<String> {
    c.name_words()
        .iter()
        .filter(|n| !n.starts_with("*.") && !n.contains('@') && !n.contains("//"))
        .map(|n| if n.contains(':') { format!("https://[{n}]:{port}/") } else { format!("https://{n}:{port}/") })
        .collect()
}
