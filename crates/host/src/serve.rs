//! A small HTTPS site: one page, GET and HEAD, HTTP/1.1.

use crate::error::{Error, Result};
use http_body_util::Full;
use hyper::body::{Bytes, Incoming};
use hyper::header::{ALLOW, CONTENT_TYPE, HeaderValue};
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use rustls::ServerConfig;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, TcpListener};
use std::sync::Arc;
use std::time::Duration;
use tamga_core::key::PrivateKey;
use tokio::sync::watch;
use tokio_rustls::TlsAcceptor;

/// A client that does not finish its handshake or request in this time is let go.
const PATIENCE: Duration = Duration::from_secs(20);

/// What is served with.
pub struct Site {
    config: Arc<ServerConfig>,
    page: Bytes,
}

impl Site {
    /// A site with a chain (DER, leaf first), its key and a page of HTML.
    pub fn new(chain: &[Vec<u8>], key: &PrivateKey, page: String) -> Result<Site> {
        let failed = |said: String| Error::Program { program: "the site's TLS".into(), said };
        let pkcs8 = tamga_core::form::private_key::pkcs8(key).map_err(|e| failed(e.to_string()))?;
        let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(pkcs8.to_vec()));
        let chain = chain.iter().map(|der| CertificateDer::from(der.clone())).collect();
        let mut config = ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
            .with_protocol_versions(rustls::DEFAULT_VERSIONS)
            .and_then(|b| b.with_no_client_auth().with_single_cert(chain, key))
            .map_err(|e| failed(format!("this certificate and key cannot be served: {e}")))?;
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        Ok(Site { config: Arc::new(config), page: Bytes::from(page) })
    }
}

/// Binds loopback, IPv4 and, where the machine has it, IPv6, to one port; 0 lets the system choose.
pub fn bind(port: u16) -> Result<Vec<TcpListener>> {
    let on = |ip: IpAddr, port: u16| TcpListener::bind(SocketAddr::new(ip, port));
    // Another program may hold the port that the system chose for IPv4 on IPv6: then another is tried.
    for _ in 0..8 {
        let four = on(Ipv4Addr::LOCALHOST.into(), port).map_err(|source| Error::Port { port, source })?;
        let chosen = four.local_addr().map_err(|source| Error::Port { port, source })?.port();
        match on(Ipv6Addr::LOCALHOST.into(), chosen) {
            Ok(six) => return Ok(vec![four, six]),
            Err(e) if e.kind() == std::io::ErrorKind::AddrInUse && port == 0 => {}
            Err(source) if e_is_in_use(&source) => return Err(Error::Port { port, source }),
            Err(_) => return Ok(vec![four]),
        }
    }
    Err(Error::Port { port, source: std::io::Error::from(std::io::ErrorKind::AddrInUse) })
}

fn e_is_in_use(e: &std::io::Error) -> bool {
    e.kind() == std::io::ErrorKind::AddrInUse
}

/// Serves until `stop` resolves; open connections then get a moment to end.
pub async fn run(listeners: Vec<TcpListener>, site: Site, stop: impl Future<Output = ()>) -> Result<()> {
    let acceptor = TlsAcceptor::from(site.config.clone());
    let (ring_bell, bell) = watch::channel(());
    let mut tasks = tokio::task::JoinSet::new();
    for listener in listeners {
        let started = listener.set_nonblocking(true).and_then(|()| tokio::net::TcpListener::from_std(listener));
        let listener = started.map_err(|source| Error::Port { port: 0, source })?;
        let (acceptor, page, mut stopped) = (acceptor.clone(), site.page.clone(), bell.clone());
        tasks.spawn(async move {
            loop {
                tokio::select! {
                    _ = stopped.changed() => return,
                    met = listener.accept() => match met {
                        Ok((socket, _)) => {
                            tokio::spawn(connection(acceptor.clone(), socket, page.clone()));
                        }
                        // Out of file descriptors: let some connections end first.
                        Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
                    },
                }
            }
        });
    }
    stop.await;
    let _ = ring_bell.send(());
    while tasks.join_next().await.is_some() {}
    Ok(())
}

async fn connection(acceptor: TlsAcceptor, socket: tokio::net::TcpStream, page: Bytes) {
    let Ok(Ok(tls)) = tokio::time::timeout(PATIENCE, acceptor.accept(socket)).await else {
        return;
    };
    let service = service_fn(move |request: Request<Incoming>| {
        let page = page.clone();
        async move { Ok::<_, std::convert::Infallible>(answer(&request, page)) }
    });
    // An error here is a client that went away: nobody is left to tell.
    let _ = tokio::time::timeout(
        PATIENCE,
        hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(tls), service),
    )
    .await;
}

fn answer(request: &Request<Incoming>, page: Bytes) -> Response<Full<Bytes>> {
    let (status, kind, body) = match (request.method(), request.uri().path()) {
        (&Method::GET | &Method::HEAD, "/") => (StatusCode::OK, "text/html; charset=utf-8", page),
        (&Method::GET | &Method::HEAD, _) => (StatusCode::NOT_FOUND, "text/plain", Bytes::from_static(b"not found\n")),
        _ => (StatusCode::METHOD_NOT_ALLOWED, "text/plain", Bytes::from_static(b"GET or HEAD\n")),
    };
    let mut response = Response::new(Full::new(body));
    *response.status_mut() = status;
    let headers = response.headers_mut();
    headers.insert(CONTENT_TYPE, HeaderValue::from_static(kind));
    if status == StatusCode::METHOD_NOT_ALLOWED {
        headers.insert(ALLOW, HeaderValue::from_static("GET, HEAD"));
    }
    response
}

/// A site that runs in a thread of its own until dropped.
pub struct Running {
    /// Its port on loopback.
    pub port: u16,
    stop: Option<tokio::sync::oneshot::Sender<()>>,
    thread: Option<std::thread::JoinHandle<()>>,
}

/// Starts a site on a port that the system chooses.
pub fn start(site: Site) -> Result<Running> {
    let listeners = bind(0)?;
    let failed = |source| Error::Port { port: 0, source };
    let port = listeners[0].local_addr().map_err(failed)?.port();
    let (stop, stopped) = tokio::sync::oneshot::channel();
    let runtime = runtime().map_err(failed)?;
    let thread = std::thread::spawn(move || {
        // A failure shows as a refused connection in what comes next.
        let _ = runtime.block_on(run(listeners, site, async move {
            let _ = stopped.await;
        }));
    });
    Ok(Running { port, stop: Some(stop), thread: Some(thread) })
}

/// The runtime that sites run in.
pub fn runtime() -> std::io::Result<tokio::runtime::Runtime> {
    tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()
}

impl Drop for Running {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            let _ = stop.send(());
        }
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}
