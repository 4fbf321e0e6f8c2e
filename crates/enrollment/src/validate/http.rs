//! http-01 (RFC 8555 section 8.3): a GET over plain HTTP. Redirects are followed on the same host and the two ports alone.

use super::{Task, addresses, connect, problem};
use crate::settings::Look;
use http_body_util::{BodyExt, Empty, Limited};
use hyper::body::Bytes;
use hyper::header::{HOST, LOCATION, USER_AGENT};
use hyper::{Request, StatusCode, Uri};
use hyper_util::rt::TokioIo;
use tamga_core::enrollment::challenge::WELL_KNOWN;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::object::Outcome;
use tamga_core::enrollment::problem::{Problem, ProblemType};
use tamga_core::vocabulary::text::{cut, harmless};
use tokio::io::{AsyncRead, AsyncWrite};

/// Upper bound on an answer in octets: a key authorization has 87.
const LONGEST: usize = 1024;
/// So many redirects are followed.
const HOPS: usize = 5;

/// Where the next request goes.
struct At {
    secure: bool,
    port: u16,
    path: String,
}

pub(super) async fn look(look: &Look, task: &Task) -> Outcome {
    let host = match &task.identifier {
        Identifier::Dns(name) => name.clone(),
        Identifier::Ip(a) if a.is_ipv6() => format!("[{a}]"),
        Identifier::Ip(a) => a.to_string(),
    };
    let mut at = At { secure: false, port: look.http_port, path: format!("{WELL_KNOWN}{}", task.token) };
    for _ in 0..=HOPS {
        let found = addresses(look, &task.identifier, at.port).await?;
        let stream = connect(&host, &found).await?;
        let answer = match at.secure {
            false => get(stream, &host, &at).await,
            true => get(super::alpn::any(stream, &host).await?, &host, &at).await,
        };
        match answer? {
            Got::Body(body) => return judge(&host, &body, task),
            Got::Elsewhere(to) => at = followed(look, &host, &at, &to)?,
        }
    }
    Err(problem(ProblemType::Connection, format!("{host} redirects more than {HOPS} times")))
}

enum Got {
    Body(Vec<u8>),
    Elsewhere(String),
}

async fn get<S: AsyncRead + AsyncWrite + Unpin + Send + 'static>(
    stream: S,
    host: &str,
    at: &At,
) -> Result<Got, Box<Problem>> {
    let failed = || problem(ProblemType::Connection, format!("{host} answered no HTTP on port {}", at.port));
    let mut builder = hyper::client::conn::http1::Builder::new();
    builder.max_buf_size(16 << 10);
    let (mut sender, connection) = builder.handshake(TokioIo::new(stream)).await.map_err(|_| failed())?;
    // Ends with the answer, or is dropped with the time for the whole look.
    let driven = tokio::spawn(connection);
    let _abort = Abort(driven.abort_handle());
    let usual = if at.secure { 443 } else { 80 };
    let named = if at.port == usual { host.to_owned() } else { format!("{host}:{}", at.port) };
    let request = Request::get(at.path.as_str())
        .header(HOST, named)
        .header(USER_AGENT, concat!("tamga/", env!("CARGO_PKG_VERSION")))
        .header("connection", "close")
        .body(Empty::<Bytes>::new())
        .map_err(|_| failed())?;
    let response = sender.send_request(request).await.map_err(|_| failed())?;
    let status = response.status();
    if matches!(status.as_u16(), 301 | 302 | 303 | 307 | 308) {
        let to = response.headers().get(LOCATION).and_then(|l| l.to_str().ok());
        let to = to.ok_or_else(|| problem(ProblemType::IncorrectResponse, format!("{host} redirects nowhere")))?;
        return Ok(Got::Elsewhere(to.to_owned()));
    }
    if status != StatusCode::OK {
        return Err(problem(
            ProblemType::IncorrectResponse,
            format!("{host} answered {} for {}: the answer to the challenge is not in place", status.as_u16(), at.path),
        ));
    }
    let body = Limited::new(response.into_body(), LONGEST).collect().await;
    let long = || {
        problem(
            ProblemType::IncorrectResponse,
            format!("{host} answered with more than {LONGEST} octets, or broke off"),
        )
    };
    Ok(Got::Body(body.map_err(|_| long())?.to_bytes().to_vec()))
}

struct Abort(tokio::task::AbortHandle);

impl Drop for Abort {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// Where a redirect leads, if it may be followed.
fn followed(look: &Look, host: &str, from: &At, to: &str) -> Result<At, Box<Problem>> {
    let refused = |why: &str| {
        problem(
            ProblemType::Connection,
            format!("{host} redirects to {}, which is not followed: {why}", cut(&harmless(to), 80)),
        )
    };
    let uri: Uri = to.parse().map_err(|_| refused("it is no address"))?;
    let path = uri.path_and_query().map_or("/".to_owned(), ToString::to_string);
    let Some(scheme) = uri.scheme_str() else {
        return match to.starts_with('/') {
            true => Ok(At { secure: from.secure, port: from.port, path }),
            false => Err(refused("it is no whole address and no path")),
        };
    };
    let secure = match scheme {
        "http" => false,
        "https" => true,
        _ => return Err(refused("only http and https are")),
    };
    if uri.authority().is_some_and(|a| a.as_str().contains('@')) {
        return Err(refused("it has credentials"));
    }
    if !uri.host().is_some_and(|h| h.eq_ignore_ascii_case(host)) {
        return Err(refused("it is another host"));
    }
    let own = if secure { look.tls_port } else { look.http_port };
    let usual = if secure { 443 } else { 80 };
    let port = uri.port_u16().unwrap_or(usual);
    // The usual port stands for the one that was configured in its place.
    let port = if port == usual { own } else { port };
    match port == own {
        true => Ok(At { secure, port, path }),
        false => Err(refused("it is another port")),
    }
}

fn judge(host: &str, body: &[u8], task: &Task) -> Outcome {
    let text = String::from_utf8_lossy(body);
    if text.trim_end() == task.authorization {
        return Ok(());
    }
    let begins = cut(&harmless(text.trim_end()), 40);
    Err(problem(
        ProblemType::IncorrectResponse,
        format!("{host} answered something else than the key authorization: it begins with “{begins}”"),
    ))
}
