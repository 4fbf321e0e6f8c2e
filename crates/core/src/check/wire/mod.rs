//! What of a TLS connection anybody on the way can read: records and handshake messages in clear text (RFC 8446 §4 and §5, RFC 5246 §7).

pub mod hello;
mod message;
mod words;

pub use words::{cipher, version};

crate::words! {
    /// Who speaks.
    pub enum Side: "side" {
        /// The one that connected.
        Client = "client",
        /// The one that was met.
        Server = "server",
    }
}

/// One message, or a run of encrypted records.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Message {
    /// Who sent it.
    pub side: Side,
    /// `ClientHello`, `Certificate`, `alert`, `encrypted`, …
    pub what: String,
    /// What is in it, in the order of its fields; escaped for showing.
    pub details: Vec<(&'static str, String)>,
    /// Octets, with the heads of their records.
    pub octets: usize,
}

/// Reads a connection as it goes on.
#[derive(Clone, Debug, Default)]
pub struct Reader {
    client: Stream,
    server: Stream,
    messages: Vec<Message>,
    tls13: bool,
    chain: Vec<Vec<u8>>,
    hello: Option<hello::Server>,
}

/// One direction.
#[derive(Clone, Debug, Default)]
struct Stream {
    buffer: Vec<u8>,
    handshake: Vec<u8>,
    changed: bool,
    foreign: bool,
}

/// A handshake message longer than this is not put together: no certificate chain of a lab is.
const MOST: usize = 256 * 1024;
/// So many messages are kept.
const MOST_MESSAGES: usize = 200;

impl Reader {
    /// Takes in what one side sent.
    pub fn feed(&mut self, side: Side, bytes: &[u8]) {
        let stream = self.of(side);
        if stream.foreign || stream.buffer.len() + bytes.len() > MOST {
            return;
        }
        stream.buffer.extend_from_slice(bytes);
        while let Some((kind, body)) = self.record(side) {
            self.took(side, kind, &body);
        }
    }

    fn of(&mut self, side: Side) -> &mut Stream {
        match side {
            Side::Client => &mut self.client,
            Side::Server => &mut self.server,
        }
    }

    /// The next whole record: its type and its body. What is no TLS ends the reading of this direction.
    fn record(&mut self, side: Side) -> Option<(u8, Vec<u8>)> {
        let stream = self.of(side);
        let head = stream.buffer.get(..5)?;
        let (kind, length) = (head[0], usize::from(u16::from_be_bytes([head[3], head[4]])));
        if !(20..=24).contains(&kind) || head[1] != 3 || length > 16_384 + 2_048 {
            stream.foreign = true;
            return None;
        }
        let body = stream.buffer.get(5..5 + length)?.to_vec();
        stream.buffer.drain(..5 + length);
        Some((kind, body))
    }

    fn took(&mut self, side: Side, kind: u8, body: &[u8]) {
        let octets = body.len() + 5;
        let changed = self.of(side).changed;
        match kind {
            20 => {
                // In TLS 1.3 it means nothing (RFC 8446 §5).
                if !self.tls13 {
                    self.of(side).changed = true;
                }
                self.push(Message { side, what: "ChangeCipherSpec".into(), details: Vec::new(), octets });
            }
            21 if !changed && body.len() == 2 => {
                let details = vec![("level", words::level(body[0])), ("what", words::alert(body[1]))];
                self.push(Message { side, what: "alert".into(), details, octets });
            }
            22 if !changed => {
                let stream = self.of(side);
                if stream.handshake.len() + body.len() > MOST {
                    stream.handshake.clear();
                    return;
                }
                stream.handshake.extend_from_slice(body);
                self.handshakes(side);
            }
            _ => match self.messages.last_mut() {
                Some(last) if last.side == side && last.what == "encrypted" => last.octets += octets,
                _ => self.push(Message { side, what: "encrypted".into(), details: Vec::new(), octets }),
            },
        }
    }

    fn handshakes(&mut self, side: Side) {
        loop {
            let stream = self.of(side);
            let Some(head) = stream.handshake.get(..4) else { return };
            let length = usize::from(head[1]) << 16 | usize::from(head[2]) << 8 | usize::from(head[3]);
            let kind = head[0];
            if length > MOST {
                stream.handshake.clear();
                return;
            }
            let Some(body) = stream.handshake.get(4..4 + length).map(<[u8]>::to_vec) else { return };
            stream.handshake.drain(..4 + length);
            let (what, details) = message::read(kind, &body);
            if kind == message::SERVER_HELLO {
                self.hello = hello::Server::parse(&body);
                self.tls13 = self.hello.as_ref().is_some_and(|h| h.version == 0x0304);
            }
            if kind == message::CERTIFICATE && side == Side::Server && !self.tls13 && self.chain.is_empty() {
                self.chain = message::chain(&body).unwrap_or_default();
            }
            self.push(Message { side, what, details, octets: length + 4 });
        }
    }

    /// The certificates that a server sent in clear text, as it does up to TLS 1.2 (RFC 5246 §7.4.2); DER, leaf first.
    pub fn chain(&self) -> &[Vec<u8>] {
        &self.chain
    }

    /// The group of the server's key exchange up to TLS 1.2, by name (RFC 8422 §5.4); None where it has none, or TLS 1.3 is spoken.
    pub fn group(&self) -> Option<&str> {
        let exchange = self.messages.iter().find(|m| m.side == Side::Server && m.what == "ServerKeyExchange")?;
        exchange.details.iter().find(|d| d.0 == "group").map(|d| d.1.as_str())
    }

    /// What the server chose.
    pub fn hello(&self) -> Option<&hello::Server> {
        self.hello.as_ref()
    }

    fn push(&mut self, message: Message) {
        if self.messages.len() < MOST_MESSAGES {
            self.messages.push(message);
        }
    }

    /// What a server floods its client with, if it does: messages that are legal once or twice and keep a client busy without end.
    pub fn flood(&self) -> Option<&'static str> {
        const LEGAL: usize = 3;
        let count = |what: &str| self.messages.iter().filter(|m| m.side == Side::Server && m.what == what).count();
        [
            ("ChangeCipherSpec", "ChangeCipherSpec messages"),
            ("HelloRequest", "HelloRequest messages"),
            ("alert", "alerts that mean nothing"),
        ]
        .into_iter()
        .find(|(what, _)| count(what) > LEGAL)
        .map(|(_, words)| words)
    }

    /// What was read, in order.
    pub fn messages(&self) -> &[Message] {
        &self.messages
    }

    /// What anybody on the way saw, and what nobody did; both empty before a server answered.
    pub fn summary(&self) -> (Vec<&'static str>, Vec<&'static str>) {
        if !self.messages.iter().any(|m| m.what == "ServerHello") {
            return Default::default();
        }
        let mut clear = vec![
            "both addresses and ports",
            "when and how much was sent",
            "the versions and ciphers offered and chosen",
            "the name that was asked for (SNI)",
            "the application protocols offered (ALPN)",
        ];
        let mut hidden = vec!["everything said after the handshake"];
        let rest = ["the application protocol chosen", "the server's certificates", "a client's certificate"];
        if self.tls13 { &mut hidden } else { &mut clear }.extend(rest);
        (clear, hidden)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn record(kind: u8, body: &[u8]) -> Vec<u8> {
        let length = u16::try_from(body.len()).unwrap_or(0).to_be_bytes();
        [&[kind, 3, 3], &length[..], body].concat()
    }

    #[test]
    fn a_hello_cut_in_two_records_and_an_alert_are_read() {
        let hello = hello::client("charts.saltmarsh.test", 0x0303, &[7; 32]);
        let body = &hello[5..];
        let mut reader = Reader::default();
        reader.feed(Side::Client, &record(22, &body[..9]));
        assert!(reader.messages().is_empty());
        reader.feed(Side::Client, &record(22, &body[9..]));
        let first = &reader.messages()[0];
        assert_eq!((first.side, first.what.as_str()), (Side::Client, "ClientHello"));
        assert!(first.details.contains(&("name", "charts.saltmarsh.test".into())), "{first:?}");
        reader.feed(Side::Server, &record(21, &[2, 70]));
        let alert = &reader.messages()[1];
        assert_eq!(alert.details, [("level", "fatal".to_owned()), ("what", "protocol_version".to_owned())]);
        assert_eq!(reader.summary(), Default::default(), "no server has answered");
    }

    #[test]
    fn what_is_no_tls_ends_the_reading() {
        let mut reader = Reader::default();
        reader.feed(Side::Server, b"HTTP/1.1 400 Bad Request\r\n\r\n");
        reader.feed(Side::Server, &record(21, &[2, 40]));
        assert!(reader.messages().is_empty());
    }

    proptest! {
        #[test]
        fn any_bytes_in_any_pieces_are_read_without_a_panic(
            pieces in prop::collection::vec((any::<bool>(), prop::collection::vec(any::<u8>(), 0..200)), 0..20),
            kind in 20_u8..25, body in prop::collection::vec(any::<u8>(), 0..300),
        ) {
            let mut reader = Reader::default();
            reader.feed(Side::Server, &record(kind, &body));
            for (client, bytes) in pieces {
                reader.feed(if client { Side::Client } else { Side::Server }, &bytes);
            }
            prop_assert!(reader.messages().len() <= MOST_MESSAGES);
            for m in reader.messages() {
                for (_, text) in &m.details {
                    prop_assert!(!text.chars().any(char::is_control));
                }
            }
        }
    }
}
