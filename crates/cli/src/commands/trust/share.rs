//! `tamga trust share [ROOT]`: a page from which phones and other machines get the root. Only what is public, over plain HTTP.

use super::share_page;
use crate::args::Format;
use crate::commands::serve::stopped;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, to_json};
use schemars::JsonSchema;
use serde::Serialize;
use std::net::IpAddr;
use std::sync::Arc;
use tamga_app::trust::share;
use tamga_core::ca::report::Authority;
use tamga_core::pki::format::fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::harmless;
use tamga_core::vocabulary::timestamp::Span;
use tamga_host::share::Seen;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga trust share saltmarsh --stop-after 10m")]
pub(crate) struct ShareArgs {
    /// An authority's label; without it the only root
    root: Option<Label>,
    /// The address to listen on [default: this machine's own, as others reach it]
    #[arg(long, value_name = "ADDRESS")]
    address: Option<IpAddr>,
    /// The port to listen on [default: one that is free]
    #[arg(long, value_name = "PORT", default_value_t = 0)]
    port: u16,
    /// End after this time: m h d
    #[arg(long, value_name = "SPAN")]
    stop_after: Option<Span>,
}

/// A line of JSON as it happens.
#[derive(Serialize, JsonSchema)]
#[serde(tag = "event", rename_all = "lowercase")]
pub(crate) enum Event<'a> {
    Listening {
        tamga: u8,
        command: &'static str,
        ok: bool,
        url: &'a str,
        root: &'a str,
        sha256: &'a str,
        files: Vec<&'a str>,
    },
    Request {
        peer: String,
        path: &'a str,
        status: u16,
    },
    Stopped {
        url: &'a str,
        sha256: &'a str,
    },
}

pub(super) fn run(session: &Session, args: ShareArgs) -> Result<Done> {
    let request =
        share::Request { root: args.root, address: args.address, port: args.port, stop_after: args.stop_after };
    let shared = share::listen(session, &request)?;
    let (url, sha256) = (shared.url.clone(), shared.sha256);
    let code = qrcode::QrCode::new(url.as_bytes()).map_err(|e| tamga_core::error::Error::Malformed {
        what: url.clone(),
        why: format!("it cannot be drawn as a QR code: {e}"),
    })?;
    let svg = code.render::<qrcode::render::svg::Color<'_>>().min_dimensions(180, 180).build();
    let page = share_page::page(&shared.authority, &url, &svg);
    let is_json = session.common.format != Format::Text;
    if is_json {
        let files: Vec<&str> = std::iter::once("/").chain(shared.documents.iter().map(|d| d.path)).collect();
        human::json_line(&to_json(&Event::Listening {
            tamga: 1,
            command: "trust",
            ok: true,
            url: &url,
            root: &shared.authority.label,
            sha256: &sha256,
            files,
        }));
    } else if !session.common.quiet {
        let is_loopback = shared.at.ip().is_loopback();
        let ends = request.stop_after.is_some();
        human::out(&render_shared(&shared.authority, &url, &sha256, &code, is_loopback, ends));
    }
    let quiet = session.common.quiet;
    let seen: Seen = Arc::new(move |peer, path, status| {
        let path = harmless(path);
        if is_json {
            let peer = peer.ip().to_string();
            human::json_line(&to_json(&Event::Request { peer, path: &path, status }));
        } else if !quiet {
            human::line(&format!("{} {path} {status}\n", peer.ip()));
        }
    });
    shared.serve(page, seen, stopped())?;
    Ok(Done::report("stopped\n".into(), &Event::Stopped { url: &url, sha256: &sha256 }))
}

/// The page of a root that is published for good at an address.
pub(crate) fn published_page(a: &Authority, url: &str) -> Option<String> {
    let code = qrcode::QrCode::new(url.as_bytes()).ok()?;
    let svg = code.render::<qrcode::render::svg::Color<'_>>().min_dimensions(180, 180).build();
    Some(share_page::page(a, url, &svg))
}

fn render_shared(a: &Authority, url: &str, sha256: &str, code: &qrcode::QrCode, loopback: bool, ends: bool) -> String {
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
    text.push_str(&format!("on another machine with Tamga\n  tamga trust add --from {url} --sha256 {sha256}\n"));
    if loopback {
        text.push_str(&format!(
            "{} this address is reached from this machine alone; give another with --address\n",
            human::care("note")
        ));
    }
    text
}
