"""A page in Chromium opens a WebTransport to a server, naming the certificate in charts by its hash: prints `in`, that hash and what came back,
or `out` and why."""
import hashlib, http.server, os, shutil, ssl, subprocess, threading

PAGE = """<script>
const say = (text) => fetch("/said", { method: "POST", body: text });
(async () => {
  try {
    const sha256 = "%s";
    const transport = new WebTransport("https://%s:%d/", {
      serverCertificateHashes: [{ algorithm: "sha-256", value: Uint8Array.from(sha256.match(/../g), (h) => parseInt(h, 16)) }],
    });
    await transport.ready;
    const writer = transport.datagrams.writable.getWriter();
    await writer.write(new TextEncoder().encode("4.2 m"));
    const { value } = await transport.datagrams.readable.getReader().read();
    await say("in " + new TextDecoder().decode(value));
  } catch (error) {
    await say("out " + error);
  }
})();
</script>"""


def visit(host, port):
    pem = open("/root/charts/certificate.pem").read()
    leaf = ssl.PEM_cert_to_DER_cert(pem[: pem.index("-----END")] + "-----END CERTIFICATE-----")
    sha256 = hashlib.sha256(leaf).hexdigest()
    said, is_said = [], threading.Event()

    class Page(http.server.BaseHTTPRequestHandler):
        def answer(self, body):
            self.send_response(200)
            self.send_header("Content-Type", "text/html")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def do_GET(self):
            self.answer((PAGE % (sha256, f"[{host}]" if ":" in host else host, port)).encode())

        def do_POST(self):
            said.append(self.rfile.read(int(self.headers["Content-Length"])).decode())
            self.answer(b"")
            is_said.set()

        def log_message(self, *_):
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Page)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    shutil.rmtree("/root/profile", ignore_errors=True)
    words = "--headless --no-sandbox --disable-gpu --no-first-run --disable-background-networking --disable-component-update --disable-sync"
    browser = subprocess.Popen(
        ["chromium", *words.split(), "--user-data-dir=/root/profile", f"http://localhost:{server.server_port}/"],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env={**os.environ, "HOME": "/root"},
    )
    is_said.wait(25)
    browser.terminate()
    browser.wait()
    verdict, _, rest = (said or ["out Chromium said nothing"])[0].partition(" ")
    print(verdict, sha256, rest)
