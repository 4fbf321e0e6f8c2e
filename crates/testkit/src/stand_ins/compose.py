#!/usr/bin/env python3
"""Stands for the daemon that runs the services of a compose file: as programs of this machine, in their order, with their volumes, names and
variables. compose.py FILE TAMGA. As root, on a machine of its own: it mounts volumes at their places and writes /etc/hosts."""

import os
import subprocess
import sys
import time

import yaml

directory = os.path.dirname(os.path.abspath(sys.argv[1]))
with open(sys.argv[1]) as file:
    found = yaml.safe_load(file)
services = found["services"]

# Every service has an address of its own, and its aliases lead to it.
names = []
for number, (service, settings) in enumerate(services.items()):
    address = f"127.0.1.{number + 10}"
    subprocess.run(["ip", "address", "add", f"{address}/32", "dev", "lo"], check=True)
    networks = settings.get("networks") or {}
    for alias in [service] + [a for n in networks.values() for a in (n or {}).get("aliases", [])]:
        names.append(f"{address} {alias}\n")
with open("/etc/hosts", "a") as hosts:
    hosts.writelines(names)

for volume in found.get("volumes", {}):
    os.makedirs(f"/srv/volumes/{volume}", exist_ok=True)


def start(service):
    settings = services[service]
    arguments = list(settings["command"])
    if settings["image"] == "tamga":
        arguments.insert(0, sys.argv[2])
    mounts = ["set -e"]
    for volume in settings.get("volumes", []):
        source, target, *options = volume.split(":")
        if source.startswith("./"):
            source = os.path.join(directory, source)
            mounts.append(f"mkdir -p '{os.path.dirname(target)}'; touch '{target}'")
        else:
            source = f"/srv/volumes/{source}"
            mounts.append(f"mkdir -p '{target}'")
        mounts.append(f"mount --bind '{source}' '{target}'")
        if "ro" in options:
            mounts.append(f"mount -o remount,bind,ro '{target}'")
    variables = {"PATH": os.environ["PATH"], "HOME": "/data", "TAMGA_DATA_DIR": "/data/tamga", **settings.get("environment", {})}
    line = "; ".join(mounts) + '; exec "$0" "$@"'
    return subprocess.Popen(["unshare", "--mount", "sh", "-c", line, *arguments], env=variables)


running, left, deadline = {}, dict(services), time.monotonic() + 60
while left or any(p.poll() is None for s, p in running.items() if s == "probe"):
    for service, settings in list(left.items()):
        after = settings.get("depends_on", {})
        conditions = after.items() if isinstance(after, dict) else [(s, {}) for s in after]
        ready = True
        for other, how in conditions:
            if how.get("condition") == "service_completed_successfully":
                ready &= other in running and running[other].poll() == 0
            else:
                ready &= other in running
        if ready:
            running[service] = start(service)
            del left[service]
    if time.monotonic() > deadline or any(p.poll() for p in running.values()):
        break
    time.sleep(0.05)
ended = {service: p.poll() for service, p in running.items()}
for p in running.values():
    p.terminate()
print(ended)
sys.exit(0 if not left and ended.get("probe") == 0 and ended.get("lab") == 0 else 1)
