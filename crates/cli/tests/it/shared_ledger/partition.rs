//! A network that drops every packet for a while, in a namespace of the test's own: no side learns that the connection is gone.

use super::replaced::{all_issue, crowd, nothing_is_missing, wanted};
use std::process::Command;
use std::time::Duration;
use tamga_testkit::postgres::Postgres;
use tamga_testkit::sandbox::has;
use tamga_testkit::server::is_root;

fn run(words: &[&str]) {
    let ran = Command::new(words[0]).args(&words[1..]).output().unwrap();
    assert!(ran.status.success(), "{words:?}: {}", String::from_utf8_lossy(&ran.stderr));
}

/// Drops all packets for so many seconds: a queue in which there is room for none.
fn silence(seconds: u64) {
    run(&["tc", "qdisc", "add", "dev", "lo", "root", "pfifo", "limit", "0"]);
    std::thread::sleep(Duration::from_secs(seconds));
    run(&["tc", "qdisc", "del", "dev", "lo", "root"]);
}

/// A short silence, after which the connections go on, and where many certificates are asked for one that outlasts every patience.
#[test]
fn packets_that_are_dropped_lose_nothing_that_was_reported() {
    if !has(&["ip", "tc"]) || !is_root() {
        return;
    }
    // A namespace belongs to a thread, and to all that it starts.
    let apart = std::thread::spawn(|| {
        // SAFETY: a network namespace has nothing to do with memory or descriptors.
        unsafe { rustix::thread::unshare_unsafe(rustix::thread::UnshareFlags::NEWNET) }.unwrap();
        run(&["ip", "link", "set", "lo", "up"]);
        let Some(server) = Postgres::start(&[]) else { return };
        let machines = crowd(&server.database("tamga"));
        let is_long = wanted(0) > 0;
        let count = wanted(120);
        let done = all_issue(&machines, count, || {
            silence(3);
            if is_long {
                silence(45);
            }
        });
        let sum: usize = done.iter().map(Vec::len).sum();
        // Those under way when it began, and those that met it: each machine some.
        assert!(sum + 12 * machines.len() >= count, "{sum} of {count}");
        nothing_is_missing(&server, &machines, &done);
        // While it is silent nothing is issued, and the command ends.
        let (s, url) = (&machines[0], server.url("tamga"));
        let ran = std::thread::scope(|scope| {
            let ran = scope.spawn(|| {
                std::thread::sleep(Duration::from_millis(500));
                s.run(&["issue", "late.test"])
            });
            silence(18);
            ran.join().unwrap()
        });
        assert_eq!(ran.code, 4, "{url}: {}{}", ran.out, ran.err);
        assert!(!s.lab("late.test").join("certificate.pem").exists());
        assert_eq!(server.sql("tamga", "SELECT count(*) FROM certificate WHERE label = 'late.test'"), "0");
    });
    if let Err(why) = apart.join() {
        std::panic::resume_unwind(why);
    }
}
