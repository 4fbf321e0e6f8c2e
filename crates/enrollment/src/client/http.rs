//! HTTPS to one service: bounded answers, bounded time, its certificate judged by the roots that were named.

use http_body_util::{BodyExt, Full, Limited};
use hyper::body::Bytes;
use hyper::header::{CONTENT_TYPE, HOST, USER_AGENT};
use hyper::{Request, Uri};
use hyper_util::rt::TokioIo;
use rustls::pki_types::ServerName;
use rustls::{ClientConfig, RootCertStore};
use std::sync::Arc;
use std::time::Duration;
use tamga_core::enrollment::failure::Failure;
use tamga_core::vocabulary::text::{cut, harmless};
use tamga_host::ledger::Origin;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

/// One request may take so long.
const PATIENCE: Duration = Duration::from_secs(30);
/// Upper bound on an answer in octets: a chain of several certificates, with room.
const LONGEST: usize = 256 << 10;

/// What came back.
pub(super) struct Response {
    pub(super) status: u16,
    headers: Vec<(String, String)>,
    pub(super) body: Vec<u8>,
}

impl Response {
    pub(super) fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str())
    }

    pub(super) fn json(&self) -> Option<serde_json::Value> {
        serde_json::from_slice(&self.body).ok()
    }
}

/// The way to a service.
pub(super) struct Http {
    config: Arc<ClientConfig>,
    origin: Origin,
}

impl Http {
    pub(super) fn new(origin: &Origin, roots: RootCertStore) -> Result<Http, Failure> {
        let failed = |e: rustls::Error| Failure::Unreached { url: origin.from.clone(), why: e.to_string() };
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let mut config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(failed)?
            .with_root_certificates(roots)
            .with_no_client_auth();
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        Ok(Http { config: Arc::new(config), origin: origin.clone() })
    }

    /// One request. `body` is a signed one.
    pub(super) async fn ask(&self, method: &str, url: &str, body: Option<Vec<u8>>) -> Result<Response, Failure> {
        let unreached = |why: String| Failure::Unreached { url: url.to_owned(), why };
        match tokio::time::timeout(PATIENCE, self.asked(method, url, body)).await {
            Ok(done) => done,
            Err(_) => Err(unreached(format!("it did not answer within {} seconds", PATIENCE.as_secs()))),
        }
    }

    async fn asked(&self, method: &str, url: &str, body: Option<Vec<u8>>) -> Result<Response, Failure> {
        let unreached = |why: String| Failure::Unreached { url: url.to_owned(), why };
        let uri: Uri = url.parse().map_err(|_| unreached("it is no address".into()))?;
        let (Some("https"), Some(host)) = (uri.scheme_str(), uri.host()) else {
            return Err(unreached("a service is reached by https:// alone".into()));
        };
        let port = uri.port_u16().unwrap_or(443);
        let mut last = format!("{} has no address", harmless(host));
        let mut stream = None;
        for at in super::addresses(&self.origin, host, port).await {
            match TcpStream::connect(at).await {
                Ok(s) => {
                    stream = Some(s);
                    break;
                }
                Err(e) => last = format!("{at}: {e}"),
            }
        }
        let stream = stream.ok_or_else(|| unreached(last))?;
        let _ = stream.set_nodelay(true);
        let name = ServerName::try_from(host.trim_matches(['[', ']']).to_owned());
        let name = name.map_err(|_| unreached("its host is no name".into()))?;
        let tls = TlsConnector::from(self.config.clone()).connect(name, stream).await.map_err(|e| {
            let why = cut(&harmless(&e.to_string()), 200);
            match e.get_ref().and_then(|e| e.downcast_ref::<rustls::Error>()) {
                Some(rustls::Error::InvalidCertificate(_)) => Failure::Untrusted { url: url.to_owned(), why },
                _ => unreached(why),
            }
        })?;
        let failed = |e: hyper::Error| unreached(format!("the connection failed: {e}"));
        let (mut sender, connection) =
            hyper::client::conn::http1::handshake(TokioIo::new(tls)).await.map_err(failed)?;
        let driven = tokio::spawn(connection);
        let path = uri.path_and_query().map_or("/", |p| p.as_str());
        let authority = uri.authority().map_or(host, |a| a.as_str());
        let mut request = Request::builder()
            .method(method)
            .uri(path)
            .header(HOST, authority)
            .header("connection", "close")
            .header(USER_AGENT, concat!("tamga/", env!("CARGO_PKG_VERSION")));
        if body.is_some() {
            request = request.header(CONTENT_TYPE, crate::answer::JOSE);
        }
        let request = request
            .body(Full::new(Bytes::from(body.unwrap_or_default())))
            .map_err(|_| unreached("it is no address".into()))?;
        let response = sender.send_request(request).await.map_err(failed)?;
        let status = response.status().as_u16();
        let text = |v: &hyper::header::HeaderValue| v.to_str().unwrap_or_default().to_owned();
        let headers = response.headers().iter().map(|(n, v)| (n.as_str().to_owned(), text(v))).collect();
        let read = Limited::new(response.into_body(), LONGEST).collect().await;
        let body =
            read.map_err(|_| unreached(format!("its answer broke off, or has more than {} KiB", LONGEST >> 10)))?;
        driven.abort();
        Ok(Response { status, headers, body: body.to_bytes().to_vec() })
    }
}
