"""A service that speaks HTTPS, and its tests: verification is on, and nothing in them knows of a root."""

import http.server
import json
import socket
import ssl
import threading
import urllib.request

import pytest


class Tides(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        body = json.dumps({"harbor": "Saltmarsh", "high": "14:20"}).encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_):
        pass


@pytest.fixture
def port():
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Tides)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain("pair/certificate.pem", "pair/private-key.pem")
    server.socket = context.wrap_socket(server.socket, server_side=True)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server.server_port
    server.shutdown()


@pytest.mark.parametrize("host", ["localhost", "127.0.0.1"])
def test_the_tide_is_read_over_https(port, host):
    with urllib.request.urlopen(f"https://{host}:{port}/") as answer:
        assert json.load(answer)["high"] == "14:20"


def test_another_name_is_refused(port):
    # The root is trusted, and still every name is checked.
    with socket.create_connection(("127.0.0.1", port)) as plain:
        with pytest.raises(ssl.SSLCertVerificationError, match="Hostname mismatch"):
            ssl.create_default_context().wrap_socket(plain, server_hostname="charts.saltmarsh.test")
