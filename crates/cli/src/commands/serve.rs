//! `tamga serve LABEL`.

use super::issue::current;
use crate::cli::SecretArgs;
use crate::exit::{Done, Result};
use crate::session::{Session, key_of};
use crate::words::human;
use serde_json::json;
use tamga_core::authority::CERTIFICATE_FILE;
use tamga_core::cert::Certificate;
use tamga_core::form::pem;
use tamga_core::key::PrivateKey;
use tamga_core::report::Issued;
use tamga_host::serve::{self, Site};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga serve charts.saltmarsh.test --port 8443")]
pub(crate) struct ServeArgs {
    /// A certificate's label
    label: String,
    /// The port on loopback; 0 lets the system choose a free one
    #[arg(long, default_value_t = 0)]
    port: u16,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, args: &ServeArgs) -> Result<Done> {
    let meant = &current(session, &args.label)?;
    let (chain, key) = identity(meant, &args.secrets)?;
    let listeners = serve::bind(args.port)?;
    let port = listeners[0].local_addr().map_or(args.port, |a| a.port());
    let urls = urls(&meant.certificate, port);
    if session.common.format == crate::cli::Format::Json {
        let line =
            json!({"tamga": 1, "command": "serve", "ok": true, "event": "listening", "port": port, "urls": urls});
        human::as_it_is(&format!("{line}\n"));
    } else if !session.common.quiet {
        human::out(&format!("{} {} on loopback; Ctrl-C stops\n", human::good("serving"), human::strong(&meant.label)));
        for url in &urls {
            human::out(&format!("  {url}\n"));
        }
    }
    let runtime = serve::runtime().map_err(|source| tamga_host::error::Error::Port { port, source })?;
    let site = Site::new(&chain, &key, page(meant))?;
    runtime.block_on(serve::run(listeners, site, stopped()))?;
    Ok(Done::good("stopped\n".into(), json!({"event": "stopped", "port": port})))
}

/// Ctrl-C, or the signal by which service managers stop a program.
async fn stopped() {
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

/// The chain and key of a certificate, from its folder; the key is its own.
pub(crate) fn identity(i: &Issued, secrets: &SecretArgs) -> Result<(Vec<Vec<u8>>, PrivateKey)> {
    let path = i.folder.join(CERTIFICATE_FILE);
    let bytes = std::fs::read(&path).map_err(tamga_host::error::Error::file("reading", &path))?;
    Ok((pem::certificates(&bytes), key_of(&i.label, &i.folder, &i.certificate, secrets)?))
}

fn urls(c: &Certificate, port: u16) -> Vec<String> {
    c.name_words()
        .iter()
        .filter(|n| !n.starts_with("*.") && !n.contains('@') && !n.contains("//"))
        .map(|n| if n.contains(':') { format!("https://[{n}]:{port}/") } else { format!("https://{n}:{port}/") })
        .collect()
}

/// The page: which certificate this is, so that a person sees what they look at.
pub(crate) fn page(i: &Issued) -> String {
    let c = &i.certificate;
    let escape = |s: &str| s.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
    let rows: String = [
        ("Names", c.name_words().join(", ")),
        ("Issued by", c.issuer_words()),
        ("Valid until", c.not_after.date()),
        ("SHA-256", c.sha256()),
    ]
    .iter()
    .map(|(k, v)| format!("<dt>{k}</dt><dd>{}</dd>", escape(v)))
    .collect();
    format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
<title>{label}</title><style>:root{{color-scheme:light dark}}body{{font:16px/1.5 system-ui,sans-serif;max-width:44rem;\
margin:12vh auto;padding:0 1.5rem}}h1{{font-size:1.5rem}}dt{{font-weight:600;margin-top:.8rem}}dd{{margin:0;\
overflow-wrap:anywhere;font-family:ui-monospace,monospace;font-size:.9rem}}</style>\
<h1>{label} is served over HTTPS</h1><p>If you see this page without a warning, this browser trusts the root of its \
certificate.</p><dl>{rows}</dl></html>\n",
        label = escape(&i.label)
    )
}
