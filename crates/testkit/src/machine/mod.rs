//! A machine of its own for one test: its mounts, network, processes and accounts' files are private, and gone when it is dropped. The
//! programs are those of this machine; what they write goes into memory. Services are started as their units say, without systemd.

use crate::sandbox::{COMPLETE, Ran};
use crate::server::is_root;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// Directories of which the machine has its own version, over ours.
const OWN: &str = "etc var usr/local usr/bin home root srv";

/// Mounts, brings loopback up, says that it is ready and waits. `$1`: a directory, `$2`: the program under test, `$3`: systemctl,
/// `$4`: what writes the system's log.
const SETUP: &str = r#"
set -e
mount --make-rprivate /
mount -t tmpfs -o mode=0755 machine "$1"
mkdir "$1/bin"; cp "$2" "$1/bin/tamga"; cp "$3" "$1/bin/systemctl"; cp "$3" "$1/bin/journalctl"; chmod 755 "$1"/bin/*
for d in $OWN; do
  [ -d "/$d" ] || continue
  mkdir -p "$1/upper/$d" "$1/work/$d"
  mount -t overlay overlay -o "lowerdir=/$d,upperdir=$1/upper/$d,workdir=$1/work/$d" "/$d"
done
mount -t tmpfs -o mode=0755 run /run
mkdir -p /run/lock /run/sshd; chmod 1777 /run/lock
# Devices too: what writes to the log finds its socket there.
mkdir -p "$1/upper/dev" "$1/work/dev" "$1/pts"
mount --bind /dev/pts "$1/pts"
mount -t overlay overlay -o "lowerdir=/dev,upperdir=$1/upper/dev,workdir=$1/work/dev" /dev
mount --move "$1/pts" /dev/pts
mkdir -p /dev/shm; mount -t tmpfs -o mode=1777 tmp /dev/shm
setsid python3 "$4" >/dev/null 2>&1 &
cp "$1"/bin/* /usr/local/bin/
cp "$1"/bin/systemctl "$1"/bin/journalctl /usr/bin/
# By this programs know that systemd runs (sd_booted(3)).
mkdir -p /run/systemd/system
mount -t proc proc /proc
ip link set lo up
hostname lab
touch "$1/ready"
exec sleep infinity
"#;

/// The machine.
pub struct Machine {
    outside: Child,
    inside: i32,
    _directory: tempfile::TempDir,
}

impl Machine {
    /// Starts one; None, visibly, where root's rights or the programs for it are missing. `program`: Tamga.
    pub fn start(program: &Path) -> Option<Machine> {
        if !is_root() || !crate::sandbox::has(&["unshare", "nsenter", "ip", "python3"]) {
            return None;
        }
        let directory = tempfile::tempdir().unwrap();
        let systemctl = directory.path().join("systemctl");
        std::fs::write(&systemctl, include_str!("systemctl.py")).unwrap();
        let syslog = directory.path().join("syslog");
        std::fs::write(&syslog, include_str!("syslog.py")).unwrap();
        std::fs::set_permissions(&systemctl, std::fs::Permissions::from_mode(0o755)).unwrap();
        let root = directory.path().join("machine");
        std::fs::create_dir(&root).unwrap();
        let log = directory.path().join("log");
        let mut c = Command::new("unshare");
        c.args(["--mount", "--net", "--pid", "--uts", "--fork", "--kill-child", "sh", "-c", SETUP, "sh"]);
        c.arg(&root).arg(program).arg(&systemctl).arg(&syslog).env("OWN", OWN).stdin(Stdio::null());
        let file = std::fs::File::create(&log).unwrap();
        c.stdout(file.try_clone().unwrap()).stderr(file);
        let mut outside = c.spawn().unwrap();
        let begun = Instant::now();
        let inside = loop {
            let children = format!("/proc/{0}/task/{0}/children", outside.id());
            let child = std::fs::read_to_string(children).unwrap_or_default().trim().parse::<i32>().ok();
            if let Some(pid) =
                child.filter(|pid| PathBuf::from(format!("/proc/{pid}/root{}/ready", root.display())).exists())
            {
                break pid;
            }
            let failed = outside.try_wait().unwrap().is_some() || begun.elapsed() > Duration::from_secs(20);
            if failed {
                let said = std::fs::read_to_string(&log).unwrap_or_default();
                assert!(std::env::var_os(COMPLETE).is_none(), "a private machine cannot be made: {said}");
                eprintln!("SKIPPED: a private machine cannot be made here: {said}");
                let _ = outside.kill();
                return None;
            }
            std::thread::sleep(Duration::from_millis(20));
        };
        Some(Machine { outside, inside, _directory: directory })
    }

    /// A command inside, as root, with an environment of its own.
    pub fn command(&self, program: &str) -> Command {
        let mut c = Command::new("nsenter");
        c.args([
            "--target",
            &self.inside.to_string(),
            "--mount",
            "--net",
            "--pid",
            "--uts",
            "--wd=/root",
            "--",
            program,
        ]);
        c.env_clear().env("PATH", "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin");
        c.env("HOME", "/root").env("LANG", "C.UTF-8").stdin(Stdio::null());
        c
    }

    /// Types lines into a shell inside; the first that fails ends it.
    pub fn types(&self, lines: &str) -> Ran {
        self.command("sh").args(["-ec", lines]).output().unwrap().into()
    }

    /// Writes a file inside.
    pub fn write(&self, path: &str, text: &str) {
        let place = format!("/proc/{}/root{path}", self.inside);
        std::fs::create_dir_all(Path::new(&place).parent().unwrap()).unwrap();
        std::fs::write(place, text).unwrap();
    }
}

impl Drop for Machine {
    fn drop(&mut self) {
        // The first process inside takes all others with it.
        let _ = nix::sys::signal::kill(nix::unistd::Pid::from_raw(self.inside), nix::sys::signal::Signal::SIGKILL);
        let _ = self.outside.wait();
    }
}
