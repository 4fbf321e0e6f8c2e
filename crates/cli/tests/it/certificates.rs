//! Certificates through their whole life: profiles, requests, renewal, revocation, many at once.

use crate::{lab, sandbox};
use serde_json::Value;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::{judge, mutual, sample};

fn leaf(s: &Sandbox, folder: &str) -> Vec<u8> {
    sample::certificate(&s.lab(&format!("{folder}/certificate.pem"))).der().to_vec()
}

fn codes(v: &Value) -> Vec<String> {
    v["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap().to_owned()).collect()
}

/// Every key kind × purpose × kind of name, read back by a parser that shares no code with ours.
#[test]
fn every_profile_is_read_back_by_an_independent_parser() {
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh", "--purpose", "server,client,mail,code"]).expect(0);
    let names = [
        ("charts.saltmarsh.test", "dns:charts.saltmarsh.test"),
        ("*.buoys.saltmarsh.test", "dns:*.buoys.saltmarsh.test"),
        ("192.168.7.7", "ip:c0a80707"),
        ("fd00::7", "ip:fd000000000000000000000000000007"),
        ("lab-operator@saltmarsh.test", "mail:lab-operator@saltmarsh.test"),
        ("URI:https://charts.saltmarsh.test/x", "uri:https://charts.saltmarsh.test/x"),
    ];
    let kinds = KeyAlgorithm::ALL.into_iter().filter(|k| !matches!(k, KeyAlgorithm::Rsa3072 | KeyAlgorithm::Rsa4096));
    for kind in kinds {
        // One key of each kind serves all its certificates: RSA keys are slow to make.
        let word = kind.word();
        s.run(&["issue", "localhost", "--label", word, "--key-algorithm", word]).expect(0);
        for purposes in ["server", "client", "mail", "code", "server,client", "client,mail"] {
            let label = format!("{word}-{}", purposes.replace(',', "-"));
            let mut words = vec!["issue"];
            words.extend(names.iter().map(|n| n.0));
            let key = format!("{word}/private-key.pem");
            words.extend(["--label", &label, "--purpose", purposes, "--key-file", &key]);
            s.run(&words).expect(0);
            let read = judge::parsed(&leaf(&s, &label));
            assert_eq!(read.names, names.map(|n| n.1), "{label}");
            assert_eq!(read.purposes, purposes.split(',').collect::<Vec<_>>(), "{label}");
            assert!(!read.ca && !read.usage.contains(&"keyCertSign"), "{label}");
            assert!(read.usage.contains(&"digitalSignature"), "{label}");
            let rsa = matches!(kind, KeyAlgorithm::Rsa2048);
            let carries = rsa && (purposes.contains("server") || purposes.contains("mail"));
            let agrees = word.starts_with('p') && purposes.contains("mail");
            assert_eq!(read.usage.contains(&"keyEncipherment"), carries, "{label}");
            assert_eq!(read.usage.contains(&"keyAgreement"), agrees, "{label}");
            assert_eq!(read.days, 397, "{label}");
            assert!(read.serial.len() == 16 && read.serial[0] & 0xc0 == 0x40, "{label}");
            s.run(&["match", &format!("{label}/certificate.pem"), &key]).expect(0);
        }
    }
}

#[test]
fn purposes_that_do_not_go_together_or_were_not_given_are_refused() {
    let s = lab();
    let refused = |words: &[&str]| s.json(words).expect(3).json()["error"]["code"].as_str().unwrap().to_owned();
    assert_eq!(refused(&["issue", "a@saltmarsh.test", "--purpose", "mail"]), "purpose-missing");
    assert_eq!(refused(&["issue", "x.test", "--purpose", "code", "--self-signed"]), "purpose-missing");
    s.run(&["authority", "create", "post", "--purpose", "mail,code,server"]).expect(0);
    assert_eq!(
        refused(&["issue", "a@saltmarsh.test", "--purpose", "server,mail", "--issuer", "post"]),
        "purpose-missing"
    );
    assert_eq!(refused(&["issue", "x.test", "--purpose", "client", "--issuer", "post"]), "purpose-missing");
    s.run(&["issue", "lab-operator@saltmarsh.test", "--purpose", "mail", "--issuer", "post"]).expect(0);
    s.run(&["issue", "x.test", "--purpose", "butter"]).expect(2);
    assert!(!s.lab("x.test").exists());
}

/// Real handshakes for every key kind that TLS knows, and a twin of each profile that the same client refuses.
#[test]
fn real_clients_take_each_profile_and_refuse_its_twin() {
    if !has(&["curl"]) {
        return;
    }
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    let root = s.path("data/authorities/saltmarsh/certificate.pem");
    let identity = |folder: &str| sample::Identity {
        certificate: sample::certificate(&s.lab(&format!("{folder}/certificate.pem"))),
        key: tamga_core::ca::authority::read_key(
            &std::fs::read(s.lab(&format!("{folder}/private-key.pem"))).unwrap(),
            "k",
        )
        .unwrap(),
    };
    for kind in ["p256", "p384", "ed25519", "rsa2048"] {
        let served = format!("served-{kind}");
        s.run(&["issue", "localhost", "--label", &served, "--key-algorithm", kind]).expect(0);
        assert_eq!(judge::curl("localhost", sample::serve(&identity(&served), &[]).port, &root), 0, "{kind}");
        // The twin: the same key for clients alone.
        let twin = format!("twin-{kind}");
        let key = format!("{served}/private-key.pem");
        s.run(&["issue", "localhost", "--label", &twin, "--purpose", "client", "--key-file", &key]).expect(0);
        assert_eq!(judge::curl("localhost", sample::serve(&identity(&twin), &[]).port, &root), 60, "{kind}");
    }
    // Both sides show a certificate: a client's is taken, a server's and none are not.
    s.run(&["issue", "operator.saltmarsh.test", "--label", "operator", "--purpose", "client"]).expect(0);
    let server = identity("served-p256");
    let port = mutual::serve(std::slice::from_ref(&server.certificate), &server.key, &sample::certificate(&root));
    assert_eq!(judge::curl_as(Some(&s.lab("operator")), port, &root), 0);
    assert_ne!(judge::curl_as(Some(&s.lab("served-p256")), port, &root), 0);
    assert_ne!(judge::curl_as(None, port, &root), 0);
}

#[test]
fn what_deserves_a_remark_gets_it_before_anything_is_written() {
    let s = lab();
    let said = |words: &[&str]| codes(&s.json(words).expect(0).json());
    assert_eq!(said(&["issue", "a.test", "--valid-for", "900d"]), ["validity-too-long"]);
    assert_eq!(said(&["issue", "b.test", "--common-name", "c.saltmarsh.test"]), ["common-name-unlisted"]);
    assert_eq!(said(&["issue", "b.test", "--label", "b2"]), ["live-duplicate"]);
    assert_eq!(said(&["issue", "my_host.test"]), ["name-not-covered"]);
    let s2 = sandbox();
    s2.run(&["authority", "create", "wide", "--permit", "saltmarsh.org"]).expect(0);
    assert_eq!(codes(&s2.json(&["issue", "saltmarsh.org"]).expect(0).json()), ["public-name"]);
    // A weak key of one's own is refused, and taken when that is accepted.
    std::fs::write(s.lab("weak.pem"), sample::weak_key()).unwrap();
    let words = ["issue", "gauge-7.saltmarsh.test", "--key-file", "weak.pem"];
    assert_eq!(s.json(&words).expect(3).json()["error"]["code"], "weak-key");
    assert!(!s.lab("gauge-7.saltmarsh.test").exists());
    s.run(&[&words[..], &["--accept", "weak-key"]].concat()).expect(0);
    s.run(&["issue", "z.test", "--accept", "no-such-code"]).expect(2);
}

#[test]
fn like_another_takes_over_its_terms() {
    let s = lab();
    let words = [
        "issue",
        "a.test",
        "--purpose",
        "client",
        "--key-algorithm",
        "p384",
        "--valid-for",
        "90d",
        "--organization",
        "Saltmarsh",
    ];
    s.run(&words).expect(0);
    s.run(&["authority", "create", "second"]).expect(0);
    s.run(&["issue", "b.test", "--like", "a.test"]).expect(0);
    let (a, b) = (leaf(&s, "a.test"), leaf(&s, "b.test"));
    let (a, b) = (judge::parsed(&a), judge::parsed(&b));
    assert_eq!((a.purposes, a.days, a.key), (b.purposes, b.days, b.key));
    let b = sample::certificate(&s.lab("b.test/certificate.pem"));
    assert!(b.subject_words().contains("O=Saltmarsh"), "{}", b.subject_words());
    s.run(&["issue", "c.test", "--like", "nobody"]).expect(3);
}

#[test]
fn renewal_keeps_names_purpose_and_place() {
    let s = lab();
    let before = sample::certificate(&s.lab("charts/certificate.pem"));
    let listed = s.files("lab/charts");
    s.run(&["renew", "charts"]).expect(0);
    let after = sample::certificate(&s.lab("charts/certificate.pem"));
    assert_eq!(after.name_words(), before.name_words());
    assert_eq!((&after.purposes, &after.subject), (&before.purposes, &before.subject));
    assert!(after.key != before.key && after.serial != before.serial);
    assert_eq!(s.files("lab/charts"), listed);
    s.run(&["match", "charts/certificate.pem", "charts/private-key.pem"]).expect(0);
    // The same key, other names.
    s.run(&["renew", "charts", "--reuse-key", "--add", "archive.saltmarsh.test", "--drop", "::1"]).expect(0);
    let third = sample::certificate(&s.lab("charts/certificate.pem"));
    assert_eq!(third.key, after.key);
    assert_eq!(third.name_words(), ["charts.saltmarsh.test", "localhost", "127.0.0.1", "archive.saltmarsh.test"]);
    let states: Vec<String> = s.json(&["list"]).expect(0).json()["certificates"]
        .as_array()
        .unwrap()
        .iter()
        .map(|c| c["state"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(states, ["superseded", "superseded", "valid"]);
    s.run(&["renew", "charts", "--drop", "nobody.test"]).expect(3);
    s.run(&["renew", "charts", "--add", "saltmarsh.org"]).expect(3);
    s.run(&["renew", "nobody"]).expect(3);
    // A key that was moved.
    std::fs::rename(s.lab("charts/private-key.pem"), s.lab("moved.pem")).unwrap();
    let ran = s.run(&["renew", "charts", "--reuse-key"]).expect(3);
    assert!(ran.err.contains("--key-file"), "{}", ran.err);
    s.run(&["renew", "charts", "--key-file", "moved.pem"]).expect(0);
    assert_eq!(sample::certificate(&s.lab("charts/certificate.pem")).key, after.key);
    // Revoking says which others there are, and revokes all if asked.
    let ran = s.run(&["revoke", "charts", "--reason", "key-compromise", "--yes"]).expect(0);
    assert!(ran.out.contains("--every"));
    let v = s.json(&["revoke", "charts", "--reason", "key-compromise", "--yes", "--every"]).expect(0).json();
    assert_eq!(v["revoked"].as_array().unwrap().len(), 3);
    assert!(
        s.json(&["check", "charts", "--name", "localhost", "--anchor", "charts/root.pem"])
            .expect(0)
            .out
            .contains("\"revoked\"")
    );
}

#[test]
fn what_is_due_is_renewed_and_nothing_else() {
    let s = lab();
    s.run(&["issue", "soon.test", "--valid-for", "20d"]).expect(0);
    s.run(&["issue", "old.test", "--not-before", "2026-01-01", "--valid-for", "400d"]).expect(0);
    let due = s.json(&["list", "--due", "30d"]).expect(0).json();
    assert_eq!(due["certificates"].as_array().unwrap().len(), 1);
    let v = s.json(&["renew", "--due", "30d"]).expect(0).json();
    assert_eq!(v["certificates"][0]["label"], "soon.test");
    assert_eq!(v["certificates"].as_array().unwrap().len(), 1);
    // Without a span: those of which a third of the life or less is left.
    assert!(s.run(&["renew", "--dry-run"]).expect(0).out.contains("would renew old.test"));
    let v = s.json(&["renew"]).expect(0).json();
    assert_eq!(
        (v["certificates"].as_array().unwrap().len(), v["certificates"][0]["label"].as_str()),
        (1, Some("old.test"))
    );
    assert!(s.run(&["renew"]).expect(0).out.contains("nothing is due"));
    assert!(sandbox().run(&["renew"]).expect(0).out.contains("nothing is due"));
}

#[test]
fn an_encrypted_key_is_followed_by_an_encrypted_one() {
    let s = lab();
    std::fs::write(s.lab("pass"), "spring tide\n").unwrap();
    s.run(&["issue", "x.test", "--new-passphrase-file", "pass"]).expect(0);
    let key = || std::fs::read_to_string(s.lab("x.test/private-key.pem")).unwrap();
    assert!(key().contains("ENCRYPTED"));
    s.run(&["renew", "x.test"]).expect(3);
    s.run(&["renew", "x.test", "--passphrase-file", "pass"]).expect(0);
    assert!(key().contains("ENCRYPTED"));
    s.run(&["match", "x.test"]).expect(1);
    s.run(&["match", "x.test", "--passphrase-file", "pass"]).expect(0);
}

#[test]
fn a_request_goes_out_and_its_certificate_comes_back() {
    let s = lab();
    s.run(&["request", "archive.saltmarsh.test", "10.0.0.9", "--into", "out", "--label", "archive"]).expect(0);
    let names: Vec<String> =
        s.files("lab/out").iter().map(|(p, _)| p.file_name().unwrap().to_string_lossy().into_owned()).collect();
    assert_eq!(names, [".gitignore", "private-key.pem", "request.pem"]);
    assert_eq!(s.json(&["list"]).expect(0).json()["certificates"][1]["state"], "waiting");
    s.run(&["issue", "archive.saltmarsh.test", "--label", "archive"]).expect(3);
    // Signed by an authority of another data directory, with one name fewer.
    let other = |words: &[&str], code| s.json(&[&["--data-dir", "other"], words].concat()).expect(code).json();
    other(&["authority", "create", "harbour"], 0);
    other(&["authority", "create", "web", "--issuer", "harbour"], 0);
    let v = other(&["sign", "out/request.pem", "archive.saltmarsh.test", "--issuer", "web", "--into", "back"], 0);
    assert_eq!(codes(&v), ["names-missing"]);
    assert!(v["certificates"][0]["files"]["private_key"].is_null() && !s.lab("back/private-key.pem").exists());
    s.run(&["receive", "archive", "--certificate", "charts/certificate.pem"]).expect(3);
    let v = s.json(&["receive", "archive", "--certificate", "back/certificate.pem"]).expect(0).json();
    assert_eq!(codes(&v), ["names-missing", "chain-incomplete"]);
    assert!(!s.lab("out/request.pem").exists() && !s.lab("out/root.pem").exists());
    s.run(&["match", "out"]).expect(0);
    s.run(&["renew", "archive"]).expect(2);
    s.run(&["revoke", "archive", "--reason", "superseded", "--yes"]).expect(3);
    // With the root at hand the directory is complete.
    s.run(&["request", "b.saltmarsh.test"]).expect(0);
    other(&["sign", "b.saltmarsh.test/request.pem", "--issuer", "web", "--into", "b-back"], 0);
    let words =
        ["receive", "b.saltmarsh.test", "--certificate", "b-back/certificate.pem", "--intermediate", "b-back/root.pem"];
    assert_eq!(codes(&s.json(&words).expect(0).json()), Vec::<String>::new());
    s.run(&["check", "b.saltmarsh.test", "--name", "b.saltmarsh.test", "--anchor", "b.saltmarsh.test/root.pem"])
        .expect(0);
}

#[test]
fn a_request_is_shown_judged_and_only_honoured_where_it_may() {
    let s = lab();
    // A request for an authority, signed as a certificate: said not to be honoured.
    s.run(&["--data-dir", "o", "authority", "request", "web", "--output", "web.pem"]).expect(0);
    let v = s.json(&["sign", "web.pem", "x.saltmarsh.test"]).expect(0).json();
    assert!(codes(&v).contains(&"not-honoured".to_owned()));
    assert!(!judge::parsed(&leaf(&s, "x.saltmarsh.test")).ca);
    // Outside the constraints; for a purpose that the authority lacks; nothing that names anybody.
    s.run(&["request", "saltmarsh.org"]).expect(0);
    assert_eq!(s.json(&["sign", "saltmarsh.org/request.pem"]).expect(3).json()["error"]["code"], "constraint-violated");
    assert_eq!(s.json(&["sign", "web.pem"]).expect(3).json()["error"]["code"], "names-missing");
    // One whose bytes were changed after it was signed.
    let text = std::fs::read(s.lab("saltmarsh.org/request.pem")).unwrap();
    let mut der = tamga_core::pki::format::pem::read(&text).0.remove(0).der.to_vec();
    let at = der.windows(9).position(|w| w == b"saltmarsh").unwrap();
    der[at] = b'S';
    std::fs::write(s.lab("changed.der"), &der).unwrap();
    assert_eq!(s.json(&["sign", "changed.der"]).expect(3).json()["error"]["code"], "bad-signature");
    // Bare base64, as a console hands it out, with a mark in front.
    let b64: String = std::str::from_utf8(&text).unwrap().lines().filter(|l| !l.starts_with('-')).collect();
    std::fs::write(s.lab("bare.txt"), b64).unwrap();
    assert_eq!(s.json(&["show", "bare.txt"]).expect(0).json()["objects"][0]["kind"], "request");
}

#[test]
fn a_root_for_one_use_leaves_no_key() {
    let s = sandbox();
    let v = s.json(&["issue", "charts.saltmarsh.org", "localhost", "--single-use-root"]).expect(0).json();
    assert_eq!(v["certificates"][0]["label"], "charts.saltmarsh.org");
    let chain = [leaf(&s, "charts.saltmarsh.org")];
    let root = sample::certificate(&s.lab("charts.saltmarsh.org/root.pem"));
    let at = tamga_host::entropy::now().unix().unsigned_abs();
    judge::webpki(&chain, root.der(), "localhost", at).unwrap();
    let a = s.json(&["authority", "list"]).expect(0).json()["authorities"][0].clone();
    assert_eq!((a["label"].as_str(), a["key"].as_str()), (Some("charts.saltmarsh.org-root"), Some("discarded")));
    let files: Vec<_> = s.files("data").into_iter().chain(s.files("lab")).collect();
    assert_eq!(files.iter().filter(|(p, _)| p.ends_with("private-key.pem")).count(), 1, "{files:?}");
    s.run(&["renew", "charts.saltmarsh.org"]).expect(3);
    s.run(&["issue", "x.test"]).expect(3);
    assert!(
        s.run(&["revoke", "charts.saltmarsh.org", "--reason", "superseded", "--yes"])
            .expect(0)
            .out
            .contains("its key was deleted")
    );
    std::fs::write(s.lab("roots.pem"), "").unwrap();
    s.run(&["trust", "add", "charts.saltmarsh.org-root", "--stores", "bundle", "--bundle", "roots.pem"]).expect(0);
}

#[test]
fn a_list_is_checked_whole_before_the_first_is_made() {
    let s = lab();
    std::fs::write(s.lab("bad.txt"), "a.saltmarsh.test\nb.saltmarsh.test\n*.test\n").unwrap();
    let ran = s.run(&["issue", "--list", "bad.txt", "--into", "many"]).expect(3);
    assert!(ran.err.contains("line 3"), "{}", ran.err);
    std::fs::write(s.lab("twice.txt"), "a.saltmarsh.test\na.saltmarsh.test b.test\n").unwrap();
    assert!(s.run(&["issue", "--list", "twice.txt", "--into", "many"]).expect(3).err.contains("line 2"));
    std::fs::write(s.lab("outside.txt"), "a.saltmarsh.test\nb.saltmarsh.org\n").unwrap();
    s.run(&["issue", "--list", "outside.txt", "--into", "many"]).expect(3);
    assert!(!s.lab("many").exists());
    let lines: String =
        (0..150).map(|n| format!("gauge-{n}.saltmarsh.test 10.1.0.{} # tide gauge\n", n % 250)).collect();
    std::fs::write(s.lab("good.txt"), &lines).unwrap();
    let v = s.json(&["issue", "--list", "good.txt", "--into", "many"]).expect(0).json();
    assert_eq!(v["certificates"].as_array().unwrap().len(), 150);
    let one = sample::certificate(&s.lab("many/gauge-149.saltmarsh.test/certificate.pem"));
    assert_eq!(one.name_words(), ["gauge-149.saltmarsh.test", "10.1.0.149"]);
    // The same list again makes what is missing, and nothing twice.
    std::fs::write(s.lab("good.txt"), lines + "gauge-150.saltmarsh.test\n").unwrap();
    let v = s.json(&["issue", "--list", "good.txt", "--into", "many"]).expect(0).json();
    assert_eq!((v["certificates"].as_array().unwrap().len(), v["unchanged"].as_u64()), (1, Some(150)));
    // Page by page for a person, whole for a program.
    let text = s.run(&["list"]).expect(0).out;
    assert!(text.contains("page 1 of 2, 152 in all") && text.lines().count() < 110);
    assert_eq!(s.json(&["list"]).expect(0).json()["certificates"].as_array().unwrap().len(), 152);
    assert_eq!(
        s.json(&["list", "--page", "2", "--sort", "label"]).expect(0).json()["certificates"].as_array().unwrap().len(),
        52
    );
}

#[test]
fn differences_and_pairs_are_reported() {
    let s = lab();
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    let v = s.json(&["show", "charts", "archive.saltmarsh.test"]).expect(0).json();
    let fields: Vec<&str> = v["differences"].as_array().unwrap().iter().map(|d| d["field"].as_str().unwrap()).collect();
    assert!(
        fields.contains(&"names only here") && fields.contains(&"serial") && !fields.contains(&"issuer"),
        "{fields:?}"
    );
    assert_eq!(v["same_key"], false);
    let same = s.json(&["show", "charts/certificate.pem", "charts/private-key.pem"]).expect(0).json();
    assert_eq!(same["same_key"], true);
    // Mixed up, and in a directory with noise.
    let words = ["match", "charts/private-key.pem", "archive.saltmarsh.test/certificate.pem"];
    assert!(s.run(&words).expect(1).out.contains("no match"));
    std::fs::write(s.lab("noise.bin"), [0x30, 0x82, 0xff]).unwrap();
    let v = s.json(&["match", "."]).expect(0).json();
    let pairs = v["groups"].as_array().unwrap().iter().filter(|g| g["pair"] == true).count();
    assert_eq!(pairs, 2);
    s.run(&["match", "no-such-file"]).expect(4);
}

#[test]
fn a_list_is_narrowed_by_labels_and_names() {
    let s = lab();
    s.run(&["issue", "gauge-7.saltmarsh.test", "192.168.7.7", "--label", "pier"]).expect(0);
    s.run(&["issue", "*.buoys.saltmarsh.test"]).expect(0);
    let labels = |pattern: &str| -> Vec<String> {
        let v = s.json(&["list", pattern]).expect(0).json();
        let rows = v["certificates"].as_array().unwrap();
        assert_eq!(v["total"], rows.len());
        rows.iter().map(|r| r["label"].as_str().unwrap().to_owned()).collect()
    };
    // By label, by a name, by a part of either, whatever the case.
    for pattern in ["pier", "PI", "gauge", "192.168.7.7", "gauge-*.test", "*7.7"] {
        assert_eq!(labels(pattern), ["pier"], "{pattern}");
    }
    assert_eq!(labels("buoys*"), [] as [&str; 0], "with a star the whole name must match");
    assert_eq!(labels("*buoys*"), ["wildcard.buoys.saltmarsh.test"]);
    assert_eq!(labels("saltmarsh.test").len(), 3);
    // Other signs of the database's patterns mean themselves.
    assert_eq!(labels("gauge-?"), [] as [&str; 0]);
    assert_eq!(labels("gauge-[7]*"), [] as [&str; 0]);
    s.json(&["list", &"a".repeat(60_000)]).expect(2);
    assert_eq!(s.run(&["list", "nothing"]).expect(0).out, "none\n");
    assert!(s.run(&["list", "pier"]).expect(0).out.contains("192.168.7.7"));
}

#[test]
fn a_request_that_is_not_signed_with_its_key_is_shown_and_refused() {
    let s = lab();
    s.run(&["request", "archive.saltmarsh.test", "--into", "out"]).expect(0);
    s.run(&["show", "out/request.pem"]).expect(0);
    let text = std::fs::read(s.lab("out/request.pem")).unwrap();
    let mut der = tamga_core::pki::format::pem::read(&text).0.remove(0).der.to_vec();
    // The last octet is the signature's.
    *der.last_mut().unwrap() ^= 1;
    std::fs::write(s.lab("bad.pem"), &*tamga_core::pki::format::pem::write("CERTIFICATE REQUEST", &der)).unwrap();
    let said = s.run(&["show", "bad.pem"]).expect(3).out;
    assert!(said.contains("archive.saltmarsh.test") && said.contains("not made with the key in it"), "{said}");
    assert_eq!(s.json(&["show", "bad.pem"]).expect(3).json()["ok"], false);
    s.run(&["sign", "bad.pem", "--issuer", "saltmarsh"]).expect(3);
}
