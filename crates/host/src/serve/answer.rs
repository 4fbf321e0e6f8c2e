//! What a site answers: its page, a file, a redirect.

use super::body::{Body, full, whole, with_status};
use super::{Content, echo, proxy};
use http_body_util::{BodyExt, Channel};
use hyper::body::{Body as _, Bytes, Incoming};
use hyper::header::{ALLOW, CONTENT_LENGTH, CONTENT_TYPE, HOST, HeaderName, HeaderValue, LOCATION};
use hyper::{Method, Request, Response, StatusCode, Version};
use rustls::ProtocolVersion;
use std::io::{Read, Seek};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use tamga_core::pki::format::holds_key;

/// So much of a file is in memory at once.
const PIECE: usize = 64 * 1024;

/// What is worth a line in the log.
#[derive(Clone, Debug)]
pub enum Happened {
    /// A request was answered.
    Answered(Line),
    /// A connection came to nothing: no request was read.
    Refused {
        /// Who connected.
        peer: SocketAddr,
        /// Which side gave up, and why.
        why: String,
    },
}

/// One answer, as it is logged.
#[derive(Clone, Debug)]
pub struct Line {
    /// Who asked.
    pub peer: SocketAddr,
    /// The method.
    pub method: String,
    /// The path.
    pub path: String,
    /// The status.
    pub status: u16,
    /// The length of the answer's body in octets; None where it is not known before it is sent.
    pub length: Option<u64>,
    /// The protocol, such as `TLS 1.3`.
    pub protocol: &'static str,
    /// The version of HTTP, such as `HTTP/2`.
    pub http: &'static str,
}

/// Answers a request.
pub(super) async fn to(
    request: Request<Incoming>,
    content: &Content,
    peer: SocketAddr,
    protocol: Option<ProtocolVersion>,
) -> (Response<Body>, Line) {
    let http = if request.version() == Version::HTTP_2 { "HTTP/2" } else { "HTTP/1.1" };
    let (method, path) = (request.method().clone(), request.uri().path().to_owned());
    let reads = matches!(method, Method::GET | Method::HEAD);
    if !names_one_host(&request) {
        let response = with_status(StatusCode::BAD_REQUEST, "one Host header is needed\n");
        return with_line(
            response,
            Line { peer, method: method.to_string(), path, status: 0, length: None, protocol: of_tls(protocol), http },
        );
    }
    if let Content::Proxy(upstream) = content {
        let response = proxy::pass(request, upstream, peer).await;
        return with_line(
            response,
            Line { peer, method: method.to_string(), path, status: 0, length: None, protocol: of_tls(protocol), http },
        );
    }
    if echo::is_wanted(&request) {
        let response = echo::start(request).unwrap_or_else(|| with_status(StatusCode::BAD_REQUEST, "no key\n"));
        return with_line(
            response,
            Line { peer, method: method.to_string(), path, status: 0, length: None, protocol: of_tls(protocol), http },
        );
    }
    let found = match content {
        _ if !reads => None,
        Content::Page(page) if path == "/" => {
            let page = page.read().unwrap_or_else(|e| e.into_inner()).clone();
            Some(whole("text/html; charset=utf-8", page.into()))
        }
        Content::Page(_) => None,
        Content::Folder(folder) => file(folder, &path, method == Method::HEAD).await,
        Content::Proxy(_) => None,
    };
    let mut response = match found {
        Some(response) => response,
        None if reads => with_status(StatusCode::NOT_FOUND, "not found\n"),
        None => {
            let mut r = with_status(StatusCode::METHOD_NOT_ALLOWED, "GET or HEAD\n");
            r.headers_mut().insert(ALLOW, HeaderValue::from_static("GET, HEAD"));
            r
        }
    };
    response
        .headers_mut()
        .insert(HeaderName::from_static("x-content-type-options"), HeaderValue::from_static("nosniff"));
    with_line(
        response,
        Line { peer, method: method.to_string(), path, status: 0, length: None, protocol: of_tls(protocol), http },
    )
}

/// RFC 9112 §3.2: a request of HTTP/1.1 has one Host header; RFC 9113 §8.3.1: one of HTTP/2 has an authority, or one.
fn names_one_host<B>(request: &Request<B>) -> bool {
    let hosts = request.headers().get_all(HOST).iter().count();
    match request.version() {
        Version::HTTP_2 => hosts + usize::from(request.uri().authority().is_some()) >= 1 && hosts <= 1,
        Version::HTTP_11 => hosts == 1,
        _ => hosts <= 1,
    }
}

/// An answer with its line of the log.
fn with_line(response: Response<Body>, line: Line) -> (Response<Body>, Line) {
    let said = response.headers().get(CONTENT_LENGTH).and_then(|l| l.to_str().ok()?.parse().ok());
    let length = said.or_else(|| response.body().size_hint().exact());
    let status = response.status().as_u16();
    (response, Line { status, length, ..line })
}

fn of_tls(protocol: Option<ProtocolVersion>) -> &'static str {
    match protocol {
        Some(ProtocolVersion::TLSv1_3) => "TLS 1.3",
        Some(ProtocolVersion::TLSv1_2) => "TLS 1.2",
        _ => "TLS",
    }
}

/// A file below the directory, read piece by piece as the client takes it.
async fn file(folder: &Path, path: &str, head: bool) -> Option<Response<Body>> {
    let (folder, path) = (folder.to_owned(), path.to_owned());
    let opened = tokio::task::spawn_blocking(move || open(&folder, &path)).await.ok()??;
    let (mut file, length, kind) = opened;
    let mut response = if head {
        Response::new(full(Bytes::new()))
    } else {
        let (mut sender, body) = Channel::<Bytes, std::io::Error>::new(2);
        let runtime = tokio::runtime::Handle::current();
        tokio::task::spawn_blocking(move || {
            let mut left = length;
            let mut piece = vec![0; PIECE];
            while left > 0 {
                let want = piece.len().min(usize::try_from(left).unwrap_or(usize::MAX));
                match file.read(&mut piece[..want]) {
                    Ok(n) if n > 0 => {
                        left -= n as u64;
                        let sent = runtime.block_on(sender.send_data(Bytes::copy_from_slice(&piece[..n])));
                        if sent.is_err() {
                            return;
                        }
                    }
                    // It became shorter while it was read: the client must not take it for whole.
                    _ => return sender.abort(std::io::ErrorKind::UnexpectedEof.into()),
                }
            }
        });
        Response::new(body.boxed())
    };
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(kind));
    response.headers_mut().insert(CONTENT_LENGTH, HeaderValue::from(length));
    Some(response)
}

fn open(folder: &Path, path: &str) -> Option<(std::fs::File, u64, &'static str)> {
    let mut place = std::fs::canonicalize(place(folder, path)?).ok()?;
    if place.is_dir() {
        place.push("index.html");
        place = std::fs::canonicalize(place).ok()?;
    }
    // A link may not lead out of the directory, nor to what is kept back.
    let inside = place.strip_prefix(std::fs::canonicalize(folder).ok()?).ok()?;
    if inside.components().any(|c| is_kept_back(&c.as_os_str().to_string_lossy())) {
        return None;
    }
    let (mut file, length) = crate::platform::open_regular(&place).ok()?;
    if holds_key(&mut file, length) {
        return None;
    }
    file.rewind().ok()?;
    Some((file, length, kind(&place)))
}

/// A file of this length or less is judged whole; of a longer one every word that a key's text has is looked for.
const WHOLE: u64 = 4 << 20;

/// True if a file holds a private key, whatever its name: a second name for a key's file, a store, a Secret. One that cannot be read
/// is taken for one.
fn holds_key(file: &mut std::fs::File, length: u64) -> bool {
    let read = |file: &mut std::fs::File| -> std::io::Result<bool> {
        if length <= WHOLE {
            let mut bytes = zeroize::Zeroizing::new(Vec::with_capacity(usize::try_from(length).unwrap_or(0) + 1));
            file.take(WHOLE).read_to_end(&mut bytes)?;
            return Ok(holds_key::may_hold(&bytes));
        }
        let mut piece = zeroize::Zeroizing::new(vec![0; PIECE + holds_key::OVERLAP]);
        let mut kept = 0;
        loop {
            let n = file.read(&mut piece[kept..])?;
            if n == 0 {
                return Ok(false);
            }
            let filled = kept + n;
            if holds_key::has_words(&piece[..filled]) {
                return Ok(true);
            }
            kept = filled.min(holds_key::OVERLAP);
            piece.copy_within(filled - kept..filled, 0);
        }
    };
    read(file).unwrap_or(true)
}

/// Where a path of an address lies; None where it steps out of the directory or names what is kept back.
fn place(folder: &Path, path: &str) -> Option<PathBuf> {
    let mut out = folder.to_owned();
    for part in path.split('/').filter(|p| !p.is_empty()) {
        let part = decoded(part)?;
        if is_kept_back(&part) || part.contains(['/', '\\', '\0']) {
            return None;
        }
        out.push(part);
    }
    Some(out)
}

/// Hidden files (and `..`), and private keys.
fn is_kept_back(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    name.starts_with('.') || lower == "private-key.pem" || lower.ends_with(".key") || lower.ends_with(".passphrase")
}

/// Percent-encoding undone (RFC 3986 §2.1).
fn decoded(part: &str) -> Option<String> {
    let mut out = Vec::with_capacity(part.len());
    let mut bytes = part.bytes();
    while let Some(b) = bytes.next() {
        out.push(match b {
            b'%' => {
                let digit = |b: Option<u8>| char::from(b?).to_digit(16);
                (digit(bytes.next())? * 16 + digit(bytes.next())?) as u8
            }
            b => b,
        });
    }
    String::from_utf8(out).ok()
}

/// The media type by the file's ending.
fn kind(path: &Path) -> &'static str {
    let ending = path.extension().map(|e| e.to_string_lossy().to_ascii_lowercase()).unwrap_or_default();
    match ending.as_str() {
        "html" | "htm" => "text/html; charset=utf-8",
        "css" => "text/css; charset=utf-8",
        "js" | "mjs" => "text/javascript; charset=utf-8",
        "json" | "map" => "application/json",
        "wasm" => "application/wasm",
        "svg" => "image/svg+xml",
        "png" => "image/png",
        "jpg" | "jpeg" => "image/jpeg",
        "gif" => "image/gif",
        "webp" => "image/webp",
        "ico" => "image/x-icon",
        "woff2" => "font/woff2",
        "pdf" => "application/pdf",
        "xml" => "application/xml",
        "txt" | "md" => "text/plain; charset=utf-8",
        "pem" | "crt" | "cer" => "application/x-x509-ca-cert",
        _ => "application/octet-stream",
    }
}

/// Plain HTTP is sent to HTTPS: 307, so that the method stays and nothing is remembered.
pub(super) fn redirect(request: &Request<Incoming>, port: u16) -> Response<Body> {
    if !names_one_host(request) {
        return with_status(StatusCode::BAD_REQUEST, "one Host header is needed\n");
    }
    let host = request.headers().get(HOST).and_then(|h| h.to_str().ok()).unwrap_or_default();
    let name = match host.strip_prefix('[') {
        Some(rest) => rest.split_once(']').map(|(a, _)| format!("[{a}]")),
        None => Some(host.split(':').next().unwrap_or_default().to_owned()),
    };
    let safe = |n: &String| !n.is_empty() && n.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._[]:".contains(&b));
    let Some(name) = name.filter(safe) else {
        return with_status(StatusCode::BAD_REQUEST, "which host?\n");
    };
    let path = request.uri().path_and_query().map_or("/", |p| p.as_str());
    let at = if port == 443 { String::new() } else { format!(":{port}") };
    let mut response = with_status(StatusCode::TEMPORARY_REDIRECT, "here it is HTTPS\n");
    match HeaderValue::from_str(&format!("https://{name}{at}{path}")) {
        Ok(location) => {
            response.headers_mut().insert(LOCATION, location);
            response
        }
        Err(_) => with_status(StatusCode::BAD_REQUEST, "which path?\n"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_request_names_exactly_one_host() {
        let request = |version: Version, uri: &str, hosts: &[&'static str]| {
            let mut r = Request::builder().version(version).uri(uri);
            for host in hosts {
                r = r.header(HOST, *host);
            }
            names_one_host(&r.body(()).unwrap())
        };
        assert!(request(Version::HTTP_11, "/", &["a"]) && request(Version::HTTP_10, "/", &[]));
        assert!(!request(Version::HTTP_11, "/", &[]) && !request(Version::HTTP_11, "/", &["a", "b"]));
        assert!(!request(Version::HTTP_10, "/", &["a", "a"]));
        assert!(request(Version::HTTP_2, "https://a/", &[]) && request(Version::HTTP_2, "https://a/", &["a"]));
        assert!(!request(Version::HTTP_2, "/", &[]) && !request(Version::HTTP_2, "https://a/", &["a", "b"]));
    }

    #[test]
    fn no_path_leads_out_or_to_what_is_kept_back() {
        let folder = Path::new("/site");
        assert_eq!(place(folder, "/a%20b/c.html").unwrap(), Path::new("/site/a b/c.html"));
        assert_eq!(place(folder, "//").unwrap(), folder);
        for bad in
            ["/../etc/passwd", "/%2e%2e/x", "/a/.git/config", "/%2Fetc", "/private-key.pem", "/x.KEY", "/%zz", "/%ff"]
        {
            assert!(place(folder, bad).is_none(), "{bad}");
        }
    }
}
