//! The messages of `core/enrollment/dns` with a server of names that we did not write: BIND answers, takes updates that are signed with its key, and
//! refuses the others.

#![allow(clippy::unwrap_used, clippy::panic, clippy::disallowed_methods, reason = "tests")]

use base64ct::{Base64, Encoding};
use std::net::UdpSocket;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, SystemTime};
use tamga_core::enrollment::dns::answer::{self, Record};
use tamga_core::enrollment::dns::question::question;
use tamga_core::enrollment::dns::tsig::{Algorithm, Key};
use tamga_core::enrollment::dns::update::{Change, update};
use tamga_core::enrollment::dns::{RecordType, UDP_LIMIT};
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_testkit::sandbox::has;

const ZONE: &str = "saltmarsh.test";
const SECRET: [u8; 32] = [7; 32];

struct Bind {
    server: Child,
    socket: UdpSocket,
    _directory: tempfile::TempDir,
}

impl Bind {
    fn start() -> Option<Bind> {
        if !has(&["named"]) {
            return None;
        }
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().display();
        // A port that the system gave, and that nobody has taken since: the next tries find another.
        let port = UdpSocket::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let secret = Base64::encode_string(&SECRET);
        let text = format!(
            "options {{ directory \"{path}\"; listen-on port {port} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }}; \
             pid-file \"{path}/pid\"; session-keyfile \"{path}/session\"; recursion no; dnssec-validation no; }};\n\
             controls {{ }};\n\
             key lab {{ algorithm hmac-sha256; secret \"{secret}\"; }};\n\
             zone \"{ZONE}\" {{ type primary; file \"zone\"; update-policy {{ grant lab wildcard *.{ZONE} TXT; }}; }};\n"
        );
        std::fs::write(directory.path().join("named.conf"), text).unwrap();
        let zone = "$TTL 60\n@ IN SOA ns hostmaster 1 60 60 60 60\n@ IN NS ns\nns IN A 127.0.0.1\n\
                    charts IN A 192.168.7.2\ncharts IN AAAA fd00::2\nwww IN CNAME charts\n\
                    charts IN TXT \"first\" \" second\"\n@ IN CAA 128 issue \"saltmarsh.test\"\n";
        std::fs::write(directory.path().join("zone"), zone).unwrap();
        let mut server = Command::new("/usr/sbin/named");
        server.args(["-g", "-p", &port.to_string(), "-c"]).arg(directory.path().join("named.conf"));
        let server = server.stderr(Stdio::null()).spawn().unwrap();
        let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
        socket.connect(("127.0.0.1", port)).unwrap();
        socket.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
        let bind = Bind { server, socket, _directory: directory };
        for _ in 0..100 {
            // It answers before it has read the zone, and then with a failure.
            let answer = bind.asked(&question(1, ZONE, RecordType::Soa).unwrap());
            if answer.is_some_and(|a| answer::code(&a, 1) == Some(0)) {
                return Some(bind);
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        panic!("named does not answer");
    }

    fn asked(&self, message: &[u8]) -> Option<Vec<u8>> {
        self.socket.send(message).ok()?;
        let mut buffer = [0; UDP_LIMIT as usize];
        self.socket.recv(&mut buffer).ok().map(|n| buffer[..n].to_vec())
    }

    fn records(&self, domain: &str, kind: RecordType) -> (u8, Vec<Record>) {
        let answer = self.asked(&question(77, domain, kind).unwrap()).unwrap();
        let answer = answer::read(&answer, 77, domain, kind).unwrap();
        (answer.code, answer.records)
    }

    fn updated(&self, zone: &str, changes: &[Change], key: Option<&Key>, now: Timestamp) -> u8 {
        let message = update(78, zone, changes).unwrap();
        let message = key.map_or(message.clone(), |k| k.sign(&message, now).unwrap());
        answer::code(&self.asked(&message).unwrap(), 78).unwrap()
    }
}

impl Drop for Bind {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}

fn now() -> Timestamp {
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap();
    Timestamp::from_unix(i64::try_from(since.as_secs()).unwrap())
}

#[test]
fn questions_are_answered() {
    let Some(bind) = Bind::start() else { return };
    let address = |a: &str| vec![Record::Address(a.parse().unwrap())];
    assert_eq!(bind.records("charts.saltmarsh.test", RecordType::A), (0, address("192.168.7.2")));
    assert_eq!(bind.records("CHARTS.saltmarsh.test.", RecordType::Aaaa), (0, address("fd00::2")));
    assert_eq!(bind.records("www.saltmarsh.test", RecordType::A), (0, address("192.168.7.2")), "by another name");
    assert_eq!(
        bind.records("charts.saltmarsh.test", RecordType::Txt),
        (0, vec![Record::Text(b"first second".to_vec())])
    );
    let caa = Record::Caa { critical: true, tag: "issue".into(), value: b"saltmarsh.test".to_vec() };
    assert_eq!(bind.records(ZONE, RecordType::Caa), (0, vec![caa]));
    assert_eq!(bind.records("nobody.saltmarsh.test", RecordType::A), (3, Vec::new()));
    let primary = vec![Record::Primary("ns.saltmarsh.test".into())];
    assert_eq!(
        bind.records("_acme-challenge.charts.saltmarsh.test", RecordType::Soa),
        (3, primary.clone()),
        "beside the answer"
    );
    assert_eq!(bind.records(ZONE, RecordType::Soa), (0, primary));
    assert_eq!(bind.records("elsewhere.example", RecordType::A).0, 5);
}

#[test]
fn updates_that_are_signed_are_done_and_others_refused() {
    let Some(bind) = Bind::start() else { return };
    let key = |secret: [u8; 32], algorithm| Key::new("lab", algorithm, secret.to_vec()).unwrap();
    let right = key(SECRET, Algorithm::HmacSha256);
    let owner = "_acme-challenge.charts.saltmarsh.test".to_owned();
    let add = |text: &str| Change::AddText { owner: owner.clone(), text: text.into(), ttl: 1 };
    let texts = || {
        let mut all = bind.records(&owner, RecordType::Txt).1;
        all.sort_by_key(|r| format!("{r:?}"));
        all
    };
    let text = |t: &str| Record::Text(t.as_bytes().to_vec());
    assert_eq!(bind.updated(ZONE, &[add("one"), add("two")], Some(&right), now()), 0);
    assert_eq!(texts(), [text("one"), text("two")]);
    let remove = Change::RemoveText { owner: owner.clone(), text: "one".into() };
    assert_eq!(bind.updated(ZONE, &[remove], Some(&right), now()), 0);
    assert_eq!(texts(), [text("two")]);
    // Refused: no key, a record that the key may not change, another secret or algorithm, a clock that differs, another zone.
    assert_eq!(bind.updated(ZONE, &[add("three")], None, now()), 5);
    let top = Change::AddText { owner: ZONE.into(), text: "x".into(), ttl: 1 };
    assert_eq!(bind.updated(ZONE, &[top], Some(&right), now()), 5);
    assert_eq!(bind.updated(ZONE, &[add("three")], Some(&key([8; 32], Algorithm::HmacSha256)), now()), 9);
    assert_eq!(bind.updated(ZONE, &[add("three")], Some(&key(SECRET, Algorithm::HmacSha512)), now()), 9);
    assert_eq!(bind.updated(ZONE, &[add("three")], Some(&right), now().plus(-600)), 9);
    let other = Change::AddText { owner: "a.example".into(), text: "x".into(), ttl: 1 };
    assert_eq!(bind.updated(ZONE, &[other], Some(&right), now()), 10);
    assert_eq!(texts(), [text("two")]);
    assert_eq!(bind.updated(ZONE, &[Change::RemoveAllTexts { owner: owner.clone() }], Some(&right), now()), 0);
    assert_eq!(texts(), []);
}
