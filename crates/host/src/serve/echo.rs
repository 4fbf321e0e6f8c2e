//! A WebSocket that gives back what it gets (RFC 6455): for trying wss:// from a page.

use super::body::{Body, empty};
use hyper::body::Incoming;
use hyper::header::{CONNECTION, HeaderName, HeaderValue, UPGRADE};
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use std::time::Duration;
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::handshake::derive_accept_key;
use tokio_tungstenite::tungstenite::protocol::{Role, WebSocketConfig};

/// A longer message ends the connection.
const LONGEST: usize = 1024 * 1024;
/// So long a client may be silent.
const SILENCE: Duration = Duration::from_secs(600);

/// True for a request that wants to go over to WebSocket.
pub(super) fn is_wanted<B>(request: &Request<B>) -> bool {
    let says = |name: HeaderName, word: &str| {
        request
            .headers()
            .get_all(name)
            .iter()
            .any(|v| v.to_str().is_ok_and(|v| v.split(',').any(|part| part.trim().eq_ignore_ascii_case(word))))
    };
    says(CONNECTION, "upgrade") && says(UPGRADE, "websocket")
}

/// Goes over and gives back every message; None for a request without a key (RFC 6455 §4.2.1).
pub(super) fn start(request: Request<Incoming>) -> Option<Response<Body>> {
    let key = request.headers().get("sec-websocket-key")?.as_bytes().to_owned();
    tokio::spawn(async move {
        // A client that goes away meanwhile: nobody is left to tell.
        if let Ok(upgraded) = hyper::upgrade::on(request).await {
            echo(TokioIo::new(upgraded)).await;
        }
    });
    let mut response = Response::new(empty());
    *response.status_mut() = StatusCode::SWITCHING_PROTOCOLS;
    let headers = response.headers_mut();
    headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
    headers.insert(UPGRADE, HeaderValue::from_static("websocket"));
    headers.insert("sec-websocket-accept", HeaderValue::from_str(&derive_accept_key(&key)).ok()?);
    Some(response)
}

async fn echo(socket: TokioIo<hyper::upgrade::Upgraded>) {
    use futures_util::{SinkExt, StreamExt};
    let limits = WebSocketConfig::default().max_message_size(Some(LONGEST)).max_frame_size(Some(LONGEST));
    let mut ws = WebSocketStream::from_raw_socket(socket, Role::Server, Some(limits)).await;
    while let Ok(Some(Ok(message))) = tokio::time::timeout(SILENCE, ws.next()).await {
        if (message.is_text() || message.is_binary()) && ws.send(message).await.is_err() {
            return;
        }
    }
    let _ = ws.close(None).await;
}
