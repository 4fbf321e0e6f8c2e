#!/usr/bin/python3
"""Stands where systemctl and journalctl are, on a machine of the tests without systemd: reads the real units and starts what they say.

Known: start stop restart reload reload-or-restart is-active daemon-reload enable disable edit; journalctl -u UNIT."""
import grp, os, pwd, re, shlex, signal, subprocess, sys, time

STATE = "/run/units"
PLACES = ["/etc/systemd/system", "/run/systemd/system", "/lib/systemd/system", "/usr/lib/systemd/system"]
# Metas of which only an instance does anything.
INSTANCES = {"postfix.service": "postfix@-.service"}
DIRECTORIES = {"Runtime": "/run", "State": "/var/lib", "Cache": "/var/cache", "Logs": "/var/log", "Configuration": "/etc"}


def volatile():
    """The directories below /run that packages want at every start (tmpfiles.d)."""
    for path in sorted(os.listdir("/usr/lib/tmpfiles.d")):
        for line in open("/usr/lib/tmpfiles.d/" + path):
            words = line.split()
            if words and words[0] in ("d", "D") and re.match(r"/(var/)?run/", words[1]) and not os.path.isdir(words[1]):
                try:
                    os.makedirs(words[1])
                    user, group = words[3:5] if len(words) > 4 else ("-", "-")
                    os.chown(words[1], 0 if user == "-" else pwd.getpwnam(user).pw_uid, 0 if group == "-" else grp.getgrnam(group).gr_gid)
                    if len(words) > 2 and words[2] != "-":
                        os.chmod(words[1], int(words[2].lstrip("~:"), 8))
                except (KeyError, OSError):
                    pass


def full(unit):
    unit = unit if re.search(r"\.(service|socket)$", unit) else unit + ".service"
    unit = INSTANCES.get(unit, unit)
    if unit in ("postgresql.service", "postgresql@.service"):
        versions = sorted(v for v in os.listdir("/etc/postgresql") if v.replace(".", "").isdigit())
        unit = f"postgresql@{versions[-1]}-main.service"
    return unit


class Unit:
    def __init__(self, name):
        self.name, self.settings = name, {}
        base, at, rest = name.partition("@")
        self.instance = rest.rsplit(".", 1)[0] if at else ""
        template = f"{base}@.service" if at else name
        files = []
        for place in PLACES:
            path = f"{place}/{template}"
            if os.path.exists(path):
                files.append(path)
                break
        for place in reversed(PLACES):
            folder = f"{place}/{template}.d"
            if os.path.isdir(folder):
                files += sorted(f"{folder}/{f}" for f in os.listdir(folder) if f.endswith(".conf"))
        self.script = None
        if not any(not f.split("/")[-2].endswith(".d") for f in files):
            self.script = "/etc/init.d/" + base.removesuffix(".service")
            if not os.path.exists(self.script):
                sys.exit(f"Unit {name} not found.")
        for path in files:
            self.read(path)

    def read(self, path):
        section, held = "", ""
        for line in open(path):
            line = line.rstrip("\n")
            if line.endswith("\\"):
                held += line[:-1] + " "
                continue
            line, held = (held + line).strip(), ""
            if line.startswith(("#", ";")) or not line:
                continue
            if line.startswith("["):
                section = line
                continue
            key, _, value = line.partition("=")
            if section == "[Service]":
                values = self.settings.setdefault(key.strip(), [])
                if not value.strip():
                    values.clear()
                else:
                    base = self.name.partition("@")[0].removesuffix(".service")
                    values.append(value.strip().replace("%p", base).replace("%H", "lab"))

    def get(self, key, other=""):
        return (self.settings.get(key) or [other])[-1]

    def environment(self):
        env = {"PATH": os.environ["PATH"], "LANG": "C.UTF-8"}
        if self.get("User"):
            env["HOME"] = pwd.getpwnam(self.get("User")).pw_dir
        for line in self.settings.get("Environment", []):
            env.update(w.partition("=")[::2] for w in shlex.split(line))
        for path in self.settings.get("EnvironmentFile", []):
            if os.path.exists(path.lstrip("-")):
                for line in open(path.lstrip("-")):
                    if re.match(r"\w+=", line):
                        key, _, value = line.strip().partition("=")
                        env[key] = "".join(shlex.split(value)) if value[:1] in "'\"" else value
        env["MAINPID"] = str(self.pid() or "")
        return env

    def pid(self):
        for path in [self.get("PIDFile").replace("%i", self.instance), f"{STATE}/{self.name}.pid"]:
            try:
                pid = int(open(path).read().split()[0])
                os.kill(pid, 0)
                return pid
            except (OSError, ValueError, IndexError):
                pass
        return None

    def is_active(self):
        # Without a file with its number, systemd knows by the control group.
        tracked = self.get("Type") != "forking" or self.get("PIDFile")
        return self.pid() or not tracked and os.path.exists(f"{STATE}/{self.name}.started")

    def words(self, line):
        env = self.environment()
        out = []
        for word in shlex.split(line.replace("%i", self.instance).replace("%n", self.name)):
            alone = re.fullmatch(r"\$(\w+)", word)
            if alone:
                out += env.get(alone[1], "").split()
            else:
                out.append(re.sub(r"\$\{(\w+)\}", lambda m: env.get(m[1], ""), word))
        return out

    def as_account(self, raised):
        account = self.get("User")
        if not account or raised:
            return {}
        entry = pwd.getpwnam(account)
        return {"user": entry.pw_uid, "group": self.get("Group") or entry.pw_gid, "extra_groups": os.getgrouplist(account, entry.pw_gid)}

    def run(self, line, wait=True):
        mild = raised = False
        while line[:1] in "-+!@:":
            mild, raised = mild or line[0] == "-", raised or line[0] in "+!"
            line = line[1:]
        log = open(f"{STATE}/{self.name}.log", "a")
        cwd = self.get("WorkingDirectory", "/").lstrip("-")
        words, account = self.words(line), self.as_account(raised)
        held = self.get("AmbientCapabilities").lower().replace("cap_", "").split()
        if account and held:
            caps = ",".join("+" + c for c in held)
            words = ["setpriv", "--reuid", self.get("User"), "--regid", self.get("Group") or self.get("User"), "--init-groups",
                     "--inh-caps", caps, "--ambient-caps", caps, "--"] + words
            account = {}
        child = subprocess.Popen(words, env=self.environment(), stdin=subprocess.DEVNULL, stdout=log, stderr=log,
                                 start_new_session=True, cwd=cwd if os.path.isdir(cwd) else "/", **account)
        if not wait:
            return child
        code = child.wait(60)
        if code and not mild:
            sys.exit(f"Job for {self.name} failed: {line.split()[0]} ended with {code}.\n" + open(log.name).read()[-2000:])

    def start(self):
        volatile()
        if self.script:
            return self.by_script("start")
        if self.pid() and self.get("Type") != "oneshot":
            return
        account = self.get("User")
        for kind, root in DIRECTORIES.items():
            for name in self.get(f"{kind}Directory").split():
                path = f"{root}/{name}"
                os.makedirs(path, exist_ok=True)
                os.chmod(path, int(self.get(f"{kind}DirectoryMode", "755"), 8))
                if account:
                    entry = pwd.getpwnam(account)
                    os.chown(path, entry.pw_uid, entry.pw_gid)
        for line in self.settings.get("ExecStartPre", []):
            self.run(line)
        open(f"{STATE}/{self.name}.started", "w").close()
        kind = self.get("Type", "simple")
        for line in self.settings.get("ExecStart", []):
            if kind in ("forking", "oneshot"):
                self.run(line)
                continue
            child = self.run(line, wait=False)
            open(f"{STATE}/{self.name}.pid", "w").write(str(child.pid))
            # No socket for notice: what is still there after a while is up.
            for _ in range(10):
                time.sleep(0.1)
                if child.poll() is not None:
                    sys.exit(f"Job for {self.name} failed.\n" + open(f"{STATE}/{self.name}.log").read()[-2000:])

    def stop(self):
        if self.script:
            return self.by_script("stop")
        pid = self.pid()
        for line in self.settings.get("ExecStop", []):
            self.run("-" + line)
        if pid:
            for attempt in range(150):
                try:
                    if attempt in (0, 100):
                        os.kill(pid, signal.SIGTERM if attempt == 0 else signal.SIGKILL)
                    os.kill(pid, 0)
                    # A child of nobody here is gone when its own parent has said so.
                    if open(f"/proc/{pid}/stat").read().rsplit(")", 1)[1].split()[0] == "Z":
                        break
                except OSError:
                    break
                time.sleep(0.1)
        for kept in ("pid", "started"):
            try:
                os.remove(f"{STATE}/{self.name}.{kept}")
            except OSError:
                pass

    def reload(self):
        if self.script:
            return self.by_script("force-reload")
        if not self.pid():
            sys.exit(f"{self.name} is not active, cannot reload.")
        lines = self.settings.get("ExecReload")
        if not lines:
            sys.exit(f"Failed to reload {self.name}: Job type reload is not applicable for unit {self.name}.")
        for line in lines:
            self.run(line)

    def by_script(self, what):
        log = open(f"{STATE}/{self.name}.log", "a")
        if subprocess.run([self.script, what], stdin=subprocess.DEVNULL, stdout=log, stderr=log, env={**os.environ, "SYSTEMCTL_SKIP_REDIRECT": "1", "_SYSTEMCTL_SKIP_REDIRECT": "1"}).returncode:
            sys.exit(f"Job for {self.name} failed.\n" + open(log.name).read()[-2000:])


def main():
    os.makedirs(STATE, exist_ok=True)
    if sys.argv[0].endswith("journalctl"):
        for at, word in enumerate(sys.argv):
            if word in ("-u", "--unit"):
                path = f"{STATE}/{full(sys.argv[at + 1])}.log"
                print(open(path).read() if os.path.exists(path) else "-- No entries --", end="")
        return
    words = [w for w in sys.argv[1:] if not w.startswith("-")]
    verb, units = words[0] if words else "", [full(u) for u in words[1:]]
    if verb in ("daemon-reload", "enable", "disable", "unmask", "mask"):
        return
    for unit in map(Unit, units):
        if verb == "start":
            unit.start()
        elif verb == "stop":
            unit.stop()
        elif verb in ("restart", "try-restart"):
            unit.stop()
            unit.start()
        elif verb == "reload":
            unit.reload()
        elif verb == "reload-or-restart":
            unit.reload() if unit.pid() and unit.settings.get("ExecReload") else (unit.stop(), unit.start())
        elif verb == "is-active":
            print("active" if unit.is_active() else "inactive")
            sys.exit(0 if unit.is_active() else 3)
        else:
            sys.exit(f"Unknown operation {verb}.")


main()
