//! HTTPS before an application that speaks plain HTTP: requests, answers and WebSockets pass through.

use super::body::{Body, with_status_and};
use super::echo;
use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::header::{self, CONNECTION, HOST, HeaderMap, HeaderName, HeaderValue, UPGRADE};
use hyper::{Request, Response, StatusCode, Uri, Version};
use hyper_util::rt::TokioIo;
use std::net::SocketAddr;
use std::time::Duration;
use tokio::net::TcpStream;

/// The application must take a connection in this time.
const PATIENCE: Duration = Duration::from_secs(5);
/// What belongs to one connection and is not passed on (RFC 9110 §7.6.1).
const OF_ONE_HOP: [HeaderName; 7] = [
    CONNECTION,
    header::PROXY_AUTHENTICATE,
    header::PROXY_AUTHORIZATION,
    header::TE,
    header::TRAILER,
    header::TRANSFER_ENCODING,
    UPGRADE,
];

/// Where the application is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Upstream {
    host: String,
    port: u16,
}

impl Upstream {
    /// Reads a port on this machine, or `http://HOST[:PORT]`; None for anything else.
    pub fn parse(typed: &str) -> Option<Upstream> {
        if let Ok(port) = typed.parse::<u16>() {
            return (port > 0).then(|| Upstream { host: "localhost".to_owned(), port });
        }
        let uri: Uri = typed.parse().ok()?;
        let plain = uri.scheme_str() == Some("http") && uri.path() == "/" && uri.query().is_none();
        let host = uri.host().filter(|h| !h.is_empty())?;
        let whole = uri.authority().is_some_and(|a| !a.as_str().contains('@'));
        (plain && whole).then(|| Upstream { host: host.to_owned(), port: uri.port_u16().unwrap_or(80) })
    }
}

impl std::fmt::Display for Upstream {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "http://{}:{}", self.host, self.port)
    }
}

/// Passes a request on and gives the application's answer; 502 with a sentence where there is none.
pub(super) async fn pass(request: Request<Incoming>, to: &Upstream, peer: SocketAddr) -> Response<Body> {
    match passed(request, to, peer).await {
        Ok(response) => response,
        Err(why) => with_status_and(StatusCode::BAD_GATEWAY, format!("{to}, which stands behind this site, {why}\n")),
    }
}

async fn passed(mut request: Request<Incoming>, to: &Upstream, peer: SocketAddr) -> Result<Response<Body>, String> {
    let host = to.host.trim_matches(['[', ']']);
    let socket = match tokio::time::timeout(PATIENCE, TcpStream::connect((host, to.port))).await {
        Ok(Ok(socket)) => socket,
        Ok(Err(_)) => return Err("does not answer: is it started, and on that port?".into()),
        Err(_) => return Err("does not answer within 5 seconds".into()),
    };
    let failed = |e: hyper::Error| format!("broke off: {e}");
    let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(socket)).await.map_err(failed)?;
    tokio::spawn(async move {
        let _ = connection.with_upgrades().await;
    });
    let upgrade = echo::is_wanted(&request);
    // The future of the connection that comes in, taken before the request goes away.
    let from = upgrade.then(|| hyper::upgrade::on(&mut request));
    let mut response = sender.send_request(towards(request, to, peer, upgrade)).await.map_err(failed)?;
    if let Some(from) = from.filter(|_| response.status() == StatusCode::SWITCHING_PROTOCOLS) {
        let back = hyper::upgrade::on(&mut response);
        tokio::spawn(async move {
            if let (Ok(from), Ok(back)) = (from.await, back.await) {
                let _ = tokio::io::copy_bidirectional(&mut TokioIo::new(from), &mut TokioIo::new(back)).await;
            }
        });
    } else {
        strip(response.headers_mut());
    }
    Ok(response.map(|body| body.map_err(std::io::Error::other).boxed()))
}

/// The request as the application gets it: its own host kept, and who asked, over what.
fn towards(mut request: Request<Incoming>, to: &Upstream, peer: SocketAddr, upgrade: bool) -> Request<Incoming> {
    let asked = request
        .headers()
        .get(HOST)
        .cloned()
        .or_else(|| HeaderValue::from_str(request.uri().authority()?.as_str()).ok());
    let path = request.uri().path_and_query().map_or("/", |p| p.as_str()).to_owned();
    *request.uri_mut() = path.parse().unwrap_or_default();
    *request.version_mut() = Version::HTTP_11;
    let headers = request.headers_mut();
    strip(headers);
    if upgrade {
        headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
        headers.insert(UPGRADE, HeaderValue::from_static("websocket"));
    }
    if let Ok(peer) = HeaderValue::from_str(&peer.ip().to_string()) {
        headers.insert("x-forwarded-for", peer);
    }
    headers.insert("x-forwarded-proto", HeaderValue::from_static("https"));
    let own = HeaderValue::from_str(&format!("{}:{}", to.host, to.port)).ok();
    if let Some(host) = asked.or(own) {
        headers.insert("x-forwarded-host", host.clone());
        headers.insert(HOST, host);
    }
    request
}

/// Takes away what belongs to one connection, and what its header Connection names besides.
fn strip(headers: &mut HeaderMap) {
    let named: Vec<HeaderName> = headers
        .get_all(CONNECTION)
        .iter()
        .filter_map(|v| v.to_str().ok())
        .flat_map(|v| v.split(','))
        .filter_map(|n| n.trim().parse().ok())
        .collect();
    for name in OF_ONE_HOP.iter().chain(&named) {
        headers.remove(name);
    }
    headers.remove("keep-alive");
    headers.remove("proxy-connection");
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_plain_address_is_an_upstream() {
        let read = |t: &str| Upstream::parse(t).map(|u| u.to_string());
        assert_eq!(read("http://127.0.0.1:3000").as_deref(), Some("http://127.0.0.1:3000"));
        assert_eq!(read("http://[::1]:3000/").as_deref(), Some("http://[::1]:3000"));
        assert_eq!(read("http://localhost").as_deref(), Some("http://localhost:80"));
        for bad in ["https://localhost", "localhost:3000", "http://a/b", "http://a?b", "http://u:p@a", "", "http://"] {
            assert!(read(bad).is_none(), "{bad}");
        }
    }

    #[test]
    fn what_belongs_to_one_connection_is_taken_away() {
        let mut headers = HeaderMap::new();
        for (name, value) in [("connection", "close, x-mine"), ("x-mine", "1"), ("te", "trailers"), ("accept", "*/*")] {
            headers.insert(name, HeaderValue::from_static(value));
        }
        strip(&mut headers);
        assert_eq!(headers.len(), 1);
    }
}
