"""gRPC's core through Python. In: lines `number TAB host TAB address TAB port TAB directory of PEM files`. Out: `number TAB + | -words | !words`."""
import glob
import re
import sys

import grpc

OPTIONS = [
    ("grpc.use_local_subchannel_pool", 1),
    ("grpc.enable_retries", 0),
    ("grpc.enable_http_proxy", 0),
]

for line in open(sys.argv[1]):
    number, host, address, port, roots = line.rstrip("\n").split("\t")
    pem = b"".join(open(name, "rb").read() for name in sorted(glob.glob(roots + "/*.pem")))
    credentials = grpc.ssl_channel_credentials(pem)
    options = OPTIONS + [("grpc.ssl_target_name_override", host)]
    channel = grpc.secure_channel(f"{address}:{port}", credentials, options)
    try:
        channel.unary_unary("/a/b")(b"", timeout=10)
        said = "+"
    except grpc.RpcError as e:
        words = e.details() or ""
        if e.code() != grpc.StatusCode.UNAVAILABLE:
            said = "+"
        else:
            said = "-" + words
    except Exception as e:
        said = "-" + repr(e)
    channel.close()
    print(number, " ".join(said.split()), sep="\t", flush=True)
