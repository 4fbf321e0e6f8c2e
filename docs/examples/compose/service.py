"""A service that serves HTTPS by the pair of its name, and says of each peer whether it could be reached with verification on."""

import http.server
import json
import ssl
import sys
import time
import urllib.request

PORT = 8443


def fetch(name, path="/"):
    with urllib.request.urlopen(f"https://{name}:{PORT}{path}", timeout=5) as answer:
        return json.load(answer)


def serve(own, peers):
    class Service(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            said = {"service": own}
            if self.path == "/peers":
                said["peers"] = {peer: fetch(peer)["service"] for peer in peers}
            body = json.dumps(said).encode()
            self.send_response(200)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_):
            pass

    server = http.server.ThreadingHTTPServer((own, PORT), Service)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    pair = f"/pairs/{own.split('.')[0]}"
    context.load_cert_chain(f"{pair}/certificate.pem", f"{pair}/private-key.pem")
    server.socket = context.wrap_socket(server.socket, server_side=True)
    server.serve_forever()


def probe(names):
    for name in names:
        for left in range(50, -1, -1):
            try:
                said = fetch(name, "/peers")
                break
            except OSError:
                if not left:
                    raise
                time.sleep(0.2)
        assert said["peers"] == {n: n for n in names if n != name}, said
        print(f"{name} reaches {', '.join(sorted(said['peers']))}")


if sys.argv[1] == "--probe":
    probe(sys.argv[2:])
else:
    serve(sys.argv[1], sys.argv[2:])
