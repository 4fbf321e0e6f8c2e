"""Chromium, one process. In: program, home, file of lines `number TAB host TAB …port…`. Out: `number TAB + | -code | !words`."""
import json
import os
import select
import subprocess
import sys
import time

program, home, listed = sys.argv[1:4]
to_child, write = os.pipe()
read, from_child = os.pipe()


def ends():
    # Apart from 3 and 4 first, so that neither is overwritten by the other.
    a, b = os.dup(to_child), os.dup(from_child)
    a, b = os.dup2(a, 100), os.dup2(b, 101)
    os.dup2(a, 3)
    os.dup2(b, 4)


options = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--no-proxy-server",
           "--disable-background-networking", "--disable-component-update", "--disable-sync", "--remote-debugging-pipe",
           "--user-data-dir=" + home + "/profile", "about:blank"]
child = subprocess.Popen([program] + options, preexec_fn=ends, close_fds=False, stdin=subprocess.DEVNULL,
                         stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
os.close(to_child)
os.close(from_child)
count, pending = 0, b""
answers = {}


def ask(method, session=None, **parameters):
    global count
    count += 1
    message = {"id": count, "method": method, "params": parameters}
    if session:
        message["sessionId"] = session
    os.write(write, json.dumps(message).encode() + b"\0")
    return count


def hear(until):
    """Waits for any answer; False when the time is over."""
    global pending
    while b"\0" not in pending:
        left = until - time.time()
        if left <= 0 or not select.select([read], [], [], left)[0]:
            return False
        more = os.read(read, 1 << 16)
        if not more:
            sys.exit("chromium ended")
        pending += more
    one, pending = pending.split(b"\0", 1)
    message = json.loads(one)
    if "id" in message:
        answers[message["id"]] = message
    return True


def call(method, session=None, **parameters):
    number = ask(method, session, **parameters)
    until = time.time() + 60
    while number not in answers:
        if not hear(until):
            sys.exit("chromium did not answer " + method)
    return answers.pop(number)["result"]


target = call("Target.createTarget", url="about:blank")["targetId"]
session = call("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
call("Network.enable", session)
frame = call("Page.getFrameTree", session)["frameTree"]["frame"]["id"]
lines = [line.rstrip("\n").split("\t") for line in open(listed)]
running, place = {}, 0
while place < len(lines) or running:
    while place < len(lines) and len(running) < 6:
        number, host, _, port = lines[place][:4]
        place += 1
        url = "https://%s:%s/" % (host, port)
        asked = ask("Network.loadNetworkResource", session, frameId=frame, url=url,
                    options={"disableCache": True, "includeCredentials": False})
        running[asked] = (number, time.time() + 8, url)
    hear(time.time() + 1)
    for asked in list(running):
        number, until, _ = running[asked]
        if asked in answers:
            message = answers.pop(asked)
            resource = message.get("result", {}).get("resource", {})
            said = "+" if resource.get("success") else "-" + str(resource.get("netErrorName") or message.get("error"))
        elif time.time() > until:
            # It waits for a person to choose a client certificate: a page does not. The page is another one, since what has
            # come from an address may not load from every other.
            page = call("Target.createTarget", url="about:blank")["targetId"]
            other = call("Target.attachToTarget", targetId=page, flatten=True)["sessionId"]
            asked_page = ask("Page.navigate", other, url=running[asked][2])
            last = time.time() + 15
            while asked_page not in answers and hear(last):
                pass
            result = answers.pop(asked_page, {}).get("result")
            said = "!time" if result is None else "-" + result["errorText"] if result.get("errorText") else "+"
            call("Target.closeTarget", targetId=page)
        else:
            continue
        del running[asked]
        print(number, said, sep="\t", flush=True)
ask("Browser.close")
try:
    child.wait(10)
except subprocess.TimeoutExpired:
    child.kill()
