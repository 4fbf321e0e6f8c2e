"""A message from one gateway to another and back, each signed, encrypted and acknowledged (RFC 4130): prints `in`, the SHA-256 of the first
one's certificate and the receipts, or `out` and what was wrong."""
import hashlib, logging, re

# Its library of cryptography takes "3.0.17" for no version of OpenSSL: one digit is all that it expects in the last place.
search = re.search
re.search = lambda pattern, *rest, **more: search(
    pattern.replace(r"\d\.\d\.\d[", r"\d\.\d\.\d+[") if isinstance(pattern, str) else pattern, *rest, **more
)
from pyas2lib import Mdn, Message, Organization, Partner  # noqa: E402

logging.disable()


def read(path):
    with open(path, "rb") as file:
        return file.read()


def own(label):
    store, passphrase = read(f"/root/{label}/{label}.p12"), read(f"/root/{label}/{label}.p12.passphrase").decode().strip()
    return Organization(
        as2_name=label, sign_key=store, sign_key_pass=passphrase, decrypt_key=store, decrypt_key_pass=passphrase
    )


def partner(label):
    certificate, root = read(f"/root/{label}.cer"), read(f"/root/{label}/root.pem")
    return Partner(
        as2_name=label,
        verify_cert=certificate,
        verify_cert_ca=root,
        encrypt_cert=certificate,
        encrypt_cert_ca=root,
        sign=True,
        digest_alg="sha256",
        encrypt=True,
        enc_alg="aes_256_cbc",
        mdn_mode="SYNC",
        mdn_digest_alg="sha256",
    )


def exchange(one, other):
    sides, partners = ({label: of(label) for label in (one, other)} for of in (own, partner))
    receipts, faults = [], []
    for sender, receiver in ((one, other), (other, one)):
        sent = Message(sides[sender], partners[receiver])
        sent.build(b"4.2 m\r\n", filename="tide.txt", subject="tide", disposition_notification_to="tide@saltmarsh.test")
        received = Message()
        status, (fault, _), mdn = received.parse(
            sent.headers_str + b"\r\n" + sent.content,
            find_org_cb=lambda name: sides[name],
            find_partner_cb=lambda name: partners[name],
        )
        receipt = mdn.content.decode("latin1")
        receipts += [line for line in receipt.splitlines() if line.startswith("Disposition:")]
        answered, detail = Mdn().parse(mdn.headers_str + b"\r\n" + mdn.content, find_message_cb=lambda *_: sent)
        if status != "processed" or answered != "processed" or received.content != b"4.2 m\r\n":
            faults.append(f"{sender} to {receiver}: {fault}; {detail}")
        elif not (received.signed and received.encrypted):
            faults.append(f"{sender} to {receiver}: neither signed nor encrypted")
    print("out" if faults else "in", hashlib.sha256(read(f"/root/{one}.cer")).hexdigest(), *receipts, *faults, sep="\n" if faults else " ")
