//! What is handed on: an archive for a machine without Tamga, the lab on a page, the manual.

use crate::lab;
use std::io::Read;
use std::os::unix::fs::PermissionsExt;
use tamga_core::ca::authority::read_key;
use tamga_core::pki::format::pem;
use tamga_core::pki::format::private_key::{self, Stored};
use tamga_testkit::sample;
use tamga_testkit::sandbox::{Sandbox, has};

/// The files of an archive by name, with their modes.
fn unpacked(s: &Sandbox, name: &str) -> Vec<(String, u32, Vec<u8>)> {
    let mut archive = tar::Archive::new(std::fs::File::open(s.lab(name)).unwrap());
    let one = |e: std::io::Result<tar::Entry<'_, std::fs::File>>| {
        let mut e = e.unwrap();
        let mut bytes = Vec::new();
        e.read_to_end(&mut bytes).unwrap();
        (e.path().unwrap().display().to_string(), e.header().mode().unwrap(), bytes)
    };
    archive.entries().unwrap().map(one).collect()
}

#[test]
fn an_archive_holds_the_pair_the_root_and_what_to_do() {
    let s = lab();
    s.run(&["export", "charts", "--as", "archive"]).expect(0);
    assert_eq!(std::fs::metadata(s.lab("charts.tar")).unwrap().permissions().mode() & 0o777, 0o600);
    let all = unpacked(&s, "charts.tar");
    let names: Vec<(&str, u32)> = all.iter().map(|(n, m, _)| (n.as_str(), *m)).collect();
    assert_eq!(
        names,
        [
            ("charts/INSTALL.txt", 0o644),
            ("charts/certificate.pem", 0o644),
            ("charts/private-key.pem", 0o600),
            ("charts/root.pem", 0o644),
            ("charts/root.crt", 0o644)
        ]
    );
    let root = sample::authority(&s.path("data/authorities/saltmarsh")).certificate;
    let note = String::from_utf8(all[0].2.clone()).unwrap();
    let colons =
        root.sha256().to_uppercase().as_bytes().chunks(2).map(String::from_utf8_lossy).collect::<Vec<_>>().join(":");
    assert!(
        note.contains(&colons) && note.contains("update-ca-certificates") && note.contains("charts.saltmarsh.test"),
        "{note}"
    );
    assert_eq!(pem::certificates(&all[1].2)[0], sample::certificate(&s.lab("charts/certificate.pem")).der());
    assert_eq!(
        *read_key(&all[2].2, "key").unwrap().public(),
        sample::certificate(&s.lab("charts/certificate.pem")).key
    );
    assert_eq!(all[4].2, root.der());
    // With a passphrase the key inside is encrypted; a root alone has none.
    std::fs::write(s.lab("pass"), "a passphrase for the way\n").unwrap();
    s.run(&["export", "charts", "--as", "archive", "--new-passphrase-file", "pass", "--output", "locked.tar"])
        .expect(0);
    let locked = unpacked(&s, "locked.tar").remove(2).2;
    assert!(matches!(private_key::read(&zeroize::Zeroizing::new(locked), "it").unwrap(), Stored::Locked(_)));
    s.run(&["export", "saltmarsh", "--as", "archive", "--output", "root.tar"]).expect(0);
    let names: Vec<String> = unpacked(&s, "root.tar").into_iter().map(|f| f.0).collect();
    assert_eq!(names, ["saltmarsh/INSTALL.txt", "saltmarsh/root.pem", "saltmarsh/root.crt"]);
    if has(&["tar"]) {
        let listed = std::process::Command::new("tar").arg("tf").arg(s.lab("charts.tar")).output().unwrap();
        assert_eq!(String::from_utf8_lossy(&listed.stdout).lines().count(), 5);
    }
}

#[test]
fn the_lab_is_on_one_page_that_loads_nothing() {
    let s = lab();
    s.run(&["issue", "old.saltmarsh.test", "--not-before", "2020-01-01T00:00:00Z", "--valid-for", "30d"]).expect(0);
    let s2 = s.json(&["status", "--report", "lab.html"]).expect(1).json();
    let page = std::fs::read_to_string(s.lab("lab.html")).unwrap();
    for c in s2["certificates"].as_array().unwrap() {
        assert!(page.contains(&format!("<b>{}</b>", c["label"].as_str().unwrap())), "{c}");
    }
    for o in s2["open"].as_array().unwrap() {
        assert!(page.contains(o["remedy"].as_str().unwrap()), "{o}");
    }
    assert!(page.contains("default-src 'none'") && !page.contains("<script") && !page.contains("http://"));
    assert!(page.contains("class=\"bar out\""), "what has expired is not drawn as expired");
}

#[test]
fn every_command_has_a_page_in_the_manual() {
    let s = crate::sandbox();
    s.run(&["manual", "--into", "man", "--dry-run"]).expect(0);
    assert!(!s.lab("man").exists());
    let v = s.json(&["manual", "--into", "man"]).expect(0).json();
    let pages: Vec<&str> = v["pages"].as_array().unwrap().iter().map(|p| p.as_str().unwrap()).collect();
    for page in [
        "tamga.1",
        "tamga-check.1",
        "tamga-authority-create.1",
        "tamga-trust-share.1",
        "tamga-apply.1",
        "tamga-manual.1",
    ] {
        assert!(pages.contains(&page), "{page} is not among {pages:?}");
        let text = std::fs::read_to_string(s.lab("man").join(page)).unwrap();
        assert!(text.contains(".TH") && text.contains(".SH"), "{page}: {text}");
    }
    let text = std::fs::read_to_string(s.lab("man/tamga-check.1")).unwrap();
    assert!(
        text.contains("EXIT STATUS")
            && text.contains("ENVIRONMENT")
            && text.contains(".SH EXAMPLES\n.nf\ntamga check")
            && text.contains("observe"),
        "{text}"
    );
    assert_eq!(pages.len(), s.files("lab/man").len());
}
