//! A small HTTPS site on loopback: one page, a directory or an application behind it; HTTP/1.1, HTTP/2 and WebSocket.

mod answer;
mod body;
mod echo;
mod moved;
mod proxy;
mod refused;
mod tls;
mod weak;

use crate::error::{Error, Result};
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, TcpListener};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::watch;
use tokio_rustls::TlsAcceptor;

pub use answer::{Happened, Line};
pub use proxy::Upstream;
pub use tls::{Minimum, Served, Site, certified, config};

/// A client that does not finish its handshake in this time is let go.
const PATIENCE: Duration = Duration::from_secs(20);
/// A plain connection is there for one redirect.
const REDIRECTED: Duration = Duration::from_secs(60);
/// Answers that are under way at the end get so long.
const FAREWELL: Duration = Duration::from_secs(5);
/// More at once are kept waiting: each costs memory and a file descriptor.
const MOST: usize = 4_000;

/// So many requests of one HTTP/2 connection are answered at once.
const STREAMS: u32 = 100;

/// What is shown.
#[derive(Clone)]
pub enum Content {
    /// One page of HTML, which may be replaced.
    Page(Page),
    /// The files below a directory, but for those whose name begins with a dot and private keys.
    Folder(PathBuf),
    /// An application that speaks plain HTTP.
    Proxy(Upstream),
}

/// A page of HTML.
pub type Page = Arc<std::sync::RwLock<String>>;

/// Called for every answer and every refused connection.
pub type Seen = Arc<dyn Fn(&Happened) + Send + Sync>;

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
///
/// In: where HTTPS is spoken; where plain HTTP is answered with a redirect to it (perhaps nowhere); the site.
pub async fn run(
    listeners: Vec<TcpListener>,
    plain: Vec<TcpListener>,
    site: Site,
    stop: impl Future<Output = ()>,
) -> Result<()> {
    let port = listeners.first().and_then(|l| l.local_addr().ok()).map_or(443, |a| a.port());
    let (ring_bell, bell) = watch::channel(());
    let room = Arc::new(tokio::sync::Semaphore::new(MOST));
    let site = Arc::new(site);
    let acceptor = TlsAcceptor::from(site.config());
    let mut tasks = tokio::task::JoinSet::new();
    for (listener, secure) in listeners.into_iter().map(|l| (l, true)).chain(plain.into_iter().map(|l| (l, false))) {
        let started = listener.set_nonblocking(true).and_then(|()| tokio::net::TcpListener::from_std(listener));
        let listener = started.map_err(|source| Error::Port { port: 0, source })?;
        let (acceptor, site, room, mut stopped) = (acceptor.clone(), site.clone(), room.clone(), bell.clone());
        tasks.spawn(async move {
            loop {
                // A client that comes when all room is taken waits in the system's queue.
                let place = tokio::select! {
                    _ = stopped.changed() => return,
                    place = room.clone().acquire_owned() => place,
                };
                let Ok(place) = place else { return };
                tokio::select! {
                    _ = stopped.changed() => return,
                    met = listener.accept() => match met {
                        Ok((socket, peer)) => {
                            let (acceptor, site, bell) = (acceptor.clone(), site.clone(), stopped.clone());
                            tokio::spawn(async move {
                                match secure {
                                    true => secured(acceptor, socket, peer, site, bell).await,
                                    false => redirected(socket, port).await,
                                }
                                drop(place);
                            });
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
    let _ = tokio::time::timeout(FAREWELL, room.acquire_many(MOST as u32)).await;
    drop(ring_bell);
    Ok(())
}

async fn secured(
    acceptor: TlsAcceptor,
    socket: tokio::net::TcpStream,
    peer: SocketAddr,
    site: Arc<Site>,
    mut stopped: watch::Receiver<()>,
) {
    let failed = match tokio::time::timeout(PATIENCE, acceptor.accept(socket)).await {
        Ok(Ok(tls)) => Ok(tls),
        Ok(Err(e)) => Err(refused::why(&e)),
        Err(_) => Err(format!("the client did not finish the handshake within {} seconds", PATIENCE.as_secs())),
    };
    let tls = match failed {
        Ok(tls) => tls,
        Err(why) => {
            if let Some(seen) = site.seen() {
                seen(&Happened::Refused { peer, why });
            }
            return;
        }
    };
    let protocol = tls.get_ref().1.protocol_version();
    let two = tls.get_ref().1.alpn_protocol() == Some(b"h2");
    let moved = moved::Moved::new();
    let asked = moved.clone();
    let tls = TokioIo::new(moved::Counted { inner: tls, moved: moved.clone() });
    let service = service_fn(move |request: Request<Incoming>| {
        let (site, answering) = (site.clone(), asked.answering());
        async move {
            let (response, line) = answer::to(request, site.content(), peer, protocol).await;
            if let Some(seen) = site.seen() {
                seen(&Happened::Answered(line));
            }
            let response = response.map(|body| moved::Sent::new(body, answering));
            Ok::<_, std::convert::Infallible>(response)
        }
    });
    // The two kinds of connection have no common trait.
    macro_rules! until_it_ends {
        ($connection:expr) => {{
            let mut connection = std::pin::pin!($connection);
            let mut ending = false;
            loop {
                let deadline = moved.deadline();
                tokio::select! {
                    // An error here is a client that went away: nobody is left to tell.
                    _ = connection.as_mut() => return,
                    _ = stopped.changed(), if !ending => {
                        ending = true;
                        connection.as_mut().graceful_shutdown();
                    }
                    () = tokio::time::sleep_until(deadline.into()) => {
                        if moved.deadline() <= std::time::Instant::now() {
                            return;
                        }
                    }
                }
            }
        }};
    }
    if two {
        let mut builder = hyper::server::conn::http2::Builder::new(TokioExecutor::new());
        builder.timer(TokioTimer::new()).max_concurrent_streams(STREAMS);
        until_it_ends!(builder.serve_connection(tls, service))
    } else {
        let mut builder = hyper::server::conn::http1::Builder::new();
        builder.timer(TokioTimer::new()).header_read_timeout(PATIENCE);
        until_it_ends!(builder.serve_connection(tls, service).with_upgrades())
    }
}

async fn redirected(socket: tokio::net::TcpStream, port: u16) {
    let service = service_fn(move |request: Request<Incoming>| async move {
        Ok::<_, std::convert::Infallible>(answer::redirect(&request, port)) as std::result::Result<Response<_>, _>
    });
    let mut builder = hyper::server::conn::http1::Builder::new();
    builder.timer(TokioTimer::new()).header_read_timeout(PATIENCE);
    let _ = tokio::time::timeout(REDIRECTED, builder.serve_connection(TokioIo::new(socket), service)).await;
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
        let _ = runtime.block_on(run(listeners, Vec::new(), site, async move {
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
