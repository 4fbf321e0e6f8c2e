"""Python's ssl module. In: lines `number TAB host TAB address TAB port TAB directory of PEM files`. Out: `number TAB + | -words | !words`."""
import glob
import socket
import ssl
import sys

for line in open(sys.argv[1]):
    number, host, address, port, roots = line.rstrip("\n").split("\t")
    context = ssl.create_default_context(cafile=roots + "/none.pem")
    for name in sorted(glob.glob(roots + "/[0-9]*.pem")):
        try:
            context.load_verify_locations(cafile=name)
        except (ssl.SSLError, OSError):
            pass
    try:
        with socket.create_connection((address, int(port)), 15) as s:
            with context.wrap_socket(s, server_hostname=host) as t:
                t.sendall(b"GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
                t.recv(4096)
        said = "+"
    except ssl.SSLCertVerificationError as e:
        said = "-certificate verify failed: " + e.verify_message
    except ssl.SSLError as e:
        said = "-" + str(e.reason or e)
    except ValueError as e:
        said = "-" + str(e)
    except OSError as e:
        said = "!" + str(e)
    print(number, " ".join(said.split()), sep="\t", flush=True)
