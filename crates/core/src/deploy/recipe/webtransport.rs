//! WebTransport for browsers: a server over QUIC.

use super::act::by_hand;
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;
use crate::pki::key::KeyAlgorithm;
use crate::vocabulary::timestamp::Span;

pub(super) const RECIPE: Recipe = Recipe {
    id: "webtransport",
    also: &["quic", "http3"],
    title: "WebTransport for browsers over QUIC, shown with aioquic for Python",
    facts: Facts {
        port: 4433,
        // A page names the certificate by its hash; W3C WebTransport, "custom certificate requirements": ECDSA with P-256, at most two weeks.
        keys: &[KeyAlgorithm::P256],
        longest: Some(Span::days(14)),
        chain: "the certificate alone counts: the page names it, and no root is asked",
        owner: "",
        passphrase: "not possible: its file is 0600",
        probe: "tamga check {folder}",
        ..WEB
    },
    config: Config {
        path: "server.py",
        place: Placement::Yours("in the application's directory"),
        quote: Quote::Inside,
        text: r#"import asyncio

from aioquic.asyncio import QuicConnectionProtocol, serve
from aioquic.h3.connection import H3_ALPN, H3Connection
from aioquic.h3.events import DatagramReceived, HeadersReceived
from aioquic.quic.configuration import QuicConfiguration
from aioquic.quic.events import ProtocolNegotiated

?bound ADDRESSES = "{addresses}".split()
!bound ADDRESSES = ["::"]  # IPv4 too


class Session(QuicConnectionProtocol):
    http = None

    def quic_event_received(self, event):
        if isinstance(event, ProtocolNegotiated):
            self.http = H3Connection(self._quic, enable_webtransport=True)
        for received in self.http.handle_event(event) if self.http else []:
            self.answer(received)
        self.transmit()

    def answer(self, received):
        if isinstance(received, HeadersReceived):
            headers = dict(received.headers)
            is_session = (headers.get(b":method"), headers.get(b":protocol")) == (b"CONNECT", b"webtransport")
            answer = [(b":status", b"200" if is_session else b"404"), (b"sec-webtransport-http3-draft", b"draft02")]
            self.http.send_headers(received.stream_id, answer, end_stream=not is_session)
        elif isinstance(received, DatagramReceived):
            # Your own: here a datagram comes back as it came.
            self.http.send_datagram(received.stream_id, received.data)


async def main():
    configuration = QuicConfiguration(alpn_protocols=H3_ALPN, is_client=False, max_datagram_frame_size=65536)
    configuration.load_cert_chain("{certificate}", "{key}")
    for address in ADDRESSES:
        await serve(address, {port}, configuration=configuration, create_protocol=Session)
    print("webtransport on port {port}", flush=True)
    await asyncio.Future()


asyncio.run(main())
"#,
    },
    steps: &[
        by_hand(
            "the page names the certificate by its SHA-256, and again after each renewal: the browser's roots do not count here",
            "const sha256 = \"{sha256}\";\nconst transport = new WebTransport(\"https://{host}:{port}/\", {\n  serverCertificateHashes: [{ algorithm: \"sha-256\", value: Uint8Array.from(sha256.match(/../g), (h) => parseInt(h, 16)) }],\n});",
        ),
        by_hand(
            "the page itself comes from a secure address: https:// with a certificate of its own, or http://localhost",
            "tamga serve --folder site",
        ),
    ],
    unit: "",
    check: "python3 -m py_compile server.py",
    start: "python3 server.py",
    reload: "tamga export {label} --as fingerprint\npython3 server.py",
    notices: false,
    proof: ("what it prints", "webtransport on port {port}"),
    faults: &[
        KnownError {
            text: "WebTransportError: Opening handshake failed",
            code: Some(Code::ValidityTooLong),
            why: "the certificate is valid for more than 14 days, its key is not P-256, its SHA-256 is not the one in the page, or the server is not reached at this address by UDP",
            remedy: "tamga show LABEL shows validity, key and SHA-256; tamga issue NAME --for webtransport makes a suitable one",
        },
        KnownError {
            text: "QUIC_TLS_CERTIFICATE_UNKNOWN",
            code: Some(Code::IssuerUnknown),
            why: "the page names no hash, or another one: over QUIC a browser does not ask the roots that you installed",
            remedy: "put the SHA-256 that tamga show LABEL prints into serverCertificateHashes",
        },
        KnownError {
            text: "certificate and key do not match",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
    ],
    tried: Tried::Run("aioquic 1.7 with Chromium"),
};
