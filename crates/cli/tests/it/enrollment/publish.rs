//! What is published: who asks for the status of a certificate gets it, and those who act by it do.

use super::own::Client;
use super::{Running, Service, curl, python, root, until};
use crate::{firefox, lab};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use tamga_testkit::firefox::Firefox;
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::server::free_port;

/// A service that writes its addresses into certificates.
fn publishing(s: &Sandbox) -> Service {
    let at = format!("127.0.0.1:{}", free_port());
    Service::start(s, &["--publish-listen", &at, "--publish-url", &format!("http://{at}")])
}

fn enrolled(s: &Sandbox, service: &Service, name: &str) -> PathBuf {
    let listen = format!("127.0.0.1:{}", service.http);
    Client::new(s, service).asks(&[name], &["--challenge-listen", &listen]).expect(0);
    s.lab(name)
}

fn data(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/enrollment").join(name)
}

#[test]
fn another_library_reads_lists_and_answers() {
    let s = lab();
    if python(&s).is_none() {
        return;
    }
    let service = publishing(&s);
    let directory = enrolled(&s, &service, "charts.saltmarsh.test");
    let ask = || {
        let got = python(&s).unwrap().arg(data("ocsp.py")).arg(directory.join("certificate.pem")).output().unwrap();
        format!("{}{}", String::from_utf8_lossy(&got.stdout), String::from_utf8_lossy(&got.stderr))
    };
    assert_eq!(ask().trim(), "GOOD");
    // By the administrator, while the service runs: answers and list follow.
    s.run(&["revoke", "charts.saltmarsh.test", "--reason", "key-compromise", "--yes"]).expect(0);
    until("the list", || ask().trim() == "REVOKED", ask);
    let root_of = format!("{}/root.pem", service.published.as_ref().unwrap());
    let got = s.around("curl").args(["-sS", &root_of]).output().unwrap();
    assert_eq!(got.stdout, std::fs::read(root(&s)).unwrap());
    for path in [
        "/",
        "/root.crt",
        "/root.mobileconfig",
        "/crl/saltmarsh.crl",
        "/crl/saltmarsh-enrollment.crl",
        "/issuer/saltmarsh-enrollment.crt",
    ] {
        let url = format!("{}{path}", service.published.as_ref().unwrap());
        assert!(s.around("curl").args(["-sSf", "-o", "/dev/null", &url]).status().unwrap().success(), "{path}");
    }
    for path in ["/private-key.pem", "/crl/../service.key", "/crl/charts.crl", "/issuer/x.crt", "/ocsp/*"] {
        let url = format!("{}{path}", service.published.as_ref().unwrap());
        let got = s.around("curl").args(["-sS", "--path-as-is", "-w", "%{http_code}", &url]).output().unwrap();
        let said = String::from_utf8_lossy(&got.stdout);
        assert!(said.ends_with("404") || path == "/ocsp/*", "{path}: {said}");
    }
}

#[test]
fn firefox_refuses_what_was_revoked() {
    let Some(mut s) = firefox::with_firefox() else { return };
    let service = publishing(&s);
    enrolled(&s, &service, "localhost");
    let port = free_port().to_string();
    let elsewhere = s.path("elsewhere");
    let mut serve = s.command(&["--data-dir", elsewhere.to_str().unwrap(), "serve", "localhost", "--port", &port]);
    let _serve = Running::start(serve.stdout(Stdio::null()));
    let url = format!("https://localhost:{port}/");
    let visits = |s: &mut Sandbox, name: &str| {
        let profile = firefox::profile(s, name);
        s.run(&["trust", "add", "saltmarsh", "--stores", "firefox"]);
        Firefox::start(&s.path("home"), &profile).accepts(&url)
    };
    assert!(visits(&mut s, "before"));
    s.run(&["revoke", "localhost", "--reason", "key-compromise", "--yes"]).expect(0);
    // Another profile: the first remembers the answer for a while.
    assert!(!visits(&mut s, "after"));
}

/// True once the server staples an answer, as `check` sees it.
fn staples(s: &Sandbox, port: u16) -> bool {
    let target = format!("charts.saltmarsh.test:{port}");
    let seen = s
        .json(&[
            "check",
            &target,
            "--resolve",
            "charts.saltmarsh.test=127.0.0.1",
            "--clients",
            "standard",
            "--anchor",
            root(s).to_str().unwrap(),
        ])
        .json();
    seen["targets"][0]["connections"][0]["staple"] == true
}

#[test]
fn nginx_and_apache_staple() {
    if !has(&["nginx", "apache2", "curl"]) || !super::apache::is_here() {
        return;
    }
    let s = lab();
    let service = publishing(&s);
    let directory = enrolled(&s, &service, "charts.saltmarsh.test");
    let (nginx, apache) = (free_port(), free_port());
    let (at, c, k) =
        (s.lab("n").display().to_string(), directory.join("certificate.pem"), directory.join("private-key.pem"));
    std::fs::create_dir_all(s.lab("n")).unwrap();
    let (c, k) = (c.display(), k.display());
    std::fs::write(
        s.lab("n/nginx.conf"),
        format!(
            "daemon off; pid {at}/pid; error_log {at}/error info; events {{}}\nhttp {{ access_log off; client_body_temp_path {at}; proxy_temp_path {at}; fastcgi_temp_path {at}; uwsgi_temp_path {at}; scgi_temp_path {at};\n\
             server {{ listen 127.0.0.1:{nginx} ssl; ssl_certificate {c}; ssl_certificate_key {k}; ssl_stapling on; ssl_trusted_certificate {c}; }} }}\n"
        ),
    )
    .unwrap();
    let mut command = s.around("nginx");
    command.arg("-c").arg(s.lab("n/nginx.conf")).stderr(Stdio::null());
    let _nginx = Running::start(&mut command);
    let load = |all: &[&str]| -> String {
        all.iter().map(|m| format!("LoadModule {m}_module /usr/lib/apache2/modules/mod_{m}.so\n")).collect()
    };
    let modules = load(&["mpm_event", "authz_core", "socache_shmcb", "ssl"]);
    std::fs::write(
        s.lab("n/httpd.conf"),
        format!(
            "ServerRoot {at}\nPidFile {at}/apache-pid\nDefaultRuntimeDir {at}\nMutex file:{at} default\n{modules}User nobody\nGroup nogroup\nListen 127.0.0.1:{apache}\nErrorLog {at}/apache-error\n\
             ServerName charts.saltmarsh.test\nSSLUseStapling on\nSSLStaplingCache shmcb:{at}/staple(32768)\n<VirtualHost *:{apache}>\nSSLEngine on\nSSLCertificateFile {c}\nSSLCertificateKeyFile {k}\n</VirtualHost>\n"
        ),
    )
    .unwrap();
    s.open_to_others();
    let mut command = s.around("apache2");
    command.args(["-D", "FOREGROUND", "-f"]).arg(s.lab("n/httpd.conf")).stderr(Stdio::null());
    let _apache = Running::start(&mut command);
    for port in [nginx, apache] {
        until(
            "the server",
            || !curl(&s, "charts.saltmarsh.test", port).is_empty(),
            || std::fs::read_to_string(s.lab("n/error")).unwrap_or_default(),
        );
        // nginx asks after its first handshake.
        until("its staple", || staples(&s, port), || std::fs::read_to_string(s.lab("n/error")).unwrap_or_default());
    }
}

#[test]
fn a_jvm_that_checks_revocation_accepts_and_then_refuses() {
    if !has(&["java", "javac"]) {
        return;
    }
    let s = lab();
    let service = publishing(&s);
    enrolled(&s, &service, "localhost");
    let port = free_port().to_string();
    let elsewhere = s.path("elsewhere");
    let mut serve = s.command(&["--data-dir", elsewhere.to_str().unwrap(), "serve", "localhost", "--port", &port]);
    let _serve = Running::start(serve.stdout(Stdio::null()));
    until("the site", || !curl(&s, "localhost", port.parse().unwrap()).is_empty(), String::new);
    let get = || {
        let got = s
            .around("java")
            .arg(data("Get.java"))
            .arg(format!("https://localhost:{port}/"))
            .arg(root(&s))
            .output()
            .unwrap();
        format!("{}{}", String::from_utf8_lossy(&got.stdout), String::from_utf8_lossy(&got.stderr))
    };
    assert_eq!(get().trim(), "accepted 200");
    s.run(&["revoke", "localhost", "--reason", "superseded", "--yes"]).expect(0);
    let refused = get();
    assert!(refused.contains("revoked"), "{refused}");
}
