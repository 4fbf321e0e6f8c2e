//! dns-01 with a server of names that we did not write: a wildcard for Apache, whose hook is nsupdate; the same for our own client, which sends the
//! updates itself; and what BIND refuses.

use super::apache::{self, Apache};
use super::{Running, Service, curl, root, until};
use crate::lab;
use std::net::UdpSocket;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::server::free_port;

const SECRET: &str = "c2FsdG1hcnNoIHRpZGUtZ2F1Z2UgbGFiIHNlY3JldCE=";

/// A server of names with the lab's zone.
pub(super) struct Bind {
    _running: Running,
    pub(super) port: u16,
    pub(super) key: PathBuf,
}

impl Bind {
    pub(super) fn start(s: &Sandbox, caa: &str) -> Bind {
        let directory = s.lab("bind");
        std::fs::create_dir_all(&directory).unwrap();
        let (at, port) = (directory.display(), free_port());
        let key = directory.join("lab.key");
        std::fs::write(&key, format!("key \"lab\" {{\n\talgorithm hmac-sha256;\n\tsecret \"{SECRET}\";\n}};\n"))
            .unwrap();
        let settings = format!(
            "options {{ directory \"{at}\"; listen-on port {port} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }}; pid-file \"{at}/pid\"; \
             session-keyfile \"{at}/session\"; recursion no; dnssec-validation no; }};\ncontrols {{ }};\ninclude \"{}\";\n\
             zone \"saltmarsh.test\" {{ type primary; file \"zone\"; update-policy {{ grant lab wildcard *.saltmarsh.test TXT; }}; }};\n",
            key.display()
        );
        std::fs::write(directory.join("named.conf"), settings).unwrap();
        let zone = format!(
            "$TTL 1\n@ IN SOA ns hostmaster 1 60 60 60 60\n@ IN NS ns\nns IN A 127.0.0.1\ncharts IN A 127.0.0.1\n{caa}"
        );
        std::fs::write(directory.join("zone"), zone).unwrap();
        let mut command = Command::new("/usr/sbin/named");
        command.args(["-g", "-p", &port.to_string(), "-c"]).arg(directory.join("named.conf")).stderr(Stdio::null());
        let running = Running::start(&mut command);
        let asked = tamga_core::enrollment::dns::question::question(
            1,
            "saltmarsh.test",
            tamga_core::enrollment::dns::RecordType::Soa,
        );
        let answers = || {
            let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
            socket.set_read_timeout(Some(std::time::Duration::from_millis(200))).unwrap();
            socket.send_to(asked.as_ref().unwrap(), ("127.0.0.1", port)).unwrap();
            socket.recv(&mut [0; 512]).is_ok()
        };
        until("the server of names", answers, String::new);
        Bind { _running: running, port, key }
    }

    pub(super) fn at(&self) -> String {
        format!("127.0.0.1:{}", self.port)
    }
}

fn start(s: &Sandbox, caa: &str) -> Option<(Bind, Service)> {
    if !has(&["named"]) {
        return None;
    }
    let bind = Bind::start(s, caa);
    let service = Service::start(s, &["--dns-server", &bind.at()]);
    Some((bind, service))
}

#[test]
fn apache_gets_a_wildcard() {
    if !apache::is_here() || !has(&["nsupdate"]) {
        return;
    }
    let s = lab();
    let Some((bind, service)) = start(&s, "") else { return };
    let hook = s.lab("hook");
    std::fs::write(
        &hook,
        format!(
            "#!/bin/sh\n[ \"$1\" = setup ] && what=\"add _acme-challenge.$2 1 TXT \\\"$3\\\"\" || what=\"delete _acme-challenge.$2 TXT\"\n\
             printf 'server 127.0.0.1 {}\\nzone saltmarsh.test\\nupdate %s\\nsend\\n' \"$what\" | nsupdate -y hmac-sha256:lab:{SECRET}\n",
            bind.port
        ),
    )
    .unwrap();
    std::fs::set_permissions(&hook, std::fs::Permissions::from_mode(0o755)).unwrap();
    let settings = format!("MDCAChallenges dns-01\nMDChallengeDns01 {}", hook.display());
    let apache = Apache::start(&s, &service, &["buoys.saltmarsh.test", "*.buoys.saltmarsh.test"], &settings);
    apache.serves_what_it_got(1);
    until("what it serves", || curl(&s, "7.buoys.saltmarsh.test", service.tls).ends_with("404"), || apache.log());
    assert_eq!(service.said("issued").len(), 1);
}

#[test]
fn our_client_gets_a_wildcard_with_its_base() {
    let s = lab();
    let Some((bind, service)) = start(&s, "") else { return };
    let root = root(&s);
    let (from, anchor) = (service.directory.as_str(), root.to_str().unwrap());
    let key = bind.key.to_str().unwrap();
    let at = bind.at();
    let elsewhere = s.path("elsewhere");
    let ask = |names: &[&str], key: &str| {
        let mut words = vec!["--data-dir", elsewhere.to_str().unwrap(), "issue"];
        words.extend(names);
        words.extend(["--from", from, "--anchor", anchor, "--dns-update", &at, "--dns-key-file", key]);
        s.run(&words)
    };
    let done = ask(&["*.buoys.saltmarsh.test", "buoys.saltmarsh.test"], key).expect(0);
    assert!(done.out.contains("*.buoys.saltmarsh.test"), "{}", done.out);
    // The records are gone again.
    let left = tamga_core::enrollment::dns::question::question(
        7,
        "_acme-challenge.buoys.saltmarsh.test",
        tamga_core::enrollment::dns::RecordType::Txt,
    )
    .unwrap();
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.send_to(&left, ("127.0.0.1", bind.port)).unwrap();
    let mut answer = [0; 512];
    let length = socket.recv(&mut answer).unwrap();
    let read = tamga_core::enrollment::dns::answer::read(
        &answer[..length],
        7,
        "_acme-challenge.buoys.saltmarsh.test",
        tamga_core::enrollment::dns::RecordType::Txt,
    )
    .unwrap();
    assert!(read.records.is_empty(), "{read:?}");
    // A key that the server does not know: nothing is done, and it says so.
    let other = s.lab("other.key");
    std::fs::write(&other, "key \"other\" { algorithm hmac-sha256; secret \"b3RoZXI=\"; };").unwrap();
    let refused = ask(&["*.tides.saltmarsh.test"], other.to_str().unwrap()).expect(4);
    assert!(refused.err.contains("does not take the signature"), "{}", refused.err);
    assert!(!s.path("lab/wildcard.tides.saltmarsh.test").exists());
}

#[test]
fn caa_records_decide_where_a_name_server_was_named() {
    let s = lab();
    let caa = "charts IN CAA 0 issue \"another.test\"\n*.open IN A 127.0.0.1\n";
    let Some((_bind, service)) = start(&s, caa) else { return };
    let root = root(&s);
    let listen = format!("127.0.0.1:{}", service.http);
    let elsewhere = s.path("elsewhere");
    let words = [
        "--data-dir",
        elsewhere.to_str().unwrap(),
        "issue",
        "charts.saltmarsh.test",
        "--from",
        &service.directory,
        "--anchor",
        root.to_str().unwrap(),
        "--challenge-listen",
        &listen,
    ];
    let refused = s.run(&words).expect(3);
    assert!(refused.err.contains("CAA records of charts.saltmarsh.test"), "{}", refused.err);
}
