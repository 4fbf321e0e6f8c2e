//! A PostgreSQL server of a test's own: on loopback, in a temporary directory, gone when dropped.

use crate::sandbox::COMPLETE;
use crate::server::{as_account, free_port};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// The account that runs it: the server refuses root.
const ACCOUNT: &str = "postgres";

/// A server with its databases.
pub struct Postgres {
    folder: tempfile::TempDir,
    programs: PathBuf,
    port: u16,
    /// Further settings, as the command line has them.
    settings: Vec<String>,
}

/// Where Debian keeps PostgreSQL's programs.
fn programs() -> Option<PathBuf> {
    let versions = std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
    versions.map(|v| v.path().join("bin")).find(|b| b.join("initdb").is_file())
}

impl Postgres {
    /// Starts one. None if it is not installed, or the test is not root: said, or a failure where nothing may be skipped.
    pub fn start(settings: &[&str]) -> Option<Postgres> {
        let found = programs().filter(|_| nix::unistd::geteuid().is_root());
        let Some(programs) = found else {
            assert!(std::env::var_os(COMPLETE).is_none(), "PostgreSQL and root's rights are needed here");
            eprintln!("SKIPPED: needs PostgreSQL and root's rights for its account");
            return None;
        };
        let folder = tempfile::Builder::new().prefix("tamga-postgres-").tempdir().unwrap();
        let settings = settings.iter().map(|s| (*s).to_owned()).collect();
        let server = Postgres { folder, programs, port: free_port(), settings };
        server.own();
        let made = server
            .program("initdb")
            .args(["-A", "trust", "-N", "-E", "UTF8", "--locale", "C.UTF-8", "-D"])
            .arg(server.data())
            .output();
        let made = made.unwrap();
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        server.again();
        Some(server)
    }

    /// A replica that follows this server, which waits for it with every commit (`synchronous_standby_names`).
    pub fn replica(&self, name: &str) -> Postgres {
        let folder = tempfile::Builder::new().prefix("tamga-replica-").tempdir().unwrap();
        let replica =
            Postgres { folder, programs: self.programs.clone(), port: free_port(), settings: self.settings.clone() };
        replica.own();
        let source = format!("host=127.0.0.1 port={} user={ACCOUNT} application_name={name}", self.port);
        let copied = self
            .program("pg_basebackup")
            .args(["-R", "-X", "stream", "-c", "fast", "-d", &source, "-D"])
            .arg(replica.data())
            .output();
        let copied = copied.unwrap();
        assert!(copied.status.success(), "{}", String::from_utf8_lossy(&copied.stderr));
        // The tool leaves the name out.
        let auto = replica.data().join("postgresql.auto.conf");
        let text = std::fs::read_to_string(&auto).unwrap();
        std::fs::write(&auto, text.replace("user=postgres", &format!("application_name={name} user=postgres")))
            .unwrap();
        replica.again();
        replica
    }

    fn own(&self) {
        std::os::unix::fs::chown(self.folder.path(), self.account_id(), None).unwrap();
    }

    fn account_id(&self) -> Option<u32> {
        nix::unistd::User::from_name(ACCOUNT).unwrap().map(|u| u.uid.as_raw())
    }

    fn program(&self, name: &str) -> Command {
        let mut c = as_account(ACCOUNT, &self.programs.join(name));
        c.current_dir("/").env_remove("SSL_CERT_FILE").stdin(Stdio::null());
        c
    }

    /// Its data.
    pub fn data(&self) -> PathBuf {
        self.folder.path().join("data")
    }

    /// Its port on loopback.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Starts it, for the first time or after it was killed.
    pub fn again(&self) {
        let mut options = format!("-p {} -c listen_addresses=127.0.0.1 -c unix_socket_directories=", self.port);
        self.settings.iter().for_each(|s| options.push_str(&format!(" -c {s}")));
        let log = self.folder.path().join("log");
        let started = self
            .program("pg_ctl")
            .arg("-D")
            .arg(self.data())
            .args(["-w", "-o", &options, "-l"])
            .arg(&log)
            .arg("start")
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status();
        assert!(started.unwrap().success(), "{}", std::fs::read_to_string(&log).unwrap_or_default());
    }

    /// Makes a replica the one that is written.
    pub fn promote(&self) {
        let done = self.program("pg_ctl").arg("-D").arg(self.data()).args(["-w", "promote"]).output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    }

    /// Kills it with all its processes, as a loss of power would.
    pub fn kill(&self) {
        let file = std::fs::read_to_string(self.data().join("postmaster.pid")).unwrap_or_default();
        let Some(first) = file.lines().next().and_then(|l| l.trim().parse::<i32>().ok()) else { return };
        let children = std::fs::read_to_string(format!("/proc/{first}/task/{first}/children")).unwrap_or_default();
        let all = std::iter::once(first).chain(children.split_whitespace().filter_map(|c| c.parse().ok()));
        for pid in all {
            let _ = nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid), nix::sys::signal::Signal::SIGKILL);
        }
        let since = Instant::now();
        while Path::new(&format!("/proc/{first}")).exists() && since.elapsed() < Duration::from_secs(5) {
            std::thread::sleep(Duration::from_millis(5));
        }
        // The next start would believe that it still runs, if another process has its number.
        let _ = std::fs::remove_file(self.data().join("postmaster.pid"));
    }

    /// Makes a database; its URL.
    pub fn database(&self, name: &str) -> String {
        self.sql("postgres", &format!("CREATE DATABASE {name}"));
        self.url(name)
    }

    /// The URL of a database.
    pub fn url(&self, database: &str) -> String {
        format!("postgres://{ACCOUNT}@127.0.0.1:{}/{database}?sslmode=disable", self.port)
    }

    /// Changes a setting of the running server; None is what its command line says.
    pub fn set(&self, name: &str, value: Option<&str>) {
        let change = match value {
            Some(value) => format!("ALTER SYSTEM SET {name} = '{value}'"),
            None => format!("ALTER SYSTEM RESET {name}"),
        };
        self.sql("postgres", &change);
        self.sql("postgres", "SELECT pg_reload_conf()");
    }

    /// Gives it a certificate with its key; from then on it takes TLS.
    pub fn serve_tls(&self, certificate: &Path, key: &Path) {
        for (from, name) in [(certificate, "server.crt"), (key, "server.key")] {
            let to = self.data().join(name);
            std::fs::copy(from, &to).unwrap();
            std::fs::set_permissions(&to, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
            std::os::unix::fs::chown(&to, self.account_id(), None).unwrap();
        }
        self.set("ssl", Some("on"));
    }

    /// What its own client says to a statement, without headings.
    #[track_caller]
    pub fn sql(&self, database: &str, statement: &str) -> String {
        let port = self.port.to_string();
        let out = Command::new("psql")
            .args([
                "-h",
                "127.0.0.1",
                "-p",
                &port,
                "-U",
                ACCOUNT,
                "-d",
                database,
                "-v",
                "ON_ERROR_STOP=1",
                "-Atc",
                statement,
            ])
            .output()
            .unwrap();
        assert!(out.status.success(), "{statement}: {}", String::from_utf8_lossy(&out.stderr));
        String::from_utf8_lossy(&out.stdout).trim().to_owned()
    }
}

impl Drop for Postgres {
    fn drop(&mut self) {
        self.kill();
    }
}

/// A pooler before a server: each transaction may get another connection, of two.
pub struct Pooler {
    process: std::process::Child,
    folder: tempfile::TempDir,
    port: u16,
}

impl Pooler {
    /// Starts it. None if it is not installed: said, or a failure where nothing may be skipped.
    pub fn start(server: &Postgres) -> Option<Pooler> {
        if !crate::sandbox::has(&["pgbouncer"]) {
            return None;
        }
        let folder = tempfile::Builder::new().prefix("tamga-pooler-").tempdir().unwrap();
        let port = free_port();
        let (own, to) = (folder.path().display(), server.port);
        let settings = format!(
            "[databases]\n* = host=127.0.0.1 port={to}\n[pgbouncer]\nlisten_addr = 127.0.0.1\nlisten_port = {port}\nauth_type = trust\n\
             auth_file = {own}/users\npool_mode = transaction\ndefault_pool_size = 2\nlogfile = {own}/log\npidfile = {own}/pid\nunix_socket_dir =\n"
        );
        std::fs::write(folder.path().join("users"), format!("\"{ACCOUNT}\" \"\"\n")).unwrap();
        std::fs::write(folder.path().join("settings"), settings).unwrap();
        let account = nix::unistd::User::from_name(ACCOUNT).unwrap().map(|u| u.uid.as_raw());
        for path in [folder.path().to_owned(), folder.path().join("users"), folder.path().join("settings")] {
            std::os::unix::fs::chown(path, account, None).unwrap();
        }
        let mut command = as_account(ACCOUNT, Path::new("/usr/sbin/pgbouncer"));
        command.current_dir("/").arg(folder.path().join("settings"));
        let process = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let since = Instant::now();
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            let log = std::fs::read_to_string(folder.path().join("log")).unwrap_or_default();
            assert!(since.elapsed() < Duration::from_secs(20), "{log}");
            std::thread::sleep(Duration::from_millis(20));
        }
        Some(Pooler { process, folder, port })
    }

    /// The URL of a database behind it.
    pub fn url(&self, database: &str) -> String {
        format!("postgres://{ACCOUNT}@127.0.0.1:{}/{database}?sslmode=disable", self.port)
    }

    /// What it wrote.
    pub fn log(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("log")).unwrap_or_default()
    }
}

impl Drop for Pooler {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}
