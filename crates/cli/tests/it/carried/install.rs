//! Recipes that Tamga carries out itself: on the package as it comes, twice, after a renewal, undone where the server does not take it, and
//! taken away again.

use super::{
    Server, apache, bun, caddy, deno, dovecot, etcd, gunicorn, haproxy, judged, lab, leaf, lighttpd, lines, mosquitto,
    nginx, node, php, postgresql, puma, python, redis, squid, stands, started, uvicorn,
};
use serde_json::Value;
use tamga_testkit::machine::Machine;
use tamga_testkit::sandbox::{Ran, has};

/// Every file and link below `/etc`, with its mode, owner and contents. What programs keep for themselves is left out.
fn tree(m: &Machine) -> Vec<String> {
    let find =
        "find /etc \\( -type f -o -type l \\) ! -name '*~' ! -path '/etc/ssl/certs/*' ! -name ca-certificates.crt";
    let line = format!("{find} -printf '%p %l %m %u %g\\n' | sort; {find} -type f -exec sha256sum {{}} + | sort");
    m.types(&line).out.lines().map(str::to_owned).collect()
}

fn install(m: &Machine, server: &Server) -> Ran {
    let words = server.words.join(" ");
    m.types(&format!("cd /root && tamga recipe {} charts {words} --install --yes --format json", server.recipe))
}

fn changes(ran: &Ran) -> Value {
    ran.json()["install"].clone()
}

/// One command on the package as it comes; the same again changes nothing, and after a renewal it serves the new certificate; `leave`
/// leaves the machine as it was found.
pub(super) fn installs(server: &Server) {
    let Some(m) = lab(server) else { return };
    m.write("/root/content", "");
    m.types(&format!("cd /root\n{}", server.by_hand)).expect(0);
    let before = tree(&m);
    let planned = m.types(&format!("cd /root && tamga recipe {} charts --install --dry-run", server.recipe)).expect(0);
    assert!(planned.out.contains("would run") && planned.out.contains("would check"), "{}", planned.out);
    assert_eq!(tree(&m), before, "{}: a dry run", server.recipe);

    let done = changes(&install(&m, server).expect(0));
    assert_eq!(done["changed"], true, "{done}");
    stands(&m, server, None, "in");
    judged(server, "install");
    let installed = tree(&m);
    let again = changes(&install(&m, server).expect(0));
    assert_eq!((&again["changed"], again["steps"].as_array().unwrap().len()), (&Value::Bool(false), 0), "{again}");
    assert_eq!(tree(&m), installed, "{}: the second time", server.recipe);
    judged(server, "second-run");

    m.types("cd /root && tamga renew charts").expect(0);
    install(&m, server).expect(0);
    stands(&m, server, None, &format!("in {}", leaf(&m)));
    m.types("cd /root && tamga leave --yes").expect(0);
    let after = tree(&m);
    let kept = |l: &&String| !before.contains(l);
    assert_eq!(after.iter().filter(kept).collect::<Vec<_>>(), [] as [&String; 0], "{}: left behind", server.recipe);
    assert_eq!(
        before.iter().filter(|l| !after.contains(l)).collect::<Vec<_>>(),
        [] as [&String; 0],
        "{}",
        server.recipe
    );
    judged(server, "leave");
}

/// What the server does not take is undone, and it serves on as before.
#[test]
fn what_the_server_does_not_take_is_undone() {
    let Some(m) = lab(&nginx::SERVER) else { return };
    m.types("cd /root && tamga issue old.saltmarsh.test --label old --issuer saltmarsh").expect(0);
    let old = "server { listen 443 ssl; server_name charts.saltmarsh.test; ssl_certificate /root/old/certificate.pem; ssl_certificate_key /root/old/private-key.pem; }";
    m.write("/etc/nginx/conf.d/a-old.conf", old);
    m.types("nginx -s reload").expect(0);
    let before = tree(&m);
    // Its own check is content, and it goes on to show the certificate of the other block.
    let ran = install(&m, &nginx::SERVER).expect(5);
    assert!(ran.out.contains("the server shows the certificate old"), "{}", ran.out);
    assert!(ran.out.contains("everything is as before"), "{}", ran.out);
    assert_eq!(tree(&m), before);
    // Its own check is not content.
    m.write("/etc/nginx/conf.d/a-old.conf", "server { listen 443 ssl }");
    let before = tree(&m);
    let ran = install(&m, &nginx::SERVER).expect(5);
    assert!(ran.out.contains("nginx -t failed") && ran.out.contains("semicolon"), "{}", ran.out);
    assert_eq!(tree(&m), before);
    // A configuration of this name that is not Tamga's stays.
    m.types("rm /etc/nginx/conf.d/a-old.conf && echo '# mine' > /etc/nginx/conf.d/charts.conf").expect(0);
    let ran = install(&m, &nginx::SERVER).expect(3);
    assert!(ran.out.contains("is there already, and is not Tamga's"), "{}", ran.out);
}

/// Killed anywhere, the next run puts everything back, or all of it stands.
#[test]
fn killed_anywhere_nothing_is_left_half_done() {
    let Some(m) = lab(&nginx::SERVER) else { return };
    m.types("rm -f /etc/nginx/sites-enabled/default").expect(0);
    let before = tree(&m);
    let (mut undone, mut stood) = (0, 0);
    for after in [5, 10, 20, 30, 40, 50, 60, 80, 100, 130, 160, 200, 300, 400] {
        let line = format!(
            "cd /root\ntamga recipe nginx charts --install --yes >/dev/null 2>&1 & sleep 0.{after:03}; kill -9 $! 2>/dev/null || true; wait"
        );
        m.types(&format!("set +e\n{line}\ntrue")).expect(0);
        // Anything that changes something looks at what was left.
        if after % 20 != 0 {
            m.types("cd /root && tamga renew charts && nginx -t && nginx -s reload").expect(0);
        }
        if after % 20 == 0 {
            // The same command again goes on at once, and what it leaves can be taken away.
            install(&m, &nginx::SERVER).expect(0);
        }
        if tree(&m) == before {
            undone += 1;
        } else {
            stood += 1;
            stands(&m, &nginx::SERVER, None, "in");
            m.types("cd /root && tamga recipe nginx charts --uninstall").expect(0);
            assert_eq!(tree(&m), before, "after {after} ms");
        }
    }
    eprintln!("{undone} undone, {stood} stood");
}

/// Killed while the server is restarted, when all files stand: the same command again does not take them for what stood there before.
#[test]
fn killed_at_the_restart_the_same_command_again_goes_on() {
    if !has(&["mosquitto"]) {
        return;
    }
    let Some(m) = lab(&mosquitto::SERVER) else { return };
    let before = tree(&m);
    m.write("/usr/bin/systemctl", "#!/bin/sh\n[ $1 != restart ] || sleep 60\nexec /usr/local/bin/systemctl \"$@\"\n");
    let command = "tamga recipe mosquitto charts --install --yes";
    let line = format!(
        "cd /root\n{command} >/dev/null 2>&1 & for i in $(seq 100); do pgrep -f '^sleep 60' && break; sleep 0.1; done; kill -9 $!"
    );
    m.types(&line).expect(0);
    m.types("ls /etc/mosquitto/conf.d/charts.conf && cp /usr/local/bin/systemctl /usr/bin/systemctl").expect(0);
    let ran = m.types(&format!("cd /root && {command}")).expect(0);
    assert!(ran.err.contains("setting up mosquitto for charts was interrupted"), "{}", ran.err);
    m.types("cd /root && tamga recipe mosquitto charts --uninstall").expect(0);
    let left: Vec<String> = tree(&m).into_iter().filter(|l| !before.contains(l)).collect();
    assert_eq!(left, [] as [String; 0]);
}

/// Into an image: its files, and nothing is run.
#[test]
fn an_image_gets_the_files_and_nothing_runs() {
    let Some(m) = lab(&Server { unit: "", ..nginx::SERVER }) else { return };
    m.types("mkdir -p /srv/image/etc/nginx/conf.d /srv/image/etc/mosquitto/conf.d && printf 'root:x:0:0::/:\\nmosquitto:x:77:78::/:\\n' > /srv/image/etc/passwd").expect(0);
    for server in ["nginx", "mosquitto"] {
        let line = format!("cd /root && tamga recipe {server} charts --install --sysroot /srv/image --yes");
        m.types(&line).expect(0);
        assert!(m.types(&line).expect(0).out.contains("everything stands already"), "{server}");
    }
    let found = m.types("find /srv/image -type f -printf '%P %m %U:%G\\n' | sort").out;
    for line in [
        "etc/nginx/conf.d/charts.conf 644 0:0",
        "etc/nginx/tls/charts/private-key.pem 600 0:0",
        "etc/mosquitto/tls/charts/private-key.pem 600 77:78",
    ] {
        assert!(found.lines().any(|l| l == line), "{line}:\n{found}");
    }
    let text = m.types("cat /srv/image/etc/nginx/conf.d/charts.conf").out;
    assert!(text.contains("/etc/nginx/tls/charts/certificate.pem"), "as the image names it: {text}");
    let made = "mkdir -p /srv/image/etc/apache2/sites-available";
    let ran = m
        .types(&format!("{made} && cd /root && tamga recipe apache charts --install --sysroot /srv/image --yes"))
        .expect(0);
    assert!(ran.out.contains("run these in the image") && ran.out.contains("a2ensite charts"), "{}", ran.out);
    m.types("rm /srv/image/etc/passwd && ln -s /etc /srv/image/etc/mosquitto/tls2").expect(0);
    let ran = m.types("cd /root && tamga recipe redis charts --install --sysroot /srv/image --yes").expect(4);
    assert!(ran.err.contains("redis is not installed in the image"), "{}", ran.err);
}

/// Another account's directory and a link that it planted lead nowhere, and nothing is left that would hinder the next command.
#[test]
fn an_account_leads_it_nowhere() {
    let Some(m) = lab(&nginx::SERVER) else { return };
    m.types("useradd mallory && mkdir /srv/m && chown mallory /srv/m").expect(0);
    let into = Server { words: &["--into", "/srv/m/tls"], ..nginx::SERVER };
    let before = tree(&m);
    let ran = install(&m, &into).expect(4);
    assert!(ran.out.contains("the account mallory can change it"), "{}", ran.out);
    assert_eq!(m.types("ls -A /srv/m").out, "");
    m.types("ln -s /etc/passwd /etc/nginx/conf.d/charts.conf").expect(0);
    let ran = install(&m, &nginx::SERVER).expect(4);
    assert!(ran.out.contains("it is a link"), "{}", ran.out);
    m.types("rm /etc/nginx/conf.d/charts.conf").expect(0);
    assert_eq!(tree(&m), before);
    install(&m, &nginx::SERVER).expect(0);
}

/// What somebody has changed since stays, with what it names; of two certificates each leaves the other's lines.
#[test]
fn what_was_changed_since_stays() {
    let Some(m) = lab(&nginx::SERVER) else { return };
    m.types("rm -f /etc/nginx/sites-enabled/default").expect(0);
    install(&m, &Server { words: &["--client-authority", "crew"], ..nginx::SERVER }).expect(0);
    m.types("echo '# mine' >> /etc/nginx/conf.d/charts.conf").expect(0);
    let ran = install(&m, &nginx::SERVER).expect(3);
    assert!(ran.out.contains("was changed since Tamga wrote it"), "{}", ran.out);
    let ran = m.types("cd /root && tamga recipe nginx charts --uninstall").expect(5);
    assert!(ran.out.contains("clients.pem: what remains of the configuration may name it"), "{}", ran.out);
    m.types("tail -1 /etc/nginx/conf.d/charts.conf | grep -q mine && ls /root/charts/clients.pem && nginx -t")
        .expect(0);

    if !has(&["redis-server"]) {
        return;
    }
    let redis =
        |label: &str, option: &str| m.types(&format!("cd /root && tamga recipe redis {label} {option} --yes -q"));
    m.types(
        "cd /root && tamga issue tides.saltmarsh.test --label tides --issuer saltmarsh && systemctl start redis-server",
    )
    .expect(0);
    let before = m.types("cat /etc/redis/redis.conf").out;
    redis("charts", "--install").expect(0);
    redis("tides", "--install").expect(0);
    redis("tides", "--uninstall").expect(0);
    let text = m.types("cat /etc/redis/redis.conf").out;
    assert_eq!(text, format!("{before}include /etc/redis/charts.conf\n"), "the other's line stays");
    redis("charts", "--uninstall").expect(0);
    assert_eq!(m.types("cat /etc/redis/redis.conf").out, before);
    // Lines that are gone already are no reason to keep the rest.
    redis("charts", "--install").expect(0);
    m.types("sed -i '/^include .etc.redis.charts.conf/d' /etc/redis/redis.conf").expect(0);
    redis("charts", "--uninstall").expect(0);
    assert_eq!(m.types("ls /etc/redis").out, "redis.conf\ntls\n");
    // What an admin writes between two times stays too.
    redis("charts", "--install").expect(0);
    m.types("echo \"# the admin's\" >> /etc/redis/redis.conf && cd /root && tamga renew charts").expect(0);
    redis("charts", "--install").expect(0);
    redis("charts", "--uninstall").expect(0);
    assert_eq!(m.types("cat /etc/redis/redis.conf").out, format!("{before}# the admin's\n"));
}

/// A certificate of loopback names alone is served on loopback alone, on both addresses where both are in it.
#[test]
fn a_certificate_of_loopback_names_is_served_on_both_loopback_addresses() {
    let servers = [
        (&nginx::SERVER, 443),
        (&haproxy::SERVER, 443),
        (&lighttpd::SERVER, 443),
        (&caddy::SERVER, 443),
        (&squid::SERVER, 3129),
        (&postgresql::SERVER, 5432),
        (&redis::SERVER, 6379),
        (&etcd::SERVER, 2379),
        (&dovecot::SERVER, 993),
        // Its ports.conf listens everywhere; the site itself answers on loopback alone.
        (&apache::SERVER, 443),
    ];
    for (server, port) in servers {
        let Some(m) = lab(&Server { unit: "", ..*server }) else { continue };
        m.write("/root/content", "");
        m.types(&format!("cd /root\n{}", server.by_hand)).expect(0);
        m.types("cd /root && tamga issue localhost 127.0.0.1 ::1 --label own --issuer saltmarsh").expect(0);
        m.types(&format!("cd /root && tamga recipe {} own --install --yes", server.recipe)).expect(0);
        let open = m.types(&format!("ss -Hltn 'sport = :{port}' | awk '{{print $4}}' | sort")).out;
        let wanted = match server.recipe {
            "apache" => "*:443\n".to_owned(),
            _ => format!("127.0.0.1:{port}\n[::1]:{port}\n"),
        };
        assert_eq!(open, wanted, "{}", server.recipe);
        let scheme = if server.recipe == "postgresql" { "postgres://" } else { "" };
        for address in ["127.0.0.1", "[::1]"] {
            let line =
                format!("cd /root && tamga check {scheme}{address}:{port} --anchor own/root.pem --clients standard");
            let said = m.types(&line).out;
            assert!(said.contains("standard  accepts"), "{}, {address}: {said}", server.recipe);
        }
    }
}

/// The same of programs that a person starts.
#[test]
fn programs_serve_a_certificate_of_loopback_names_on_both_loopback_addresses() {
    let programs = [&node::SERVER, &python::SERVER, &gunicorn::SERVER, &uvicorn::SERVER, &puma::SERVER, &php::SERVER];
    for server in programs.into_iter().chain([&bun::SERVER, &deno::SERVER]) {
        let Some(m) = lab(server) else { continue };
        m.types("cd /root && tamga issue localhost 127.0.0.1 ::1 --label own --issuer saltmarsh").expect(0);
        let said = m.types(&format!("cd /root && tamga recipe {} own --format json", server.recipe)).expect(0);
        let r = said.json()["recipe"].clone();
        m.write(&format!("/root/{}", r["path"].as_str().unwrap()), r["content"].as_str().unwrap());
        let start = r["steps"].as_array().unwrap().iter().find(|w| w["what"].as_str().unwrap().starts_with("start it"));
        m.types(&format!("cd /root\n{}\n{}", server.by_hand, started(&lines(start.unwrap())))).expect(0);
        let port = server.visit.1;
        let wanted = format!("127.0.0.1:{port}\n[::1]:{port}\n");
        let mut open = String::new();
        for _ in 0..60 {
            open = m.types(&format!("ss -Hltn 'sport = :{port}' | awk '{{print $4}}' | sort")).out;
            if open == wanted {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(250));
        }
        assert_eq!(open, wanted, "{}: {}", server.recipe, m.types("cat /run/units/program.log").out);
        for address in ["127.0.0.1", "[::1]"] {
            let line = format!("cd /root && tamga check {address}:{port} --anchor own/root.pem --clients standard");
            let said = m.types(&line).out;
            assert!(said.contains("standard  accepts"), "{}, {address}: {said}", server.recipe);
        }
    }
}

/// A person with sudo: the ledger and the certificate stay the person's, the server's files become the server's.
#[test]
fn a_person_installs_through_sudo() {
    let Some(m) = lab(&nginx::SERVER) else { return };
    if !has(&["sudo", "mosquitto"]) {
        return;
    }
    m.types(
        "useradd -m worker && echo 'worker ALL=(ALL) NOPASSWD: ALL' > /etc/sudoers.d/worker && chmod 440 /etc/sudoers.d/worker
        echo '127.0.0.1 lab' >> /etc/hosts; rm -f /etc/nginx/sites-enabled/default; systemctl start mosquitto",
    )
    .expect(0);
    let as_worker = |line: &str| m.types(&format!("su - worker -c '{line}'"));
    as_worker("tamga authority create tidal && tamga issue charts.saltmarsh.test localhost --label charts").expect(0);
    let before = tree(&m);
    let ran = as_worker("tamga recipe nginx charts --install --yes").expect(4);
    assert!(ran.err.contains("sudo tamga recipe nginx charts --install"), "{}", ran.err);
    for _ in 0..2 {
        for server in ["nginx", "mosquitto"] {
            as_worker(&format!("sudo tamga recipe {server} charts --install --yes")).expect(0);
        }
        // The second time the renewed one, of services that run.
        as_worker("tamga renew charts").expect(0);
    }
    let owners = m
        .types("stat -c %U /home/worker/.local/share/tamga/ledger.sqlite /etc/mosquitto/tls/charts/private-key.pem")
        .out;
    assert_eq!(owners, "worker\nmosquitto\n");
    let ran = as_worker("tamga leave --yes").expect(5);
    assert!(ran.out.contains("only root may change it; sudo tamga leave"), "{}", ran.out);
    as_worker("sudo tamga leave --yes").expect(0);
    assert_eq!(tree(&m), before);
}
