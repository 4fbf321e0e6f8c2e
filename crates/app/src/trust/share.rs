//! A page from which phones and other machines get the root: only what is public, over plain HTTP.

use crate::env::Env;
use crate::failure::Result;
use std::net::{IpAddr, SocketAddr, TcpListener};
use std::time::Duration;
use tamga_core::ca::authority;
use tamga_core::ca::report::Authority;
use tamga_core::pki::format::contents::Named;
use tamga_core::pki::format::{mobileconfig, pem, pkcs7, pkcs12};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::timestamp::Span;
use tamga_host::error::Error;
use tamga_host::share::{self, Document};

/// What to hand out, and where.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// An authority's label; None for the only one.
    pub root: Option<Label>,
    /// The address to listen on; None for this machine's own, as others reach it.
    pub address: Option<IpAddr>,
    /// The port to listen on; 0 for one that is free.
    pub port: u16,
    /// When to end.
    pub stop_after: Option<Span>,
}

/// A page that is listened for, and not yet served.
pub struct Shared {
    /// The authority whose root it is.
    pub authority: Authority,
    /// SHA-256 of the root, in lower-case hex.
    pub sha256: Sha256Fingerprint,
    /// The page's address.
    pub url: String,
    /// The address that is listened on.
    pub at: SocketAddr,
    /// What is handed out besides the page.
    pub documents: Vec<Document>,
    limit: Option<Duration>,
    listener: TcpListener,
}

/// Begins to listen.
///
/// Errors: no such authority; the port is taken.
pub fn listen(env: &Env, request: &Request) -> Result<Shared> {
    let all = env.authorities()?;
    let authority = authority::choose(request.root.as_deref(), &all, false)?.clone();
    // Of an intermediate its root is what devices must trust.
    let root = authority.top().unwrap_or(&authority.certificate).clone();
    let address = request.address.unwrap_or_else(share::own_address);
    let listener = share::bind(SocketAddr::new(address, request.port))?;
    let at = listener.local_addr().map_err(|source| Error::Port { port: request.port, source })?;
    let limit = request.stop_after.and_then(|s| u64::try_from(s.seconds()).ok()).map(Duration::from_secs);
    Ok(Shared {
        sha256: root.sha256(),
        url: format!("http://{at}/"),
        documents: documents(&authority, root.der()),
        authority,
        at,
        limit,
        listener,
    })
}

impl Shared {
    /// Serves the page and the documents until it is stopped or its time is over.
    ///
    /// Errors: the server cannot be started.
    pub fn serve(self, page: String, seen: share::Seen, stopped: impl Future<Output = ()>) -> Result<()> {
        let port = self.at.port();
        let page = Document { path: "/", kind: "text/html; charset=utf-8", keep_as: None, bytes: page.into_bytes() };
        let documents = std::iter::once(page).chain(self.documents).collect();
        let runtime = tamga_host::serve::runtime().map_err(|source| Error::Port { port, source })?;
        let limit = self.limit;
        Ok(runtime.block_on(share::run(self.listener, documents, seen, async {
            match limit {
                Some(limit) => tokio::select! {
                    () = stopped => {}
                    () = tokio::time::sleep(limit) => {}
                },
                None => stopped.await,
            }
        }))?)
    }
}

/// The root in each form that some device takes. In: an authority, and its root as DER.
pub fn documents(a: &Authority, der: &[u8]) -> Vec<Document> {
    let named = [Named { alias: Some(a.label.to_string()), thing: der.to_vec() }];
    let document = |path, kind, ending: &str, bytes| Document {
        path,
        kind,
        keep_as: Some(format!("{}-root.{ending}", a.label)),
        bytes,
    };
    let profile = mobileconfig::write(&a.label, &named).into_bytes();
    let profile = Document {
        // A profile is opened, not kept.
        keep_as: None,
        ..document("/root.mobileconfig", "application/x-apple-aspen-config", "mobileconfig", profile)
    };
    vec![
        document("/root.crt", "application/x-x509-ca-cert", "crt", der.to_vec()),
        document("/root.pem", "application/x-pem-file", "pem", pem::write(pem::CERTIFICATE, der).as_bytes().to_vec()),
        profile,
        document("/root.p12", "application/x-pkcs12", "p12", pkcs12::write_trust(&named).to_vec()),
        document("/root.p7b", "application/x-pkcs7-certificates", "p7b", pkcs7::write(&[der.to_vec()])),
    ]
}
