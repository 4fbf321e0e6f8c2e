"""A PostgreSQL server of a benchmark's own, on loopback, in a directory that goes with it."""
import glob, os, shutil, socket, statistics, subprocess, time

AS_POSTGRES = ["setpriv", "--reuid", "postgres", "--regid", "postgres", "--init-groups", "--"]

class Server:
    """Started when made; `end` stops it. `url` leads to its database `tamga`."""

    def __init__(self, work):
        self.between = None
        os.chmod(work, 0o755)
        self.bin = sorted(glob.glob("/usr/lib/postgresql/*/bin"))[-1]
        self.own = f"{work}/pg"
        os.mkdir(self.own)
        shutil.chown(self.own, "postgres")
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            self.port = s.getsockname()[1]
        self._run(f"{self.bin}/initdb", "-A", "trust", "-D", f"{self.own}/data")
        options = f"-p {self.port} -c listen_addresses=127.0.0.1 -c unix_socket_directories="
        self._run(f"{self.bin}/pg_ctl", "-D", f"{self.own}/data", "-w", "-l", f"{self.own}/log", "-o", options, "start")
        self._run(f"{self.bin}/createdb", "-h", "127.0.0.1", "-p", str(self.port), "-U", "postgres", "tamga")
        self.url = f"postgres://postgres@127.0.0.1:{self.port}/tamga?sslmode=disable"

    def _run(self, *words):
        subprocess.run([*AS_POSTGRES, *words], check=True, cwd="/", stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def psql(self, *words):
        command = ["psql", "-At", "-h", "127.0.0.1", "-p", str(self.port), "-U", "postgres", "-d", "tamga", *words]
        return subprocess.run(command, capture_output=True, text=True, check=True).stdout

    def trip(self):
        """Milliseconds of one way there and back on a connection that stands."""
        said = self.psql("-c", "\\timing on", *["-c", "SELECT 1"] * 50)
        return statistics.median(float(l.split()[1]) for l in said.splitlines() if l.startswith("Time:"))

    def pooler(self):
        """The URL of the same database behind pgbouncer in transaction mode, whose connections to the server stand; None without it."""
        if not shutil.which("pgbouncer"):
            return None
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            port = s.getsockname()[1]
        settings = {"listen_addr": "127.0.0.1", "listen_port": port, "auth_type": "trust", "auth_file": f"{self.own}/users", "pool_mode": "transaction",
                    "logfile": f"{self.own}/pooler-log", "pidfile": f"{self.own}/pooler-pid", "unix_socket_dir": ""}
        with open(f"{self.own}/users", "w") as f:
            f.write('"postgres" ""\n')
        with open(f"{self.own}/pooler", "w") as f:
            f.write(f"[databases]\n* = host=127.0.0.1 port={self.port}\n[pgbouncer]\n" + "".join(f"{k} = {v}\n" for k, v in settings.items()))
        self.between = subprocess.Popen([*AS_POSTGRES, "/usr/sbin/pgbouncer", f"{self.own}/pooler"], cwd="/", stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(1)
        return self.url.replace(f":{self.port}/", f":{port}/")

    def end(self):
        if self.between:
            self.between.terminate()
            self.between.wait()
        stop = [f"{self.bin}/pg_ctl", "-D", f"{self.own}/data", "-m", "immediate", "stop"]
        subprocess.run([*AS_POSTGRES, *stop], cwd="/", stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
