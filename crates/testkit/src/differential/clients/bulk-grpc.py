"""gRPC's core through Python. In: lines `number TAB host TAB address TAB port TAB directory of PEM files`. Out: `number TAB + | -words | !words`."""
import glob
import sys

import grpc

OPTIONS = [
    ("grpc.use_local_subchannel_pool", 1),
    ("grpc.enable_retries", 0),
    ("grpc.enable_http_proxy", 0),
]


def said(words):
    """Of two texts of the library the one that says more: the verdict on the chain, where there is one."""
    if "is not in peer certificate" in words or "Hostname Verification Check failed" in words:
        return "-Hostname Verification Check failed"
    if "security handshaker" in words:
        return "-Failed to create security handshaker"
    if "Unwrap failed" in words:
        return "-Unwrap failed"
    if "handshake failed" not in words or "ALPN" in words:
        return "+"
    parts = words.rsplit("OPENSSL_internal:", 1)[-1].removesuffix(": OK").split(": ")
    return "-" + (parts[0] if parts[-1] == "Invalid certificate verification context" else parts[-1])


for line in open(sys.argv[1]):
    number, host, address, port, roots = line.rstrip("\n").split("\t")
    # It reads up to the first that it cannot read, and fails if that is the very first.
    names = [roots + "/none.pem", *sorted(glob.glob(roots + "/[0-9]*.pem"))]
    pem = b"".join(open(name, "rb").read() for name in names)
    options = OPTIONS + [("grpc.ssl_target_name_override", host)]
    channel = grpc.secure_channel(f"{address}:{port}", grpc.ssl_channel_credentials(pem), options)
    try:
        channel.unary_unary("/a/b")(b"", timeout=10)
        answer = "+"
    except grpc.RpcError as e:
        answer = said(e.details() or "")
    except Exception as e:
        answer = "!" + repr(e)
    channel.close()
    print(number, " ".join(answer.split()), sep="\t", flush=True)
