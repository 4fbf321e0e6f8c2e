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

/// Interrupted anywhere, it leaves neither a directory nor a program.
#[test]
fn interrupted_it_leaves_nothing_behind() {
    use nix::sys::signal::{Signal, kill};
    use nix::unistd::Pid;
    let s = sandbox();
    let place = s.path("tmp");
    std::fs::create_dir_all(&place).unwrap();
    let left = || std::fs::read_dir(&place).unwrap().map(|e| e.unwrap().file_name()).collect::<Vec<_>>();
    for (signal, code, patience) in [(Signal::SIGINT, 130, 300), (Signal::SIGTERM, 143, 1_500)] {
        let mut command = s.command(&["demo"]);
        let mut child = command.env("TMPDIR", &place).stdout(std::process::Stdio::null()).spawn().unwrap();
        while left().is_empty() {
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        // In the middle of the story, with clients at work.
        std::thread::sleep(std::time::Duration::from_millis(patience));
        kill(Pid::from_raw(i32::try_from(child.id()).unwrap()), signal).unwrap();
        assert_eq!(child.wait().unwrap().code(), Some(code));
        // What runs in there ends with it, or a moment later.
        let begun = std::time::Instant::now();
        let running = || {
            let of = |e: std::fs::DirEntry| std::fs::read(e.path().join("cmdline")).unwrap_or_default();
            let all = std::fs::read_dir("/proc").into_iter().flatten().flatten().map(of);
            let name = place.display().to_string();
            all.filter(|c| String::from_utf8_lossy(c).contains(&name)).count()
        };
        while (running() > 0 || !left().is_empty()) && begun.elapsed().as_secs() < 10 {
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
        assert_eq!((running(), left()), (0, Vec::new()), "{signal}");
    }
}
