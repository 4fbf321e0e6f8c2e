//! A few public documents over plain HTTP, for machines that do not trust us yet: nothing else is answered, nothing is taken in.

use crate::error::{Error, Result};
use http_body_util::Full;
use hyper::body::{Bytes, Incoming};
use hyper::header::{
    CACHE_CONTROL, CONTENT_DISPOSITION, CONTENT_SECURITY_POLICY, CONTENT_TYPE, HeaderValue, X_CONTENT_TYPE_OPTIONS,
};
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::{TokioIo, TokioTimer};
use std::collections::HashMap;
use std::convert::Infallible;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener, UdpSocket};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::Semaphore;

/// One thing that is handed out.
pub struct Document {
    /// Its path.
    pub path: &'static str,
    /// Its media type.
    pub kind: &'static str,
    /// The name under which a browser keeps it; None shows it.
    pub keep_as: Option<String>,
    /// Its octets.
    pub bytes: Vec<u8>,
}

/// What was asked: by whom, which path, and the status of the answer.
pub type Seen = Arc<dyn Fn(SocketAddr, &str, u16) + Send + Sync>;

/// Nobody needs longer for a page of a few kilobytes.
const PATIENCE: Duration = Duration::from_secs(20);
/// A client that has not asked by then is let go when others wait.
const SILENT: Duration = Duration::from_secs(2);
/// So many at once. A silent one costs a file descriptor and a few kilobytes, and makes room for the next.
const MOST: usize = 512;
/// So many at once from one address.
const MOST_EACH: usize = 16;

/// The address by which other machines reach this one: that of the way out, or loopback where there is none. Nothing is sent.
pub fn own_address() -> IpAddr {
    // TEST-NET-1 (RFC 5737): it leads nowhere, and only the way there is asked for.
    let way = UdpSocket::bind((Ipv4Addr::UNSPECIFIED, 0)).and_then(|s| {
        s.connect((Ipv4Addr::new(192, 0, 2, 1), 9))?;
        s.local_addr()
    });
    way.map_or(Ipv4Addr::LOCALHOST.into(), |a| a.ip())
}

/// Listens on exactly this address.
pub fn bind(address: SocketAddr) -> Result<TcpListener> {
    let failed = |source| Error::Port { port: address.port(), source };
    let listener = TcpListener::bind(address).map_err(failed)?;
    listener.set_nonblocking(true).map_err(failed)?;
    Ok(listener)
}

/// Hands them out until `stop` resolves.
pub async fn run(
    listener: TcpListener,
    documents: Vec<Document>,
    seen: Seen,
    stop: impl Future<Output = ()>,
) -> Result<()> {
    let listener = tokio::net::TcpListener::from_std(listener).map_err(|source| Error::Port { port: 0, source })?;
    let documents = Arc::new(documents);
    let room = Arc::new(Semaphore::new(MOST));
    let each = Each::default();
    let mut stop = std::pin::pin!(stop);
    loop {
        let place = tokio::select! {
            () = &mut stop => return Ok(()),
            place = room.clone().acquire_owned() => place,
        };
        let met = tokio::select! {
            () = &mut stop => return Ok(()),
            met = listener.accept() => met,
        };
        let Ok((socket, peer)) = met else {
            tokio::time::sleep(Duration::from_millis(50)).await;
            continue;
        };
        let Some(one) = each.enter(peer.ip()) else { continue };
        let (documents, seen) = (documents.clone(), seen.clone());
        let crowded = room.available_permits() < MOST / 2;
        tokio::spawn(async move {
            let _one = one;
            let service = service_fn(move |request: Request<Incoming>| {
                let response = answer(&request, &documents);
                seen(peer, request.uri().path(), response.status().as_u16());
                async move { Ok::<_, Infallible>(response) }
            });
            let mut builder = hyper::server::conn::http1::Builder::new();
            let patience = if crowded { SILENT } else { PATIENCE };
            builder.timer(TokioTimer::new()).header_read_timeout(patience).keep_alive(false).max_buf_size(16 * 1024);
            let _ = tokio::time::timeout(PATIENCE, builder.serve_connection(TokioIo::new(socket), service)).await;
            drop(place);
        });
    }
}

/// How many connections each address has: one client that is silent on all of them holds up nobody else.
#[derive(Clone, Default)]
struct Each(Arc<Mutex<HashMap<IpAddr, usize>>>);

/// One connection of an address.
struct One(Each, IpAddr);

impl Each {
    /// None if the address has as many as it may have.
    fn enter(&self, address: IpAddr) -> Option<One> {
        let mut all = self.0.lock().unwrap_or_else(|e| e.into_inner());
        let count = all.entry(address).or_default();
        if *count >= MOST_EACH {
            return None;
        }
        *count += 1;
        Some(One(self.clone(), address))
    }
}

impl Drop for One {
    fn drop(&mut self) {
        let mut all = self.0.0.lock().unwrap_or_else(|e| e.into_inner());
        if let Some(count) = all.get_mut(&self.1) {
            *count -= 1;
            if *count == 0 {
                all.remove(&self.1);
            }
        }
    }
}

fn answer(request: &Request<Incoming>, documents: &[Document]) -> Response<Full<Bytes>> {
    let document = documents.iter().find(|d| d.path == request.uri().path());
    let (status, bytes) = match (document, request.method()) {
        (None, _) => (StatusCode::NOT_FOUND, Bytes::from_static(b"there is nothing here\n")),
        (Some(d), &Method::GET | &Method::HEAD) => (StatusCode::OK, Bytes::from(d.bytes.clone())),
        (Some(_), _) => (StatusCode::METHOD_NOT_ALLOWED, Bytes::from_static(b"it can only be read\n")),
    };
    let mut response = Response::new(Full::new(bytes));
    *response.status_mut() = status;
    let headers = response.headers_mut();
    let document = document.filter(|_| status == StatusCode::OK);
    headers.insert(CONTENT_TYPE, HeaderValue::from_static(document.map_or("text/plain", |d| d.kind)));
    headers.insert(X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    headers.insert(CONTENT_SECURITY_POLICY, HeaderValue::from_static("default-src 'none'; style-src 'unsafe-inline'"));
    if let Some(name) = document.and_then(|d| d.keep_as.as_ref())
        && let Ok(value) = HeaderValue::from_str(&format!("attachment; filename=\"{name}\""))
    {
        headers.insert(CONTENT_DISPOSITION, value);
    }
    response
}
