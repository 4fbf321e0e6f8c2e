//! `tamga trust share [ROOT]`: a page from which phones and other machines get the root. Only what is public, over plain HTTP.

use super::share_page;
use crate::args::Format;
use crate::commands::serve::stopped;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;
use tamga_core::authority;
use tamga_core::form::contents::Named;
use tamga_core::form::{fingerprint, mobileconfig, pem, pkcs7, pkcs12};
use tamga_core::moment::Span;
use tamga_core::report::Authority;
use tamga_core::text::harmless;
use tamga_host::share::{self, Document};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga trust share saltmarsh --stop-after 10m")]
pub(crate) struct ShareArgs {
    /// An authority's label; without it the only root
    root: Option<String>,
    /// The address to listen on [default: this machine's own, as others reach it]
    #[arg(long, value_name = "ADDRESS")]
    address: Option<IpAddr>,
    /// The port to listen on [default: one that is free]
    #[arg(long, value_name = "PORT", default_value_t = 0)]
    port: u16,
    /// End after this time: m h d
    #[arg(long, value_name = "SPAN")]
    stop_after: Option<String>,
}

pub(super) fn run(session: &Session, args: &ShareArgs) -> Result<Done> {
    let end = args.stop_after.as_deref().map(Span::parse).transpose()?;
    let all = session.authorities()?;
    let chosen = authority::choose(args.root.as_deref(), &all, false)?;
    // Of an intermediate its root is what devices must trust.
    let root = chosen.top().unwrap_or(&chosen.certificate).clone();
    let sha256 = root.sha256();
    let address = args.address.unwrap_or_else(share::own_address);
    let listener = share::bind(SocketAddr::new(address, args.port))?;
    let at = listener.local_addr().map_err(|source| tamga_host::error::Error::Port { port: args.port, source })?;
    let url = format!("http://{at}/");
    let code = qrcode::QrCode::new(url.as_bytes()).map_err(|e| tamga_core::error::Error::Malformed {
        what: url.clone(),
        why: format!("it cannot be drawn as a QR code: {e}"),
    })?;
    let documents = documents(chosen, root.der(), &url, &code);
    let is_json = session.common.format != Format::Text;
    if is_json {
        let line = json!({"tamga": 1, "command": "trust", "ok": true, "event": "listening", "url": url, "root": chosen.label, "sha256": sha256,
            "files": documents.iter().map(|d| d.path).collect::<Vec<_>>()});
        human::json_line(&line);
    } else if !session.common.quiet {
        human::out(&told(chosen, &url, &sha256, &code, at.ip().is_loopback(), end.is_some()));
    }
    let quiet = session.common.quiet;
    let seen: share::Seen = Arc::new(move |peer, path, status| {
        let path = harmless(path);
        if is_json {
            let line = json!({"event": "request", "peer": peer.ip().to_string(), "path": path, "status": status});
            human::json_line(&line);
        } else if !quiet {
            human::line(&format!("{} {path} {status}\n", peer.ip()));
        }
    });
    let port = at.port();
    let runtime = tamga_host::serve::runtime().map_err(|source| tamga_host::error::Error::Port { port, source })?;
    let limit = end.and_then(|s| u64::try_from(s.seconds()).ok()).map(Duration::from_secs);
    runtime.block_on(share::run(listener, documents, seen, async {
        match limit {
            Some(limit) => tokio::select! {
                () = stopped() => {}
                () = tokio::time::sleep(limit) => {}
            },
            None => stopped().await,
        }
    }))?;
    Ok(Done::good("stopped\n".into(), json!({"event": "stopped", "url": url, "sha256": sha256})))
}

/// The page, and the root in each form that some device takes.
fn documents(a: &Authority, der: &[u8], url: &str, code: &qrcode::QrCode) -> Vec<Document> {
    let named = [Named { alias: Some(a.label.clone()), thing: der.to_vec() }];
    let document = |path, kind, ending: &str, bytes| Document {
        path,
        kind,
        keep_as: Some(format!("{}-root.{ending}", a.label)),
        bytes,
    };
    let svg = code.render::<qrcode::render::svg::Color<'_>>().min_dimensions(180, 180).build();
    let page = Document {
        path: "/",
        kind: "text/html; charset=utf-8",
        keep_as: None,
        bytes: share_page::page(a, url, &svg).into_bytes(),
    };
    let profile = Document {
        // A profile is opened, not kept.
        keep_as: None,
        ..document(
            "/root.mobileconfig",
            "application/x-apple-aspen-config",
            "mobileconfig",
            mobileconfig::write(&a.label, &named).into_bytes(),
        )
    };
    vec![
        page,
        document("/root.crt", "application/x-x509-ca-cert", "crt", der.to_vec()),
        document("/root.pem", "application/x-pem-file", "pem", pem::write(pem::CERTIFICATE, der).as_bytes().to_vec()),
        profile,
        document("/root.p12", "application/x-pkcs12", "p12", pkcs12::write_trust(&named).to_vec()),
        document("/root.p7b", "application/x-pkcs7-certificates", "p7b", pkcs7::write(&[der.to_vec()])),
    ]
}

fn told(a: &Authority, url: &str, sha256: &str, code: &qrcode::QrCode, loopback: bool, ends: bool) -> String {
    let picture = code
        .render::<qrcode::render::unicode::Dense1x2>()
        // Light on dark, as terminals mostly are; readers take the reverse as well.
        .dark_color(qrcode::render::unicode::Dense1x2::Light)
        .light_color(qrcode::render::unicode::Dense1x2::Dark)
        .build();
    let end = if ends { "it ends by itself, or with Ctrl-C" } else { "Ctrl-C ends it" };
    let mut text = format!(
        "{} the root of {} at {}; {end}\n\n",
        human::good("sharing"),
        human::strong(&a.label),
        human::strong(url)
    );
    text.push_str(&picture);
    let colons: Vec<&str> = (0..sha256.len()).step_by(2).map(|i| &sha256[i..i + 2]).collect();
    let halves = [colons[..16].join(":"), colons[16..].join(":")];
    text.push_str(&format!(
        "\n\n{}\n  {}:\n  {}\n",
        human::strong("SHA-256 of the root: compare it with what the device itself shows before you trust it there"),
        halves[0].to_uppercase(),
        halves[1].to_uppercase()
    ));
    let sha1 = fingerprint::spellings(a.top().unwrap_or(&a.certificate).der(), a.certificate.key.spki())
        .into_iter()
        .find(|s| s.what.contains("SHA-1"));
    if let Some(s) = sha1 {
        text.push_str(&format!("SHA-1, which Windows' dialog shows\n  {}\n", s.value));
    }
    text.push_str(&format!("on another machine with Tamga\n  tamga trust add --url {url} --fingerprint {sha256}\n"));
    if loopback {
        text.push_str(&format!(
            "{} this address is reached from this machine alone; give another with --address\n",
            human::care("note")
        ));
    }
    text
}
