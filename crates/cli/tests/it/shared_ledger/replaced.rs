//! Servers that are killed, started again and replaced while certificates are issued: none that was reported as done is missing.

use super::{joined, recorded, with_authority};
use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tamga_testkit::postgres::{Pooler, Postgres};
use tamga_testkit::sandbox::Sandbox;

/// Issues certificates one after another until `stop` is set; the labels of those that were reported as done.
fn issuing(s: &Sandbox, prefix: &str, count: usize, stop: &AtomicBool) -> Vec<String> {
    let mut done = Vec::new();
    for n in 0..count {
        if stop.load(Ordering::Relaxed) {
            break;
        }
        let label = format!("{prefix}-{n}");
        let ran = s.run(&["issue", &format!("{label}.test"), "--label", &label]);
        assert!(matches!(ran.code, 0 | 4), "{}", ran.err);
        if ran.code == 0 {
            done.push(label);
        }
    }
    done
}

/// What was reported as done is recorded, with its files; no serial number was given twice.
pub(super) fn nothing_is_missing(server: &Postgres, machines: &[Sandbox], done: &[Vec<String>]) {
    let all: BTreeSet<String> = recorded(server, "tamga").into_iter().collect();
    for (s, done) in machines.iter().zip(done) {
        for label in done {
            assert!(all.contains(label), "{label} was reported as done and is not recorded");
            assert!(s.lab(label).join("certificate.pem").exists(), "{label}");
        }
        // What was interrupted is completed or undone by the next run.
        s.run(&["issue", "after.test", "--label", &format!("after-{}", done[0])]).expect(0);
    }
    assert_eq!(server.sql("tamga", "SELECT count(*) - count(DISTINCT serial) FROM certificate"), "0");
    assert_eq!(server.sql("tamga", "SELECT count(*) FROM journal"), "0");
}

/// How many certificates are issued in all: few in the gate, as many as `TAMGA_TESTS_SHARED` says elsewhere.
pub(super) fn wanted(usual: usize) -> usize {
    std::env::var("TAMGA_TESTS_SHARED").ok().and_then(|n| n.parse().ok()).unwrap_or(usual)
}

/// Machines that issue on one ledger: two in the gate, four where many certificates are asked for.
pub(super) fn crowd(url: &str) -> Vec<Sandbox> {
    let first = with_authority();
    first.run(&["ledger", "move", url, "--host", "m0"]).expect(0);
    let more = if wanted(0) > 0 { 4 } else { 2 };
    let others: Vec<Sandbox> = (1..more).map(|n| joined(&first, url, &format!("m{n}"))).collect();
    std::iter::once(first).chain(others).collect()
}

/// All of them issue, so many in all, and `meanwhile` happens to the server.
pub(super) fn all_issue(machines: &[Sandbox], count: usize, meanwhile: impl FnOnce()) -> Vec<Vec<String>> {
    let stop = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let each = count / machines.len();
        let stop = &stop;
        let run = |n: usize| move || issuing(&machines[n], &format!("m{n}"), each, stop);
        let all: Vec<_> = (0..machines.len()).map(|n| scope.spawn(run(n))).collect();
        std::thread::sleep(Duration::from_millis(1500));
        meanwhile();
        all.into_iter().map(|t| t.join().unwrap()).collect()
    })
}

#[test]
fn a_server_that_is_killed_and_started_loses_nothing_that_was_reported() {
    let Some(server) = Postgres::start(&[]) else { return };
    let machines = crowd(&server.database("tamga"));
    let count = wanted(200);
    let done = all_issue(&machines, count, || {
        server.kill();
        server.again();
    });
    let sum: usize = done.iter().map(Vec::len).sum();
    assert!(sum + 10 >= count, "{sum} of {count}");
    nothing_is_missing(&server, &machines, &done);
}

/// A server that waits for a replica with every commit, once `synchronous_commit` is reset; until then it does not. With its database.
fn waiting_for_a_replica() -> Option<(Postgres, String)> {
    let primary = Postgres::start(&["synchronous_standby_names=b"])?;
    primary.set("synchronous_commit", Some("local"));
    let url = primary.database("tamga");
    Some((primary, url))
}

#[test]
fn a_replica_takes_over_and_nothing_that_was_reported_is_missing() {
    let Some((primary, url)) = waiting_for_a_replica() else { return };
    let replica = primary.replica("b");
    primary.set("synchronous_commit", None);
    let both = url.replace(
        &format!("127.0.0.1:{}", primary.port()),
        &format!("127.0.0.1:{},127.0.0.1:{}", primary.port(), replica.port()),
    );
    let machines = crowd(&both);
    let count = wanted(120);
    let done = all_issue(&machines, count, || {
        primary.kill();
        // The new one waits for no replica.
        replica.promote();
        replica.set("synchronous_commit", Some("local"));
    });
    let sum: usize = done.iter().map(Vec::len).sum();
    assert!(sum + 10 >= count, "{sum} of {count}");
    nothing_is_missing(&replica, &machines, &done);
}

/// The replica is gone: the server waits for it, and an administrator cancels the waiting. The server then answers "done", with a warning,
/// and what it did is nowhere but there.
#[test]
fn a_commit_that_no_replica_confirmed_is_not_reported_as_done() {
    // Cancelled, the server answers "done" with a warning; terminated, it answers nothing, and has committed all the same.
    for end in ["pg_cancel_backend", "pg_terminate_backend"] {
        unconfirmed(end);
    }
}

fn unconfirmed(end: &str) {
    let Some((primary, url)) = waiting_for_a_replica() else { return };
    let s = with_authority();
    s.run(&["ledger", "move", &url]).expect(0);
    primary.set("synchronous_commit", None);
    let ran = std::thread::scope(|scope| {
        let ran = scope.spawn(|| s.run(&["issue", "charts.test"]));
        let cancel = format!("SELECT count({end}(pid)) FROM pg_stat_activity WHERE wait_event = 'SyncRep'");
        while primary.sql("postgres", &cancel) == "0" {
            std::thread::sleep(Duration::from_millis(50));
        }
        // Whatever it asks next waits as well.
        while !ran.is_finished() {
            primary.sql("postgres", &cancel);
            std::thread::sleep(Duration::from_millis(50));
        }
        ran.join().unwrap()
    });
    let ran = ran.expect(4);
    assert!(ran.err.contains("is not known"), "{end}: {}", ran.err);
    assert!(!s.lab("charts.test").join("certificate.pem").exists());
}

#[test]
fn a_pooler_may_give_every_transaction_another_connection() {
    let Some(server) = Postgres::start(&["fsync=off"]) else { return };
    let Some(pooler) = Pooler::start(&server) else { return };
    server.database("tamga");
    let url = pooler.url("tamga");
    let one = with_authority();
    one.run(&["ledger", "move", &url, "--host", "archive"]).expect(0);
    let two = joined(&one, &url, "reef");
    let machines = [one, two];
    let stop = AtomicBool::new(false);
    let done: Vec<Vec<String>> = std::thread::scope(|scope| {
        let run = |n: usize| issuing(&machines[n], ["a", "b"][n], 20, &stop);
        let all = [0, 1].map(|n| scope.spawn(move || run(n)));
        all.map(|t| t.join().unwrap()).into()
    });
    assert_eq!(done.iter().map(Vec::len).sum::<usize>(), 40, "{}", pooler.log());
    assert_eq!(recorded(&server, "tamga").len(), 40);
}

/// Two lists with one number would be two truths: of machines that sign at once each takes its own.
#[test]
fn machines_that_sign_lists_at_once_take_different_numbers() {
    let Some(server) = Postgres::start(&["fsync=off"]) else { return };
    let url = server.database("tamga");
    let one = with_authority();
    one.run(&["ledger", "move", &url, "--host", "archive"]).expect(0);
    let two = joined(&one, &url, "reef");
    let sign = |s: &Sandbox| -> Vec<u64> {
        let words = ["authority", "crl", "saltmarsh", "--output", "list.pem"];
        (0..8).map(|_| s.json(&words).expect(0).json()["crl"]["number"].as_u64().unwrap()).collect()
    };
    let (a, b) = std::thread::scope(|scope| {
        let (a, b) = (scope.spawn(|| sign(&one)), scope.spawn(|| sign(&two)));
        (a.join().unwrap(), b.join().unwrap())
    });
    let all: BTreeSet<u64> = a.iter().chain(&b).copied().collect();
    assert_eq!(all.len(), 16, "{a:?} {b:?}");
}
