//! Hellos: one of our own, for servers that speak only what is no longer spoken, and what a server answers (RFC 5246 §7.4.1).

/// What a server chose.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Server {
    /// The version, as in the protocol: 0x0301 is TLS 1.0.
    pub version: u16,
    /// The cipher suite.
    pub cipher: u16,
    /// True if it only asks for another hello (RFC 8446 §4.1.3).
    pub retry: bool,
    /// Its extensions: type and value.
    pub extensions: Vec<(u16, Vec<u8>)>,
}

/// SHA-256 of "HelloRetryRequest".
const RETRY: [u8; 8] = [0xcf, 0x21, 0xad, 0x74, 0xe5, 0x9a, 0x61, 0x11];

impl Server {
    /// Reads the body of a ServerHello; None if it is none.
    pub fn parse(body: &[u8]) -> Option<Server> {
        let mut from = Cursor(body);
        let mut version = from.number()?;
        let retry = from.take(32)?.starts_with(&RETRY);
        from.short_list()?;
        let cipher = from.number()?;
        from.take(1)?;
        let extensions = from.long_list().map(extensions).unwrap_or_default();
        if let Some((_, chosen)) = extensions.iter().find(|(kind, _)| *kind == 43)
            && chosen.len() == 2
        {
            version = u16::from_be_bytes([chosen[0], chosen[1]]);
        }
        Some(Server { version, cipher, retry, extensions })
    }
}

/// Reads from the front.
pub(super) struct Cursor<'a>(pub &'a [u8]);

impl<'a> Cursor<'a> {
    pub(super) fn take(&mut self, n: usize) -> Option<&'a [u8]> {
        let (head, rest) = self.0.split_at_checked(n)?;
        self.0 = rest;
        Some(head)
    }

    pub(super) fn number(&mut self) -> Option<u16> {
        self.take(2).map(|b| u16::from_be_bytes([b[0], b[1]]))
    }

    /// Something with its length in one octet before it.
    pub(super) fn short_list(&mut self) -> Option<&'a [u8]> {
        let n = usize::from(self.take(1)?[0]);
        self.take(n)
    }

    /// Something with its length in two octets before it.
    pub(super) fn long_list(&mut self) -> Option<&'a [u8]> {
        let n = usize::from(self.number()?);
        self.take(n)
    }

    /// Something with its length in three octets before it.
    pub(super) fn longest_list(&mut self) -> Option<&'a [u8]> {
        let n = self.take(3).map(|b| usize::from(b[0]) << 16 | usize::from(b[1]) << 8 | usize::from(b[2]))?;
        self.take(n)
    }
}

/// The extensions of a hello, as far as they can be read.
pub(super) fn extensions(list: &[u8]) -> Vec<(u16, Vec<u8>)> {
    let mut from = Cursor(list);
    let mut out = Vec::new();
    while let (Some(kind), Some(value)) = (from.number(), from.long_list()) {
        out.push((kind, value.to_vec()));
    }
    out
}

/// Ciphers of the last twenty years: what an old server may still choose from. The strong ones first.
const OFFERED: [u16; 31] = [
    0xc02b, 0xc02f, 0xc02c, 0xc030, 0xcca9, 0xcca8, 0x009e, 0x009f, 0xccaa, 0xc023, 0xc027, 0xc024, 0xc028, 0xc009,
    0xc013, 0xc00a, 0xc014, 0x0033, 0x0039, 0x0067, 0x006b, 0x009c, 0x009d, 0x003c, 0x003d, 0x002f, 0x0035, 0x000a,
    0x0016, 0x0005, 0x0004,
];

/// A ClientHello record that offers `version` and everything before it, for this host (as SNI, unless it is an address).
/// `random` is 32 octets that nobody else uses.
pub fn client(host: &str, version: u16, random: &[u8; 32]) -> Vec<u8> {
    let mut extensions = Vec::new();
    let mut add = |kind: u16, value: &[u8]| {
        extensions.extend(kind.to_be_bytes());
        extensions.extend(length(value));
        extensions.extend_from_slice(value);
    };
    if host.parse::<std::net::IpAddr>().is_err() {
        let name = [&[0][..], &length(host.as_bytes()), host.as_bytes()].concat();
        add(0, &[&length(&name)[..], &name].concat());
    }
    // Groups P-256, P-384, P-521, X25519; uncompressed points; every usual signature.
    add(10, &[0, 8, 0, 23, 0, 24, 0, 25, 0, 29]);
    add(11, &[1, 0]);
    add(13, &[0, 26, 4, 3, 5, 3, 6, 3, 8, 4, 8, 5, 8, 6, 8, 7, 8, 8, 4, 1, 5, 1, 6, 1, 2, 1, 2, 3]);
    let ciphers: Vec<u8> = OFFERED.iter().flat_map(|c| c.to_be_bytes()).collect();
    let body = [
        &version.to_be_bytes()[..],
        random,
        &[0],
        &length(&ciphers),
        &ciphers,
        &[1, 0],
        &length(&extensions),
        &extensions,
    ]
    .concat();
    let message = [&[1, 0][..], &length(&body), &body].concat();
    [&[22, 3, 1][..], &length(&message), &message].concat()
}

fn length(bytes: &[u8]) -> [u8; 2] {
    u16::try_from(bytes.len()).unwrap_or(u16::MAX).to_be_bytes()
}
