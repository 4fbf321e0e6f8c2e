//! Handshake messages in clear text (RFC 8446 §4, RFC 5246 §7.4).

use super::hello::{Cursor, Server, extensions};
use super::words;
use crate::pki::cert::Certificate;
use crate::vocabulary::text::harmless;

/// The type of a ServerHello.
pub(super) const CERTIFICATE: u8 = 11;
pub(super) const SERVER_HELLO: u8 = 2;

type Details = Vec<(&'static str, String)>;

/// A message's name, and what is in it.
pub(super) fn read(kind: u8, body: &[u8]) -> (String, Details) {
    let (what, details) = match kind {
        0 => ("HelloRequest", Vec::new()),
        1 => ("ClientHello", client_hello(body).unwrap_or_default()),
        SERVER_HELLO => match Server::parse(body) {
            Some(hello) if hello.retry => ("HelloRetryRequest", server_hello(&hello)),
            Some(hello) => ("ServerHello", server_hello(&hello)),
            None => ("ServerHello", Vec::new()),
        },
        4 => ("NewSessionTicket", Vec::new()),
        11 => ("Certificate", certificates(body).unwrap_or_default()),
        12 => ("ServerKeyExchange", key_exchange(body)),
        13 => ("CertificateRequest", Vec::new()),
        14 => ("ServerHelloDone", Vec::new()),
        15 => ("CertificateVerify", Vec::new()),
        16 => ("ClientKeyExchange", Vec::new()),
        20 => ("Finished", Vec::new()),
        22 => ("CertificateStatus", Vec::new()),
        n => return (format!("handshake message {n}"), Vec::new()),
    };
    (what.to_owned(), details)
}

fn client_hello(body: &[u8]) -> Option<Details> {
    let mut from = Cursor(body);
    let legacy = from.number()?;
    from.take(32)?;
    from.short_list()?;
    let ciphers: Vec<String> =
        from.long_list()?.chunks_exact(2).map(|c| words::cipher(u16::from_be_bytes([c[0], c[1]]))).collect();
    from.short_list()?;
    let extensions = from.long_list().map(extensions).unwrap_or_default();
    let value = |kind: u16| extensions.iter().find(|e| e.0 == kind).map(|e| e.1.as_slice());
    let mut details = Details::new();
    let versions = match value(43).and_then(|v| Cursor(v).short_list()) {
        Some(list) => list.chunks_exact(2).map(|v| u16::from_be_bytes([v[0], v[1]])).collect(),
        None => vec![legacy],
    };
    let versions: Vec<String> = versions.into_iter().map(words::version).collect();
    details.push(("versions", versions.join(", ")));
    if let Some(name) = value(0).and_then(sni) {
        details.push(("name", name));
    }
    if let Some(list) = value(16) {
        details.push(("alpn", alpn(list)));
    }
    details.push(("ciphers", ciphers.join(", ")));
    if let Some(list) = value(10).and_then(|v| Cursor(v).long_list()) {
        let groups: Vec<String> =
            list.chunks_exact(2).map(|g| words::group(u16::from_be_bytes([g[0], g[1]]))).collect();
        details.push(("groups", groups.join(", ")));
    }
    Some(details)
}

fn server_hello(hello: &Server) -> Details {
    let mut details = vec![("version", words::version(hello.version)), ("cipher", words::cipher(hello.cipher))];
    for (kind, value) in &hello.extensions {
        match kind {
            51 if value.len() >= 2 => {
                details.push(("group", words::group(u16::from_be_bytes([value[0], value[1]]))));
            }
            16 => details.push(("alpn", alpn(value))),
            _ => {}
        }
    }
    details
}

fn sni(value: &[u8]) -> Option<String> {
    let mut list = Cursor(Cursor(value).long_list()?);
    list.take(1)?;
    Some(harmless(&String::from_utf8_lossy(list.long_list()?)))
}

fn alpn(value: &[u8]) -> String {
    let mut list = Cursor(Cursor(value).long_list().unwrap_or_default());
    let mut names = Vec::new();
    while let Some(name) = list.short_list() {
        names.push(harmless(&String::from_utf8_lossy(name)));
    }
    names.join(", ")
}

/// TLS 1.2's: the list alone (RFC 5246 §7.4.2).
fn certificates(body: &[u8]) -> Option<Details> {
    let mut list = Cursor(Cursor(body).longest_list()?);
    let mut details = Details::new();
    while let Some(der) = list.longest_list() {
        let words = Certificate::read(der, "it").map_or_else(|_| "(unreadable)".to_owned(), |c| c.subject_words());
        details.push(("certificate", words));
    }
    Some(details)
}

/// The certificates of such a list, DER.
pub(super) fn chain(body: &[u8]) -> Option<Vec<Vec<u8>>> {
    let mut list = Cursor(Cursor(body).longest_list()?);
    Some(std::iter::from_fn(|| list.longest_list().map(<[u8]>::to_vec)).collect())
}

/// A named curve (RFC 8422 §5.4).
fn key_exchange(body: &[u8]) -> Details {
    match body {
        [3, a, b, ..] => vec![("group", words::group(u16::from_be_bytes([*a, *b])))],
        _ => Vec::new(),
    }
}
