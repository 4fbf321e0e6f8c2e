"""Writes what services say to the system's log (RFC 3164) into /var/log/syslog, and mail's part into /var/log/mail.log."""
import os, re, select, socket

sockets = []
for path in ["/dev/log", "/var/lib/haproxy/dev/log", "/var/spool/postfix/dev/log"]:
    if os.path.isdir(os.path.dirname(path)):
        try:
            os.unlink(path)
        except OSError:
            pass
        s = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        s.bind(path)
        os.chmod(path, 0o666)
        sockets.append(s)
while True:
    for s in select.select(sockets, [], [])[0]:
        text = s.recv(65536).decode("utf-8", "replace").rstrip("\0\n")
        level = re.match(r"<(\d+)>", text)
        facility = int(level[1]) >> 3 if level else 1
        line = re.sub(r"^<\d+>", "", text)
        for path in ["/var/log/syslog"] + (["/var/log/mail.log"] if facility == 2 else []) + (["/var/log/haproxy.log"] if facility == 16 else []):
            with open(path, "a") as log:
                log.write(line + "\n")
