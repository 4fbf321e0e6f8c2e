//! `tamga serve LABEL`.

mod page;

use crate::values;
use page::page;
use schemars::JsonSchema;
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;

use crate::args::{Format, SecretArgs};
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, to_json};
use serde::Serialize;
use std::path::PathBuf;
use std::sync::Arc;
use tamga_app::serve::{self, Listening, Renewal, Request, Shows};
use tamga_core::ca::fault::ServerFault;
use tamga_host::serve::{Happened, Line};

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga serve --proxy-to 3000\n          tamga serve charts.saltmarsh.test --folder ./site --redirect-from 8080"
)]
pub(crate) struct ServeArgs {
    /// A certificate's label [default: the only one, or the one that names localhost]
    label: Option<Label>,
    /// The port on loopback; 0 lets the system choose a free one
    #[arg(long, default_value_t = 0)]
    port: u16,
    /// Serve the files below this directory (never hidden ones, never private keys) [default: a page about the certificate]
    #[arg(long, value_name = "DIR")]
    folder: Option<PathBuf>,
    /// Serve HTTPS in front of this application, by its port or http://HOST:PORT
    #[arg(long, value_name = "PORT|URL", conflicts_with = "folder")]
    proxy_to: Option<String>,
    /// Serve a certificate that is wrong on purpose, to try clients
    #[arg(long, value_name = "FAULT", value_parser = values::word::<ServerFault>())]
    fault: Option<ServerFault>,
    /// Answer plain HTTP on this port with a redirect to HTTPS
    #[arg(long, value_name = "PORT")]
    redirect_from: Option<u16>,
    /// The oldest protocol version
    #[arg(long, value_name = "VERSION", default_value = "1.2", value_parser = ["1.2", "1.3"])]
    tls_minimum: String,
    /// Let in only clients that show a certificate of this authority
    #[arg(long, value_name = "LABEL")]
    client_authority: Option<Label>,
    #[command(flatten)]
    secrets: SecretArgs,
}

/// A line of JSON as it happens.
#[derive(Serialize, JsonSchema)]
#[serde(tag = "event", rename_all = "lowercase")]
pub(crate) enum Event<'a> {
    Listening {
        tamga: u8,
        command: &'static str,
        ok: bool,
        port: u16,
        urls: &'a [String],
        redirect_port: Option<u16>,
        fault: Option<&'static str>,
    },
    Request {
        at: String,
        peer: String,
        method: &'a str,
        path: &'a str,
        status: u16,
        length: Option<u64>,
        protocol: &'a str,
        http: &'a str,
    },
    Refused {
        at: String,
        peer: String,
        why: &'a str,
    },
    Renewed {
        sha256: Sha256Fingerprint,
    },
    Stopped {
        port: u16,
    },
}

pub(crate) fn run(session: &Session, args: ServeArgs) -> Result<Done> {
    let behind = args.proxy_to.clone();
    let request = Request {
        label: args.label,
        port: args.port,
        content: match (args.folder, args.proxy_to) {
            (_, Some(typed)) => Shows::Proxy(typed),
            (Some(directory), None) => Shows::Directory(directory),
            (None, None) => Shows::Page,
        },
        fault: args.fault,
        redirect_from: args.redirect_from,
        only_13: args.tls_minimum == "1.3",
        client_authority: args.client_authority,
        secret: args.secrets.into(),
    };
    let is_json = session.common.format != Format::Text;
    let quiet = session.common.quiet;
    let seen = Arc::new(move |happened: &Happened| match happened {
        _ if quiet => {}
        Happened::Answered(line) => tell(line, is_json),
        Happened::Refused { peer, why } => tell_refusal(&peer.ip().to_string(), why, is_json),
    });
    let listening = serve::listen(session, &request, page, seen)?;
    if is_json {
        human::json_line(&to_json(&Event::Listening {
            tamga: 1,
            command: "serve",
            ok: true,
            port: listening.port,
            urls: &listening.urls,
            redirect_port: listening.redirect_port,
            fault: request.fault.map(ServerFault::word),
        }));
    } else if !quiet {
        human::out(&render_start(&listening, behind.as_deref(), request.fault));
    }
    let port = listening.port;
    listening.serve(session, |renewal| tell_renewal(session, &renewal), stopped())?;
    Ok(Done::report("stopped\n".into(), &Event::Stopped { port }))
}

fn render_start(listening: &Listening, behind: Option<&str>, fault: Option<ServerFault>) -> String {
    let label = human::strong(&listening.issued.label);
    let mut text = format!("{} {label} on loopback; Ctrl-C stops\n", human::good("serving"));
    for url in &listening.urls {
        text.push_str(&format!("  {url}\n"));
    }
    if let Some(typed) = behind {
        text.push_str(&format!("  requests are passed on to {typed}\n"));
    }
    if let Some(fault) = fault {
        text.push_str(&format!(
            "{} {}: {}. A client that takes it without a word does not look.\n",
            human::bad("broken on purpose"),
            fault.word(),
            fault.seen()
        ));
    }
    if let Some(p) = listening.redirect_port {
        text.push_str(&format!("  http on port {p} is sent there (307)\n"));
    }
    text
}

fn tell_renewal(session: &Session, renewal: &Renewal<'_>) {
    match renewal {
        Renewal::Locked => {
            human::aside(&session.common, "the certificate was renewed; its key needs a passphrase: start serve again");
        }
        Renewal::Served(c) if session.common.format != Format::Text => {
            human::json_line(&to_json(&Event::Renewed { sha256: c.sha256() }));
        }
        Renewal::Served(c) if !session.common.quiet => human::out(&format!(
            "{} the renewed certificate is served from now on, until {}\n",
            human::good("renewed"),
            c.not_after.date()
        )),
        Renewal::Served(_) => {}
    }
}

/// One answer in one line.
fn tell(line: &Line, is_json: bool) {
    let at = tamga_host::entropy::now();
    let path = tamga_core::vocabulary::text::harmless(&line.path);
    if is_json {
        human::json_line(&to_json(&Event::Request {
            at: at.to_string(),
            peer: line.peer.ip().to_string(),
            method: &line.method,
            path: &line.path,
            status: line.status,
            length: line.length,
            protocol: line.protocol,
            http: line.http,
        }));
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
            line.length.map_or_else(|| "-".to_owned(), |l| l.to_string()),
            line.protocol,
            line.http
        );
        human::line(&words);
    }
}

/// A connection that came to nothing, in one line.
fn tell_refusal(peer: &str, why: &str, is_json: bool) {
    let at = tamga_host::entropy::now().to_string();
    if is_json {
        human::json_line(&to_json(&Event::Refused { at, peer: peer.to_owned(), why }));
    } else {
        let why = tamga_core::vocabulary::text::harmless(why);
        human::line(&format!("{at} {peer} {} {why}\n", human::bad("refused")));
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
