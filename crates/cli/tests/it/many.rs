//! Many targets at once, and revocation lists.

use crate::lab;
use serde_json::Value;

use tamga_testkit::server::ClosedPort;
use tamga_testkit::site::Site;

fn codes(target: &Value) -> Vec<String> {
    target["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn a_host_with_odd_hyphens_is_checked_and_stops_no_other() {
    let s = lab();
    let site = Site::start(&s, &["charts"]);
    std::fs::write(s.lab("hosts.txt"), format!("-h.saltmarsh.test:{0}\n127.0.0.1:{0}\n", site.port)).unwrap();
    let words = ["check", "--list", "hosts.txt", "--clients", "standard", "--anchor", "charts/root.pem"];
    let odd = ["--resolve=-h.saltmarsh.test=127.0.0.1"];
    let all = s.json(&[&words[..], &odd].concat()).expect(1).json();
    let targets = all["targets"].as_array().unwrap();
    assert_eq!(codes(&targets[0]), ["name-not-covered"], "{}", targets[0]);
    assert_eq!(targets[1]["ok"], true, "{}", targets[1]);
}

#[test]
fn many_targets_come_side_by_side_in_their_order_with_a_summary() {
    let s = lab();
    let site = Site::start(&s, &["charts"]);
    let nobody = ClosedPort::new();
    let closed = format!("127.0.0.1:{}", nobody.number());
    let mut list = String::from("\u{feff}# the lab's hosts\n\n");
    for n in 0..40 {
        // Each loopback address is a server of its own; the certificate names only 127.0.0.1.
        let host = if n % 10 == 9 { "127.0.0.2" } else { "127.0.0.1" };
        list.push_str(&format!("{host}:{} # gauge {n}\n", site.port));
    }
    list.push_str(&format!("{closed}\n"));
    std::fs::write(s.lab("hosts.txt"), list).unwrap();
    let words = ["check", "--list", "hosts.txt", "--jobs", "8", "--clients", "standard", "--anchor", "charts/root.pem"];
    let all = s.json(&words).expect(5).json();
    let targets = all["targets"].as_array().unwrap();
    assert_eq!(targets.len(), 41);
    for (n, t) in targets.iter().enumerate() {
        let (good, first) = match n {
            40 => (false, Some("refused-connection")),
            n if n % 10 == 9 => (false, None),
            _ => (true, None),
        };
        assert_eq!(t["ok"], good, "{n}: {t}");
        if let Some(code) = first {
            assert_eq!(codes(t), [code]);
        }
    }
    let text = s.run(&words).expect(5).out;
    assert!(text.contains("41 targets: 36 good"), "{text}");
    assert!(text.contains("not reached") && text.contains(&closed), "{text}");
    assert_eq!(text.matches("127.0.0.2").count(), if cfg!(target_os = "linux") { 4 } else { 0 }, "{text}");
    assert!(!text.contains("127.0.0.1:1 "), "good ones are only counted: {text}");
    // One JSON object a line, each whole.
    let lines = s.run(&[&words[..], &["--format", "lines"]].concat()).expect(5).out;
    let read: Vec<Value> = lines.lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    assert_eq!(read.len(), 41);
    assert!(read.iter().all(|t| t["target"].is_string() && t["kind"] == "live"), "{lines}");
    // Few are reported at length, also from a list.
    std::fs::write(s.lab("few.txt"), format!("localhost:{}\n", site.port)).unwrap();
    let few = s.run(&["check", "--list", "few.txt", "--clients", "standard", "--anchor", "charts/root.pem"]).expect(0);
    assert!(few.out.contains("a live server"), "{}", few.out);
}

#[test]
fn what_is_typed_wrong_in_a_list_is_reported_before_any_connection() {
    let s = lab();
    std::fs::write(s.lab("bad.txt"), "localhost:1\ngopher://archive.saltmarsh.test\n").unwrap();
    s.run(&["check", "--list", "bad.txt"]).expect(2);
    std::fs::write(s.lab("empty.txt"), "# nothing\n").unwrap();
    assert!(s.run(&["check", "--list", "empty.txt"]).expect(3).err.contains("no line"));
    s.run(&["check", "--list", "nowhere.txt"]).expect(4);
    s.run(&["check"]).expect(2);
    for jobs in ["0", "257", "many"] {
        s.run(&["check", "charts", "--jobs", jobs]).expect(2);
    }
    s.run(&["list", "--format", "lines"]).expect(2);
}

#[test]
fn a_list_that_counts_decides_and_one_that_does_not_is_said() {
    let s = lab();
    s.run(&["authority", "crl", "saltmarsh", "--output", "before.crl"]).expect(0);
    s.run(&["revoke", "charts", "--reason", "key-compromise", "--yes"]).expect(0);
    s.run(&["authority", "crl", "saltmarsh", "--output", "after.crl"]).expect(0);
    s.run(&["--data-dir", "other", "authority", "create", "saltmarsh"]).expect(0);
    s.run(&["--data-dir", "other", "authority", "crl", "saltmarsh", "--output", "foreign.crl"]).expect(0);
    // As somebody else sees it, who has no ledger.
    let check = |more: &[&str], code: i32| {
        let words = [
            &[
                "--data-dir",
                "nobody",
                "check",
                "charts/certificate.pem",
                "--name",
                "localhost",
                "--clients",
                "standard,curl",
            ],
            &["--anchor", "charts/root.pem"][..],
            more,
        ]
        .concat();
        let v = s.json(&words).expect(code).json();
        let clients: Vec<String> = v["targets"][0]["clients"]
            .as_array()
            .unwrap()
            .iter()
            .map(|c| c["verdict"].as_str().unwrap().to_owned())
            .collect();
        (clients, codes(&v["targets"][0]), v.to_string())
    };
    let accepts = ["accepts", "accepts"].map(str::to_owned).to_vec();
    assert_eq!(check(&[], 0).0, accepts);
    assert_eq!(check(&["--crl", "before.crl"], 0).0, accepts);
    let (clients, found, text) = check(&["--crl", "before.crl", "--crl", "after.crl"], 1);
    assert_eq!(
        (clients[0].as_str(), clients[1].as_str()),
        ("refuses", "accepts"),
        "only who is given the list notices"
    );
    assert!(found.contains(&"revoked".to_owned()) && text.contains("key-compromise"), "{text}");
    assert_eq!(check(&["--crl", "after.crl", "--revocation", "off"], 0).0, accepts);
    // Required: none at hand, another authority's of the same name, or one that has expired.
    for (more, why) in [
        (vec![], "no list of"),
        (vec!["--crl", "foreign.crl"], "signature"),
        (vec!["--crl", "after.crl", "--at", "2027-06-01T00:00:00Z"], "it ended on"),
    ] {
        let (clients, found, text) = check(&[&["--revocation", "required"], &more[..]].concat(), 1);
        assert_eq!(clients[0], "refuses", "{text}");
        assert!(found.contains(&"revocation-unknown".to_owned()) && text.contains(why), "{why}: {text}");
    }
    check(&["--crl", "before.crl", "--revocation", "required"], 0);
    s.run(&["check", "charts", "--revocation", "sometimes"]).expect(2);
    s.run(&["check", "charts", "--crl", "charts/root.pem"]).expect(3);
}

/// Few matches are looked up one by one, many are read on to: both find the same, in every spelling of a pattern.
#[test]
fn a_pattern_finds_few_and_many_alike() {
    let s = lab();
    let labels: Vec<String> = (0..1_300).map(|n| format!("gauge-{n}.saltmarsh.test")).collect();
    std::fs::write(s.lab("gauges.txt"), labels.join("\n")).unwrap();
    s.run(&["issue", "--list", "gauges.txt"]).expect(0);
    let total = |pattern: &str| {
        let all = s.json(&["list", pattern]).expect(0).json();
        assert_eq!(
            all["certificates"].as_array().unwrap().len(),
            usize::try_from(all["total"].as_u64().unwrap()).unwrap()
        );
        all["total"].as_u64().unwrap()
    };
    let count = |takes: &dyn Fn(&str) -> bool| labels.iter().filter(|l| takes(l)).count() as u64;
    // `charts` of the lab has names of that domain too.
    for (pattern, wanted) in [
        ("gauge-12*", count(&|l| l.starts_with("gauge-12"))),
        ("GAUGE-12*", count(&|l| l.starts_with("gauge-12"))),
        ("gauge*", 1_300),
        ("gauge-*7.saltmarsh.test", count(&|l| l.ends_with("7.saltmarsh.test"))),
        ("*-77.*", 1),
        ("99", count(&|l| l.contains("99"))),
        ("gauge-[1*", 0),
        ("gauge-?*", 0),
        ("*.saltmarsh.test", 1_301),
        ("charts*", 1),
    ] {
        assert_eq!(total(pattern), wanted, "{pattern}");
    }
    let page = s.run(&["list", "gauge-12*", "--page", "2"]).expect(0).out;
    let all = count(&|l| l.starts_with("gauge-12"));
    assert!(page.contains(&format!("page 2 of 2, {all} in all")), "{page}");
}
