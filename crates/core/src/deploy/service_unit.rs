//! The unit by which systemd runs the enrollment service: with no more rights than it needs.

use crate::deploy::schedule::Part;
use crate::plan::ports::Environment;
use crate::plan::ports::Look;
use crate::plan::step::{Invocation, Planned, Step};
use crate::vocabulary::text::Shown;
use std::path::PathBuf;

/// The name of the unit.
pub const UNIT: &str = "tamga-enrollment.service";

/// What is run.
#[derive(Clone, Debug)]
pub struct Service {
    /// The program.
    pub program: PathBuf,
    /// The data directory: the only place that it writes to.
    pub data: PathBuf,
    /// The arguments of `enrollment serve`.
    pub words: Vec<String>,
    /// The account that runs it, for the system's own manager; None for the person's.
    pub account: Option<String>,
    /// The file with the passphrase of the authority's key, absolute.
    pub passphrase_file: Option<PathBuf>,
    /// True if it listens on a port below 1024.
    pub low_port: bool,
}

/// systemd.service(5): `%` begins a specifier, `$` a variable, `\` and `"` mean something within quotes.
fn quoted(text: &str) -> String {
    let plain = !text.is_empty() && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_./:,@".contains(&b));
    if plain {
        return text.to_owned();
    }
    let escaped = text.replace('\\', "\\\\").replace('"', "\\\"").replace('%', "%%").replace('$', "$$");
    format!("\"{escaped}\"")
}

/// The unit as a file.
pub fn part(service: &Service, look: &dyn Environment) -> Part {
    let data = service.data.shown();
    let mut words: Vec<String> = [&service.program.shown(), "enrollment", "serve"].iter().map(|w| quoted(w)).collect();
    words.extend(service.words.iter().map(|w| quoted(w)));
    words.extend(["--data-dir".to_owned(), quoted(&data)]);
    let credential = match &service.passphrase_file {
        Some(file) => {
            words.push("--passphrase-file \"%d/passphrase\"".into());
            format!("LoadCredential=passphrase:{}\n", file.shown().replace('%', "%%"))
        }
        None => String::new(),
    };
    // What a unit of a person's own manager cannot have is left away there: it would not start.
    let of_system = match &service.account {
        None => String::new(),
        Some(account) => {
            let port = if service.low_port { "CAP_NET_BIND_SERVICE" } else { "" };
            format!(
                "User={account}\n\
                 # The file system is read-only but for the data directory.\n\
                 ProtectSystem=strict\nProtectHome=read-only\nReadWritePaths={data}\n\
                 PrivateTmp=yes\nPrivateDevices=yes\nProtectClock=yes\nProtectHostname=yes\nProtectKernelLogs=yes\n\
                 ProtectKernelModules=yes\nProtectKernelTunables=yes\nProtectControlGroups=yes\nProtectProc=invisible\nProcSubset=pid\n\
                 CapabilityBoundingSet={port}\nAmbientCapabilities={port}\n",
                data = quoted(&data),
            )
        }
    };
    let port = match (service.low_port, &service.account) {
        (true, None) => {
            "# A person's services may listen below port 1024 only where the system allows it: sysctl net.ipv4.ip_unprivileged_port_start\n"
        }
        _ => "",
    };
    let wanted_by = if service.account.is_some() { "multi-user.target" } else { "default.target" };
    let text = format!(
        "[Unit]\nDescription=Certificate enrollment for the lab (RFC 8555)\nAfter=network-online.target\nWants=network-online.target\n\n\
         [Service]\n{port}ExecStart={}\n{credential}Restart=on-failure\nRestartSec=2\n# Requests that are under way are answered.\nTimeoutStopSec=30\nUMask=0077\nMemoryMax=256M\n\
         {of_system}NoNewPrivileges=yes\nLockPersonality=yes\nMemoryDenyWriteExecute=yes\nRestrictRealtime=yes\nRestrictSUIDSGID=yes\nRestrictNamespaces=yes\n\
         RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX\nSystemCallArchitectures=native\nSystemCallFilter=@system-service\n\n\
         [Install]\nWantedBy={wanted_by}\n",
        words.join(" ")
    );
    Part { place: Some(directory(service.account.is_some(), look).join(UNIT)), text }
}

fn directory(machine: bool, look: &dyn Environment) -> PathBuf {
    if machine {
        return "/etc/systemd/system".into();
    }
    look.env("XDG_CONFIG_HOME").map_or_else(|| look.home().join(".config"), PathBuf::from).join("systemd/user")
}

fn call(machine: bool, words: &[&str]) -> Invocation {
    let whose: &[&str] = if machine { &[] } else { &["--user"] };
    let call = Invocation::new("systemctl", whose.iter().chain(words).map(|w| (*w).to_owned()));
    if machine { call.with_rights() } else { call }
}

/// The steps that put it there and start it.
pub fn install(service: &Service, look: &dyn Look) -> Vec<Planned> {
    let machine = service.account.is_some();
    let part = part(service, look);
    let mut steps = Vec::new();
    if let Some(path) = part.place {
        if let Some(folder) = path.parent() {
            steps.push(Planned::plain(Step::Folder { path: folder.to_owned(), mode: 0o755 }));
        }
        let undo = vec![match look.read(&path) {
            Some(bytes) => Step::Write { path: path.clone(), bytes, mode: 0o644 },
            None => Step::Remove { path: path.clone() },
        }];
        steps.push(Planned { step: Step::Write { path, bytes: part.text.into_bytes(), mode: 0o644 }, undo });
    }
    let calls =
        [call(machine, &["daemon-reload"]), call(machine, &["enable", UNIT]), call(machine, &["restart", UNIT])];
    steps.extend(calls.into_iter().map(|c| Planned::plain(Step::Run(c))));
    steps
}

/// The steps that stop it and take it away; none if it is not there.
pub fn remove(machine: bool, look: &dyn Look) -> Vec<Planned> {
    let path = directory(machine, look).join(UNIT);
    if !look.exists(&path) {
        return Vec::new();
    }
    vec![
        Planned::plain(Step::Run(call(machine, &["disable", "--now", UNIT]))),
        Planned::plain(Step::Remove { path }),
        Planned::plain(Step::Run(call(machine, &["daemon-reload"]))),
    ]
}
