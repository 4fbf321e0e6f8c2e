//! Runtimes that read variables, and the other families' stores by stand-ins of their commands.

use crate::lab;
use serde_json::Value;
use tamga_testkit::sandbox::has;
use tamga_testkit::site::Site;

#[test]
fn each_runtime_takes_the_root_from_its_variable_and_refuses_without() {
    if !has(&["node", "python3", "curl"]) {
        return;
    }
    let s = lab();
    // A system's bundle with somebody else's root.
    s.run(&["authority", "create", "harbour"]).expect(0);
    let foreign = std::fs::read(s.path("data/authorities/harbour/certificate.pem")).unwrap();
    std::fs::write(s.path("root/etc/ssl/certs/ca-certificates.crt"), &foreign).unwrap();
    let site = Site::start(&s, &["charts"]);
    let address = format!("https://localhost:{}/", site.port);
    let node = format!("fetch('{address}').then(r=>process.exit(r.status===200?0:1),()=>process.exit(9))");
    let python = format!("import urllib.request as u; u.urlopen('{address}')");
    let programs: [(&str, Vec<&str>); 3] = [
        ("node", vec!["-e", &node]),
        ("python3", vec!["-c", &python]),
        ("curl", vec!["-q", "-sSf", "--noproxy", "*", &address]),
    ];
    for (program, words) in &programs {
        let alone = s.around(program).args(words).env("SSL_CERT_DIR", "/nonexistent").output().unwrap();
        assert!(!alone.status.success(), "{program} accepts it without the variable");
        let reply = s.command(&[&["run", "--", program], &words[..]].concat()).output().unwrap();
        assert!(reply.status.success(), "{program}: {}", String::from_utf8_lossy(&reply.stderr));
    }
    // The same by the printed lines.
    let lines = s.run(&["trust", "environment", "sh"]).expect(0).out;
    assert!(lines.starts_with("export NODE_EXTRA_CA_CERTS=") && !lines.contains("SSL_CERT_FILE"), "{lines}");
    let script = format!("{lines}\nexec node -e \"$1\"");
    assert!(s.around("sh").args(["-c", &script, "sh", &node]).status().unwrap().success());
    let more = s.run(&["trust", "environment", "sh", "--replacing"]).expect(0).out;
    let script = format!("{more}\nexec python3 -c \"$1\"");
    assert!(s.around("sh").args(["-c", &script, "sh", &python]).status().unwrap().success());
    // What replaces a list names all roots of the system too.
    let bundle = std::fs::read(s.path("data/trust/bundle.pem")).unwrap();
    assert!(bundle.starts_with(&foreign) && bundle.len() > foreign.len());
    let v = s.json(&["trust", "environment", "fish", "--replacing"]).expect(0).json();
    assert!(
        v["environment"].as_array().unwrap().iter().any(|e| e["name"] == "SSL_CERT_FILE" && e["effect"] == "replaces")
    );
    assert!(s.run(&["trust", "environment", "container"]).expect(0).out.contains("RUN update-ca-certificates"));
    // The program's own exit code is the answer; one that is not there gets three lines.
    assert_eq!(s.run(&["run", "--", "sh", "-c", "exit 7"]).code, 7);
    assert!(s.run(&["run", "--", "no-such-program"]).expect(127).err.contains("do:"));
    s.run(&["trust", "environment", "tcsh"]).expect(2);
    // The other root stands there as somebody else's: leave would say that it cannot take it out.
    std::fs::write(s.path("root/etc/ssl/certs/ca-certificates.crt"), "").unwrap();
    s.run(&["leave", "--yes"]).expect(0);
    assert!(!s.path("data/trust").exists());
}

#[test]
fn without_an_authority_there_is_nothing_to_set() {
    let s = crate::sandbox();
    s.run(&["trust", "environment"]).expect(3);
    s.run(&["run", "--", "true"]).expect(3);
}

/// Another family: its anchor directory, its command as a stand-in that makes the bundle from the anchors.
fn family(anchors: &str, ending: &str, command: &str, bundle: &str, more: &[&str]) {
    let mut s = lab();
    let root = s.path("root");
    for folder in [anchors, bundle.rsplit_once('/').unwrap().0] {
        std::fs::create_dir_all(root.join(&folder[1..])).unwrap();
    }
    for file in more {
        std::fs::write(root.join(&file[1..]), "").unwrap();
    }
    let (folder, file) = (root.join(&anchors[1..]), root.join(&bundle[1..]));
    let foreign = folder.join(format!("theirs.{ending}"));
    s.run(&["authority", "create", "harbour"]).expect(0);
    std::fs::copy(s.path("data/authorities/harbour/certificate.pem"), &foreign).unwrap();
    let script = format!(
        "#!/bin/sh\necho \"$@\" > {0}/said\ncat {1}/*.{ending} > {2}\n",
        root.display(),
        folder.display(),
        file.display()
    );
    s.stand_in(command, &script);
    let first = std::fs::read(&foreign).unwrap();
    std::fs::write(&file, &first).unwrap();
    let row = |v: &Value| v["stores"][0].clone();
    let words = |verb| ["trust", verb, "saltmarsh", "--stores", "system"];
    let v = s.json(&words("add")).expect(0).json();
    assert!(row(&v)["change"] == "added" && row(&v)["place"] == anchors, "{v}");
    let named: Vec<String> =
        std::fs::read_dir(&folder).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
    assert!(named.iter().any(|n| n.starts_with("tamga-saltmarsh-") && n.ends_with(ending)), "{named:?}");
    assert_eq!(row(&s.json(&words("add")).expect(0).json())["change"], "none");
    assert_eq!(row(&s.json(&words("status")).expect(0).json())["state"], "present");
    let v = s.json(&words("remove")).expect(0).json();
    assert!(row(&v)["change"] == "removed" && std::fs::read(&file).unwrap() == first, "{v}");
    // One that fails is undone and reported.
    s.stand_in(command, "#!/bin/sh\necho 'p11-kit: no space left' >&2\nexit 1\n");
    let v = s.json(&words("add")).expect(4).json();
    assert!(row(&v)["why"].to_string().contains("no space left"), "{v}");
    assert_eq!(std::fs::read_dir(&folder).unwrap().count(), 1, "the anchor was left behind");
}

#[test]
fn the_other_families_of_linux_take_and_give_back() {
    let fedora = "/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem";
    family("/etc/pki/ca-trust/source/anchors", "pem", "update-ca-trust", fedora, &[]);
    family("/etc/pki/trust/anchors", "pem", "update-ca-certificates", "/var/lib/ca-certificates/ca-bundle.pem", &[]);
    let arch = "/etc/ca-certificates/extracted/tls-ca-bundle.pem";
    family("/etc/ca-certificates/trust-source/anchors", "crt", "update-ca-trust", arch, &[]);
    let alpine = ["/etc/alpine-release"];
    let bundle = "/etc/ssl/certs/ca-certificates.crt";
    family("/usr/local/share/ca-certificates", "crt", "update-ca-certificates", bundle, &alpine);
}

#[test]
fn a_declared_system_gets_the_lines_to_declare() {
    let s = lab();
    std::fs::write(s.path("root/etc/NIXOS"), "").unwrap();
    let v = s.json(&["trust", "add", "saltmarsh", "--stores", "system"]).expect(4).json();
    assert!(v["stores"][0]["remedy"].to_string().contains("security.pki.certificateFiles"), "{v}");
    assert_eq!(v["stores"][0]["state"], "unavailable");
    // Where it was not named it is a note.
    s.run(&["trust", "add", "saltmarsh", "--scope", "machine"]).expect(0);
}
