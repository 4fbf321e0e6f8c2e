//! A small HTTPS site on loopback with a certificate of the ledger.

use crate::certificate::current;
use crate::env::Env;
use crate::failure::Result;
use crate::secret::Secret;
use std::net::{TcpListener, ToSocketAddrs};
use std::path::PathBuf;
use std::str::FromStr;
use std::sync::RwLock;
use std::time::Duration;
use tamga_core::ca::authority::{self, CERTIFICATE_FILE, KEY_FILE};
use tamga_core::ca::fault::{self, ServerFault};
use tamga_core::ca::renew::purposes_of;
use tamga_core::ca::report::Issued;
use tamga_core::error::Error;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::format::pem;
use tamga_core::pki::key::PrivateKey;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_host::entropy;
use tamga_host::error::Error as HostError;
use tamga_host::fs::Kind;
use tamga_host::serve::{self, Content, Minimum, Page, Site, Upstream};

/// How often the directory is looked at for a renewed certificate.
const LOOK_AGAIN: Duration = Duration::from_secs(1);

/// What to serve, and how.
#[derive(Clone, Debug)]
pub struct Request {
    /// The certificate's label; None for the only one for servers, else the one that names localhost.
    pub label: Option<Label>,
    /// The port on loopback; 0 for one that is free.
    pub port: u16,
    /// What is shown.
    pub content: Shows,
    /// What is wrong with the certificate on purpose.
    pub fault: Option<ServerFault>,
    /// A port of plain HTTP that is redirected.
    pub redirect_from: Option<u16>,
    /// True if TLS 1.3 is the oldest protocol.
    pub only_13: bool,
    /// The label of the authority whose certificates clients must show.
    pub client_authority: Option<Label>,
    /// Opens the key.
    pub secret: Secret,
}

/// What is shown.
#[derive(Clone, Debug)]
pub enum Shows {
    /// A page about the certificate.
    Page,
    /// The files below a directory: never hidden ones, never private keys.
    Directory(PathBuf),
    /// An application that speaks plain HTTP.
    Proxy(String),
}

/// What happens while it serves.
pub enum Renewal<'a> {
    /// The renewed certificate is served from now on.
    Served(&'a Certificate),
    /// There is a renewed certificate, but its key needs a passphrase.
    Locked,
}

/// A site that is listened for, and not yet served.
pub struct Listening {
    /// The certificate.
    pub issued: Issued,
    /// The port.
    pub port: u16,
    /// The port of plain HTTP.
    pub redirect_port: Option<u16>,
    /// The addresses to type.
    pub urls: Vec<String>,
    fault: Option<ServerFault>,
    secret: Secret,
    site: Site,
    shown: Page,
    page: fn(&Issued) -> String,
    listeners: Vec<TcpListener>,
    plain: Vec<TcpListener>,
}

/// Begins to listen. `page` is the page about a certificate; `seen` is given every answer.
///
/// Errors: no such certificate or authority; a key that cannot be opened; a directory that is none; a port that is taken.
pub fn listen(env: &Env, request: &Request, page: fn(&Issued) -> String, seen: serve::Seen) -> Result<Listening> {
    let issued = match &request.label {
        Some(label) => current(env, label)?,
        None => usual(env)?,
    };
    let (chain, key) = match request.fault {
        Some(fault) => broken(env, fault, &issued, &request.secret)?,
        None => env.chain_and_key(&issued, &request.secret)?,
    };
    let clients_under = match &request.client_authority {
        Some(label) => vec![authority::choose(Some(label), &env.authorities()?, false)?.certificate.clone()],
        None => Vec::new(),
    };
    let shown = Page::new(RwLock::new(page(&issued)));
    let content = match &request.content {
        Shows::Page => Content::Page(shown.clone()),
        Shows::Proxy(typed) => Content::Proxy(Upstream::parse(typed).ok_or_else(|| Error::Word {
            what: "address of an application",
            typed: typed.clone(),
            accepted: "a port on this machine, or http://HOST:PORT without a path".into(),
        })?),
        Shows::Directory(directory) => {
            let failed = |e| HostError::file("serving", directory)(e);
            if env.disk().status(directory).map_err(failed)?.kind != Kind::Directory {
                return Err(failed(std::io::ErrorKind::NotADirectory.into()).into());
            }
            Content::Folder(directory.clone())
        }
    };
    let minimum = if request.only_13 { Minimum::Tls13 } else { Minimum::Tls12 };
    let site = Site::with(&chain, &key, content, minimum, &clients_under)?.watched(seen);
    let listeners = serve::bind(request.port)?;
    let port = listeners.first().and_then(|l| l.local_addr().ok()).map_or(request.port, |a| a.port());
    let plain = request.redirect_from.map_or(Ok(Vec::new()), serve::bind)?;
    Ok(Listening {
        urls: urls(&issued.certificate, port),
        redirect_port: plain.first().and_then(|l| l.local_addr().ok()).map(|a| a.port()),
        issued,
        port,
        fault: request.fault,
        secret: request.secret.clone(),
        site,
        shown,
        page,
        listeners,
        plain,
    })
}

impl Listening {
    /// Serves until it is stopped; a renewed certificate is served as soon as it is in its directory whole.
    ///
    /// Errors: the server cannot be started.
    pub fn serve(self, env: &Env, renewed: impl Fn(Renewal<'_>), stopped: impl Future<Output = ()>) -> Result<()> {
        let port = self.port;
        let runtime = serve::runtime().map_err(|source| HostError::Port { port, source })?;
        let served = self.site.served();
        let watch = Watch {
            env,
            issued: &self.issued,
            secret: &self.secret,
            served: &served,
            shown: &self.shown,
            page: self.page,
        };
        let watches = self.fault.is_none();
        let (listeners, plain, site) = (self.listeners, self.plain, self.site);
        Ok(runtime.block_on(async {
            tokio::select! {
                done = serve::run(listeners, plain, site, stopped) => done,
                () = watch.run(renewed), if watches => Ok(()),
            }
        })?)
    }
}

/// The certificate that is meant where none is named: the only one for servers, or the newest that names localhost.
fn usual(env: &Env) -> Result<Issued> {
    let all = match env.open_to_look()? {
        Some(l) => l.in_use()?,
        None => Vec::new(),
    };
    let is_meant = |i: &Issued| i.is_in_force(env.now) && purposes_of(&i.certificate).contains(&Purpose::Server);
    let mut servers: Vec<Issued> = all.into_iter().filter(is_meant).collect();
    if servers.len() == 1 {
        return Ok(servers.remove(0));
    }
    let labels: Vec<String> = servers.iter().map(|i| i.label.to_string()).collect();
    let of_localhost = |i: &Issued| i.certificate.name_words().iter().any(|n| n == "localhost");
    if let Some(at) = servers.iter().rposition(of_localhost) {
        return Ok(servers.remove(at));
    }
    let (why, instead) = match labels.as_slice() {
        [] => ("there is no certificate for a server yet", "make one and trust it: tamga setup localhost".to_owned()),
        all => ("there are several, and none names localhost", format!("name one of {}", all.join(", "))),
    };
    Err(Error::Contradiction { what: "no certificate was named".into(), why: why.into(), instead }.into())
}

/// A certificate that is wrong on purpose, in memory alone; the ledger knows that there was one.
fn broken(env: &Env, fault: ServerFault, issued: &Issued, secret: &Secret) -> Result<(Vec<Vec<u8>>, PrivateKey)> {
    let all = env.authorities()?;
    let Some(a) = issued.authority.as_deref().and_then(|label| all.iter().find(|a| a.label == label)) else {
        return Err(Error::Contradiction {
            what: format!("{} has no authority whose certificates could go wrong", issued.label),
            why: "it is self-signed, or its authority is not in this data directory".into(),
            instead: "take one that was issued under an authority: tamga list".into(),
        }
        .into());
    };
    let key = match fault.needs_the_authority() {
        true => Some(env.authority_key(a, secret)?),
        false => None,
    };
    let names: Vec<Name> = issued.certificate.name_words().iter().filter_map(|n| Name::from_str(n).ok()).collect();
    let made = fault::make(fault, &names, a, key.as_deref(), env.now, &entropy::System)?;
    let (_lock, ledger) = env.open_for_change()?;
    let said = format!("{}: serial {}, in memory only", fault.word(), made.chain[0].serial);
    ledger.note(env.now, "fault served", &issued.label, &said)?;
    Ok((made.chain.iter().map(|c| c.der().to_vec()).collect(), made.key))
}

struct Watch<'a> {
    env: &'a Env,
    issued: &'a Issued,
    secret: &'a Secret,
    served: &'a serve::Served,
    shown: &'a Page,
    page: fn(&Issued) -> String,
}

impl Watch<'_> {
    /// Never ends by itself.
    async fn run(&self, renewed: impl Fn(Renewal<'_>)) {
        let mut now = Some(self.issued.certificate.sha256());
        loop {
            tokio::time::sleep(LOOK_AGAIN).await;
            let place = self.issued.folder.join(CERTIFICATE_FILE);
            let Some(new) = self.env.disk().read(&place).ok().and_then(|b| pem::certificates(&b).into_iter().next())
            else {
                continue;
            };
            let Ok(certificate) = Certificate::read(&new, "it") else { continue };
            if Some(certificate.sha256()) == now {
                continue;
            }
            let path = self.issued.folder.join(KEY_FILE);
            let is_locked = self.env.stored_key(&self.issued.label, &path).is_ok_and(|k| k.is_locked());
            now = Some(certificate.sha256());
            if is_locked && !self.secret.is_named() {
                renewed(Renewal::Locked);
                continue;
            }
            let issued = Issued { certificate, ..self.issued.clone() };
            let replaced = self.env.chain_and_key(&issued, self.secret).map(|(c, key)| self.served.replace(&c, &key));
            if !matches!(replaced, Ok(Ok(()))) {
                // Between the two renames the key is the other one's: the next look finds both.
                now = None;
                continue;
            }
            *self.shown.write().unwrap_or_else(|e| e.into_inner()) = (self.page)(&issued);
            renewed(Renewal::Served(&issued.certificate));
        }
    }
}

/// True for a name or address by which a server on loopback is reached from this machine.
fn leads_here(name: &Name) -> bool {
    match name {
        Name::Dns(d) if d.starts_with("*.") => false,
        Name::Dns(d) if !name.is_loopback() => {
            let found = (d.as_str(), 0_u16).to_socket_addrs().map(|all| all.map(|a| a.ip()).collect::<Vec<_>>());
            found.is_ok_and(|all| !all.is_empty() && all.iter().all(std::net::IpAddr::is_loopback))
        }
        name => name.is_loopback(),
    }
}

/// The addresses to type: of the certificate's names those that lead to loopback; if none does, its first name.
fn urls(c: &Certificate, port: u16) -> Vec<String> {
    c.name_words()
        .iter()
        .filter(|n| n.parse::<Name>().is_ok_and(|name| leads_here(&name)))
        .map(|n| if n.contains(':') { format!("https://[{n}]:{port}/") } else { format!("https://{n}:{port}/") })
        .collect()
}
