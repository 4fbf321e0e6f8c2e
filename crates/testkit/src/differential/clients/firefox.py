"""Firefox, one process. In: program, profile, file of lines `number TAB host TAB …port…`. Out: `number TAB + | -code | ?code | !words`;
`?` is a certificate error that a person may override."""
import json
import os
import signal
import socket
import subprocess
import sys
import time

program, profile, listed = sys.argv[1:4]
settings = {
    "marionette.port": 0, "network.proxy.type": 0, "app.update.disabledForTesting": True,
    "datareporting.policy.dataSubmissionEnabled": False, "network.captive-portal-service.enabled": False,
    "network.connectivity-service.enabled": False, "browser.startup.page": 0, "toolkit.telemetry.enabled": False,
    "browser.safebrowsing.malware.enabled": False, "browser.safebrowsing.phishing.enabled": False,
    "network.dns.disableIPv6": True, "security.OCSP.enabled": 1,
}
os.makedirs(profile, exist_ok=True)
with open(profile + "/user.js", "w") as f:
    for name, value in settings.items():
        f.write("user_pref(%s, %s);\n" % (json.dumps(name), json.dumps(value)))
environment = {"PATH": os.environ["PATH"], "HOME": os.path.dirname(profile), "MOZ_CRASHREPORTER_DISABLE": "1"}
child = subprocess.Popen([program, "--headless", "--marionette", "--remote-allow-system-access", "--no-remote",
                          "--profile", profile], env=environment, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                         stderr=subprocess.DEVNULL, start_new_session=True)
until = time.time() + 90
while True:
    try:
        port = int(open(profile + "/MarionetteActivePort").read())
        break
    except (OSError, ValueError):
        if time.time() > until or child.poll() is not None:
            sys.exit("firefox did not listen")
        time.sleep(0.1)
link = socket.create_connection(("127.0.0.1", port), 90)
count = 0


def exactly(n):
    got = b""
    while len(got) < n:
        more = link.recv(n - len(got))
        if not more:
            sys.exit("firefox ended")
        got += more
    return got


def hear():
    length = b""
    while not length.endswith(b":"):
        length += exactly(1)
    return json.loads(exactly(int(length[:-1])))


def ask(command, **parameters):
    global count
    count += 1
    text = json.dumps([0, count, command, parameters]).encode()
    link.sendall(b"%d:%s" % (len(text), text))
    answer = hear()
    if answer[2]:
        sys.exit("firefox refused: %s" % answer[2])
    return answer[3]


SCRIPT = r"""
const [urls, done] = arguments;
const { NetUtil } = ChromeUtils.importESModule("resource://gre/modules/NetUtil.sys.mjs");
const errors = Cc["@mozilla.org/nss_errors_service;1"].getService(Ci.nsINSSErrorsService);
const said = urls.map(() => null);
let next = 0, left = urls.length;
function one() {
  if (next >= urls.length) return;
  const i = next++;
  let ended = false;
  const end = (text) => {
    if (ended) return;
    ended = true;
    said[i] = text;
    if (--left === 0) done(said); else one();
  };
  let channel;
  try {
    channel = NetUtil.newChannel({ uri: urls[i], loadUsingSystemPrincipal: true, contentPolicyType: Ci.nsIContentPolicy.TYPE_OTHER });
  } catch (e) { end("!" + e); return; }
  channel.loadFlags |= Ci.nsIRequest.LOAD_ANONYMOUS | Ci.nsIRequest.LOAD_BYPASS_CACHE | Ci.nsIRequest.INHIBIT_CACHING;
  const timer = Cc["@mozilla.org/timer;1"].createInstance(Ci.nsITimer);
  timer.initWithCallback(() => { channel.cancel(Cr.NS_ERROR_NET_TIMEOUT); end("!time"); }, 20000, Ci.nsITimer.TYPE_ONE_SHOT);
  NetUtil.asyncFetch(channel, (_, status) => {
    timer.cancel();
    if (Components.isSuccessCode(status)) { end("+"); return; }
    let code = "", category = 0;
    try { code = channel.securityInfo.errorCodeString; category = channel.securityInfo.overridableErrorCategory; } catch (e) { /* none */ }
    if (!code) { try { code = errors.getErrorMessage(status); } catch (e) { code = ""; } }
    end(code ? (category ? "?" : "-") + code : "!" + status.toString(16));
  });
}
for (let i = 0; i < 4; i++) one();
"""
hear()
ask("WebDriver:NewSession", capabilities={"alwaysMatch": {"acceptInsecureCerts": False}})
ask("Marionette:SetContext", value="chrome")
ask("WebDriver:SetTimeouts", script=120000)
lines = [line.rstrip("\n").split("\t") for line in open(listed)]
for start in range(0, len(lines), 50):
    some = lines[start:start + 50]
    urls = ["https://%s:%s/" % (line[1], line[3]) for line in some]
    for line, said in zip(some, ask("WebDriver:ExecuteAsyncScript", script=SCRIPT, args=[urls])["value"]):
        print(line[0], " ".join(str(said).split()), sep="\t", flush=True)
os.killpg(child.pid, signal.SIGKILL)
child.wait()
