//! The upgrade of `wss://` to WebSocket, as a browser asks for it (RFC 6455 §4).

use super::Missed;
use base64ct::{Base64, Encoding};
use std::io::{BufRead, BufReader, Read, Write};
use tamga_core::finding::Code;
use tamga_core::vocabulary::text::harmless;

/// RFC 6455 §1.3.
const GUID: &[u8] = b"258EAFA5-E914-47DA-95CA-C5AB0DC85B11";
/// No head of an answer is longer.
const MOST: u64 = 32 * 1024;

/// Asks for it over an established connection. `authority` is host and port as in the address, `path` begins with a slash.
///
/// Errors: [`Code::OtherProtocol`], with what was answered instead.
pub(super) fn upgrade(tls: &mut (impl Read + Write), authority: &str, path: &str) -> Result<(), Missed> {
    let missed = |detail: String| Missed::new(Code::OtherProtocol, detail);
    let mut nonce = [0; 16];
    tamga_core::plan::ports::Entropy::fill(&crate::entropy::System, &mut nonce);
    let key = Base64::encode_string(&nonce);
    let ask = format!(
        "GET {path} HTTP/1.1\r\nHost: {authority}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\
         Sec-WebSocket-Key: {key}\r\nSec-WebSocket-Version: 13\r\nOrigin: https://{authority}\r\n\r\n"
    );
    let silent = |_| missed("it does not answer the request for WebSocket".into());
    tls.write_all(ask.as_bytes()).and_then(|()| tls.flush()).map_err(silent)?;
    let mut from = BufReader::new(tls.take(MOST));
    let mut first = String::new();
    from.read_line(&mut first).map_err(silent)?;
    let status = first.split(' ').nth(1).unwrap_or_default().to_owned();
    if status != "101" {
        let said = tamga_core::vocabulary::text::cut(&harmless(first.trim()), 80);
        return Err(missed(format!("it answers the request for WebSocket at {path} with {said:?}")));
    }
    let expected = Base64::encode_string(
        ring::digest::digest(&ring::digest::SHA1_FOR_LEGACY_USE_ONLY, &[key.as_bytes(), GUID].concat()).as_ref(),
    );
    let mut line = String::new();
    while from.read_line(&mut line).map_err(silent)? > 0 && !line.trim().is_empty() {
        if let Some((name, value)) = line.split_once(':')
            && name.eq_ignore_ascii_case("sec-websocket-accept")
            && value.trim() == expected
        {
            return Ok(());
        }
        line.clear();
    }
    Err(missed("it says 101 without the proof that it speaks WebSocket".into()))
}
