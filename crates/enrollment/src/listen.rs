//! Sockets: connections are taken, requests read whole within bounds of time and length, and answered by a function that may block.

use crate::answer::{Answer, Asked};
use http_body_util::{BodyExt, Full, Limited};
use hyper::body::{Body as _, Bytes, Incoming};
use hyper::header::{CONNECTION, CONTENT_TYPE, HeaderName, HeaderValue};
use hyper::service::service_fn;
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::{TokioIo, TokioTimer};
use std::collections::HashMap;
use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tamga_core::enrollment::problem::Problem;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, watch};
use tokio_rustls::TlsAcceptor;

/// What answers a request. It may block: it is called on a thread that may.
pub type Handler = Arc<dyn Fn(&Asked<'_>) -> Answer + Send + Sync>;

/// Handshake, header and body each may take so long.
const PATIENCE: Duration = Duration::from_secs(10);
/// A connection is kept for so long at most, however busy it is.
const LIFE: Duration = Duration::from_secs(600);
/// Requests that are under way at the end get so long.
const FAREWELL: Duration = Duration::from_secs(10);
/// So many connections at once.
const MOST: usize = 1024;
/// So many at once from one address: a proxy may stand before us, and a whole lab behind an address.
const MOST_EACH: usize = 512;
/// Upper bound on a request's body in octets: a little more than a signed request has, so that the protocol can say that it is too long.
const LONGEST: usize = (64 << 10) + 1;
/// So many requests are worked at at once.
const AT_WORK: usize = 4;

/// Takes connections until `stopped` changes, then lets those under way end.
pub async fn run(
    listener: TcpListener,
    tls: Option<TlsAcceptor>,
    handler: Handler,
    mut stopped: watch::Receiver<bool>,
) {
    let room = Arc::new(Semaphore::new(MOST));
    let work = Arc::new(Semaphore::new(AT_WORK));
    let each = Each::default();
    loop {
        let place = tokio::select! {
            _ = stopped.wait_for(|s| *s) => break,
            place = room.clone().acquire_owned() => place,
        };
        let Ok(place) = place else { break };
        let met = tokio::select! {
            _ = stopped.wait_for(|s| *s) => break,
            met = listener.accept() => met,
        };
        let Ok((socket, peer)) = met else {
            // Out of file descriptors: let some connections end first.
            tokio::time::sleep(Duration::from_millis(50)).await;
            continue;
        };
        let Some(one) = each.enter(peer.ip()) else { continue };
        let (tls, handler, stopped, work) = (tls.clone(), handler.clone(), stopped.clone(), work.clone());
        tokio::spawn(async move {
            let _one = one;
            // Headers and body of an answer leave together, and at once.
            let _ = socket.set_nodelay(true);
            match tls {
                Some(tls) => {
                    if let Ok(Ok(stream)) = tokio::time::timeout(PATIENCE, tls.accept(socket)).await {
                        connection(stream, peer, handler, work, stopped).await;
                    }
                }
                None => connection::<TcpStream>(socket, peer, handler, work, stopped).await,
            }
            drop(place);
        });
    }
    drop(listener);
    let _ = tokio::time::timeout(FAREWELL, room.acquire_many(MOST as u32)).await;
}

/// How many connections each address has.
#[derive(Clone, Default)]
struct Each(Arc<Mutex<HashMap<IpAddr, usize>>>);

struct One(Each, IpAddr);

impl Each {
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

async fn connection<S: AsyncRead + AsyncWrite + Unpin + Send + 'static>(
    stream: S,
    peer: SocketAddr,
    handler: Handler,
    work: Arc<Semaphore>,
    mut stopped: watch::Receiver<bool>,
) {
    let service = service_fn(move |request: Request<Incoming>| {
        let (handler, work) = (handler.clone(), work.clone());
        async move { Ok::<_, Infallible>(respond(request, peer.ip(), handler, work).await) }
    });
    let mut builder = hyper::server::conn::http1::Builder::new();
    // The time for a header counts from the end of the answer before it.
    builder.timer(TokioTimer::new()).header_read_timeout(PATIENCE).max_buf_size(32 << 10);
    let mut connection = std::pin::pin!(builder.serve_connection(TokioIo::new(stream), service));
    let whole = tokio::time::sleep(LIFE);
    let mut whole = std::pin::pin!(whole);
    let mut ending = false;
    loop {
        tokio::select! {
            _ = connection.as_mut() => return,
            _ = stopped.wait_for(|s| *s), if !ending => {
                ending = true;
                connection.as_mut().graceful_shutdown();
            }
            () = &mut whole, if !ending => {
                ending = true;
                connection.as_mut().graceful_shutdown();
            }
        }
    }
}

async fn respond(
    request: Request<Incoming>,
    peer: IpAddr,
    handler: Handler,
    work: Arc<Semaphore>,
) -> Response<Full<Bytes>> {
    let too_long = || {
        let problem = Problem::malformed(format!("the body has more than {} KiB", LONGEST >> 10)).with_status(413);
        written(problem.into(), true)
    };
    if request.body().size_hint().lower() > LONGEST as u64 {
        return too_long();
    }
    let (head, body) = request.into_parts();
    let read = tokio::time::timeout(PATIENCE, Limited::new(body, LONGEST).collect()).await;
    let body = match read {
        Ok(Ok(body)) => body.to_bytes(),
        Ok(Err(e)) if e.downcast_ref::<http_body_util::LengthLimitError>().is_some() => return too_long(),
        Ok(Err(_)) => return written(Problem::malformed("the body broke off").into(), true),
        Err(_) => {
            let slow = Problem::malformed(format!("the body did not come within {} seconds", PATIENCE.as_secs()));
            return written(slow.with_status(408).into(), true);
        }
    };
    let Ok(_place) = work.acquire().await else {
        return written(Answer::empty(503), true);
    };
    let answered = tokio::task::spawn_blocking(move || {
        let path = head.uri.path_and_query().map_or("/", |p| p.as_str()).to_owned();
        let media_type = head.headers.get(CONTENT_TYPE).and_then(|v| v.to_str().ok()).map(str::to_owned);
        let method = head.method.as_str().to_owned();
        let asked = Asked { method: &method, path: &path, media_type: media_type.as_deref(), body: &body, peer };
        handler(&asked)
    });
    match answered.await {
        Ok(answer) => written(answer, false),
        Err(_) => written(Answer::empty(500), true),
    }
}

fn written(answer: Answer, close: bool) -> Response<Full<Bytes>> {
    let mut response = Response::new(Full::new(Bytes::from(answer.body)));
    *response.status_mut() = StatusCode::from_u16(answer.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    for (name, value) in answer.headers {
        if let Ok(value) = HeaderValue::from_str(&value) {
            response.headers_mut().append(HeaderName::from_static(name), value);
        }
    }
    if close {
        response.headers_mut().insert(CONNECTION, HeaderValue::from_static("close"));
    }
    response
}
