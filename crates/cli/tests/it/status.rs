//! Expiry dates, trust state and open problems.

use crate::{lab, sandbox};
use serde_json::Value;
use std::str::FromStr;
use tamga_testkit::sandbox::Sandbox;

/// The lab, and its root in a bundle: nothing is open.
fn trusted_lab() -> Sandbox {
    let s = lab();
    s.run(&["trust", "add", "saltmarsh", "--stores", "bundle", "--bundle", "bundle.pem"]).expect(0);
    s
}

fn open(s: &Sandbox, code: i32) -> Vec<String> {
    let v: Value = s.json(&["status"]).expect(code).json();
    v["open"].as_array().unwrap().iter().map(|o| o["what"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn a_lab_in_order_is_good_and_looking_changes_nothing() {
    let s = trusted_lab();
    let before = s.files("data");
    let text = s.run(&["status"]).expect(0).out;
    for word in ["saltmarsh", "charts", "as issued", "not encrypted", "nothing is due"] {
        assert!(text.contains(word), "{word}: {text}");
    }
    assert_eq!(open(&s, 0), [""; 0]);
    assert_eq!(s.files("data"), before);
    let nothing = sandbox();
    assert!(nothing.run(&["status"]).expect(0).out.contains("tamga setup"));
    assert!(!nothing.path("data").exists(), "looking made a data directory");
}

#[test]
fn what_is_due_changed_missing_waiting_or_left_over_is_open_with_the_step_that_closes_it() {
    let s = trusted_lab();
    // Of a life of 90 days 20 are left.
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    let at = |days: i64| {
        tamga_core::vocabulary::timestamp::Timestamp::from_unix(i64::try_from(now).unwrap() + days * 86_400).to_string()
    };
    let aged =
        ["issue", "gauge-7.saltmarsh.test", "--label", "gauge", "--not-before", &at(-70), "--not-after", &at(20)];
    s.run(&aged).expect(0);
    assert_eq!(open(&s, 1), ["gauge is due for renewal"]);
    s.run(&["renew", "gauge", "--valid-for", "90d"]).expect(0);
    assert_eq!(open(&s, 0), [""; 0]);
    // Overwritten, cut, gone.
    std::fs::copy(s.lab("gauge/certificate.pem"), s.lab("charts/certificate.pem")).unwrap();
    assert!(open(&s, 1)[0].contains("is not what was issued for charts: it holds CN=gauge-7.saltmarsh.test"));
    std::fs::write(s.lab("charts/certificate.pem"), "-----BEGIN").unwrap();
    assert!(open(&s, 1)[0].contains("holds no certificate any more"));
    std::fs::remove_dir_all(s.lab("charts")).unwrap();
    assert!(open(&s, 1)[0].contains("are not where they were put"));
    assert!(s.run(&["status"]).out.contains("put the directory back"));
    // With the directory back, the step that status prints works.
    std::fs::create_dir(s.lab("charts")).unwrap();
    assert!(s.run(&["status"]).out.contains("tamga renew charts puts a new pair there"));
    s.run(&["renew", "charts"]).expect(0);
    assert_eq!(open(&s, 0), [""; 0]);
    s.run(&["request", "archive.saltmarsh.test"]).expect(0);
    assert!(open(&s, 1)[0].contains("waits for its certificate"));
    std::fs::remove_file(s.path("data/authorities/saltmarsh/private-key.pem")).unwrap();
    assert!(open(&s, 1).iter().any(|o| o.contains("the key of saltmarsh is missing")));
    // A root of another data directory in a store.
    s.run(&["--data-dir", "other", "authority", "create", "buoys"]).expect(0);
    let state = tamga_testkit::stand_ins::security(&s);
    s.run(&["--data-dir", "other", "trust", "add", "--stores", "macos-user"]).expect(0);
    assert!(state.exists() && open(&s, 1).iter().any(|o| o.contains("tamga-buoys-") && o.contains("does not know")));
}

#[test]
fn metrics_are_in_the_open_text_format() {
    let s = trusted_lab();
    s.run(&["status", "--metrics", "tamga.prom"]).expect(0);
    let text = std::fs::read_to_string(s.lab("tamga.prom")).unwrap();
    assert!(text.ends_with("# EOF\n"), "{text}");
    let end = s.json(&["list"]).json()["certificates"][0]["not_after"].as_str().unwrap().to_owned();
    let end = tamga_core::vocabulary::timestamp::Timestamp::from_str(&end).unwrap().unix();
    let sample = text.lines().find(|l| l.starts_with("tamga_certificate_end_seconds{label=\"charts\"")).unwrap();
    assert_eq!(sample.rsplit(' ').next().unwrap(), end.to_string());
    let mut family = String::new();
    for line in text.lines() {
        match line.strip_prefix("# ") {
            Some("EOF") => {}
            Some(rest) => {
                let words: Vec<&str> = rest.splitn(3, ' ').collect();
                assert!(["TYPE", "UNIT", "HELP"].contains(&words[0]) && words.len() == 3, "{line}");
                if words[0] == "TYPE" {
                    family = words[1].to_owned();
                }
                assert_eq!(words[1], family, "{line}");
                assert!(words[0] != "UNIT" || family.ends_with(&format!("_{}", words[2])), "{line}");
            }
            None => {
                let (name, value) = line.rsplit_once(' ').unwrap();
                assert!(name.starts_with(&family) && value.parse::<i64>().is_ok(), "{line}");
            }
        }
    }
    s.run(&["status", "--metrics", "nowhere/tamga.prom"]).expect(4);
}

#[test]
fn how_each_store_is_proved_is_said_for_every_store_and_in_the_docs() {
    let s = trusted_lab();
    let page = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/stores.md")).unwrap();
    let reply = s.run(&["status", "--verbose"]).expect(0).words();
    for store in tamga_core::stores::trust::ALL {
        let (id, how) = (store.id(), store.id().proved());
        assert!(reply.contains(how), "{id}: {reply}");
        let row = page.lines().find(|l| l.starts_with('|') && l.contains(&format!("`{id}`"))).unwrap();
        // The first word of how is the page's too.
        let word = how.split([' ', ',', ';', '.']).take(2).collect::<Vec<_>>().join(" ");
        let same = row.contains(&word) || row.contains("wine") && how.contains("wine");
        assert!(same, "{id}: {word}: {row}");
    }
}

/// Keys are looked at too: missing, another's, readable by others, for certificates and authorities; and the clock.
#[test]
fn keys_and_the_clock_are_looked_at() {
    use std::os::unix::fs::PermissionsExt;
    let codes = |s: &Sandbox| -> Vec<String> {
        let v = s.json(&["status"]).json();
        let all = v["problems"].as_array().unwrap_or_else(|| panic!("{v}"));
        all.iter().filter_map(|p| p["code"].as_str().map(str::to_owned)).collect()
    };
    let s = trusted_lab();
    assert_eq!(codes(&s), Vec::<String>::new());
    for key in [s.lab("charts/private-key.pem"), s.path("data/authorities/saltmarsh/private-key.pem")] {
        let before = std::fs::read(&key).unwrap();
        let bits = |mode| std::fs::set_permissions(&key, std::fs::Permissions::from_mode(mode)).unwrap();
        bits(0o644);
        assert_eq!(codes(&s), ["key-readable-by-others"], "{}", key.display());
        bits(0o600);
        s.run(&["--data-dir", "other", "issue", "x.test", "--self-signed", "--label", "x", "--into", "x"]);
        std::fs::copy(s.lab("x/private-key.pem"), &key).unwrap();
        assert_eq!(codes(&s), ["key-mismatch"], "{}", key.display());
        std::fs::write(&key, "rubbish").unwrap();
        assert_eq!(codes(&s), ["key-mismatch"], "{}", key.display());
        std::fs::remove_file(&key).unwrap();
        assert_eq!(codes(&s), ["key-missing"], "{}", key.display());
        let text = s.run(&["status"]).expect(1).out;
        assert!(text.contains("is missing") && text.contains("do:"), "{text}");
        std::fs::write(&key, before).unwrap();
        bits(0o600);
        assert_eq!(codes(&s), Vec::<String>::new());
    }
    // A certificate that was signed for somebody else has its key there.
    s.run(&["--data-dir", "other", "request", "quay.saltmarsh.test", "--label", "quay"]).expect(0);
    s.run(&["sign", "quay/request.pem", "--into", "signed"]).expect(0);
    assert_eq!(codes(&s), Vec::<String>::new());
    let db = rusqlite::Connection::open(s.path("data/ledger.sqlite")).unwrap();
    let event = "INSERT INTO event (at, kind, about, detail) VALUES ('2099-01-01T00:00:00Z', 'issued', 'x', '')";
    db.execute(event, []).unwrap();
    drop(db);
    assert_eq!(codes(&s), ["clock-behind"]);
}

/// A list never goes back behind its predecessor, whatever the clock says.
#[test]
fn a_list_is_never_dated_before_the_one_before_it() {
    let s = trusted_lab();
    let update = |s: &Sandbox| {
        s.json(&["show", "s.crl"]).expect(0).json()["objects"][0]["this_update"].as_str().unwrap().to_owned()
    };
    s.run(&["authority", "crl", "saltmarsh", "--output", "s.crl"]).expect(0);
    // The list of a machine whose clock was ahead, signed by the same key.
    let root = tamga_testkit::sample::authority(&s.path("data/authorities/saltmarsh"));
    let later = tamga_host::entropy::now().plus(40 * tamga_core::vocabulary::timestamp::DAY);
    let der = tamga_core::pki::cert::crl::ToSign {
        issuer: &root.certificate,
        number: 9_999_999_999,
        this_update: later,
        next_update: later.plus(tamga_core::vocabulary::timestamp::DAY),
        entries: &[],
    }
    .sign(&root.key, &tamga_host::entropy::System)
    .unwrap();
    std::fs::write(s.lab("s.crl"), &der).unwrap();
    let before = update(&s);
    let ran = s.run(&["authority", "crl", "saltmarsh", "--output", "s.crl"]).expect(0);
    assert!(ran.err.contains("the clock is behind"), "{}", ran.err);
    assert!(update(&s) >= before, "{} {before}", update(&s));
}
