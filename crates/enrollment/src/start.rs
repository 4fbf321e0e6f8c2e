//! Starting the service: whose name it signs in, its own certificate, its sockets; and what it does by itself while it runs.

use crate::event::Seen;
use crate::listen;
use crate::own;
use crate::publish::Published;
use crate::secret_file;
use crate::service::{Parts, Service, Signing};
use crate::settings::{LIFE, Look, Settings};
use crate::upkeep::Upkeep;
use crate::validate;
use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr, TcpListener};
use std::sync::Arc;
use tamga_app::authority::for_service;
use tamga_app::env::Env;
use tamga_app::failure::Result;
use tamga_app::secret::{AuthoritySecret, Secret};
use tamga_app::trust::share;
use tamga_core::ca::authority;
use tamga_core::ca::issue;
use tamga_core::ca::report::{Authority, Issued, KeyPlace};
use tamga_core::enrollment::object::names_meant;
use tamga_core::error::Error;
use tamga_core::pki::cert::profile::Links;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::permit::{Cidr, DEFAULT_BLOCKS};
use tamga_core::vocabulary::timestamp::{DAY, Span};
use tamga_host::entropy;
use tamga_host::error::Error as HostError;
use tamga_host::serve::{self, Served};
use tamga_host::share::{Document, bind};
use tokio::sync::{mpsc, watch};
use tokio_rustls::TlsAcceptor;

/// An intermediate that ends within so many seconds gets a successor at the next start.
const SUCCESSOR: i64 = 120 * DAY;

/// How to serve.
#[derive(Clone, Debug)]
pub struct Request {
    /// The authority; None for the only one.
    pub authority: Option<Label>,
    /// Where to listen.
    pub listen: SocketAddr,
    /// The host's name, as clients type it.
    pub host: Name,
    /// What every URL begins with; None for the host's name and the port.
    pub url: Option<String>,
    /// Which names it certifies.
    pub allow: Vec<String>,
    /// The life of a certificate.
    pub valid_for: Option<Span>,
    /// Addresses of names.
    pub resolve: Vec<(String, IpAddr)>,
    /// The server that is asked for names.
    pub dns_server: Option<SocketAddr>,
    /// In which networks hosts are connected to.
    pub validate_in: Vec<Cidr>,
    /// The port for http-01.
    pub http_port: u16,
    /// The port for tls-alpn-01.
    pub tls_port: u16,
    /// Where to publish over plain HTTP.
    pub publish_listen: Option<SocketAddr>,
    /// What the published URLs begin with, if they are to be written into certificates.
    pub publish_url: Option<String>,
    /// True if nobody needs an invitation.
    pub open: bool,
    /// Opens the keys of the authorities.
    pub secret: Secret,
    /// Protects the key of the service's own intermediate.
    pub new_secret: AuthoritySecret,
}

/// A service that is listened for, and not yet served.
pub struct Listening {
    /// The service.
    pub service: Arc<Service>,
    /// Where it listens.
    pub at: SocketAddr,
    /// Where it publishes.
    pub published_at: Option<SocketAddr>,
    /// The root that clients must trust.
    pub root: Authority,
    /// True if the service's intermediate was made now.
    pub is_new: bool,
    /// True if clients reach it under another address than its own.
    pub is_behind: bool,
    secret: Secret,
    own: Issued,
    served: Arc<Served>,
    acceptor: TlsAcceptor,
    listener: TcpListener,
    publisher: Option<(TcpListener, Published)>,
    queue: mpsc::UnboundedReceiver<i64>,
}

/// Gets everything ready and begins to listen.
///
/// Errors: an authority whose key is not here, with the commands that help; a name that the authority may not certify; ports that are taken.
pub fn listen(
    env: &Env,
    request: &Request,
    page: fn(&Authority, &str) -> Option<String>,
    seen: Seen,
) -> Result<Listening> {
    checked(request)?;
    let listener = bind(request.listen)?;
    let at = listener.local_addr().map_err(|source| HostError::Port { port: request.listen.port(), source })?;
    let publish = request.publish_listen.map(bind).transpose()?;
    let published_at = publish.as_ref().and_then(|l| l.local_addr().ok());
    let (signer, is_new) = signer(env, request)?;
    let key = env.authority_key(&signer, &request.secret)?;
    let all = env.authorities()?;
    let top = |a: &Authority| all.iter().find(|r| r.label == a.root_label).unwrap_or(a).clone();
    let root = top(&signer);
    let own = own::certificate(env, &request.host, &signer, &request.secret)?;
    let (chain, own_key) = env.chain_and_key(&own, &Secret::default())?;
    let served = Arc::new(Served::of(&chain, &own_key)?);
    let acceptor = TlsAcceptor::from(serve::config(served.clone(), &[b"http/1.1"])?);
    let (ready, queue) = mpsc::unbounded_channel();
    let settings = settings(request, &signer, at, published_at)?;
    let earlier: Vec<Authority> = all
        .iter()
        .filter(|a| {
            a.label != signer.label && is_of_service(a, &signer) && matches!(a.key, KeyPlace::Here | KeyPlace::Token(_))
        })
        .cloned()
        .collect();
    let service = Arc::new(Service::new(Parts {
        settings,
        secret: secret_file::secret(env)?,
        ledger: env.machine.ledgers().open(env.machine.data())?,
        signing: Signing { authority: signer.clone(), key },
        seen,
        clock: entropy::now,
        challenges: ready,
    }));
    let publisher = match publish {
        Some(listener) => {
            let mut documents = share::documents(&root, root.certificate.der());
            let shown = request.publish_url.clone().or(published_at.map(|a| format!("http://{a}"))).unwrap_or_default();
            documents.extend(page(&root, &format!("{shown}/")).map(|page| Document {
                path: "/",
                kind: "text/html; charset=utf-8",
                keep_as: None,
                bytes: page.into_bytes(),
            }));
            let mut answered = Vec::new();
            for a in earlier {
                // One whose key has a passphrase of its own answers no more; its list does.
                if let Ok(key) = env.authority_key(&a, &request.secret) {
                    answered.push(Signing { authority: a, key });
                }
            }
            let issuers = all.iter().filter(|a| signer.above.contains(&a.certificate)).cloned().collect();
            let published =
                Published { service: service.clone(), earlier: answered, root: documents, issuers, env: env.clone() };
            Some((listener, published))
        }
        None => None,
    };
    // From here on no other key than the service's own is within reach.
    env.release_tokens(&signer.label);
    Ok(Listening {
        service,
        at,
        published_at,
        root,
        is_new,
        is_behind: request.url.is_some(),
        secret: request.secret.clone(),
        own,
        served,
        acceptor,
        listener,
        publisher,
        queue,
    })
}

/// How the service is set up.
fn settings(
    request: &Request,
    signer: &Authority,
    at: SocketAddr,
    published_at: Option<SocketAddr>,
) -> Result<Settings> {
    let allow = match request.allow.as_slice() {
        [] => None,
        all => Some(names_meant(all.iter().map(String::as_str))?),
    };
    let port = at.port();
    let base = request.url.clone().unwrap_or_else(|| match port {
        443 => format!("https://{}", in_url(&request.host)),
        _ => format!("https://{}:{port}", in_url(&request.host)),
    });
    let mut known: BTreeMap<String, Vec<IpAddr>> = BTreeMap::new();
    for (name, address) in &request.resolve {
        known.entry(name.to_ascii_lowercase()).or_default().push(*address);
    }
    Ok(Settings {
        base,
        host: request.host.to_string(),
        allow,
        life: request.valid_for.unwrap_or(LIFE),
        by_invitation: !request.open && !at.ip().is_loopback(),
        look: Look {
            known,
            dns: request.dns_server,
            networks: if request.validate_in.is_empty() { networks(signer) } else { request.validate_in.clone() },
            http_port: request.http_port,
            tls_port: request.tls_port,
            own: std::iter::once(at).chain(published_at).collect(),
        },
    })
}

fn in_url(host: &Name) -> String {
    match host {
        Name::Ip(IpAddr::V6(a)) => format!("[{a}]"),
        other => other.to_string(),
    }
}

fn checked(request: &Request) -> Result<()> {
    let wrong = |what: &str, typed: &str, accepted: &str| Error::Word {
        what: if what == "url" { "address of the service" } else { "address for what is published" },
        typed: typed.to_owned(),
        accepted: accepted.into(),
    };
    let is_plain = |url: &str, scheme: &str| {
        let rest = url.strip_prefix(scheme);
        rest.is_some_and(|r| !r.is_empty() && !r.contains(['/', '?', '#', '@', ' ', '"', '<', '>']))
    };
    let is_host = matches!(&request.host, Name::Dns(n) if !n.starts_with("*.")) || matches!(request.host, Name::Ip(_));
    if !is_host {
        return Err(Error::Word {
            what: "host",
            typed: request.host.to_string(),
            accepted: "the name or address under which clients reach the service".into(),
        }
        .into());
    }
    if let Some(url) = request.url.as_deref().filter(|u| !is_plain(u, "https://")) {
        return Err(wrong("url", url, "https://HOST or https://HOST:PORT, without a path").into());
    }
    if let Some(url) = request.publish_url.as_deref().filter(|u| !is_plain(u, "http://")) {
        return Err(wrong(
            "publish",
            url,
            "http://HOST or http://HOST:PORT, without a path (clients fetch these before they trust anybody)",
        )
        .into());
    }
    if request.publish_url.is_some() && request.publish_listen.is_none() {
        return Err(Error::Contradiction {
            what: "--publish-url was given without --publish-listen".into(),
            why: "the addresses would be written into certificates, and nothing would answer there".into(),
            instead: "give both, such as --publish-listen 0.0.0.0:80 --publish-url http://enroll.saltmarsh.test".into(),
        }
        .into());
    }
    Ok(())
}

/// What is written into certificates where something is published.
fn links(url: Option<&String>, label: &Label, with_status: bool) -> Links {
    let Some(url) = url else { return Links::default() };
    Links {
        crl: Some(format!("{url}/crl/{label}.crl")),
        issuer: Some(format!("{url}/issuer/{label}.crt")),
        ocsp: with_status.then(|| format!("{url}/ocsp")),
    }
}

/// The label of the service's intermediate under an authority; of its successors with a number.
fn stem(parent: &Label) -> String {
    format!("{parent}-enrollment")
}

fn is_of_service(a: &Authority, signer: &Authority) -> bool {
    let parent = signer.issuer.as_ref();
    a.issuer.as_ref() == parent && parent.is_some_and(|p| a.label.as_str().starts_with(&stem(p)))
}

/// The intermediate that signs: the one that was named, the service's own, or a new one.
fn signer(env: &Env, request: &Request) -> Result<(Authority, bool)> {
    let all = env.authorities()?;
    let named = match authority::choose(request.authority.as_deref(), &all, false) {
        Ok(a) => a.clone(),
        Err(e) => return Err(e.into()),
    };
    // Before anything is made: the service's own name must be one that it may have.
    issue::names_within(std::slice::from_ref(&request.host), &named)?;
    if !named.is_root() {
        authority::can_sign(&named)?;
        return Ok((named, false));
    }
    let wanted = |label: &Label| links(request.publish_url.as_ref(), label, true);
    let stem = stem(&named.label);
    let mut own: Vec<&Authority> =
        all.iter().filter(|a| a.issuer.as_ref() == Some(&named.label) && a.label.as_str().starts_with(&stem)).collect();
    own.retain(|a| !a.retired && a.key == KeyPlace::Here);
    let is_good = |a: &&&Authority| {
        let c = &a.certificate;
        c.not_after > env.now.plus(SUCCESSOR).min(named.certificate.not_after.plus(-DAY)) && a.links == wanted(&a.label)
    };
    if let Some(a) = own.iter().rfind(is_good) {
        return Ok(((**a).clone(), false));
    }
    let taken = |label: &str| all.iter().any(|a| a.label.as_str() == label);
    let label =
        (1..).map(|n| if n == 1 { stem.clone() } else { format!("{stem}-{n}") }).find(|l| !taken(l)).unwrap_or(stem);
    let label = Label::from_text(&label)?;
    if let Err(e) = authority::can_sign(&named) {
        let instead = format!(
            "bring the key back for a moment (tamga authority online PLACE); or, where it is: \
             tamga authority request {label} here, tamga authority sign there, tamga authority receive here, \
             then tamga enrollment serve {label}"
        );
        return Err(match e {
            Error::KeyAway { label, place, .. } => Error::KeyAway { label, place, instead }.into(),
            other => other.into(),
        });
    }
    let made = for_service::make(
        env,
        &for_service::Request {
            parent: named.label.clone(),
            links: wanted(&label),
            own_links: links(request.publish_url.as_ref(), &named.label, false),
            label,
            secret: request.secret.clone(),
            new_secret: request.new_secret.clone(),
        },
    )?;
    Ok((made, true))
}

/// Where hosts are looked for: in the networks that the authorities are limited to; without such limits in private ones.
fn networks(signer: &Authority) -> Vec<Cidr> {
    let all = std::iter::once(&signer.certificate).chain(&signer.above);
    let limited = all.filter_map(|c| c.constraints.as_ref()).map(|c| {
        c.permitted.iter().filter_map(|base| match base {
            tamga_core::pki::cert::extensions::GeneralName::Ip(octets) => Cidr::from_octets(octets),
            _ => None,
        })
    });
    let mut found: Vec<Cidr> = Vec::new();
    limited.flatten().for_each(|c| {
        if !found.contains(&c) {
            found.push(c)
        }
    });
    match found.is_empty() {
        true => DEFAULT_BLOCKS.iter().filter_map(|b| b.parse().ok()).collect(),
        false => found,
    }
}

impl Listening {
    /// The URL that clients are given.
    pub fn directory(&self) -> String {
        self.service.url("/directory")
    }

    /// Serves until it is stopped; requests under way are answered.
    ///
    /// Errors: the server cannot be started.
    pub fn serve(self, env: &Env, stopped: impl Future<Output = ()>) -> Result<()> {
        let port = self.at.port();
        let failed = |source| HostError::Port { port, source };
        let runtime = serve::runtime().map_err(failed)?;
        let Listening { service, secret, own, served, acceptor, listener, publisher, queue, .. } = self;
        runtime.block_on(async {
            let (ring, bell) = watch::channel(false);
            let mut tasks = tokio::task::JoinSet::new();
            service.ledger().stay_open(true)?;
            let (looked, ended) = (service.clone(), service.clone());
            for id in service.ledger().unfinished_challenges()? {
                looked.look_at(id);
            }
            let looking = tokio::spawn(validate::run(looked, queue));
            let answers = service.clone();
            let handler: listen::Handler = Arc::new(move |asked| answers.answer(asked));
            let listener = tokio::net::TcpListener::from_std(listener).map_err(failed)?;
            tasks.spawn(listen::run(listener, Some(acceptor), handler, bell.clone()));
            let publishes = publisher.is_some();
            if let Some((listener, published)) = publisher {
                let handler: listen::Handler = Arc::new(move |asked| published.answer(asked));
                let listener = tokio::net::TcpListener::from_std(listener).map_err(failed)?;
                tasks.spawn(listen::run(listener, None, handler, bell.clone()));
            }
            let upkeep = Upkeep { env: env.clone(), service, secret, served, publishes };
            let kept = tokio::spawn(upkeep.run(own));
            stopped.await;
            let _ = ring.send(true);
            while tasks.join_next().await.is_some() {}
            kept.abort();
            looking.abort();
            ended.ledger().stay_open(false)?;
            Ok(())
        })
    }
}
