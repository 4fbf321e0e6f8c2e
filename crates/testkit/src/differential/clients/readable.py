"""Marks the roots that OpenSSL does not read. In: lines `number TAB file of DER`; beside each lies the same as PEM."""
import ssl
import sys

for line in open(sys.argv[1]):
    stem = line.rstrip("\n").split("\t")[1][:-len(".der")]
    try:
        ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT).load_verify_locations(cafile=stem + ".pem")
    except (ssl.SSLError, OSError):
        open(stem + ".unreadable", "w").close()
