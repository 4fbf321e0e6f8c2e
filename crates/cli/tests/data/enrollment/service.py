"""A small enrollment service of RFC 8555 in Python's standard library alone, written from the text of the standard. It issues under a root of its own.

service.py DIRECTORY PORT HTTP-PORT TLS-PORT DNS-PORT: writes DIRECTORY/root.pem, answers at https://localhost:PORT/dir
Odd on purpose: URLs with a query, `processing` at first, Retry-After as a date, every fifth nonce is refused, HTTP/1.1 with chunks.
"""
import base64, datetime, email.utils, hashlib, hmac, http.server, json, os, secrets, socket, ssl, struct, sys, threading, time

WHERE, PORT, HTTP, TLS, DNS = sys.argv[1], *map(int, sys.argv[2:6])
BASE = f"https://localhost:{PORT}"

# P-256 (FIPS 186-5, SEC 1).
P = 0xFFFFFFFF00000001000000000000000000000000FFFFFFFFFFFFFFFFFFFFFFFF
N = 0xFFFFFFFF00000000FFFFFFFFFFFFFFFFBCE6FAADA7179E84F3B9CAC2FC632551
B = 0x5AC635D8AA3A93E7B3EBBD55769886BC651D06B0CC53B0F63BCE3C3E27D2604B
G = (0x6B17D1F2E12C4247F8BCE6E563A440F277037D812DEB33A0F4A13945D898C296, 0x4FE342E2FE1A7F9B8EE7EB4A7C0F9E162BCE33576B315ECECBB6406837BF51F5)


def add(a, b):
    if a is None or b is None:
        return a or b
    if a[0] == b[0]:
        if (a[1] + b[1]) % P == 0:
            return None
        m = (3 * a[0] * a[0] - 3) * pow(2 * a[1], -1, P) % P
    else:
        m = (b[1] - a[1]) * pow(b[0] - a[0], -1, P) % P
    x = (m * m - a[0] - b[0]) % P
    return x, (m * (a[0] - x) - a[1]) % P


def times(k, point):
    out = None
    while k:
        if k & 1:
            out = add(out, point)
        point = add(point, point)
        k >>= 1
    return out


def digest(message):
    return int.from_bytes(hashlib.sha256(message).digest(), "big")


def sign(key, message):
    while True:
        k = secrets.randbelow(N - 1) + 1
        r = times(k, G)[0] % N
        s = pow(k, -1, N) * (digest(message) + r * key) % N
        if r and s:
            return r, s


def verify(point, message, r, s):
    if not (0 < r < N and 0 < s < N):
        return False
    w = pow(s, -1, N)
    at = add(times(digest(message) * w % N, G), times(r * w % N, point))
    return at is not None and at[0] % N == r


# DER (X.690).
def tlv(tag, *parts):
    body = b"".join(parts)
    if len(body) < 128:
        return bytes([tag, len(body)]) + body
    length = len(body).to_bytes((len(body).bit_length() + 7) // 8, "big")
    return bytes([tag, 0x80 | len(length)]) + length + body


def integer(n):
    return tlv(2, n.to_bytes(n.bit_length() // 8 + 1, "big"))


def oid(text):
    first, second, *rest = map(int, text.split("."))
    out = bytes([first * 40 + second])
    for n in rest:
        piece = [n & 127]
        while n := n >> 7:
            piece.insert(0, n & 127 | 128)
        out += bytes(piece)
    return tlv(6, out)


def read(data, at=0):
    tag, length, at = data[at], data[at + 1], at + 2
    if length & 128:
        n = length & 127
        length, at = int.from_bytes(data[at:at + n], "big"), at + n
    return tag, data[at:at + length], at + length


def children(data):
    at, out = 0, []
    while at < len(data):
        begin = at
        tag, body, at = read(data, at)
        out.append((tag, body, data[begin:at]))
    return out


ECDSA = tlv(0x30, oid("1.2.840.10045.4.3.2"))


def spki(point):
    key = b"\4" + point[0].to_bytes(32, "big") + point[1].to_bytes(32, "big")
    return tlv(0x30, tlv(0x30, oid("1.2.840.10045.2.1"), oid("1.2.840.10045.3.1.7")), tlv(3, b"\0", key))


def name(text):
    return tlv(0x30, tlv(0x31, tlv(0x30, oid("2.5.4.3"), tlv(12, text.encode()))))


def moment(days):
    at = datetime.datetime.now(datetime.timezone.utc) + datetime.timedelta(days=days)
    return tlv(23, at.strftime("%y%m%d%H%M%SZ").encode())


def extension(number, body, critical=False):
    return tlv(0x30, oid(number), tlv(1, b"\xff") if critical else b"", tlv(4, body))


def certificate(key, issuer, subject, public, extensions, days):
    body = tlv(0x30, tlv(0xA0, integer(2)), integer(secrets.randbits(120) | 1), ECDSA, issuer, tlv(0x30, moment(-1), moment(days)), subject, public,
               tlv(0xA3, tlv(0x30, *extensions)))
    r, s = sign(key, body)
    return tlv(0x30, body, ECDSA, tlv(3, b"\0", tlv(0x30, integer(r), integer(s))))


def identifier(point):
    return hashlib.sha1(b"\4" + point[0].to_bytes(32, "big") + point[1].to_bytes(32, "big")).digest()


def pem(label, der):
    text = base64.encodebytes(der).decode().replace("\n", "")
    lines = "\n".join(text[i:i + 64] for i in range(0, len(text), 64))
    return f"-----BEGIN {label}-----\n{lines}\n-----END {label}-----\n"


ROOT_KEY, BETWEEN_KEY, OWN_KEY = (secrets.randbelow(N - 1) + 1 for _ in range(3))
ROOT_POINT, BETWEEN_POINT, OWN_POINT = times(ROOT_KEY, G), times(BETWEEN_KEY, G), times(OWN_KEY, G)


def authority(point, above=None):
    usage = [extension("2.5.29.19", tlv(0x30, tlv(1, b"\xff")), True), extension("2.5.29.15", tlv(3, b"\1\6"), True), extension("2.5.29.14", tlv(4, identifier(point)))]
    return usage + ([extension("2.5.29.35", tlv(0x30, tlv(0x80, identifier(above))))] if above else [])


ROOT = certificate(ROOT_KEY, name("another root"), name("another root"), spki(ROOT_POINT), authority(ROOT_POINT), 3000)
BETWEEN = certificate(ROOT_KEY, name("another root"), name("another intermediate"), spki(BETWEEN_POINT), authority(BETWEEN_POINT, ROOT_POINT), 1000)


def leaf(names, public):
    general = [tlv(0x87, socket.inet_aton(n)) if n.replace(".", "").isdigit() else tlv(0x82, n.encode()) for n in names]
    return certificate(BETWEEN_KEY, name("another intermediate"), tlv(0x30), public, [
        extension("2.5.29.17", tlv(0x30, *general), True), extension("2.5.29.15", tlv(3, b"\7\x80"), True),
        extension("2.5.29.37", tlv(0x30, oid("1.3.6.1.5.5.7.3.1"))), extension("2.5.29.35", tlv(0x30, tlv(0x80, identifier(BETWEEN_POINT))))], 30)


def request_of(der):
    """Names and key of a certificate request, whose signature is verified."""
    body, _, bits = children(read(der)[1])
    _, _, public, *rest = children(body[1])
    key = children(public[1])[1][1]
    point = int.from_bytes(key[2:34], "big"), int.from_bytes(key[34:66], "big")
    r, s = (int.from_bytes(n[1], "big") for n in children(read(bits[1][1:])[1]))
    if not verify(point, body[2], r, s):
        raise Problem(400, "badCSR", "its signature is wrong")
    names = []
    for tag, attributes, _ in rest:
        for _, attribute, _ in children(attributes):
            for _, ext, _ in children(children(children(attribute)[1][1])[0][1]):
                parts = children(ext)
                if parts[0][2] == oid("2.5.29.17"):
                    for tag, value, _ in children(read(parts[-1][1])[1]):
                        names.append(socket.inet_ntoa(value) if tag == 0x87 else value.decode())
    return sorted(names), public[2]


# The protocol (RFC 8555).
class Problem(Exception):
    def __init__(self, status, kind, detail):
        self.status, self.kind, self.detail = status, kind, detail


def b64(octets):
    return base64.urlsafe_b64encode(octets).rstrip(b"=").decode()


def unb64(text):
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


lock = threading.Lock()
nonces, accounts, orders, certificates, log = set(), {}, {}, {}, []
given = 0


def nonce():
    out = b64(secrets.token_bytes(16))
    nonces.add(out)
    return out


def prove(kind, value, token, print_):
    right = f"{token}.{print_}"
    if kind == "http-01":
        with socket.create_connection(("127.0.0.1", HTTP), 5) as s:
            s.sendall(f"GET /.well-known/acme-challenge/{token} HTTP/1.0\r\nHost: {value}\r\n\r\n".encode())
            answer = b""
            while piece := s.recv(4096):
                answer += piece
        return answer.split(b"\r\n\r\n", 1)[1].strip() == right.encode()
    if kind == "tls-alpn-01":
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        context.set_alpn_protocols(["acme-tls/1"])
        with socket.create_connection(("127.0.0.1", TLS), 5) as s, context.wrap_socket(s, server_hostname=value) as t:
            der, chosen = t.getpeercert(True), t.selected_alpn_protocol()
        wanted = tlv(0x30, oid("1.3.6.1.5.5.7.1.31"), tlv(1, b"\xff"), tlv(4, tlv(4, hashlib.sha256(right.encode()).digest())))
        return chosen == "acme-tls/1" and wanted in der and tlv(0x82, value.encode()) in der
    labels = b"".join(bytes([len(l)]) + l.encode() for l in f"_acme-challenge.{value}".split(".")) + b"\0"
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
        s.settimeout(5)
        s.sendto(struct.pack(">HHHHHH", 7, 0, 1, 0, 0, 0) + labels + struct.pack(">HH", 16, 1), ("127.0.0.1", DNS))
        return b64(hashlib.sha256(right.encode()).digest()).encode() in s.recv(4096)


def show_order(o):
    out = {"status": o["status"], "identifiers": o["identifiers"], "authorizations": [f"{BASE}/authz?{a}" for a in o["authz"]],
           "finalize": f"{BASE}/finalize?{o['id']}", "expires": "2099-01-01T00:00:00.000Z"}
    if o["status"] == "pending" and all(authz[a]["status"] == "valid" for a in o["authz"]):
        out["status"] = "ready"
    if any(authz[a]["status"] == "invalid" for a in o["authz"]):
        out["status"] = "invalid"
    if o["status"] == "valid":
        out["certificate"] = f"{BASE}/certificate?{o['id']}"
    return out


authz = {}


def look(a, c, print_):
    try:
        fine = prove(c["type"], a["identifier"]["value"], c["token"], print_)
        why = "another answer"
    except OSError as e:
        fine, why = False, str(e)
    time.sleep(0.3)
    c["status"] = a["status"] = "valid" if fine else "invalid"
    if not fine:
        c["error"] = {"type": "urn:ietf:params:acme:error:unauthorized", "detail": why}


class Handler(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def say(self, status, body=b"", kind="application/json", **headers):
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Replay-Nonce", nonce())
        for field, value in headers.items():
            self.send_header(field.replace("_", "-"), value)
        if self.command == "HEAD" or status == 204:
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        self.send_header("Transfer-Encoding", "chunked")
        self.end_headers()
        for at in range(0, len(body), 500):
            piece = body[at:at + 500]
            self.wfile.write(f"{len(piece):x}\r\n".encode() + piece + b"\r\n")
        self.wfile.write(b"0\r\n\r\n")

    def tell(self, status, value, **headers):
        self.say(status, json.dumps(value).encode(), **headers)

    def do_HEAD(self):
        self.say(200)

    def do_GET(self):
        if self.path == "/dir":
            urls = {"newNonce": "nonce", "newAccount": "account", "newOrder": "order", "revokeCert": "revoke", "keyChange": "change"}
            meta = {"termsOfService": f"{BASE}/terms", "externalAccountRequired": True}
            return self.tell(200, {k: f"{BASE}/{v}" for k, v in urls.items()} | {"meta": meta, "6x2Hf": "https://an.odd.member.test/"})
        if self.path == "/log":
            return self.tell(200, log)
        self.say(404)

    def do_POST(self):
        global given
        body = self.rfile.read(int(self.headers["Content-Length"]))
        try:
            with lock:
                given += 1
                if self.headers["Content-Type"] != "application/jose+json":
                    raise Problem(415, "malformed", "the media type")
                jws = json.loads(body)
                head = json.loads(unb64(jws["protected"]))
                jwk = head["jwk"] if "jwk" in head else accounts[head["kid"]]["jwk"]
                point = int.from_bytes(unb64(jwk["x"]), "big"), int.from_bytes(unb64(jwk["y"]), "big")
                signature = unb64(jws["signature"])
                if head["alg"] != "ES256" or len(signature) != 64 or head["url"] != BASE + self.path:
                    raise Problem(400, "malformed", "alg, url or the length of the signature")
                if not verify(point, f"{jws['protected']}.{jws['payload']}".encode(), int.from_bytes(signature[:32], "big"), int.from_bytes(signature[32:], "big")):
                    raise Problem(400, "malformed", "the signature")
                if head["nonce"] not in nonces or given % 5 == 0:
                    raise Problem(400, "badNonce", "an odd service")
                nonces.remove(head["nonce"])
                payload = json.loads(unb64(jws["payload"])) if jws["payload"] else None
                canonical = json.dumps({k: jwk[k] for k in ("crv", "kty", "x", "y")}, sort_keys=True, separators=(",", ":"))
                print_ = b64(hashlib.sha256(canonical.encode()).digest())
            self.act(head, jwk, print_, payload)
        except Problem as p:
            value = {"type": f"urn:ietf:params:acme:error:{p.kind}", "detail": p.detail, "status": p.status}
            self.say(p.status, json.dumps(value).encode(), "application/problem+json")

    def act(self, head, jwk, print_, payload):
        path, _, id_ = self.path.partition("?")
        if path == "/account":
            kid = next((k for k, a in accounts.items() if a["jwk"] == jwk), None)
            if kid:
                return self.tell(200, {"status": "valid"}, Location=kid)
            if payload.get("onlyReturnExisting"):
                raise Problem(400, "accountDoesNotExist", "no")
            if payload.get("termsOfServiceAgreed") is not True:
                raise Problem(403, "userActionRequired", "the terms")
            binding = payload.get("externalAccountBinding") or {}
            if not binding:
                raise Problem(403, "externalAccountRequired", "an invitation is needed")
            inner = json.loads(unb64(binding["protected"]))
            mac = hmac.new(b"0123456789abcdef0123456789abcdef", f"{binding['protected']}.{binding['payload']}".encode(), hashlib.sha256).digest()
            if inner != {"alg": "HS256", "kid": "lab", "url": BASE + "/account"} or unb64(binding["signature"]) != mac or json.loads(unb64(binding["payload"])) != jwk:
                raise Problem(403, "unauthorized", "the invitation")
            kid = f"{BASE}/account?{len(accounts) + 1}"
            accounts[kid] = {"jwk": jwk}
            log.append({"account": payload.get("contact")})
            return self.tell(201, {"status": "valid"}, Location=kid)
        if path == "/order":
            id_ = str(len(orders) + 1)
            o = {"id": id_, "status": "pending", "identifiers": payload["identifiers"], "authz": []}
            for i in payload["identifiers"]:
                a = secrets.token_hex(4)
                value = i["value"]
                wild = value.startswith("*.")
                kinds = ["dns-01"] if wild else ["dns-01", "tls-alpn-01", "http-01"]
                authz[a] = {"status": "pending", "identifier": {"type": i["type"], "value": value.removeprefix("*.")}, "print": print_,
                            "challenges": [{"type": k, "token": b64(secrets.token_bytes(20)), "status": "pending", "url": f"{BASE}/challenge?{a}.{n}"} for n, k in enumerate(kinds)]}
                if wild:
                    authz[a]["wildcard"] = True
                o["authz"].append(a)
            orders[id_] = o
            return self.tell(201, show_order(o), Location=f"{BASE}/order?{id_}") if path == self.path else None
        if path == "/authz":
            a = authz[id_]
            return self.tell(200, {k: v for k, v in a.items() if k != "print"})
        if path == "/challenge":
            a = authz[id_.split(".")[0]]
            c = a["challenges"][int(id_.split(".")[1])]
            if payload is not None and c["status"] == "pending":
                c["status"] = "processing"
                log.append({"challenge": c["type"], "name": a["identifier"]["value"]})
                threading.Thread(target=look, args=(a, c, print_)).start()
            return self.tell(200, c)
        if path == "/finalize":
            o = orders[id_]
            if show_order(o)["status"] != "ready":
                raise Problem(403, "orderNotReady", "no")
            names, public = request_of(unb64(payload["csr"]))
            if names != sorted(i["value"] for i in o["identifiers"]):
                raise Problem(400, "badCSR", f"the names {names}")
            certificates[id_] = leaf(names, public)
            o["status"] = "processing"

            def done():
                time.sleep(1)
                o["status"] = "valid"
            threading.Thread(target=done).start()
            at = email.utils.formatdate(time.time() + 1, usegmt=True)
            return self.tell(200, show_order(o), Retry_After=at, Location=f"{BASE}/order?{id_}")
        if path == "/certificate":
            text = pem("CERTIFICATE", certificates[id_]) + "\n" + pem("CERTIFICATE", BETWEEN)
            return self.say(200, text.encode(), "application/pem-certificate-chain")
        self.say(404)

    def log_message(self, *_):
        pass


# An order is read at the address where it was made, with its number.
inner_act = Handler.act


def act(self, head, jwk, print_, payload):
    if self.path.startswith("/order?"):
        return self.tell(200, show_order(orders[self.path.split("?")[1]]))
    return inner_act(self, head, jwk, print_, payload)


Handler.act = act
own = leaf(["localhost"], spki(OWN_POINT))
private = tlv(0x30, integer(1), tlv(4, OWN_KEY.to_bytes(32, "big")), tlv(0xA0, oid("1.2.840.10045.3.1.7")))
with open(f"{WHERE}/own.pem", "w", opener=lambda p, f: os.open(p, f, 0o600)) as f:
    f.write(pem("EC " + "PRIVATE KEY", private) + pem("CERTIFICATE", own) + pem("CERTIFICATE", BETWEEN))
server = http.server.ThreadingHTTPServer(("127.0.0.1", PORT), Handler)
context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
context.load_cert_chain(f"{WHERE}/own.pem")
server.socket = context.wrap_socket(server.socket, server_side=True, do_handshake_on_connect=False)
with open(f"{WHERE}/root.pem.new", "w") as f:
    f.write(pem("CERTIFICATE", ROOT))
os.rename(f"{WHERE}/root.pem.new", f"{WHERE}/root.pem")
server.serve_forever()
