"""Visits a server as a client of its kind, with a certificate or without: prints `in`, the SHA-256 of what is served and the answer, or
`out` and why."""
import hashlib, re, socket, ssl, subprocess, sys, time, warnings

warnings.simplefilter("ignore")
kind, host, port, root = sys.argv[1:5]
context = ssl.create_default_context(cafile=root)
if len(sys.argv) > 5:
    context.load_cert_chain(sys.argv[5] + "/certificate.pem", sys.argv[5] + "/private-key.pem")
if kind == "as2":
    import as2

    as2.exchange("charts", "tides")
    sys.exit()
if kind == "webtransport":
    import browser

    browser.visit(host, int(port))
    sys.exit()
if kind == "eap":
    # Whoever is not led by a judgement shows a certificate of the server's own authority.
    own = sys.argv[5] if len(sys.argv) > 5 else "/root/saltmarsh-operator"
    with open("/root/eap.conf", "w") as file:
        file.write(
            "network={\nkey_mgmt=IEEE8021X\neap=TLS\nidentity=\"operator\"\ndomain_match=\"charts.saltmarsh.test\"\n"
            f"ca_cert=\"{root}\"\nclient_cert=\"{own}/certificate.pem\"\nprivate_key=\"{own}/private-key.pem\"\n}}\n"
        )
    words = ["eapol_test", "-c", "/root/eap.conf", "-a", host, "-p", port, "-s", "testing123", "-t", "5"]
    said = subprocess.run(words, capture_output=True, text=True, errors="replace").stdout
    leaf = re.search(r"CTRL-EVENT-EAP-PEER-CERT depth=0 .* hash=([0-9a-f]{64})", said)
    print("in" if said.rstrip().endswith("SUCCESS") else "out", leaf and leaf.group(1), said[-2000:])
    sys.exit()
# A server that was started a moment ago, on a busy machine, may not listen yet.
for left in range(60, -1, -1):
    try:
        plain = socket.create_connection((host, int(port)), 10)
        break
    except ConnectionRefusedError:
        if not left:
            raise
        time.sleep(0.25)
plain.settimeout(10)


def ask(stream, line):
    stream.write(line.encode() + b"\r\n")
    stream.flush()


def reply(stream):
    line = stream.readline().decode("latin1")
    while line[3:4] == "-":
        line = stream.readline().decode("latin1")
    if not line:
        raise OSError("it hung up")
    return line.strip()


def must(stream, line, good):
    ask(stream, line)
    said = reply(stream)
    if not said.startswith(good):
        raise OSError(said)
    return said


try:
    if kind == "smtp":
        stream = plain.makefile("rwb")
        reply(stream)
        must(stream, "EHLO visitor.saltmarsh.test", "250")
        must(stream, "STARTTLS", "220")
    if kind == "ftp":
        stream = plain.makefile("rwb")
        reply(stream)
        must(stream, "AUTH TLS", "234")
    if kind == "mysql":
        # The server's greeting, then a request for TLS: protocol 4.1, secure connection (its protocol, HandshakeResponse).
        said = plain.recv(4096)
        if not said[4:5] == b"\x0a":
            raise OSError("no greeting: " + repr(said))
        flags = 0x00000200 | 0x00000800 | 0x00008000 | 0x00080000
        plain.sendall(b"\x20\x00\x00\x01" + flags.to_bytes(4, "little") + b"\x00\x00\x00\x01\x21" + b"\x00" * 23)
    if kind == "postgres":
        # SSLRequest (its protocol, 3.0).
        plain.sendall(b"\x00\x00\x00\x08\x04\xd2\x16\x2f")
        said = plain.recv(1)
        if said != b"S":
            raise OSError("no TLS: " + said.decode())
    if kind == "nats":
        plain.recv(4096)
    if kind == "xmpp":
        head = b"<stream:stream xmlns='jabber:client' xmlns:stream='http://etherx.jabber.org/streams' to='charts.saltmarsh.test' version='1.0'>"
        plain.sendall(head)
        said = b""
        while b"</stream:features>" not in said:
            some = plain.recv(4096)
            if not some:
                raise OSError("it hung up")
            said += some
        plain.sendall(b"<starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>")
        said = plain.recv(4096)
        if b"<proceed" not in said:
            raise OSError(said.decode())
    if kind == "ldap":
        # StartTLS (RFC 4511 §4.14).
        plain.sendall(b"\x30\x1d\x02\x01\x01\x77\x18\x80\x16" + b"1.3.6.1.4.1.1466.20037")
        said = plain.recv(4096)
        if b"\x0a\x01\x00" not in said:
            raise OSError("no StartTLS: " + said.hex())
    if kind == "grpc":
        context.set_alpn_protocols(["h2"])
    tls = context.wrap_socket(plain, server_hostname="charts.saltmarsh.test")
    stream = tls.makefile("rwb")
    if kind == "https":
        ask(stream, "GET / HTTP/1.1\r\nHost: charts.saltmarsh.test\r\nConnection: close\r\n")
        said = stream.readline().decode("latin1").strip()
        # Who is kept out gets no answer, or one that says so.
        if not said.startswith("HTTP/1.") or " 400 " in said or " 403 " in said:
            raise OSError(said or "it hung up")
    elif kind == "smtp":
        must(stream, "EHLO visitor.saltmarsh.test", "250")
        must(stream, "MAIL FROM:<tide@saltmarsh.test>", "250")
        said = must(stream, "RCPT TO:<root@localhost>", "250")
    elif kind == "imaps":
        reply(stream)
        said = must(stream, "a LOGIN root buoy", "a OK")
    elif kind == "ftp":
        said = must(stream, "USER tide", "331")
    elif kind == "nats":
        said = must(stream, 'CONNECT {"verbose":true}', "+OK")
    elif kind == "xmpp":
        tls.sendall(head)
        said = tls.recv(4096).decode()
        if "<stream:stream" not in said:
            raise OSError(said or "it hung up")
    elif kind == "ldap":
        # An anonymous bind (RFC 4511 §4.2).
        tls.sendall(b"\x30\x0c\x02\x01\x02\x60\x07\x02\x01\x03\x04\x00\x80\x00")
        said = tls.recv(4096).hex()
        if not said:
            raise OSError("it hung up")
    elif kind == "mysql":
        # Nobody by this name: the answer is a refusal of its own, through TLS.
        body = flags.to_bytes(4, "little") + b"\x00\x00\x00\x01\x21" + b"\x00" * 23 + b"tide\x00\x00" + b"mysql_native_password\x00"
        tls.sendall(len(body).to_bytes(3, "little") + b"\x02" + body)
        said = tls.recv(4096)[4:5].hex()
        if said not in ("ff", "fe", "00"):
            raise OSError(said or "it hung up")
    elif kind == "grpc":
        # The preface of HTTP/2 with empty settings (RFC 9113 §3.4): settings come back.
        tls.sendall(b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n" + b"\x00\x00\x00\x04\x00\x00\x00\x00\x00")
        said = tls.recv(9).hex()
        if said[6:8] != "04":
            raise OSError(said or "it hung up")
    elif kind == "proxy":
        ask(stream, "GET http://charts.saltmarsh.test:1/ HTTP/1.1\r\nHost: charts.saltmarsh.test:1\r\nConnection: close\r\n")
        said = stream.readline().decode("latin1").strip()
        if not said.startswith("HTTP/1."):
            raise OSError(said or "it hung up")
    elif kind == "postgres":
        ask = b"\x00\x03\x00\x00user\x00operator@saltmarsh.test\x00\x00"
        tls.sendall((len(ask) + 4).to_bytes(4, "big") + ask)
        said = tls.recv(1).decode()
        # A question for a password, or that none is needed.
        if said != "R":
            raise OSError(said or "it hung up")
    elif kind == "redis":
        said = must(stream, "PING", "+PONG")
    elif kind == "mqtt":
        # CONNECT of MQTT 3.1.1 with a clean session.
        tls.sendall(b"\x10\x0e\x00\x04MQTT\x04\x02\x00\x3c\x00\x02ab")
        said = tls.recv(4).hex()
        if said != "20020000":
            raise OSError(said or "it hung up")
    print("in", hashlib.sha256(tls.getpeercert(True)).hexdigest(), said)
except (OSError, ssl.SSLError) as e:
    print("out", e)
