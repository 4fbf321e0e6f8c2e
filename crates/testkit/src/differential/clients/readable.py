"""Marks the roots that OpenSSL and GnuTLS do not read. In: lines `number TAB file of DER`; beside each lies the same as PEM."""
import ctypes
import ssl
import sys


class Datum(ctypes.Structure):
    _fields_ = [("data", ctypes.c_char_p), ("size", ctypes.c_uint)]


gnutls = ctypes.CDLL("libgnutls.so.30")


def by_gnutls(der):
    certificate = ctypes.c_void_p()
    gnutls.gnutls_x509_crt_init(ctypes.byref(certificate))
    read = gnutls.gnutls_x509_crt_import(certificate, ctypes.byref(Datum(der, len(der))), 0) == 0
    gnutls.gnutls_x509_crt_deinit(certificate)
    return read


for line in open(sys.argv[1]):
    stem = line.rstrip("\n").split("\t")[1][:-len(".der")]
    try:
        ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT).load_verify_locations(cafile=stem + ".pem")
    except (ssl.SSLError, OSError):
        open(stem + ".unreadable", "w").close()
    if not by_gnutls(open(stem + ".der", "rb").read()):
        open(stem + ".unreadable-gnutls", "w").close()
