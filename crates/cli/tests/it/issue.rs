//! Authorities and certificates, judged by others.

use crate::{lab, sandbox};
use std::process::Command;
use tamga_core::pki::format::pem;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_testkit::{judge, sample, sandbox::has, site::Site};

const YEAR: i64 = 365 * 86_400;

fn now() -> u64 {
    tamga_host::entropy::now().unix().unsigned_abs()
}

#[test]
fn a_leaf_is_in_its_directory_as_promised_and_webpki_takes_every_name() {
    let s = lab();
    let files = s.files("lab/charts");
    let names: Vec<(String, u32)> =
        files.iter().map(|(p, m)| (p.file_name().unwrap().to_string_lossy().into_owned(), *m)).collect();
    let expected = [(".gitignore", 0o644), ("certificate.pem", 0o644), ("private-key.pem", 0o600), ("root.pem", 0o644)];
    assert_eq!(names, expected.map(|(n, m)| (n.to_owned(), m)));
    assert!(std::fs::read_to_string(s.lab("charts/.gitignore")).unwrap().contains("private-key.pem"));
    let chain = pem::certificates(&std::fs::read(s.lab("charts/certificate.pem")).unwrap());
    let root = pem::certificates(&std::fs::read(s.lab("charts/root.pem")).unwrap()).remove(0);
    for host in ["charts.saltmarsh.test", "localhost", "127.0.0.1", "::1"] {
        judge::webpki(&chain, &root, host, now()).unwrap_or_else(|e| panic!("{host}: {e}"));
    }
    assert!(judge::webpki(&chain, &root, "archive.saltmarsh.test", now()).is_err());
    let leaf = sample::certificate(&s.lab("charts/certificate.pem"));
    assert_eq!((leaf.not_after.unix() - leaf.not_before.unix() - 3_600) / 86_400, 397);
    assert_eq!(leaf.issuer_key_identifier, sample::certificate(&s.lab("charts/root.pem")).key_identifier);
}

#[test]
fn issue_says_in_three_lines_what_where_and_what_next() {
    let s = lab();
    let ran = s.run(&["issue", "*.buoys.saltmarsh.test"]).expect(0);
    let lines: Vec<&str> = ran.out.lines().collect();
    assert_eq!(lines.len(), 3, "{}", ran.out);
    assert!(lines[0].contains("wildcard.buoys.saltmarsh.test") && lines[1].contains("private-key.pem"));
    assert!(lines[2].starts_with("next") && lines[2].contains("tamga trust add saltmarsh"));
}

#[test]
fn every_key_kind_can_be_issued_and_read_back() {
    let s = lab();
    for kind in KeyAlgorithm::ALL {
        let word = kind.word();
        s.run(&["issue", "gauge-7.saltmarsh.test", "--label", word, "--key-algorithm", word]).expect(0);
        let shown = s.json(&["show", &format!("{word}/private-key.pem")]).expect(0).json();
        let certificate = sample::certificate(&s.lab(&format!("{word}/certificate.pem")));
        assert_eq!(shown["objects"][0]["public_sha256"], certificate.key.fingerprint().as_str());
    }
}

#[test]
fn a_name_outside_the_constraints_is_refused_with_the_way_out_and_clients_agree() {
    let s = lab();
    let ran = s.run(&["issue", "charts.saltmarsh.org"]).expect(3);
    assert!(ran.err.contains("--permit charts.saltmarsh.org"), "{}", ran.err);
    assert!(!s.lab("charts.saltmarsh.org").exists());
    s.run(&["authority", "create", "wide", "--permit", "saltmarsh.org"]).expect(0);
    s.run(&["issue", "charts.saltmarsh.org", "--issuer", "wide"]).expect(0);

    // The same leaf with the check left away: webpki, and curl for real.
    let root = sample::authority(&s.path("data/authorities/saltmarsh"));
    let bad =
        sample::leaf(&root, &["charts.saltmarsh.org", "localhost"], &[Purpose::Server], -60, YEAR, KeyAlgorithm::P256);
    let der = [bad.certificate.der().to_vec()];
    assert!(judge::webpki(&der, root.certificate.der(), "localhost", now()).is_err());
    if has(&["curl"]) {
        let site = sample::serve(&bad, &[]);
        let anchor = s.path("data/authorities/saltmarsh/certificate.pem");
        assert_eq!(judge::curl("localhost", site.port, &anchor), 60);
        let good = sample::leaf(&root, &["localhost"], &[Purpose::Server], -60, YEAR, KeyAlgorithm::P256);
        assert_eq!(judge::curl("localhost", sample::serve(&good, &[]).port, &anchor), 0);
    }
}

#[test]
fn curl_accepts_every_name_with_the_root_in_the_folder() {
    if !has(&["curl"]) {
        return;
    }
    let s = lab();
    let identity = sample::Identity {
        certificate: sample::certificate(&s.lab("charts/certificate.pem")),
        key: tamga_core::ca::authority::read_key(&std::fs::read(s.lab("charts/private-key.pem")).unwrap(), "key")
            .unwrap(),
    };
    let site = sample::serve(&identity, &[]);
    for host in ["charts.saltmarsh.test", "localhost", "127.0.0.1"] {
        assert_eq!(judge::curl(host, site.port, &s.lab("charts/root.pem")), 0, "{host}");
    }
}

#[test]
fn a_certificate_for_an_address_alone_has_no_common_name_and_gnutls_takes_it_under_the_usual_root() {
    if !has(&["wget"]) {
        return;
    }
    let s = lab();
    s.run(&["issue", "127.0.0.1", "::1", "--label", "gauge"]).expect(0);
    assert!(sample::certificate(&s.lab("gauge/certificate.pem")).subject_words().contains("empty"));
    let site = Site::start(&s, &["gauge"]);
    let mut wget = Command::new("wget");
    wget.env_clear().env("PATH", std::env::var_os("PATH").unwrap()).args([
        "-q",
        "--no-config",
        "--no-proxy",
        "-O",
        "-",
    ]);
    wget.arg(format!("--ca-certificate={}", s.lab("gauge/root.pem").display()));
    let ran = wget.arg(format!("https://127.0.0.1:{}/", site.port)).output().unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    // One that signs itself needs a name as its own issuer (RFC 5280 §4.1.2.4).
    s.run(&["issue", "127.0.0.1", "--label", "alone", "--self-signed"]).expect(0);
    assert!(sample::certificate(&s.lab("alone/certificate.pem")).issuer_words().contains("self-signed"));
    // What was made from the names follows them when they change.
    s.run(&["renew", "gauge", "--add", "gauge-7.saltmarsh.test"]).expect(0);
    let renewed = sample::certificate(&s.lab("gauge/certificate.pem"));
    assert_eq!(renewed.subject_words(), "CN=gauge-7.saltmarsh.test");
}

#[test]
fn labels_folders_and_issuers_are_not_guessed() {
    let s = lab();
    assert!(s.run(&["issue", "localhost", "--label", "charts"]).expect(3).err.contains("already exists"));
    assert!(s.run(&["issue", "localhost", "--label", "charts", "--into", "other"]).expect(3).err.contains("taken"));
    assert!(s.run(&["issue", "localhost", "--label", "saltmarsh"]).expect(3).err.contains("an authority"));
    s.run(&["authority", "create", "second"]).expect(0);
    assert!(s.run(&["issue", "x.test"]).expect(2).err.contains("--issuer"));
    assert!(s.run(&["issue", "x.test", "--issuer", "third"]).expect(3).err.contains("saltmarsh, second"));
    assert!(sandbox().run(&["issue", "x.test"]).expect(3).err.contains("tamga authority create"));
}

#[test]
fn a_self_signed_leaf_cannot_sign_and_outlives_nobody() {
    let s = sandbox();
    s.run(&["issue", "gauge-7.saltmarsh.test", "--self-signed"]).expect(0);
    let c = sample::certificate(&s.lab("gauge-7.saltmarsh.test/certificate.pem"));
    assert!(c.basic.is_none() && !c.usage.unwrap().key_cert_sign && c.is_self_signed());

    s.run(&["authority", "create", "short", "--valid-for", "10d"]).expect(0);
    let ran = s.json(&["issue", "x.test", "--issuer", "short"]).expect(0).json();
    assert_eq!(ran["findings"][0]["code"], "outlives-issuer");
    let root = sample::certificate(&s.path("data/authorities/short/certificate.pem"));
    assert_eq!(sample::certificate(&s.lab("x.test/certificate.pem")).not_after, root.not_after);
}

#[test]
fn a_lost_and_a_foreign_authority_key_are_distinguished() {
    let s = lab();
    let key = s.path("data/authorities/saltmarsh/private-key.pem");
    std::fs::copy(s.lab("charts/private-key.pem"), &key).unwrap();
    assert!(s.run(&["issue", "x.test"]).expect(3).err.contains("does not belong"));
    std::fs::remove_file(&key).unwrap();
    assert!(s.run(&["issue", "x.test"]).expect(3).err.contains("missing"));
    std::fs::write(&key, "no key at all").unwrap();
    s.run(&["issue", "x.test"]).expect(3);
    assert!(!s.lab("x.test").exists());
}
