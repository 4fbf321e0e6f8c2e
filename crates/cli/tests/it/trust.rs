//! Roots into stores and out of them again.

use crate::{lab, sandbox};
use tamga_testkit::sandbox::has;

#[test]
fn a_bundle_is_byte_for_byte_as_before() {
    let s = lab();
    for (name, before) in
        [("empty.pem", &b""[..]), ("open-end.pem", b"# comment without line end"), ("crlf.pem", b"# x\r\n\r\n")]
    {
        std::fs::write(s.lab(name), before).unwrap();
        let words = ["--stores", "bundle", "--bundle", name];
        let added = s.json(&[&["trust", "add"], &words[..]].concat()).expect(0).json();
        assert_eq!(
            (added["stores"][0]["change"].as_str(), added["stores"][0]["state"].as_str()),
            (Some("added"), Some("present"))
        );
        let with = std::fs::read(s.lab(name)).unwrap();
        let again = s.json(&[&["trust", "add"], &words[..]].concat()).expect(0).json();
        assert_eq!(again["stores"][0]["change"], "none");
        assert_eq!(std::fs::read(s.lab(name)).unwrap(), with);
        s.run(&[&["trust", "remove"], &words[..]].concat()).expect(0);
        let after = std::fs::read(s.lab(name)).unwrap();
        // An open last line was closed: that one byte stays, nothing else.
        assert!(after == before || after == [before, b"\n"].concat(), "{name}");
        assert_eq!(
            s.json(&[&["trust", "remove"], &words[..]].concat()).expect(0).json()["stores"][0]["change"],
            "none"
        );
    }
    // A bundle that is not there yet is made, and goes back to nothing but an empty file.
    let made = s.json(&["trust", "add", "--stores", "bundle", "--bundle", "new.pem"]).expect(0).json();
    assert_eq!(made["stores"][0]["state"], "present");
    assert!(std::fs::read_to_string(s.lab("new.pem")).unwrap().contains("BEGIN CERTIFICATE"));
    // A store that was named and does not have the root afterwards is no success.
    for (words, code) in [
        (&["trust", "add", "--stores", "bundle"][..], 4),
        (&["trust", "add", "--stores", "bundle", "--bundle", "no/such/folder.pem"], 4),
        (&["trust", "add", "--stores", "bundle", "--bundle", "."], 4),
        (&["trust", "add", "--stores", "macos-user"], 4),
        (&["setup", "x.saltmarsh.test", "--stores", "bundle"], 4),
        (&["setup", "x.saltmarsh.test", "--stores", "bundle", "--bundle", "no/such/folder.pem"], 4),
    ] {
        let ran = s.json(words).expect(code).json();
        assert_eq!((&ran["ok"], &ran["stores"][0]["change"]), (&false.into(), &"failed".into()), "{words:?}: {ran}");
    }
}

#[test]
fn the_system_store_takes_and_gives_back() {
    if !has(&["update-ca-certificates"]) {
        return;
    }
    let s = lab();
    // Another root that must survive.
    s.run(&["--data-dir", "other", "authority", "create", "harbour"]).expect(0);
    let foreign = s.path("root/usr/local/share/ca-certificates/harbour.crt");
    std::fs::copy(s.lab("other/authorities/harbour/certificate.pem"), &foreign).unwrap();

    let added = s.json(&["trust", "add", "--scope", "machine"]).expect(0).json();
    assert_eq!(
        (added["stores"][0]["store"].as_str(), added["stores"][0]["change"].as_str()),
        (Some("system"), Some("added"))
    );
    let sha = added["stores"][0]["root"]["sha256"].as_str().unwrap().to_owned();
    let mark = format!("tamga-saltmarsh-{}", &sha[..8]);
    assert!(s.path(&format!("root/usr/local/share/ca-certificates/{mark}.crt")).exists());
    let bundle = || std::fs::read_to_string(s.path("root/etc/ssl/certs/ca-certificates.crt")).unwrap();
    assert_eq!(bundle().matches("BEGIN CERTIFICATE").count(), 2);
    assert_eq!(s.json(&["trust", "status", "--scope", "machine"]).expect(0).json()["stores"][0]["state"], "present");
    assert_eq!(s.json(&["trust", "add", "--scope", "machine"]).expect(0).json()["stores"][0]["change"], "none");

    s.run(&["trust", "remove", "--scope", "machine"]).expect(0);
    assert_eq!(bundle(), std::fs::read_to_string(&foreign).unwrap());
    for entry in std::fs::read_dir(s.path("root/etc/ssl/certs")).unwrap().flatten() {
        let dangling = entry.path().symlink_metadata().unwrap().is_symlink() && !entry.path().exists();
        assert!(!dangling, "{} dangles", entry.path().display());
        assert!(!entry.file_name().to_string_lossy().contains("saltmarsh"));
    }
    s.run(&["trust", "status", "--scope", "machine"]).expect(1);
}

#[test]
fn a_failing_update_is_undone_and_reported() {
    let mut s = lab();
    s.stand_in("update-ca-certificates", "#!/bin/sh\necho 'E: the disk is full' >&2\nexit 1\n");
    let v = s.json(&["trust", "add", "--stores", "system"]).expect(4).json();
    assert_eq!(v["stores"][0]["change"], "failed");
    assert!(v["stores"][0]["why"].as_str().unwrap().contains("the disk is full"));
    assert!(s.files("root/usr/local/share/ca-certificates").is_empty(), "the anchor was left behind");
    // One that says yes and does nothing is found out.
    s.stand_in("update-ca-certificates", "#!/bin/sh\nexit 0\n");
    let v = s.json(&["trust", "add", "--stores", "system"]).expect(4).json();
    assert!(v["stores"][0]["why"].as_str().unwrap().contains("fresh look"));
}

#[test]
fn what_cannot_be_undone_is_named() {
    let mut s = lab();
    // The command fails, and something has taken the place of the anchor meanwhile.
    let anchors = s.path("root/usr/local/share/ca-certificates");
    let script = format!(
        "#!/bin/sh\ncd {} || exit 2\nfor f in *; do rm \"$f\"; mkdir \"$f\"; : > \"$f/inside\"; done\nexit 1\n",
        anchors.display()
    );
    s.stand_in("update-ca-certificates", &script);
    let v = s.json(&["trust", "add", "--stores", "system"]).expect(6).json();
    let why = v["stores"][0]["why"].as_str().unwrap();
    assert!(why.contains("still to do: remove") && why.contains(".crt"), "{v}");
    assert!(v["stores"][0]["remedy"].as_str().unwrap().contains("by hand"), "{v}");
}

#[test]
fn a_java_store_that_was_passed_over_is_reported() {
    if !has(&["update-ca-certificates"]) {
        return;
    }
    let s = lab();
    std::fs::create_dir_all(s.path("root/etc/ssl/certs/java")).unwrap();
    std::fs::write(s.path("root/etc/ssl/certs/java/cacerts"), b"\xfe\xed\xfe\xed no root of ours").unwrap();
    let v = s.json(&["trust", "add", "--stores", "system"]).expect(4).json();
    assert_eq!(v["stores"][0]["change"], "added");
    assert!(v["stores"][0]["why"].as_str().unwrap().contains("Java"), "{v}");
}

#[test]
fn a_store_that_is_not_there_is_said_and_no_failure() {
    let s = lab().without_clients();
    let v = s.json(&["trust", "add"]).expect(0).json();
    for row in v["stores"].as_array().unwrap() {
        assert_eq!(row["state"], "unavailable");
        assert!(!row["why"].as_str().unwrap().is_empty() && !row["remedy"].as_str().unwrap().is_empty());
    }
}

#[test]
fn the_browser_database_follows_the_rule_of_the_two_folders() {
    if !has(&["chromium"]) {
        return;
    }
    let s = lab();
    s.run(&["trust", "add"]).expect(0);
    assert!(s.path("home/.local/share/pki/nssdb/cert9.db").exists() && !s.path("home/.pki").exists());
    assert_eq!(s.json(&["trust", "add", "--stores", "chromium"]).expect(0).json()["stores"][0]["change"], "none");
    // Another person's root in the same database survives ours.
    s.run(&["authority", "create", "second"]).expect(0);
    s.run(&["trust", "add", "second"]).expect(0);
    s.run(&["trust", "remove", "saltmarsh"]).expect(0);
    assert_eq!(
        s.json(&["trust", "status", "second", "--stores", "chromium"]).expect(0).json()["stores"][0]["state"],
        "present"
    );
    // As soon as the older directory is there, it alone counts.
    std::fs::create_dir_all(s.path("home/.pki/nssdb")).unwrap();
    assert_eq!(
        s.json(&["trust", "status", "second", "--stores", "chromium"]).expect(1).json()["stores"][0]["state"],
        "absent"
    );
    s.run(&["trust", "add", "second"]).expect(0);
    assert!(s.path("home/.pki/nssdb/cert9.db").exists());
}

#[test]
fn a_damaged_browser_database_is_reported_and_left_alone() {
    if !has(&["chromium"]) {
        return;
    }
    let s = lab();
    let folder = s.path("home/.local/share/pki/nssdb");
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(folder.join("cert9.db"), b"this is no database at all, but longer than a page header would be")
        .unwrap();
    let v = s.json(&["trust", "add"]).expect(4).json();
    assert!(v["stores"][0]["why"].as_str().unwrap().contains("SEC_ERROR"), "{v}");
    assert!(std::fs::read(folder.join("cert9.db")).unwrap().starts_with(b"this is no database"));
}

#[test]
fn what_is_no_authority_goes_into_no_store() {
    let s = lab();
    s.run(&["trust", "add", "charts/certificate.pem"]).expect(3);
    s.run(&["trust", "add", "no-such-root"]).expect(3);
    s.run(&["trust", "add", "--stores", "no-such-store"]).expect(2);
    sandbox().run(&["trust", "add"]).expect(3);
}

#[test]
fn a_root_without_limits_or_past_its_end_is_taken_in_only_knowingly() {
    let s = lab();
    std::fs::write(s.lab("bundle.pem"), "").unwrap();
    s.run(&["--data-dir", "other", "authority", "create", "open", "--permit-any"]).expect(0);
    let file = "other/authorities/open/certificate.pem";
    let words = ["trust", "add", file, "--stores", "bundle", "--bundle", "bundle.pem"];
    let said = s.json(&words).expect(3).json();
    assert_eq!(said["error"]["code"], "unconstrained", "{said}");
    assert!(said["error"]["remedy"].as_str().unwrap().contains("--accept unconstrained"), "{said}");
    assert_eq!(std::fs::read_to_string(s.lab("bundle.pem")).unwrap(), "");
    s.run(&[&words[..], &["--accept", "weak-key"]].concat()).expect(3);
    s.run(&[&words[..], &["--accept", "unconstrained"]].concat()).expect(0);
    assert!(std::fs::read_to_string(s.lab("bundle.pem")).unwrap().contains("BEGIN CERTIFICATE"));
    // Out again it goes without a question.
    s.run(&["trust", "remove", file, "--stores", "bundle", "--bundle", "bundle.pem"]).expect(0);
    assert_eq!(std::fs::read_to_string(s.lab("bundle.pem")).unwrap(), "");
    // One of our own, by its label or its file, was made knowingly.
    s.run(&["authority", "create", "wide", "--permit-any"]).expect(0);
    let own = s.path("data/authorities/wide/certificate.pem").display().to_string();
    for root in ["wide", &own] {
        s.run(&["trust", "add", root, "--stores", "bundle", "--bundle", "bundle.pem"]).expect(0);
    }
}

#[test]
fn an_older_root_of_the_same_name_is_reported_and_removed_with_a_yes() {
    let s = lab();
    std::fs::write(s.lab("bundle.pem"), "").unwrap();
    let stores = ["--stores", "bundle", "--bundle", "bundle.pem"];
    // The same name from another data directory: an authority made again.
    s.run(&["--data-dir", "old", "authority", "create", "saltmarsh"]).expect(0);
    s.run(&[&["--data-dir", "old", "trust", "add"], &stores[..]].concat()).expect(0);
    let old = std::fs::read_to_string(s.lab("bundle.pem")).unwrap();
    let said = s.run(&[&["trust", "add"], &stores[..]].concat()).expect(0).out;
    assert!(said.contains("an older root of the same name") && said.contains("--yes takes it out"), "{said}");
    assert!(std::fs::read_to_string(s.lab("bundle.pem")).unwrap().starts_with(&old), "nothing is taken out unasked");
    let v = s.json(&[&["trust", "add", "--yes"], &stores[..]].concat()).expect(0).json();
    let changes: Vec<&str> = v["stores"].as_array().unwrap().iter().map(|r| r["change"].as_str().unwrap()).collect();
    assert_eq!(changes, ["none", "removed"], "{v}");
    let now = std::fs::read_to_string(s.lab("bundle.pem")).unwrap();
    assert_eq!(now.matches("BEGIN CERTIFICATE").count(), 1);
    assert!(!now.contains(old.lines().next().unwrap()), "the older one's mark is gone");
    // Somebody else's root of whatever name is nobody's to offer.
    assert!(!s.run(&[&["trust", "add"], &stores[..]].concat()).expect(0).out.contains("older"));
}

#[test]
fn a_certificate_that_is_no_ca_goes_only_where_a_store_can_hold_it_for_servers() {
    let s = lab();
    // A leaf of an authority: its root is what belongs there.
    let leaf = s.run(&["trust", "add", "charts/certificate.pem"]).expect(3);
    assert!(leaf.err.contains("no CA") && leaf.err.contains("tamga trust add ROOT.pem"), "{}", leaf.err);
    // Somebody else's self-signed one: each client's own way, or by knowing acceptance.
    s.run(&["--data-dir", "other", "issue", "localhost", "--self-signed", "--label", "theirs"]).expect(0);
    let foreign = s.run(&["trust", "add", "theirs/certificate.pem"]).expect(3);
    assert!(foreign.err.contains("curl --cacert") && foreign.err.contains("--accept"), "{}", foreign.err);
    std::fs::write(s.lab("bundle.pem"), "# the lab's\n").unwrap();
    let bundle = ["--stores", "bundle,chromium", "--bundle", "bundle.pem"];
    let accept = ["trust", "add", "theirs/certificate.pem", "--accept", "intermediate-not-a-ca"];
    s.run(&[&accept[..], &bundle].concat()).expect(5);
    s.run(&[&["trust", "remove", "theirs/certificate.pem"][..], &bundle].concat()).expect(0);
    // Our own by its label.
    s.run(&["issue", "localhost", "--self-signed", "--label", "own"]).expect(0);
    let v = s.json(&[&["trust", "add", "own"][..], &bundle].concat()).expect(5).json();
    let rows = v["stores"].as_array().unwrap();
    let of = |store: &str| rows.iter().find(|r| r["store"] == store).unwrap_or_else(|| panic!("{v}"));
    assert_eq!((of("bundle")["state"].as_str(), of("bundle")["change"].as_str()), (Some("present"), Some("added")));
    assert!(of("chromium")["why"].to_string().contains("authorities only"), "{v}");
    let status = s.json(&["trust", "status", "--bundle", "bundle.pem"]).json();
    assert_eq!(status["leftovers"].as_array().unwrap().len(), 0, "{status}");
    if has(&["curl"]) {
        let site = tamga_testkit::site::Site::start(&s, &["own"]);
        let ran = std::process::Command::new("curl")
            .args(["-q", "-sS", "--noproxy", "*", "--capath", "/nowhere", "--cacert", "bundle.pem"])
            .arg(format!("https://localhost:{}/", site.port))
            .current_dir(s.lab(""))
            .output()
            .unwrap();
        assert!(ran.status.success(), "{ran:?}");
    }
    s.run(&["leave", "--yes", "--bundle", "bundle.pem"]).expect(0);
    assert_eq!(std::fs::read_to_string(s.lab("bundle.pem")).unwrap(), "# the lab's\n");
}
