"""An enrollment service from outside, by the text of RFC 8555, 8737, 8738, 9773: each case says what it expects and what it got.

blackbox.py DIRECTORY ROOT HTTP-PORT
"""
import base64, hashlib, http.server, json, ssl, sys, threading, time, urllib.request
from concurrent.futures import ThreadPoolExecutor
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, padding, rsa, utils
from cryptography.x509.oid import NameOID

DIRECTORY, ROOT, PORT = sys.argv[1], sys.argv[2], int(sys.argv[3])
TLS = ssl.create_default_context(cafile=ROOT)
failed = []
count = 0


def b64(octets):
    return base64.urlsafe_b64encode(octets).rstrip(b"=").decode()


def case(name, fine, got=""):
    global count
    count += 1
    if not fine:
        failed.append(name)
        print(f"FAILED {name}: {got}")


class Got:
    def __init__(self, status, headers, body):
        self.status, self.headers, self.body = status, headers, body

    def json(self):
        return json.loads(self.body or b"{}")

    def kind(self):
        try:
            return self.json().get("type", "").rsplit(":", 1)[-1]
        except ValueError:
            return ""

    def __repr__(self):
        return f"{self.status} {self.body[:300]!r}"


def ask(method, url, body=None, media="application/jose+json"):
    request = urllib.request.Request(url, method=method, data=body)
    if body is not None and media:
        request.add_header("Content-Type", media)
    try:
        with urllib.request.urlopen(request, context=TLS, timeout=30) as answer:
            return Got(answer.status, answer.headers, answer.read())
    except urllib.error.HTTPError as e:
        return Got(e.code, e.headers, e.read())


D = ask("GET", DIRECTORY).json()
BASE = DIRECTORY.rsplit("/", 1)[0]


def nonce():
    return ask("HEAD", D["newNonce"]).headers["Replay-Nonce"]


def number(n, size):
    return b64(n.to_bytes(size, "big"))


def jwk(key):
    public = key.public_key()
    if isinstance(public, ec.EllipticCurvePublicKey):
        size = (public.curve.key_size + 7) // 8
        p = public.public_numbers()
        return {"crv": {256: "P-256", 384: "P-384", 521: "P-521"}[public.curve.key_size], "kty": "EC",
                "x": number(p.x, size), "y": number(p.y, size)}
    if isinstance(public, rsa.RSAPublicKey):
        p = public.public_numbers()
        return {"e": number(p.e, (p.e.bit_length() + 7) // 8), "kty": "RSA", "n": number(p.n, (p.n.bit_length() + 7) // 8)}
    raw = public.public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)
    return {"crv": "Ed25519", "kty": "OKP", "x": b64(raw)}


def thumbprint(key):
    return b64(hashlib.sha256(json.dumps(jwk(key), sort_keys=True, separators=(",", ":")).encode()).digest())


def signature(key, message):
    if isinstance(key, ec.EllipticCurvePrivateKey):
        size = (key.curve.key_size + 7) // 8
        digest = {256: hashes.SHA256(), 384: hashes.SHA384(), 521: hashes.SHA512()}[key.curve.key_size]
        r, s = utils.decode_dss_signature(key.sign(message, ec.ECDSA(digest)))
        return r.to_bytes(size, "big") + s.to_bytes(size, "big")
    if isinstance(key, rsa.RSAPrivateKey):
        return key.sign(message, padding.PKCS1v15(), hashes.SHA256())
    return key.sign(message)


def alg(key):
    if isinstance(key, ec.EllipticCurvePrivateKey):
        return {256: "ES256", 384: "ES384", 521: "ES512"}[key.curve.key_size]
    return "RS256" if isinstance(key, rsa.RSAPrivateKey) else "EdDSA"


def signed(key, url, payload, kid=None, header=None, drop=(), raw=None, fresh=True):
    head = {"alg": alg(key), "url": url}
    if fresh:
        head["nonce"] = nonce()
    if kid:
        head["kid"] = kid
    else:
        head["jwk"] = jwk(key)
    head.update(header or {})
    for member in drop:
        head.pop(member, None)
    protected = b64(json.dumps(head).encode())
    text = payload if isinstance(payload, bytes) else (b"" if payload is None else json.dumps(payload).encode())
    body = {"protected": protected, "payload": b64(text), "signature": b64(signature(key, f"{protected}.{b64(text)}".encode()))}
    body.update(raw or {})
    return json.dumps(body).encode()


def post(key, url, payload, kid=None, media="application/jose+json", **more):
    return ask("POST", url, signed(key, url, payload, kid, **more), media)


def certificates(pem):
    end = b"-----END CERTIFICATE-----\n"
    return [x509.load_pem_x509_certificate(one + end) for one in pem.split(end) if one.strip()]


def p256():
    return ec.generate_private_key(ec.SECP256R1())


def account(key=None, **more):
    key = key or p256()
    got = post(key, D["newAccount"], {"termsOfServiceAgreed": True, **more})
    return key, got.headers["Location"], got


def names(*all):
    return {"identifiers": [{"type": "ip" if n.replace(".", "").isdigit() else "dns", "value": n} for n in all]}


def csr(key, *all, cn=None, ca=False):
    import ipaddress
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, cn)] if cn else [])
    request = x509.CertificateSigningRequestBuilder().subject_name(subject)
    general = [x509.IPAddress(ipaddress.ip_address(n)) if n.replace(".", "").isdigit() else x509.DNSName(n) for n in all]
    if general:
        request = request.add_extension(x509.SubjectAlternativeName(general), False)
    if ca:
        request = request.add_extension(x509.BasicConstraints(True, None), True)
    return b64(request.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.DER))


# A web server that shows what a case puts there.
shown = {}
seen = []


class Site(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        seen.append(self.path)
        status, headers, body = shown.get(self.path, (404, {}, b""))
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.end_headers()
        try:
            self.wfile.write(body)
        except OSError:
            pass

    def log_message(self, *_):
        pass


site = http.server.ThreadingHTTPServer(("127.0.0.1", PORT), Site)
threading.Thread(target=site.serve_forever, daemon=True).start()
canary_hits = []


class Canary(Site):
    def do_GET(self):
        canary_hits.append(self.path)
        self.send_response(200)
        self.end_headers()


canary = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Canary)
threading.Thread(target=canary.serve_forever, daemon=True).start()


def decided(key, kid, url):
    for _ in range(150):
        got = post(key, url, None, kid).json()
        if got["status"] not in ("pending", "processing"):
            return got
        time.sleep(0.1)
    return got


def prove(key, kid, order, how=None):
    """Answers http-01 for every name; `how` says with what."""
    out = []
    for url in order["authorizations"]:
        authz = post(key, url, None, kid).json()
        if authz["status"] != "pending":
            out.append(authz)
            continue
        c = [c for c in authz["challenges"] if c["type"] == "http-01"][0]
        right = f"{c['token']}.{thumbprint(key)}".encode()
        shown[f"/.well-known/acme-challenge/{c['token']}"] = how(right, c["token"]) if how else (200, {}, right)
        post(key, c["url"], {}, kid)
        out.append(decided(key, kid, url))
    return out


def order(key, kid, *all, **more):
    got = post(key, D["newOrder"], {**names(*all), **more}, kid)
    return got.headers["Location"], got


def get(key, kid, *all, leaf=None, **more):
    url, got = order(key, kid, *all, **more)
    prove(key, kid, got.json())
    leaf = leaf or p256()
    done = post(key, got.json()["finalize"], {"csr": csr(leaf, *all)}, kid)
    chain = post(key, done.json()["certificate"], None, kid)
    return url, done, chain, leaf


CHARTS, ARCHIVE, GAUGE = "charts.saltmarsh.test", "archive.saltmarsh.test", "gauge-7.saltmarsh.test"

# The directory and nonces.
case("the directory has every resource", all(D.get(m, "").startswith(BASE) for m in ["newNonce", "newAccount", "newOrder", "revokeCert", "keyChange", "renewalInfo"]), D)
case("the directory has profiles", "profiles" in D["meta"] and D["meta"]["externalAccountRequired"] is False, D)
head, got = ask("HEAD", D["newNonce"]), ask("GET", D["newNonce"])
case("newNonce", head.status == 200 and got.status == 204 and "no-store" in head.headers["Cache-Control"] and head.headers["Replay-Nonce"] != got.headers["Replay-Nonce"], (head, got))
case("a link to the directory", f'<{DIRECTORY}>;rel="index"' in (head.headers.get_all("Link") or []), head.headers)

# Accounts.
key, kid, got = account(contact=["mailto:lab-operator@saltmarsh.test"])
case("a new account", got.status == 201 and kid and got.json()["status"] == "valid" and "orders" in got.json(), got)
again = post(key, D["newAccount"], {"onlyReturnExisting": True})
case("the same account", again.status == 200 and again.headers["Location"] == kid, again)
case("no account", post(p256(), D["newAccount"], {"onlyReturnExisting": True}).kind() == "accountDoesNotExist")
odd = account(status="", orders="", contact=None)
case("members of the service are ignored", odd[2].status == 201, odd[2])
case("a binding is not echoed", "externalAccountBinding" not in got.json())
for name, contact, kind in [("not a list", "x", "invalidContact"), ("no mailbox", ["mailto:x"], "invalidContact"), ("header fields", ["mailto:a@b.test?subject=x"], "invalidContact"), ("telephone", ["tel:1"], "unsupportedContact")]:
    got = post(p256(), D["newAccount"], {"contact": contact})
    case(f"contact: {name}", got.status == 400 and got.kind() == kind, got)
got = post(key, kid, {"contact": []}, kid)
case("contact taken away", got.status == 200 and not got.json().get("contact"), got)
case("another's account", post(key, odd[1], None, kid).status in (401, 403))
for kind in [ec.generate_private_key(ec.SECP384R1()), ec.generate_private_key(ec.SECP521R1()), ed25519.Ed25519PrivateKey.generate(), rsa.generate_private_key(65537, 2048)]:
    _, where, got = account(kind)
    case(f"a key of {alg(kind)}", got.status == 201 and post(kind, where, None, where).status == 200, got)
got = account(rsa.generate_private_key(65537, 1024))[2]
case("RSA with 1024 bits", got.kind() == "badPublicKey", got)

# Signed requests.
url = D["newOrder"]
good = names(CHARTS)


def bad(name, kind, statuses, **more):
    got = post(key, url, good, kid, **more)
    case(f"request: {name}", got.status in statuses and (not kind or got.kind() == kind) and "Replay-Nonce" in got.headers, got)


bad("media type", None, [415], media="application/json")
bad("algorithm none", "badSignatureAlgorithm", [400], header={"alg": "none"})
bad("algorithm HS256", "badSignatureAlgorithm", [400], header={"alg": "HS256"})
bad("jwk and kid", "malformed", [400], header={"jwk": jwk(key)})
bad("neither", "malformed", [400], drop=["kid"])
bad("no nonce", "badNonce", [400], drop=["nonce"])
bad("a made-up nonce", "badNonce", [400], header={"nonce": "AAAAAAAAAAAAAAAAAAAAAA"})
bad("a nonce that is none", "malformed", [400], header={"nonce": "a b"})
bad("another URL", "unauthorized", [400, 401, 403], header={"url": BASE + "/elsewhere"})
bad("no URL", "malformed", [400], drop=["url"])
bad("an unprotected header", "malformed", [400], raw={"header": {}})
bad("several signatures", "malformed", [400], raw={"signatures": []})
bad("a wrong signature", "malformed", [400, 401, 403], raw={"signature": b64(b"\0" * 64)})
bad("padding", "malformed", [400], raw={"payload": b64(json.dumps(good).encode()) + "="})
bad("crit", "malformed", [400], header={"crit": ["b64"], "b64": False})
algorithms = post(key, url, good, kid, header={"alg": "HS256"}).json().get("algorithms", [])
case("algorithms are named", "ES256" in algorithms and "RS256" in algorithms, algorithms)
for who in [BASE + "/account/999999", "https://elsewhere.test/account/1", "x", BASE + "/account/1/../2"]:
    got = post(key, url, good, who)
    case(f"kid {who}", 400 <= got.status < 500, got)
once = signed(key, url, good, kid)
first, second = ask("POST", url, once), ask("POST", url, once)
case("a nonce counts once", first.status == 201 and second.kind() == "badNonce", second)
n = nonce()
with ThreadPoolExecutor(20) as pool:
    all_ = list(pool.map(lambda _: post(key, kid, None, kid, header={"nonce": n}).status, range(20)))
case("twenty at once with one nonce", all_.count(200) == 1 and all_.count(400) == 19, all_)
for body in [b"", b"null", b"[]", b"[" * 5000 + b"]" * 5000, b"{" * 9999, b"{}", b"\xff\xfe", b'{"protected":"","payload":"","signature":""}', b"x" * (4 << 20)]:
    try:
        got = ask("POST", url, body)
        case(f"a body {body[:12]!r} of {len(body)}", 400 <= got.status < 500, got)
    except OSError:
        case(f"a body {body[:12]!r} of {len(body)}: let go", len(body) > 1 << 20)
for method, where in [("GET", D["newOrder"]), ("GET", kid), ("PUT", D["newAccount"]), ("DELETE", kid)]:
    got = ask(method, where)
    case(f"{method} {where.rsplit('/', 2)[-2:]}", got.status == 405 and got.headers.get("Allow"), got)
case("nowhere", ask("GET", BASE + "/nowhere").status == 404)

# Orders.
where, got = order(key, kid, CHARTS, ARCHIVE)
o = got.json()
case("a new order", got.status == 201 and where and o["status"] == "pending" and len(o["authorizations"]) == 2 and o["finalize"] and o["expires"], got)
authz = post(key, o["authorizations"][0], None, kid).json()
case("an authorization", authz["status"] == "pending" and authz["identifier"] == {"type": "dns", "value": CHARTS} and {c["type"] for c in authz["challenges"]} == {"http-01", "dns-01", "tls-alpn-01"}, authz)
case("tokens", all(len(c["token"]) >= 22 for c in authz["challenges"]), authz)
got = post(key, authz["challenges"][0]["url"], None, kid)
case("a challenge has its authorization", any('rel="up"' in l for l in got.headers.get_all("Link")), got.headers)
case("not ready", post(key, o["finalize"], {"csr": csr(p256(), CHARTS, ARCHIVE)}, kid).kind() == "orderNotReady")
case("orders are listed", where in post(key, post(key, kid, None, kid).json()["orders"], None, kid).json()["orders"])
for name, body, kind in [
    ("no names", {"identifiers": []}, "malformed"), ("no list", {"identifiers": "x"}, "malformed"), ("another kind", {"identifiers": [{"type": "email", "value": "a@b.test"}]}, "unsupportedIdentifier"),
    ("an address as a name", names_ := {"identifiers": [{"type": "dns", "value": "127.0.0.1"}]}, "malformed"), ("not a name", {"identifiers": [{"type": "dns", "value": "a b"}]}, "malformed"),
    ("outside", names("www.example.org"), "rejectedIdentifier"), ("a wildcard of everything", names("*.test"), None), ("an address outside", names("8.8.8.8"), "rejectedIdentifier"),
    ("101 names", names(*[f"x{n}.test" for n in range(101)]), "malformed"), ("a wrong profile", {**names(CHARTS), "profile": "x"}, "invalidProfile"),
    ("too long", {**names(CHARTS), "notAfter": "2099-01-01T00:00:00Z"}, "malformed"), ("replaces nothing", {**names(CHARTS), "replaces": "AAAA.AAAA"}, "malformed"),
]:
    got = post(key, D["newOrder"], body, kid)
    case(f"order: {name}", 400 <= got.status < 500 and (kind is None or got.kind() == kind), got)
got = post(key, D["newOrder"], names("a.example.org", "b.example.org", CHARTS), kid)
subs = got.json().get("subproblems", [])
case("a problem for each name", len(subs) == 2 and all(s.get("identifier") and s.get("type") for s in subs), got)
got = post(key, D["newOrder"], {**names(CHARTS), "notBefore": None, "notAfter": "", "status": "", "expires": "0001-01-01T00:00:00Z", "authorizations": None, "finalize": "", "certificate": "", "error": None}, kid)
case("zero values are ignored", got.status == 201, got)
other, other_kid, _ = account()
case("another's order", post(other, where, None, other_kid).status in (401, 403, 404))
case("another's authorization", post(other, o["authorizations"][0], None, other_kid).status in (401, 403, 404))
_, got = order(key, kid, "*.buoys.saltmarsh.test")
wild = post(key, got.json()["authorizations"][0], None, kid).json()
case("a wildcard by DNS alone", [c["type"] for c in wild["challenges"]] == ["dns-01"] and wild.get("wildcard") is True and wild["identifier"]["value"] == "buoys.saltmarsh.test", wild)
_, got = order(key, kid, "127.0.0.1")
address = post(key, got.json()["authorizations"][0], None, kid).json()
case("an address without DNS", {c["type"] for c in address["challenges"]} == {"http-01", "tls-alpn-01"} and address["identifier"]["type"] == "ip", address)
_, got = order(key, kid, "CHARTS.saltmarsh.TEST", CHARTS)
case("names are folded", len(got.json()["identifiers"]) == 1 and got.json()["identifiers"][0]["value"] == CHARTS, got)
_, got = order(key, kid, GAUGE)
url = got.json()["authorizations"][0]
got = post(key, url, {"status": "deactivated"}, kid)
case("an authorization is given up", got.json()["status"] == "deactivated", got)

# Proofs.
k, id_, _ = account()
where, got = order(k, id_, CHARTS)
out = prove(k, id_, got.json())[0]
case("proved", out["status"] == "valid" and len(out["challenges"]) == 1 and out["challenges"][0]["validated"], out)
case("ready at once", post(k, where, None, id_).json()["status"] == "ready")
leaf = p256()
for name, request in [
    ("no request", {}), ("not base64", {"csr": "*"}), ("not a request", {"csr": b64(b"x")}), ("another name", {"csr": csr(leaf, ARCHIVE)}), ("a name more", {"csr": csr(leaf, CHARTS, ARCHIVE)}),
    ("the account's key", {"csr": csr(k, CHARTS)}), ("an authority", {"csr": csr(leaf, CHARTS, ca=True)}), ("a weak key", {"csr": csr(rsa.generate_private_key(65537, 1024), CHARTS)}), ("another common name", {"csr": csr(leaf, CHARTS, cn="x.test")}),
]:
    got = post(k, out_ := post(k, where, None, id_).json()["finalize"], request, id_)
    case(f"request for a certificate: {name}", got.status in (400, 403) and got.kind() in ("badCSR", "malformed"), got)
done = post(k, post(k, where, None, id_).json()["finalize"], {"csr": csr(leaf, CHARTS, cn="Charts.Saltmarsh.TEST")}, id_)
case("issued", done.status == 200 and done.json()["status"] == "valid" and done.json()["certificate"] and done.headers["Location"] == where, done)
chain = post(k, done.json()["certificate"], None, id_)
pems = certificates(chain.body)
case("the chain", chain.headers["Content-Type"] == "application/pem-certificate-chain" and len(pems) == 2 and pems[0].issuer == pems[1].subject and pems[-1].issuer != pems[-1].subject, chain)
case("its life", 89 <= (pems[0].not_valid_after - pems[0].not_valid_before).days <= 91, pems[0].not_valid_after)
case("issued once", post(k, done.json()["finalize"], {"csr": csr(leaf, CHARTS)}, id_).kind() == "orderNotReady")
case("another's certificate", post(other, done.json()["certificate"], None, other_kid).status in (401, 403, 404))
case("a certificate is posted for", ask("GET", done.json()["certificate"]).status == 405)
_, got = order(k, id_, CHARTS)
case("a proof counts again", got.json()["status"] == "ready", got)

for name, how, kinds in [
    ("something else", lambda right, token: (200, {}, b"something else"), ["incorrectResponse", "unauthorized"]),
    ("not there", lambda right, token: (404, {}, b""), ["incorrectResponse", "unauthorized", "connection"]),
    ("eight megabytes", lambda right, token: (200, {}, b"x" * (8 << 20)), ["incorrectResponse", "unauthorized", "connection"]),
    ("to another port", lambda right, token: (302, {"Location": f"http://{ARCHIVE}:{canary.server_port}/{token}"}, b""), ["connection", "incorrectResponse", "unauthorized"]),
    ("to another host", lambda right, token: (302, {"Location": f"http://localhost:{canary.server_port}/{token}"}, b""), ["connection", "incorrectResponse", "unauthorized"]),
    ("to a metadata service", lambda right, token: (302, {"Location": "http://169.254.169.254/latest"}, b""), ["connection", "incorrectResponse", "unauthorized"]),
    ("to a file", lambda right, token: (302, {"Location": "file:///etc/passwd"}, b""), ["connection", "incorrectResponse", "unauthorized"]),
    ("in a circle", lambda right, token: (302, {"Location": f"/.well-known/acme-challenge/{token}"}, b""), ["connection", "incorrectResponse", "unauthorized"]),
]:
    k2, id2, _ = account()
    began = time.time()
    where, got = order(k2, id2, ARCHIVE)
    out = prove(k2, id2, got.json(), how)[0]
    problem = [c for c in out["challenges"] if c.get("error")]
    said = problem[0]["error"]["type"].rsplit(":", 1)[-1] if problem else ""
    case(f"proof: {name}", out["status"] == "invalid" and said in kinds and time.time() - began < 12, out)
    case(f"proof: {name}: the order ends", post(k2, where, None, id2).json()["status"] == "invalid")
case("nothing else was visited", not canary_hits, canary_hits)
for name, how in [
    ("with white space behind", lambda right, token: (200, {}, right + b"\r\n ")),
    ("as any type", lambda right, token: (200, {"Content-Type": "text/html"}, right)),
    ("after a redirect on the same host", lambda right, token: (301, {"Location": f"http://{GAUGE}:{PORT}/moved/{token}"}, b"")),
]:
    k2, id2, _ = account()
    _, got = order(k2, id2, GAUGE)
    token = [c for c in post(k2, got.json()["authorizations"][0], None, id2).json()["challenges"] if c["type"] == "http-01"][0]["token"]
    shown[f"/moved/{token}"] = (200, {}, f"{token}.{thumbprint(k2)}".encode())
    out = prove(k2, id2, got.json(), how)[0]
    case(f"proof: {name}", out["status"] == "valid", out)
k2, id2, _ = account()
where, got = order(k2, id2, "nobody.saltmarsh.test")
case("no address", prove(k2, id2, got.json())[0]["status"] == "invalid")

# Renewal information.
k, id_, _ = account()
where, done, chain, leaf = get(k, id_, CHARTS, ARCHIVE, profile="short")
first = certificates(chain.body)[0]
case("the short profile", 6 <= (first.not_valid_after - first.not_valid_before).days <= 8)
aki = first.extensions.get_extension_for_class(x509.AuthorityKeyIdentifier).value.key_identifier
serial = first.serial_number.to_bytes(first.serial_number.bit_length() // 8 + 1, "big")
certid = f"{b64(aki)}.{b64(serial)}"
got = ask("GET", f"{D['renewalInfo']}/{certid}")
window = got.json().get("suggestedWindow", {})
case("a window", got.status == 200 and window["start"] < window["end"] and int(got.headers["Retry-After"]) > 0, got)
case("of nothing", ask("GET", f"{D['renewalInfo']}/AAAA.AAAA").status == 404 and ask("GET", f"{D['renewalInfo']}/x").status == 400)
_, got = order(k, id_, CHARTS, replaces=certid)
case("replaces", got.status == 201 and got.json().get("replaces") == certid, got)
_, got = order(k, id_, CHARTS, replaces=certid)
case("replaced already", got.status == 409 and got.kind() == "alreadyReplaced", got)
_, got = order(other, other_kid, CHARTS, replaces=certid)
case("replaces another's", 400 <= got.status < 500, got)

# Revocation.
der = b64(first.public_bytes(serialization.Encoding.DER))
case("revoked by a stranger", post(other, D["revokeCert"], {"certificate": der}, other_kid).kind() == "unauthorized")
case("revoked by another key", post(p256(), D["revokeCert"], {"certificate": der}).kind() == "unauthorized")
for reason in [2, 6, 7, 8, 10, 99, -1, "x"]:
    case(f"reason {reason}", post(k, D["revokeCert"], {"certificate": der, "reason": reason}, id_).kind() == "badRevocationReason")
got = post(leaf, D["revokeCert"], {"certificate": der, "reason": 1})
case("revoked by its key", got.status == 200, got)
case("revoked already", post(k, D["revokeCert"], {"certificate": der}, id_).kind() == "alreadyRevoked")
past = ask("GET", f"{D['renewalInfo']}/{certid}").json()["suggestedWindow"]["end"]
case("revoked: renew now", past < time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()), past)
_, _, chain, _ = get(k, id_, CHARTS)
der = b64(certificates(chain.body)[0].public_bytes(serialization.Encoding.DER))
k3, id3, _ = account()
_, got = order(k3, id3, CHARTS)
prove(k3, id3, got.json())
case("revoked by one who proved its names", post(k3, D["revokeCert"], {"certificate": der}, id3).status == 200)
case("revoked: not ours", 400 <= post(k, D["revokeCert"], {"certificate": b64(x509.load_pem_x509_certificate(open(ROOT, "rb").read()).public_bytes(serialization.Encoding.DER))}, id_).status < 500)
case("revoked: no certificate", post(k, D["revokeCert"], {"certificate": "AAAA"}, id_).kind() == "malformed")

# Storms.
codes = []
for _ in range(8):
    where, got = order(k3, id3, CHARTS)
    if got.status != 201:
        codes.append((got.kind(), int(got.headers.get("Retry-After", 0)) > 0))
        break
    post(k3, got.json()["finalize"], {"csr": csr(p256(), CHARTS)}, id3)
case("a client that renews in a circle", codes == [("rateLimited", True)], codes)

# Another key; the end of an account.
new = p256()


def change(outer, inner_key, inner_payload, inner_header=None, where=id_):
    inner = json.loads(signed(inner_key, D["keyChange"], inner_payload, fresh=False, header=inner_header))
    return post(outer, D["keyChange"], inner, where)


case("key change: another old key", change(k, new, {"account": id_, "oldKey": jwk(new)}).kind() == "malformed")
case("key change: another account", change(k, new, {"account": other_kid, "oldKey": jwk(k)}).kind() == "malformed")
case("key change: another URL inside", change(k, new, {"account": id_, "oldKey": jwk(k)}, {"url": BASE}).kind() == "malformed")
got = change(k, other, {"account": id_, "oldKey": jwk(k)})
case("key change: taken", got.status == 409 and got.headers["Location"] == other_kid, got)
case("key change", change(k, new, {"account": id_, "oldKey": jwk(k)}).status == 200)
case("the old key is nobody's", post(k, id_, None, id_).status in (400, 401, 403) and post(new, id_, None, id_).status == 200)
got = post(new, id_, {"status": "deactivated"}, id_)
case("given up", got.json()["status"] == "deactivated", got)
got = post(new, D["newOrder"], names(CHARTS), id_)
case("after the end", got.status in (401, 403) and got.kind() == "unauthorized", got)
case("registered again after the end", post(new, D["newAccount"], {}).status in (401, 403))
case("healthy", ask("GET", BASE + "/health").status == 200 and b"# EOF" in ask("GET", BASE + "/metrics").body)
print(f"{count - len(failed)} of {count}")
sys.exit(1 if failed else 0)
