"""Puts roots into an NSS database, in one process: directory, then a file of lines `number TAB file of DER`. Out: what was refused."""
import ctypes
import os
import sys


class Item(ctypes.Structure):
    _fields_ = [("type", ctypes.c_int), ("data", ctypes.c_char_p), ("len", ctypes.c_uint)]


class Trust(ctypes.Structure):
    _fields_ = [("ssl", ctypes.c_uint), ("mail", ctypes.c_uint), ("code", ctypes.c_uint)]


def main(folder, listed):
    nss = ctypes.CDLL("libnss3.so")
    for name in ("PK11_GetInternalKeySlot", "PK11_FindCertFromDERCertItem", "CERT_GetDefaultCertDB"):
        getattr(nss, name).restype = ctypes.c_void_p
    os.makedirs(folder, exist_ok=True)
    if nss.NSS_Initialize(b"sql:" + folder.encode(), b"", b"", b"secmod.db", 0) != 0:
        sys.exit("NSS did not start")
    slot = ctypes.c_void_p(nss.PK11_GetInternalKeySlot())
    if nss.PK11_NeedUserInit(slot):
        nss.PK11_InitPin(slot, None, b"")
    for line in open(listed):
        number, name = line.rstrip("\n").split("\t")
        der = open(name, "rb").read()
        item = Item(0, der, len(der))
        ok = nss.PK11_ImportDERCert(slot, ctypes.byref(item), ctypes.c_ulong(0), name.encode(), 0) == 0
        if ok:
            found = ctypes.c_void_p(nss.PK11_FindCertFromDERCertItem(slot, ctypes.byref(item), None))
            # CERTDB_VALID_CA | CERTDB_TRUSTED_CA | CERTDB_TRUSTED_CLIENT_CA
            trust = Trust(8 | 16 | 128, 0, 0)
            database = ctypes.c_void_p(nss.CERT_GetDefaultCertDB())
            ok = bool(found) and nss.CERT_ChangeCertTrust(database, found, ctypes.byref(trust)) == 0
        if not ok:
            print(number, flush=True)
    sys.stdout.flush()
    nss.NSS_Shutdown()


main(*sys.argv[1:])
