//! Recipes carried out to the letter, on a machine of their own, with the server as its package brings it: started by its own unit, the
//! configuration written where the recipe says, then visited by real clients.

mod install;

use install::installs;
use serde_json::Value;
use tamga_testkit::machine::Machine;
use tamga_testkit::sandbox::{brought, has};

const VISIT: &str = include_str!("visit.py");
const BROWSER: &str = include_str!("browser.py");
const AS2: &str = include_str!("as2.py");

/// How one server is carried out.
struct Server {
    /// The recipe, and the words after the label.
    recipe: &'static str,
    words: &'static [&'static str],
    /// What must be installed for it.
    needs: &'static [&'static str],
    /// The unit that its package starts.
    unit: &'static str,
    /// What a person types for what the recipe leaves to a person, and what a test needs besides. `CONTENT` is a file with the configuration.
    by_hand: &'static str,
    /// How it is visited, and where.
    visit: (&'static str, u16),
    /// True for a program that is started in the foreground, by the person.
    starts_itself: bool,
    /// Programs that no package of the system brings.
    brings: &'static [&'static str],
}

const PLAIN: Server = Server {
    recipe: "",
    words: &[],
    needs: &[],
    unit: "",
    by_hand: "true",
    visit: ("https", 443),
    starts_itself: false,
    brings: &[],
};

impl Server {
    /// False where datagrams or whole messages are exchanged.
    const fn has_connections(&self) -> bool {
        !matches!(self.visit.0.as_bytes(), b"eap" | b"as2" | b"webtransport")
    }
}

/// A machine with a lab: `saltmarsh` for servers, `crew` for clients, `strangers` whom the machine trusts like any public authority.
fn lab(server: &Server) -> Option<Machine> {
    if !has(server.needs) {
        return None;
    }
    let outside = if server.brings.is_empty() { None } else { Some(brought()?) };
    let m = Machine::start(env!("CARGO_BIN_EXE_tamga").as_ref())?;
    for program in server.brings {
        let mut folders = std::env::split_paths(outside.as_deref().unwrap_or_default());
        let found = folders.find_map(|f| Some(f.join(program)).filter(|p| p.is_file()));
        let found = found.unwrap_or_else(|| panic!("TAMGA_TESTS_CLIENTS has no {program}"));
        m.write(&format!("/usr/local/bin/{program}"), &format!("#!/bin/sh\nexec {} \"$@\"\n", found.display()));
        m.types(&format!("chmod 755 /usr/local/bin/{program}")).expect(0);
    }
    m.write("/root/visit.py", VISIT);
    m.write("/root/as2.py", AS2);
    m.write("/root/browser.py", BROWSER);
    let issue = format!(
        "tamga issue charts.saltmarsh.test localhost 127.0.0.1 ::1 --issuer saltmarsh --label charts --for {}",
        server.recipe
    );
    let more = "
        cd /root
        grep -q charts.saltmarsh.test /etc/hosts || echo '127.0.0.1 charts.saltmarsh.test' >> /etc/hosts
        for a in saltmarsh crew strangers; do tamga authority create $a; done
        for a in crew strangers; do tamga issue operator@saltmarsh.test --purpose client --issuer $a --label $a-operator; done
        tamga trust add strangers --stores system
    ";
    m.types(&format!("{more}\n{issue}")).expect(0);
    if !server.unit.is_empty() {
        m.types(&format!("systemctl start {}", server.unit)).expect(0);
    }
    Some(m)
}

fn lines(work: &Value) -> String {
    work["lines"].as_array().unwrap().iter().map(|l| l.as_str().unwrap()).collect::<Vec<_>>().join("\n")
}

/// Does everything that the recipe says, in its order; gives it back.
fn carry_out(m: &Machine, server: &Server, more: &[&str]) -> Value {
    let words = [&["recipe", server.recipe, "charts"], server.words, more, &["--format", "json"]].concat().join(" ");
    let ran = m.types(&format!("cd /root && tamga {words}")).expect(0);
    let r = ran.json()["recipe"].clone();
    let types = |lines: &str| m.types(&format!("cd /root\n{lines}")).expect(0);
    for work in r["files"].as_array().unwrap().iter().filter(|w| w["action"] == "run") {
        types(&lines(work));
    }
    let (path, content) = (r["path"].as_str().unwrap(), r["content"].as_str().unwrap());
    m.write("/root/content", content);
    // The only release that is here.
    let path = &match path.split_once("VERSION") {
        Some((above, rest)) => format!("{above}{}{rest}", m.types(&format!("ls {above} | grep '^[0-9]'")).out.trim()),
        None => path.to_owned(),
    };
    match r["action"].as_str().unwrap() {
        "write" => m.write(path, content),
        "append" => drop(types(&format!("cat content >> {path}"))),
        "write-beside" => m.write(&format!("/root/{path}"), content),
        _ => {}
    }
    types(server.by_hand);
    for work in r["steps"].as_array().unwrap() {
        match work["action"].as_str().unwrap() {
            // In the background here, with what it prints in a log.
            "run" if server.starts_itself && work["what"].as_str().unwrap().starts_with("start it") => {
                types(&started(&lines(work)));
            }
            "run" => drop(types(&lines(work))),
            "append" => {
                drop(types(&format!("cat >> {} <<'END'\n{}\nEND", work["path"].as_str().unwrap(), lines(work))))
            }
            _ => {}
        }
    }
    r
}

/// The line by which a person starts a program, in the background, in place of the one that runs, which is asked to end first.
fn started(line: &str) -> String {
    let quoted = line.replace('\'', "'\\''");
    format!(
        "mkdir -p /run/units; \
         if [ -e /run/units/pid ]; then was=$(cat /run/units/pid); /bin/kill -TERM -- -$was; \
         for i in $(seq 30); do sleep 0.1; /bin/kill -0 -- -$was 2>/dev/null || break; done; /bin/kill -9 -- -$was 2>/dev/null || true; fi\n\
         setsid sh -c '{quoted}' >> /run/units/program.log 2>&1 & echo $! > /run/units/pid"
    )
}

/// What is printed for after a renewal, as a person does it: a program in the foreground is started again.
fn again(server: &Server, r: &Value) -> String {
    let all = r["renewal"].as_array().unwrap().iter().map(|l| l.as_str().unwrap());
    let start = r["steps"].as_array().unwrap().iter().find(|w| w["what"].as_str().unwrap().starts_with("start it"));
    let start = start.filter(|_| server.starts_itself).map(lines).unwrap_or_default();
    all.map(|l| if l == start { started(l) } else { l.to_owned() }).collect::<Vec<_>>().join("\n")
}

/// A visit with the certificate of this label, or without one; until it is `wanted` or half a minute has passed.
fn visit(m: &Machine, server: &Server, client: Option<&str>, wanted: &str) -> String {
    visit_at(m, server, "127.0.0.1", client, wanted)
}

/// The same at another address.
fn visit_at(m: &Machine, server: &Server, address: &str, client: Option<&str>, wanted: &str) -> String {
    let (kind, port) = server.visit;
    let folder = client.map(|c| format!(" /root/{c}")).unwrap_or_default();
    let line = format!("python3 /root/visit.py {kind} {address} {port} /root/charts/root.pem{folder}");
    let mut said = String::new();
    for _ in 0..60 {
        let ran = m.types(&line);
        said = format!("{}{}", ran.out, ran.err);
        if said.starts_with(wanted) {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(500));
    }
    said
}

#[track_caller]
fn stands(m: &Machine, server: &Server, client: Option<&str>, wanted: &str) {
    let said = visit(m, server, client, wanted);
    let log = || {
        m.types(&format!(
            "tail -n 30 /run/units/program.log /var/log/mail.log /var/log/tomcat10/* || true; journalctl -u {}",
            server.unit
        ))
        .out
    };
    assert!(said.starts_with(wanted), "{}, with {client:?}, not {wanted}: {said}\n{}", server.recipe, log());
}

/// Everything that the services wrote.
const LOGS: &str = "cat /run/units/*.log; find /var/log -type f ! -path '*/apt/*' ! -name 'dpkg*' -newer /root/visit.py -exec cat {} + 2>/dev/null || true";

/// A line of a judgement, for the table that `just recipes` prints.
fn judged(server: &Server, judgement: &str) {
    use std::io::Write as _;
    let Some(table) = std::env::var_os("TAMGA_TESTS_RECIPES") else { return };
    let mut file = std::fs::OpenOptions::new().append(true).create(true).open(table).unwrap();
    file.write_all(format!("{}\t{judgement}\n", server.recipe).as_bytes()).unwrap();
}

/// A log has the recipe's success lines.
fn says_so(m: &Machine, server: &Server, r: &Value) {
    let steps = r["steps"].as_array().unwrap();
    let proof = steps.iter().find(|w| w["what"].as_str().unwrap().starts_with("success looks like this")).unwrap();
    for line in proof["lines"].as_array().unwrap().iter().map(|l| l.as_str().unwrap()) {
        let mut all = String::new();
        let said = (0..40).any(|_| {
            all = m.types(LOGS).out;
            let has = |l: &str| {
                let mut rest = l;
                line.split('…')
                    .map(str::trim)
                    .all(|piece| rest.find(piece).map(|at| rest = &rest[at + piece.len()..]).is_some())
            };
            let found = all.lines().any(has);
            if !found {
                std::thread::sleep(std::time::Duration::from_millis(250));
            }
            found
        });
        assert!(said, "{}: {line:?} is in no log:\n{all}", server.recipe);
    }
    judged(server, "success-line");
}

/// A key of another certificate is noticed by what the recipe says to do after a renewal, and the old pair is served on.
fn notices_a_wrong_pair(m: &Machine, server: &Server, renewal: &str) {
    m.types("cd /root && tamga issue tides.saltmarsh.test --issuer saltmarsh --label tides --key-algorithm p384")
        .expect(0);
    m.types("cd /root && cp charts/private-key.pem right.pem && cp tides/private-key.pem charts/private-key.pem")
        .expect(0);
    let ran = m.types(&format!("cd /root\n{renewal}"));
    let said = format!("{}{}", ran.out, ran.err);
    assert_ne!(ran.code, 0, "{}: nothing noticed: {said}", server.recipe);
    stands(m, server, None, "in");
    if !said.contains("no private key here belongs") && !said.contains("does not belong to its certificate") {
        let line = said.lines().chain(m.types(LOGS).out.lines().rev()).map(str::to_owned).find(|l| {
            m.command("tamga")
                .args(["explain", l, "--format", "json"])
                .output()
                .is_ok_and(|o| String::from_utf8_lossy(&o.stdout).contains("key-mismatch"))
        });
        assert!(line.is_some(), "{}: no line is explained as another's key: {said}", server.recipe);
    }
    m.types("cd /root && cp right.pem charts/private-key.pem").expect(0);
    judged(server, "wrong-pair");
}

/// Started as printed, verified by a client; after a renewal the new certificate is served.
fn is_carried_out(server: &Server) {
    let Some(m) = lab(server) else { return };
    let r = carry_out(&m, server, &[]);
    stands(&m, server, None, "in");
    judged(server, "start");
    // The certificate names both loopback addresses. Databases listen where their packages let them.
    if !["mysql", "postgres"].contains(&server.visit.0) {
        let said = visit_at(&m, server, "::1", None, "in");
        assert!(said.starts_with("in"), "{} at ::1: {said}", server.recipe);
        judged(server, "ipv6");
    }
    if server.has_connections() {
        silence_keeps_nobody_waiting(&m, server);
    }
    let renewal = again(server, &r);
    m.types("cd /root && tamga renew charts").expect(0);
    m.types(&format!("cd /root\n{}", renewal)).expect(0);
    stands(&m, server, None, "in");
    says_so(&m, server, &r);
    if !renewal.is_empty() {
        notices_a_wrong_pair(&m, server, &renewal);
        m.types(&format!("cd /root\n{}", renewal)).expect(0);
    }
    stands(&m, server, None, &format!("in {}", leaf(&m)));
    judged(server, "renewal");
}

/// One that is silent keeps nobody else waiting.
fn silence_keeps_nobody_waiting(m: &Machine, server: &Server) {
    let silent = format!(
        "import socket, time\ns = [socket.create_connection((\"127.0.0.1\", {})) for _ in range(3)]\ntime.sleep(300)",
        server.visit.1
    );
    m.write("/root/silent.py", &silent);
    m.types("setsid python3 /root/silent.py >/dev/null 2>&1 & sleep 0.5").expect(0);
    stands(m, server, None, "in");
    m.types("pkill -f '[s]ilent.py'").expect(0);
    judged(server, "silent");
}

/// The SHA-256 of the certificate.
fn leaf(m: &Machine) -> String {
    let text = "import hashlib, ssl\npem = open('/root/charts/certificate.pem').read()\n\
                pem = pem[:pem.index('-----END')] + '-----END CERTIFICATE-----'\n\
                print(hashlib.sha256(ssl.PEM_cert_to_DER_cert(pem)).hexdigest())";
    m.write("/root/leaf.py", text);
    m.types("python3 /root/leaf.py").expect(0).out.trim().to_owned()
}

/// Of three clients one gets in: not the one without a certificate, and not the one whose authority the machine trusts.
fn lets_in_the_right_one(server: &Server) {
    let Some(m) = lab(server) else { return };
    carry_out(&m, server, &["--client-authority", "crew"]);
    stands(&m, server, Some("crew-operator"), "in");
    stands(&m, server, None, "out");
    stands(&m, server, Some("strangers-operator"), "out");
    judged(server, "clients");
}

/// A message in each direction is signed, encrypted and acknowledged; who holds the certificate of before a renewal says so, until the new one
/// is sent.
fn exchanges_messages(server: &Server) {
    let Some(m) = lab(server) else { return };
    let r = carry_out(&m, server, &[]);
    stands(&m, server, None, "in");
    let said = visit(&m, server, None, "in");
    let proof =
        r["steps"].as_array().unwrap().iter().find(|w| w["what"].as_str().unwrap().starts_with("success looks"));
    assert!(said.matches(&lines(proof.unwrap())).count() == 2, "{said}");
    judged(server, "start");
    let renewal = again(server, &r);
    let (own, sent) = renewal.split_once("tamga export charts --as der").unwrap();
    m.types(&format!("cd /root && tamga renew charts\n{own}")).expect(0);
    let said = visit(&m, server, None, "out");
    assert!(said.starts_with("out"), "{said}");
    for (line, fault) in
        [("charts to tides", "authentication-failed"), ("tides to charts", "Failed to decrypt the payload")]
    {
        let line = said.lines().find(|l| l.starts_with(line)).unwrap_or_else(|| panic!("{said}"));
        assert!(line.contains(fault), "{line}");
        let explained = m.types(&format!("tamga explain '{line}' --format json")).expect(0);
        assert!(explained.out.contains("key-mismatch"), "{line}: {}", explained.out);
    }
    m.types(&format!("cd /root\ntamga export charts --as der{sent}")).expect(0);
    let said = visit(&m, server, None, &format!("in {}", leaf(&m)));
    assert!(said.starts_with(&format!("in {}", leaf(&m))), "{said}");
    judged(server, "renewal");
}

/// Plain HTTP leads to the certificate's own name or address, as it was asked for.
fn redirects(server: &Server) {
    let Some(m) = lab(server) else { return };
    carry_out(&m, server, &["--redirect"]);
    stands(&m, server, None, "in");
    let at = if server.visit.1 == 443 { String::new() } else { format!(":{}", server.visit.1) };
    for (host, wanted) in [
        ("Host: charts.saltmarsh.test", "charts.saltmarsh.test"),
        ("Host: charts.saltmarsh.test:80", "charts.saltmarsh.test"),
        ("Host: 127.0.0.1", "127.0.0.1"),
        ("Host: [::1]:80", "[::1]"),
        ("Host: [::1]", "[::1]"),
        ("", "charts.saltmarsh.test"),
    ] {
        let version = if host.is_empty() { "1.0" } else { "1.1" };
        let ask = format!(
            "import socket\ns = socket.create_connection((\"127.0.0.1\", 80), 10)\n\
             s.sendall(b\"GET /tide?at=6 HTTP/{version}\\r\\n{host}{}Connection: close\\r\\n\\r\\n\")\n\
             print(s.makefile(\"rb\").read().decode(\"latin1\"))",
            if host.is_empty() { "" } else { "\\r\\n" }
        );
        m.write("/root/ask.py", &ask);
        let fixed = format!("https://charts.saltmarsh.test{at}/tide?at=6");
        let own = format!("https://{wanted}{at}/tide?at=6");
        // Right after a reload a worker of before may still answer.
        let mut said = String::new();
        let leads = (0..40).any(|_| {
            said = m.types("python3 /root/ask.py").out;
            let location = |l: &str| l.to_lowercase().strip_prefix("location:").map(|v| v.trim().to_owned());
            let leads = said.lines().find_map(location).is_some_and(|l| l == own || l == fixed);
            if !leads {
                std::thread::sleep(std::time::Duration::from_millis(250));
            }
            leads
        });
        assert!(leads, "{}, {host:?}: {said}", server.recipe);
        assert!(said.contains(" 307 ") || server.recipe == "tomcat", "{}, {host:?}: {said}", server.recipe);
    }
    judged(server, "redirect");
}

/// An application that reads the properties as such applications do.
const JVM: &str = concat!(
    "cat > Https.java <<'END'\n",
    include_str!("Https.java"),
    "END\njavac -d made Https.java && printf 'Main-Class: Https\\n' > main && jar -c -f application.jar -m main -C made ."
);

macro_rules! carried {
    ($($name:ident($($judgement:ident),+): $server:expr;)*) => {
        /// Every recipe that is carried out here, with its tests, and whether it has connections.
        pub(crate) const RUN: &[(&str, &[&str], bool)] =
            &[$((stringify!($name), &[$(stringify!($judgement)),+], $name::SERVER.has_connections())),*];

        $(mod $name {
            pub(super) const SERVER: super::Server = $server;

            $(
                #[test]
                fn $judgement() {
                    super::$judgement(&SERVER);
                }
            )+
        })*
    };
}

carried! {
    nginx(is_carried_out, installs, lets_in_the_right_one, redirects): super::Server {
        recipe: "nginx",
        needs: &["nginx"],
        unit: "nginx",
        by_hand: "rm -f /etc/nginx/sites-enabled/default && sed -i 's#^error_log .*#error_log /var/log/nginx/error.log notice;#' /etc/nginx/nginx.conf",
        ..super::PLAIN
    };
    apache(is_carried_out, installs, lets_in_the_right_one, redirects): super::Server {
        recipe: "apache",
        needs: &["apache2"],
        unit: "apache2",
        by_hand: "a2dissite 000-default",
        ..super::PLAIN
    };
    haproxy(is_carried_out, installs, lets_in_the_right_one, redirects): super::Server {
        recipe: "haproxy",
        needs: &["haproxy"],
        unit: "haproxy",
        // The application behind it.
        by_hand: "mkdir -p /srv/app && (cd /srv/app && setsid python3 -m http.server 8080 --bind 127.0.0.1 >/dev/null 2>&1 &)",
        ..super::PLAIN
    };
    postfix(is_carried_out, installs, lets_in_the_right_one): super::Server {
        recipe: "postfix",
        needs: &["postfix"],
        unit: "postfix",
        visit: ("smtp", 25),
        ..super::PLAIN
    };
    dovecot(is_carried_out, installs, lets_in_the_right_one): super::Server {
        recipe: "dovecot",
        needs: &["dovecot"],
        unit: "dovecot",
        by_hand: "printf 'passdb {\\n driver = static\\n args = password=buoy\\n}\\nuserdb {\\n driver = static\\n args = uid=1000 gid=1000 home=/home/%%u\\n}\\n' > /etc/dovecot/conf.d/98-accounts.conf",
        visit: ("imaps", 993),
        ..super::PLAIN
    };
    tomcat(is_carried_out, lets_in_the_right_one): super::Server {
        recipe: "tomcat",
        needs: &["/usr/share/tomcat10/bin/catalina.sh"],
        unit: "tomcat10",
        by_hand: "sed -i '/<Service name=\"Catalina\">/r content' /etc/tomcat10/server.xml",
        visit: ("https", 8443),
        ..super::PLAIN
    };
    lighttpd(is_carried_out, installs, redirects): super::Server {
        recipe: "lighttpd",
        needs: &["lighttpd", "/usr/lib/lighttpd/mod_openssl.so"],
        unit: "lighttpd",
        ..super::PLAIN
    };
    mosquitto(is_carried_out, installs, lets_in_the_right_one): super::Server {
        recipe: "mosquitto",
        needs: &["mosquitto"],
        unit: "mosquitto",
        // Who needs no password is let in here without one.
        by_hand: "grep -q require_certificate content || echo 'allow_anonymous true' > /etc/mosquitto/conf.d/passwords.conf",
        visit: ("mqtt", 8883),
        ..super::PLAIN
    };
    vsftpd(is_carried_out, installs, lets_in_the_right_one): super::Server {
        recipe: "vsftpd",
        needs: &["vsftpd"],
        unit: "vsftpd",
        visit: ("ftp", 21),
        ..super::PLAIN
    };
    stunnel(is_carried_out, installs, lets_in_the_right_one): super::Server {
        recipe: "stunnel",
        needs: &["stunnel4"],
        // The program behind it.
        by_hand: "mkdir -p /srv/app && (cd /srv/app && setsid python3 -m http.server 8080 --bind 127.0.0.1 >/dev/null 2>&1 &)",
        ..super::PLAIN
    };
    nats(is_carried_out, installs, lets_in_the_right_one): super::Server {
        recipe: "nats",
        needs: &["nats-server"],
        unit: "nats-server",
        visit: ("nats", 4222),
        ..super::PLAIN
    };
    prosody(is_carried_out, installs): super::Server {
        recipe: "prosody",
        needs: &["prosody"],
        unit: "prosody",
        visit: ("xmpp", 5222),
        ..super::PLAIN
    };
    openldap(is_carried_out, lets_in_the_right_one): super::Server {
        recipe: "openldap",
        needs: &["slapd", "ldapmodify"],
        unit: "slapd",
        visit: ("ldap", 389),
        ..super::PLAIN
    };
    postgresql(is_carried_out, installs, lets_in_the_right_one): super::Server {
        recipe: "postgresql",
        needs: &["psql"],
        unit: "postgresql",
        // Where clients show a certificate, no password is asked for.
        by_hand: "cd /etc/postgresql/*/main && sed -i 's/^host/#host/' pg_hba.conf && if grep -q ssl_ca_file /root/content; then echo 'hostssl all all all cert' >> pg_hba.conf; else echo 'hostssl all all all scram-sha-256' >> pg_hba.conf; fi",
        visit: ("postgres", 5432),
        ..super::PLAIN
    };
    gunicorn(is_carried_out, lets_in_the_right_one): super::Server {
        recipe: "gunicorn",
        needs: &["gunicorn"],
        starts_itself: true,
        by_hand: "printf 'def app(environ, start):\\n    start(\"200 OK\", [])\\n    return [b\"tide\"]\\n' > application.py",
        visit: ("https", 8443),
        ..super::PLAIN
    };
    node(is_carried_out, lets_in_the_right_one, redirects): super::Server {
        recipe: "node",
        needs: &["node"],
        starts_itself: true,
        visit: ("https", 8443),
        ..super::PLAIN
    };
    python(is_carried_out, lets_in_the_right_one, redirects): super::Server {
        recipe: "python",
        needs: &["python3"],
        starts_itself: true,
        visit: ("https", 8443),
        ..super::PLAIN
    };
    go(is_carried_out, lets_in_the_right_one, redirects): super::Server {
        recipe: "go",
        needs: &["go"],
        starts_itself: true,
        visit: ("https", 8443),
        ..super::PLAIN
    };
    php(is_carried_out, lets_in_the_right_one): super::Server {
        recipe: "php",
        needs: &["php"],
        starts_itself: true,
        visit: ("https", 8443),
        ..super::PLAIN
    };
    mysql(is_carried_out, installs): super::Server {
        recipe: "mysql",
        needs: &["mariadbd", "mariadb"],
        unit: "mariadb",
        visit: ("mysql", 3306),
        ..super::PLAIN
    };
    jvm(is_carried_out, lets_in_the_right_one): super::Server {
        recipe: "jvm",
        needs: &["java", "javac"],
        starts_itself: true,
        by_hand: super::JVM,
        visit: ("https", 8443),
        ..super::PLAIN
    };
    caddy(is_carried_out, installs, lets_in_the_right_one, redirects): super::Server {
        recipe: "caddy",
        needs: &["caddy"],
        unit: "caddy",
        by_hand: "sed -i 's/^:80 {/:8081 {/' /etc/caddy/Caddyfile",
        ..super::PLAIN
    };
    squid(is_carried_out, installs, lets_in_the_right_one): super::Server {
        recipe: "squid",
        needs: &["squid", "/usr/share/doc/squid-openssl/copyright"],
        unit: "squid",
        visit: ("proxy", 3129),
        ..super::PLAIN
    };
    uvicorn(is_carried_out, lets_in_the_right_one): super::Server {
        recipe: "uvicorn",
        needs: &["uvicorn"],
        starts_itself: true,
        by_hand: "printf 'async def app(scope, receive, send):\n    if scope[\"type\"] == \"http\":\n        await send({\"type\": \"http.response.start\", \"status\": 200, \"headers\": []})\n        await send({\"type\": \"http.response.body\", \"body\": b\"tide\"})\n' > application.py",
        visit: ("https", 8443),
        ..super::PLAIN
    };
    puma(is_carried_out, lets_in_the_right_one): super::Server {
        recipe: "puma",
        needs: &["puma"],
        starts_itself: true,
        by_hand: "printf 'run ->(env) { [200, {}, [\"tide\"]] }\n' > config.ru",
        visit: ("https", 8443),
        ..super::PLAIN
    };
    prometheus(is_carried_out, installs, lets_in_the_right_one): super::Server {
        recipe: "prometheus",
        needs: &["prometheus"],
        unit: "prometheus",
        visit: ("https", 9090),
        ..super::PLAIN
    };
    etcd(is_carried_out, installs, lets_in_the_right_one): super::Server {
        recipe: "etcd",
        needs: &["etcd"],
        unit: "etcd",
        visit: ("https", 2379),
        ..super::PLAIN
    };
    deno(is_carried_out): super::Server {
        recipe: "deno",
        brings: &["deno"],
        starts_itself: true,
        visit: ("https", 8443),
        ..super::PLAIN
    };
    bun(is_carried_out, lets_in_the_right_one): super::Server {
        recipe: "bun",
        brings: &["bun"],
        starts_itself: true,
        visit: ("https", 8443),
        ..super::PLAIN
    };
    vite(is_carried_out, lets_in_the_right_one): super::Server {
        recipe: "vite",
        brings: &["vite"],
        starts_itself: true,
        // Without a terminal it ends with its standard input, unless CI says that nobody types.
        by_hand: "printf '#!/bin/sh\nexec env CI=true NO_COLOR=1 \"$@\"\n' > /usr/local/bin/npx && chmod 755 /usr/local/bin/npx && printf 'import { server } from \"./vite.https.mjs\";\nexport default { server };\n' > vite.config.mjs && echo tide > index.html",
        visit: ("https", 5173),
        ..super::PLAIN
    };
    webpack(is_carried_out, lets_in_the_right_one): super::Server {
        recipe: "webpack",
        brings: &["webpack"],
        starts_itself: true,
        by_hand: "printf '#!/bin/sh\nexec \"$@\"\n' > /usr/local/bin/npx && chmod 755 /usr/local/bin/npx && printf 'import { devServer } from \"./webpack.https.mjs\";\nexport default { mode: \"development\", entry: \"./page.js\", devServer };\n' > webpack.config.mjs && echo 'console.log(1)' > page.js",
        visit: ("https", 8080),
        ..super::PLAIN
    };
    grpc(is_carried_out, lets_in_the_right_one): super::Server {
        recipe: "grpc",
        brings: &["python3"],
        starts_itself: true,
        visit: ("grpc", 50051),
        ..super::PLAIN
    };
    influxdb(is_carried_out, installs): super::Server {
        recipe: "influxdb",
        needs: &["influxd"],
        unit: "influxdb",
        visit: ("https", 8086),
        ..super::PLAIN
    };
    freeradius(is_carried_out, lets_in_the_right_one): super::Server {
        recipe: "freeradius",
        needs: &["freeradius", "eapol_test"],
        unit: "freeradius",
        by_hand: "tamga issue operator@saltmarsh.test --purpose client --issuer saltmarsh --label saltmarsh-operator",
        visit: ("eap", 1812),
        ..super::PLAIN
    };
    webtransport(is_carried_out): super::Server {
        recipe: "webtransport",
        needs: &["chromium"],
        brings: &["python3"],
        starts_itself: true,
        visit: ("webtransport", 4433),
        ..super::PLAIN
    };
    gateway(exchanges_messages): super::Server {
        recipe: "gateway",
        brings: &["python3"],
        // The partner does the same on its side, and the certificates are sent.
        by_hand: "tamga issue tides.saltmarsh.test --issuer saltmarsh --label tides --for gateway && tamga export charts --as der --output charts.cer && tamga export tides --as der --output tides.cer",
        visit: ("as2", 443),
        ..super::PLAIN
    };
    redis(is_carried_out, installs, lets_in_the_right_one): super::Server {
        recipe: "redis",
        needs: &["redis-server"],
        unit: "redis-server",
        visit: ("redis", 6379),
        ..super::PLAIN
    };
}
