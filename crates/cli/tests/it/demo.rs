//! The demonstration tells the truth, or fails.

use crate::sandbox;
use tamga_testkit::sandbox::has;

#[test]
fn without_clients_it_judges_alone() {
    let s = sandbox().without_clients();
    let ran = s.run(&["demo"]).expect(0);
    assert!(ran.out.contains("judges alone") && ran.out.contains("cleaned up"), "{}", ran.out);
    let v = s.json(&["demo"]).expect(0).json();
    let verdicts = v["verdicts"].as_array().unwrap();
    assert!(!verdicts.is_empty() && verdicts.iter().all(|r| r["basis"] == "predicted"));
    assert!(s.files("home").is_empty() && !s.path("data").exists(), "it touched the person's own places");
}

/// Every verdict printed comes from a run: as many calls as verdicts.
#[test]
fn every_verdict_of_curl_was_run() {
    if !has(&["curl"]) {
        return;
    }
    let curl = std::env::split_paths(&std::env::var_os("PATH").unwrap())
        .map(|f| f.join("curl"))
        .find(|p| p.is_file())
        .unwrap();
    let mut s = sandbox().without_clients();
    let log = s.path("calls");
    s.stand_in("curl", &format!("#!/bin/sh\necho call >> {}\nexec {} \"$@\"\n", log.display(), curl.display()));
    let v = s.json(&["demo"]).expect(0).json();
    let verdicts = v["verdicts"].as_array().unwrap();
    let calls = std::fs::read_to_string(log).unwrap().lines().count();
    assert_eq!(calls, verdicts.iter().filter(|r| r["client"] == "curl").count());
    assert_eq!(calls, 4);
}

#[test]
fn a_client_that_always_says_fine_breaks_it() {
    let mut s = sandbox().without_clients();
    s.stand_in("curl", "#!/bin/sh\nprintf 0.01\nexit 0\n");
    let ran = s.run(&["demo"]);
    assert_ne!(ran.code, 0);
    assert!(ran.err.contains("everybody must refuse"), "{}", ran.err);
}
