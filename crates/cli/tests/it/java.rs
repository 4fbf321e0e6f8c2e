//! Trust stores of JVMs: JKS and PKCS#12, judged by a JVM itself.

use crate::lab;
use serde_json::Value;
use std::io::{BufRead, BufReader, Read as _, Write as _};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::server::free_port;

/// Makes stores, lists them, visits an address with one.
const JUDGE: &str = r#"
import java.io.*;
import java.net.*;
import java.nio.file.*;
import java.security.*;
import java.security.cert.*;
import java.util.*;
import javax.net.ssl.*;

public class Judge {
    static char[] word(String s) { return s.isEmpty() ? null : s.toCharArray(); }

    public static void main(String[] a) throws Exception {
        if (a[0].equals("make")) {
            KeyStore s = KeyStore.getInstance(a[1]);
            s.load(null, null);
            try (InputStream in = new FileInputStream(a[4])) {
                s.setCertificateEntry("foreign", CertificateFactory.getInstance("X.509").generateCertificate(in));
            }
            try (OutputStream out = new FileOutputStream(a[2])) { s.store(out, word(a[3])); }
            return;
        }
        KeyStore s = KeyStore.getInstance(new File(a[1]), word(a[2]));
        if (a[0].equals("list")) {
            for (String alias : Collections.list(s.aliases())) System.out.println(alias + " " + s.isCertificateEntry(alias));
            return;
        }
        TrustManagerFactory t = TrustManagerFactory.getInstance("PKIX");
        t.init(s);
        SSLContext c = SSLContext.getInstance("TLS");
        c.init(null, t.getTrustManagers(), null);
        HttpsURLConnection u = (HttpsURLConnection) new URL(a[3]).openConnection(Proxy.NO_PROXY);
        u.setSSLSocketFactory(c.getSocketFactory());
        try {
            System.out.println(u.getResponseCode());
        } catch (SSLException e) {
            System.out.println("refused");
        }
    }
}
"#;

#[test]
fn the_class_that_visits_is_what_its_source_compiles_to() {
    if !has(&["javac"]) {
        return;
    }
    let s = crate::sandbox();
    let sources = Path::new(env!("CARGO_MANIFEST_DIR")).join("../host/src/clients");
    let mut c = Command::new("javac");
    c.args(["--release", "8", "-g:none", "-nowarn", "-d"]).arg(s.lab("")).arg(sources.join("Visit.java"));
    assert!(c.output().unwrap().status.success());
    let (made, kept) = (std::fs::read(s.lab("Visit.class")), std::fs::read(sources.join("Visit.class")));
    assert!(made.unwrap() == kept.unwrap(), "compile Visit.java again: javac --release 8 -g:none");
}

fn judge(s: &Sandbox, words: &[&str]) -> String {
    let file = s.lab("Judge.java");
    std::fs::write(&file, JUDGE).unwrap();
    let quiet = ["-Dkeystore.pkcs12.macAlgorithm=NONE", "-Dkeystore.pkcs12.certProtectionAlgorithm=NONE"];
    let mut c = Command::new("java");
    if words[1] == "PKCS12" && words[3].is_empty() {
        // As a JVM's own store is made from version 18 on.
        c.args(quiet);
    }
    let out = c.arg(&file).args(words).current_dir(s.lab("")).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8(out.stdout).unwrap().trim().to_owned()
}

fn row(v: &Value, place: &str) -> Value {
    let all = v["stores"].as_array().unwrap();
    all.iter().find(|r| r["place"].as_str().unwrap().ends_with(place)).unwrap_or_else(|| panic!("{place}: {v}")).clone()
}

#[test]
fn a_root_goes_into_every_jvm_and_out_again_byte_for_byte() {
    if !has(&["java"]) {
        return;
    }
    let s = lab();
    s.run(&["authority", "create", "harbour"]).expect(0);
    let foreign = s.path("data/authorities/harbour/certificate.pem").display().to_string();
    let old = s.path("root/usr/lib/jvm/eight/jre/lib/security");
    let new = s.path("root/usr/lib/jvm/twenty-one/lib/security");
    let own = s.path("home/.jdks/locked/lib/security");
    for folder in [&old, &new, &own] {
        std::fs::create_dir_all(folder).unwrap();
    }
    let file = |folder: &Path| folder.join("cacerts").display().to_string();
    judge(&s, &["make", "JKS", &file(&old), "changeit", &foreign]);
    judge(&s, &["make", "PKCS12", &file(&new), "", &foreign]);
    judge(&s, &["make", "JKS", &file(&own), "spring tide", &foreign]);
    // The same JVM by another name is one place.
    std::os::unix::fs::symlink("eight", s.path("root/usr/lib/jvm/default-java")).unwrap();
    let before: Vec<Vec<u8>> = [&old, &new, &own].map(|f| std::fs::read(f.join("cacerts")).unwrap()).to_vec();
    let words = ["trust", "add", "saltmarsh", "--stores", "java"];
    let v = s.json(&words).expect(5).json();
    assert_eq!(v["stores"].as_array().unwrap().len(), 3, "{v}");
    assert_eq!(row(&v, "eight/jre/lib/security/cacerts")["change"], "added");
    assert_eq!(row(&v, "twenty-one/lib/security/cacerts")["change"], "added");
    let locked = row(&v, "locked/lib/security/cacerts");
    assert!(locked["change"] == "failed" && locked["remedy"].to_string().contains("--passphrase-file"), "{v}");
    assert_eq!(std::fs::read(own.join("cacerts")).unwrap(), before[2]);
    std::fs::write(s.lab("secret"), "spring tide\n").unwrap();
    let v = s.json(&[&words[..], &["--passphrase-file", "secret"]].concat()).expect(0).json();
    assert_eq!(row(&v, "locked/lib/security/cacerts")["change"], "added", "{v}");
    assert_eq!(row(&v, "eight/jre/lib/security/cacerts")["change"], "none", "{v}");
    let mut site = s.command(&["serve", "charts", "--format", "json"]).stdout(Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(site.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let port = serde_json::from_str::<Value>(&line).unwrap()["port"].as_u64().unwrap();
    let address = format!("https://localhost:{port}/");
    let stores = [(&old, "changeit"), (&new, ""), (&own, "spring tide")];
    for (folder, word) in stores {
        let listed = judge(&s, &["list", &file(folder), word]);
        assert!(listed.contains("foreign true") && listed.contains("tamga-saltmarsh-"), "{listed}");
        assert_eq!(judge(&s, &["visit", &file(folder), word, &address]), "200", "{}", folder.display());
    }
    let words = ["trust", "remove", "saltmarsh", "--stores", "java", "--passphrase-file", "secret"];
    let v = s.json(&words).expect(0).json();
    assert!(v["stores"].as_array().unwrap().iter().all(|r| r["change"] == "removed"), "{v}");
    for ((folder, word), before) in stores.iter().zip(before) {
        assert_eq!(std::fs::read(folder.join("cacerts")).unwrap(), before, "{}", folder.display());
        assert_eq!(judge(&s, &["visit", &file(folder), word, &address]), "refused");
    }
    site.kill().unwrap();
    site.wait().unwrap();
    // A damaged store is reported, kept, and the others go on.
    std::fs::write(old.join("cacerts"), b"\xfe\xed\xfe\xed damaged").unwrap();
    let v = s.json(&["trust", "add", "saltmarsh", "--stores", "java", "--passphrase-file", "secret"]).expect(5).json();
    assert_eq!(row(&v, "eight/jre/lib/security/cacerts")["change"], "failed", "{v}");
    assert_eq!(row(&v, "twenty-one/lib/security/cacerts")["change"], "added", "{v}");
    assert_eq!(std::fs::read(old.join("cacerts")).unwrap(), b"\xfe\xed\xfe\xed damaged");
}

/// What the recipe prints for a class of the application's, compiled as it stands and run by an embedded Tomcat.
#[test]
fn springs_redirect_is_run_by_an_embedded_tomcat() {
    if !has(&["java", "javac", "/usr/share/java/tomcat10-catalina.jar"]) {
        return;
    }
    let s = crate::lab();
    let [plain, tls] = [free_port(), free_port()].map(|p| p.to_string());
    let redirect = format!("--redirect={plain}");
    let words = ["recipe", "spring", "charts", &redirect, "--port", &tls, "--address", "127.0.0.1"];
    let recipe = s.json(&words).expect(0).json()["recipe"].clone();
    let steps = recipe["steps"].as_array().unwrap();
    let step = steps.iter().find(|w| w["what"].as_str().unwrap().starts_with("plain HTTP to HTTPS")).unwrap();
    let method: Vec<&str> = step["lines"].as_array().unwrap().iter().map(|l| l.as_str().unwrap()).collect();
    let frame = include_str!("../java/Embedded.java");
    std::fs::write(s.lab("Embedded.java"), frame.replace("    // RECIPE", &method.join("\n"))).unwrap();
    let jars = "/usr/share/java/*:/usr/share/tomcat10/lib/*";
    let compiled = Command::new("javac").args(["-cp", jars, "-d"]).arg(s.lab("")).arg(s.lab("Embedded.java")).output();
    let compiled = compiled.unwrap();
    assert!(compiled.status.success(), "{}", String::from_utf8_lossy(&compiled.stderr));
    let path = format!("{}:{jars}", s.lab("").display());
    let mut child = Command::new("java").args(["-cp", &path, "Embedded"]).stderr(Stdio::null()).spawn().unwrap();
    let ask = |host: &str| {
        let mut socket = TcpStream::connect(format!("127.0.0.1:{plain}")).ok()?;
        socket.set_read_timeout(Some(Duration::from_secs(10))).ok()?;
        write!(socket, "GET /tide?at=6 HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n").ok()?;
        let mut said = String::new();
        socket.read_to_string(&mut said).ok().filter(|n| *n > 0)?;
        Some(said)
    };
    let mut answers = Vec::new();
    for host in ["charts.saltmarsh.test", "charts.saltmarsh.test:80", "127.0.0.1", "[::1]"] {
        let said = (0..150).find_map(|_| {
            std::thread::sleep(Duration::from_millis(100));
            ask(host)
        });
        answers.push((host, said.unwrap_or_default()));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    for (host, said) in answers {
        let name = host.trim_end_matches(":80");
        let location = format!("Location: https://{name}:{tls}/tide?at=6");
        assert!(said.lines().any(|l| l == location) && said.contains(" 302 "), "{host}: {said}");
    }
}
