//! `tamga enrollment serve`.

use crate::args::{Format, SecretArgs};
use crate::commands::serve::stopped;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::{human, to_json};
use schemars::JsonSchema;
use serde::Serialize;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use tamga_app::secret::AuthoritySecret;
use tamga_core::ca::authority::limits;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::permit::Cidr;
use tamga_core::vocabulary::text::harmless;
use tamga_core::vocabulary::timestamp::Span;
use tamga_enrollment::event::{Event, What};
use tamga_enrollment::start::{self, Listening, Request};

#[derive(clap::Args, Clone)]
#[command(
    after_help = "Examples: tamga enrollment serve --listen 127.0.0.1:14000 --name localhost\n          tamga enrollment serve saltmarsh --listen 0.0.0.0:443 --name enroll.saltmarsh.test --allow saltmarsh.test"
)]
pub(crate) struct ServeArgs {
    /// The authority under which the service gets an intermediate of its own [default: the only one]
    authority: Option<Label>,
    /// Where to listen, such as 0.0.0.0:443
    #[arg(long, value_name = "ADDRESS:PORT")]
    listen: SocketAddr,
    /// The host's name, as clients type it
    #[arg(long, value_name = "HOST")]
    name: Name,
    /// What every URL begins with, if it is not the name and the port: behind a proxy, or for several instances
    #[arg(long, value_name = "URL")]
    url: Option<String>,
    /// Certify only these names, each with what lies under it, and these address blocks
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    allow: Vec<String>,
    /// How long certificates are valid: m h d w y [default: 90d]
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<Span>,
    /// Take accounts that nobody invited, on other than loopback too
    #[arg(long)]
    open: bool,
    /// Where a name is, for proofs; repeatable
    #[arg(long, value_name = "NAME=ADDRESS", value_parser = values::name_and_address, help_heading = "Proofs")]
    resolve: Vec<(String, IpAddr)>,
    /// The name server to ask for addresses, TXT and CAA records [default: the system's]
    #[arg(long, value_name = "ADDRESS:PORT", help_heading = "Proofs")]
    dns_server: Option<SocketAddr>,
    /// Connect to hosts in this network only; repeatable [default: what the authority may certify, else private networks]
    #[arg(long, value_name = "CIDR", value_delimiter = ',', help_heading = "Proofs")]
    validate_in: Vec<Cidr>,
    /// The port for http-01 where it cannot be 80
    #[arg(long, value_name = "PORT", default_value_t = 80, hide_default_value = true, help_heading = "Proofs")]
    http_01_port: u16,
    /// The port for tls-alpn-01 where it cannot be 443
    #[arg(long, value_name = "PORT", default_value_t = 443, hide_default_value = true, help_heading = "Proofs")]
    tls_alpn_01_port: u16,
    /// Serve the root, issuing certificates, revocation lists and OCSP here, over plain HTTP
    #[arg(long, value_name = "ADDRESS:PORT", help_heading = "Publishing")]
    publish_listen: Option<SocketAddr>,
    /// Write these addresses into certificates: they must answer for the certificates' whole life
    #[arg(long, value_name = "URL", requires = "publish_listen", help_heading = "Publishing")]
    publish_url: Option<String>,
    #[command(flatten)]
    secrets: SecretArgs,
}

/// A line of JSON as it happens.
#[derive(Serialize, JsonSchema)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub(crate) enum Line<'a> {
    Listening {
        tamga: u8,
        command: &'static str,
        ok: bool,
        directory: &'a str,
        listen: String,
        publish: Option<String>,
        authority: &'a str,
        root_sha256: &'a str,
        by_invitation: bool,
    },
    Stopped {
        directory: &'a str,
    },
}

impl ServeArgs {
    pub(super) fn passphrase_file(&self) -> Option<std::path::PathBuf> {
        tamga_app::secret::Secret::from(self.secrets.clone()).file
    }

    pub(super) fn listens_low(&self) -> bool {
        self.listen.port() < 1024 || self.publish_listen.is_some_and(|p| p.port() < 1024)
    }

    /// The same as words of a command line, without secrets.
    pub(super) fn words(&self) -> Vec<String> {
        let mut out: Vec<String> = self.authority.iter().map(ToString::to_string).collect();
        let mut add = |option: &str, value: String| out.extend([option.to_owned(), value]);
        add("--listen", self.listen.to_string());
        add("--name", self.name.to_string());
        self.url.iter().for_each(|u| add("--url", u.clone()));
        if !self.allow.is_empty() {
            add("--allow", self.allow.join(","));
        }
        self.valid_for.iter().for_each(|v| add("--valid-for", v.to_string()));
        self.resolve.iter().for_each(|(name, address)| add("--resolve", format!("{name}={address}")));
        self.dns_server.iter().for_each(|d| add("--dns-server", d.to_string()));
        self.validate_in.iter().for_each(|c| add("--validate-in", c.to_string()));
        if self.http_01_port != 80 {
            add("--http-01-port", self.http_01_port.to_string());
        }
        if self.tls_alpn_01_port != 443 {
            add("--tls-alpn-01-port", self.tls_alpn_01_port.to_string());
        }
        self.publish_listen.iter().for_each(|p| add("--publish-listen", p.to_string()));
        self.publish_url.iter().for_each(|u| add("--publish-url", u.clone()));
        if self.open {
            out.push("--open".into());
        }
        out
    }
}

pub(crate) fn run(session: &Session, args: ServeArgs) -> Result<Done> {
    let is_json = session.common.format != Format::Text;
    let quiet = session.common.quiet;
    let request = Request {
        authority: args.authority,
        listen: args.listen,
        host: args.name,
        url: args.url,
        allow: args.allow,
        valid_for: args.valid_for,
        resolve: args.resolve,
        dns_server: args.dns_server,
        validate_in: args.validate_in,
        http_port: args.http_01_port,
        tls_port: args.tls_alpn_01_port,
        publish_listen: args.publish_listen,
        publish_url: args.publish_url,
        open: args.open,
        secret: args.secrets.into(),
        new_secret: AuthoritySecret::default(),
    };
    let seen = Arc::new(move |event: &Event| {
        if is_json {
            human::json_line(&to_json(event));
        } else if !quiet || matches!(event.event, What::Failed) {
            human::line(&worded(event));
        }
    });
    let listening = start::listen(session, &request, crate::commands::trust::share::published_page, seen)?;
    let directory = listening.directory();
    if is_json {
        human::json_line(&to_json(&Line::Listening {
            tamga: 1,
            command: "enrollment",
            ok: true,
            directory: &directory,
            listen: listening.at.to_string(),
            publish: listening.published_at.map(|p| p.to_string()),
            authority: &listening.service.signing().authority.label,
            root_sha256: &listening.root.certificate.sha256(),
            by_invitation: listening.service.settings().by_invitation,
        }));
    } else if !quiet {
        human::out(&render_start(&listening));
    }
    listening.serve(session, stopped())?;
    Ok(Done::report("stopped\n".into(), &Line::Stopped { directory: &directory }))
}

fn render_start(l: &Listening) -> String {
    let settings = l.service.settings();
    let signing = l.service.signing();
    let a = &signing.authority;
    let mut text = String::new();
    if l.is_new {
        text.push_str(&format!(
            "{} the intermediate {}, which signs from now on; the key of {} stays closed\n",
            human::good("made"),
            human::strong(&a.label),
            l.root.label
        ));
    }
    text.push_str(&format!("{} at {}; Ctrl-C stops\n", human::good("enrolling"), human::strong(&l.at.to_string())));
    let mut rows = vec![
        vec![human::dim("directory"), human::strong(&l.directory())],
        vec![human::dim("signs with"), format!("{}, until {}", a.label, a.certificate.not_after.date())],
        vec![
            human::dim("certifies"),
            settings
                .allow
                .as_ref()
                .map_or_else(|| limits::words(a.certificate.constraints.as_ref()), ToString::to_string),
        ],
        vec![human::dim("for"), format!("{} days", settings.life.whole_days())],
        vec![
            human::dim("accounts"),
            match settings.by_invitation {
                true => "by invitation: tamga enrollment invite --output FILE".into(),
                false if l.is_behind => human::care("open to everybody whom the proxy before it lets through"),
                false if l.at.ip().is_loopback() => "open: only this machine can reach it".into(),
                false => human::care("open to everybody who reaches it"),
            },
        ],
    ];
    let networks: Vec<String> = settings.look.networks.iter().map(ToString::to_string).collect();
    rows.push(vec![human::dim("looks in"), networks.join(", ")]);
    if (settings.look.http_port, settings.look.tls_port) != (80, 443) {
        let ports = format!(
            "http-01 on port {}, tls-alpn-01 on port {}: not as RFC 8555 has it, and any account of a host can open these",
            settings.look.http_port, settings.look.tls_port
        );
        rows.push(vec![human::dim("proofs"), human::care(&ports)]);
    }
    if let Some(at) = l.published_at {
        rows.push(vec![human::dim("publishes"), format!("http://{at}/ (root, lists, OCSP)")]);
    }
    rows.push(vec![
        human::dim("clients trust"),
        format!("the root of {}: tamga trust share {}", l.root.label, l.root.label),
    ]);
    text.push_str(&human::table(&rows));
    text
}

/// The word in a column of its own.
fn joined(word: &str, detail: &str) -> String {
    let blanks = 10_usize.saturating_sub(crate::words::wrap::width_seen(word));
    format!("{word}{} {detail}", " ".repeat(blanks))
}

fn worded(event: &Event) -> String {
    let words = match event.event {
        What::Issued => human::good("issued"),
        What::Proved => human::good("proved"),
        What::NotProved => human::bad("not proved"),
        What::Refused => human::care("refused"),
        What::Failed => human::bad("failed"),
        What::Revoked => human::care("revoked"),
        What::AccountMade | What::AccountChanged => "account".into(),
        What::Ordered => "ordered".into(),
        What::ListSigned => "list".into(),
        What::Renewed => human::good("renewed"),
        _ => String::new(),
    };
    // Of what an account does, its number says more than its address.
    let is_new = matches!(event.event, What::AccountMade | What::Refused);
    let peer = event.peer.filter(|_| is_new).map(|p| format!(" (from {p})")).unwrap_or_default();
    format!("{} {}{peer}\n", event.at, joined(&words, &harmless(&event.detail)))
}
