//! Our client against our service: every challenge, renewal when the service suggests it, and what is said when it does not go.

use super::{Service, root};
use crate::lab;
use tamga_testkit::sandbox::{Ran, Sandbox};
use tamga_testkit::server::{ClosedPort, free_port};

/// A client with a data directory of its own.
pub(super) struct Client<'a> {
    s: &'a Sandbox,
    from: String,
    anchor: String,
    data: String,
}

impl<'a> Client<'a> {
    pub(super) fn new(s: &'a Sandbox, service: &Service) -> Client<'a> {
        Client::with_data(s, service, s.path("elsewhere").display().to_string())
    }

    pub(super) fn with_data(s: &'a Sandbox, service: &Service, data: String) -> Client<'a> {
        Client { s, from: service.directory.clone(), anchor: root(s).display().to_string(), data }
    }

    pub(super) fn run(&self, words: &[&str]) -> Ran {
        self.s.run(&[&["--data-dir", self.data.as_str()], words].concat())
    }

    pub(super) fn asks(&self, names: &[&str], more: &[&str]) -> Ran {
        let own = ["--from", self.from.as_str(), "--anchor", self.anchor.as_str()];
        self.run(&[&["issue"], names, &own, more].concat())
    }
}

fn http(service: &Service) -> String {
    format!("127.0.0.1:{}", service.http)
}

#[test]
fn by_a_listener_a_directory_and_a_handshake() {
    let s = lab();
    let service = Service::start(&s, &[]);
    let client = Client::new(&s, &service);
    let listen = http(&service);
    client.asks(&["charts.saltmarsh.test", "127.0.0.1"], &["--challenge-listen", &listen]).expect(0);
    let tls = format!("127.0.0.1:{}", service.tls);
    client.asks(&["gauge-7.saltmarsh.test"], &["--challenge", "tls-alpn-01", "--challenge-listen", &tls]).expect(0);
    // A web server that is running shows what is put into its directory.
    let site = s.lab("site");
    std::fs::create_dir(&site).unwrap();
    let mut shows = s.around("python3");
    shows.args(["-m", "http.server", "--bind", "127.0.0.1", &service.http.to_string(), "--directory"]).arg(&site);
    let _shows = super::Running::start(shows.stderr(std::process::Stdio::null()).stdout(std::process::Stdio::null()));
    super::until("the web server", || std::net::TcpStream::connect(("127.0.0.1", service.http)).is_ok(), String::new);
    client.asks(&["archive.saltmarsh.test"], &["--challenge-dir", site.to_str().unwrap()]).expect(0);
    // Nothing stays there.
    let left = std::fs::read_dir(site.join(".well-known/acme-challenge")).unwrap().count();
    assert_eq!(left, 0);
    for (directory, files) in
        [("charts.saltmarsh.test", 4), ("gauge-7.saltmarsh.test", 4), ("archive.saltmarsh.test", 4)]
    {
        let lab = format!("lab/{directory}");
        let names: Vec<String> =
            s.files(&lab).iter().map(|(p, _)| p.file_name().unwrap().to_string_lossy().into_owned()).collect();
        assert_eq!(names.len(), files, "{names:?}");
        let checked = s.run(&[
            "check",
            &format!("{directory}/certificate.pem"),
            "--name",
            directory,
            "--clients",
            "standard",
            "--anchor",
            root(&s).to_str().unwrap(),
        ]);
        assert_eq!(checked.code, 0, "{}", checked.out);
    }
    // Keys alone are closed to others.
    for (path, mode) in s.files("lab").into_iter().chain(s.files("elsewhere")) {
        let bytes = std::fs::read(&path).unwrap();
        if bytes.windows(11).any(|w| w == b"PRIVATE KEY") {
            assert_eq!(mode & 0o777, 0o600, "{}", path.display());
        }
    }
    assert_eq!(service.said("issued").len(), 3);
}

#[test]
fn renewal_is_due_when_the_service_suggests_it() {
    let s = lab();
    let service = Service::start(&s, &[]);
    let client = Client::new(&s, &service);
    let listen = http(&service);
    client.asks(&["charts.saltmarsh.test"], &["--challenge-listen", &listen]).expect(0);
    assert!(client.run(&["renew"]).expect(0).out.contains("nothing is due"));
    let before = std::fs::read(s.lab("charts.saltmarsh.test/certificate.pem")).unwrap();
    // Revoked, it is suggested at once; the name was proved a moment ago, so no challenge is answered.
    s.run(&["revoke", "charts.saltmarsh.test", "--reason", "superseded", "--yes"]).expect(0);
    let renewed = client.run(&["renew"]).expect(0);
    assert!(renewed.out.contains("renewed"), "{}", renewed.out);
    let after = std::fs::read(s.lab("charts.saltmarsh.test/certificate.pem")).unwrap();
    assert_ne!(before, after);
    assert!(client.run(&["renew"]).expect(0).out.contains("nothing is due"));
    // By its label it is renewed whenever one likes, until it looks like a circle.
    let mut codes = Vec::new();
    for _ in 0..6 {
        codes.push(client.run(&["renew", "charts.saltmarsh.test"]).code);
    }
    assert!(codes.contains(&0) && codes.last() == Some(&3), "{codes:?}");
    let circle = client.run(&["renew", "charts.saltmarsh.test"]).expect(3);
    assert!(circle.err.contains("renews in a circle"), "{}", circle.err);
    // In the service's ledger it is not renewed from there.
    let refused = s.run(&["renew", "charts.saltmarsh.test"]).expect(2);
    assert!(refused.err.contains("on the machine that got it"), "{}", refused.err);
    assert!(s.run(&["renew"]).expect(0).out.contains("nothing is due"));
}

#[test]
fn every_refusal_says_what_to_do_and_changes_nothing() {
    let s = lab();
    let service = Service::start(&s, &["--allow", "saltmarsh.test"]);
    let client = Client::new(&s, &service);
    let listen = http(&service);
    let with = ["--challenge-listen", listen.as_str()];
    for (names, code, said) in [
        (&["charts.example.org"][..], 3, "is not certified here"),
        (&["charts.home.arpa"], 3, "set up for other names"),
        (&["archive.saltmarsh.test", "nobody.saltmarsh.test"], 3, "the address of nobody.saltmarsh.test was not found"),
        (&["*.buoys.saltmarsh.test"], 3, "the service offers dns-01"),
        (&["lab-operator@saltmarsh.test"], 3, "DNS names and addresses only"),
    ] {
        let refused = client.asks(names, &with).expect(code);
        assert!(refused.err.contains(said), "{names:?}: {}", refused.err);
        assert!(refused.err.contains("do:"), "{}", refused.err);
    }
    let profile =
        client.asks(&["charts.saltmarsh.test"], &["--profile", "forever", "--challenge-listen", &listen]).expect(3);
    assert!(profile.err.contains("default, short"), "{}", profile.err);
    // Without its root, the service is not trusted, and nothing is sent there.
    let data = s.path("third");
    let lonely = s
        .run(&["--data-dir", data.to_str().unwrap(), "issue", "charts.saltmarsh.test", "--from", &service.directory])
        .expect(3);
    assert!(lonely.err.contains("is not trusted") && lonely.err.contains("--anchor"), "{}", lonely.err);
    let closed = ClosedPort::new();
    let nobody = format!("https://localhost:{}/directory", closed.number());
    let away =
        s.run(&["--data-dir", data.to_str().unwrap(), "issue", "charts.saltmarsh.test", "--from", &nobody]).expect(4);
    assert!(away.err.contains("was not reached"), "{}", away.err);
    let plain = s.run(&["issue", "x.test", "--from", "http://localhost/directory"]).expect(2);
    assert!(plain.err.contains("https://HOST"), "{}", plain.err);
    let both = s.run(&["issue", "x.test", "--from", &service.directory, "--valid-for", "9d"]).expect(2);
    assert!(both.err.contains("--valid-for"), "{}", both.err);
    assert!(s.run(&["issue", "x.test", "--profile", "short"]).expect(2).err.contains("--from"));
    assert!(service.said("issued").is_empty());
    for name in ["charts.saltmarsh.test", "archive.saltmarsh.test", "charts.example.org"] {
        assert!(!s.lab(name).exists(), "{name}");
    }
    // The short profile is short.
    let short =
        client.asks(&["charts.saltmarsh.test"], &["--profile", "short", "--challenge-listen", &listen]).expect(0);
    let end = tamga_host::entropy::now().plus(7 * 86_400).date();
    assert!(short.out.contains(&end), "{} {end}", short.out);
}

#[test]
fn an_invitation_is_for_its_names_and_its_number() {
    let s = lab();
    let service = Service::start_at(&s, "0.0.0.0:0", free_port(), free_port(), &[]);
    let client = Client::new(&s, &service);
    let listen = http(&service);
    let refused = client.asks(&["charts.saltmarsh.test"], &["--challenge-listen", &listen]).expect(3);
    assert!(refused.err.contains("--invitation FILE"), "{}", refused.err);
    let file = s.lab("invitation");
    s.run(&[
        "enrollment",
        "invite",
        "--output",
        file.to_str().unwrap(),
        "--names",
        "charts.saltmarsh.test",
        "--uses",
        "1",
    ])
    .expect(0);
    let with = ["--challenge-listen", listen.as_str(), "--invitation", file.to_str().unwrap()];
    let other = client.asks(&["archive.saltmarsh.test"], &with).expect(3);
    assert!(other.err.contains("invitation is for other names"), "{}", other.err);
    client.asks(&["charts.saltmarsh.test"], &with).expect(0);
    // The account is the same: no second use was taken, and a blocked one gets nothing more.
    s.run(&["enrollment", "accounts", "block", "1"]).expect(0);
    let blocked = client.run(&["renew", "charts.saltmarsh.test"]).expect(3);
    assert!(blocked.err.contains("blocked"), "{}", blocked.err);
}

#[test]
fn an_order_that_was_left_for_other_names_is_not_gone_on_with() {
    let s = lab();
    let service = Service::start(&s, &[]);
    let client = Client::new(&s, &service);
    let listen = http(&service);
    // Nothing listens for the proof of the second name: the order stays behind.
    let with = ["--label", "gauges", "--challenge-listen", listen.as_str()];
    client.asks(&["charts.saltmarsh.test", "nobody.saltmarsh.test"], &with).expect(3);
    let database = rusqlite::Connection::open(s.path("elsewhere/ledger.sqlite")).unwrap();
    let order: String = database.query_row("SELECT settings FROM origin", [], |r| r.get(0)).unwrap();
    assert!(order.contains("/order/1"), "{order}");
    // As if it were still open: a client that was killed leaves it so.
    let services = rusqlite::Connection::open(s.path("data/ledger.sqlite")).unwrap();
    services.execute("UPDATE enrollment_order SET state = 'open', error = NULL", []).unwrap();
    services.execute("UPDATE enrollment_authorization SET state = 'valid'", []).unwrap();
    client.asks(&["charts.saltmarsh.test"], &with).expect(0);
    assert_eq!(service.said("ordered").len(), 2);
}
