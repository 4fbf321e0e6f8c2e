//! The whole job through the library alone, as a service would do it: no command line, no terminal, no variable of the process.

#![allow(clippy::unwrap_used, clippy::panic, clippy::disallowed_methods, reason = "tests")]

use std::path::{Path, PathBuf};
use std::str::FromStr;
use std::sync::Arc;
use tamga_app::apply::{self, Change};
use tamga_app::certificate::{issue, renew};
use tamga_app::check::{self, Terms};
use tamga_app::env::Env;
use tamga_app::interact::Nobody;
use tamga_app::report::{Answer, Outcome};
use tamga_app::trust::stores::Choice;
use tamga_app::{leave, setup, status};
use tamga_core::check::client::Client;
use tamga_core::stores::trust;
use tamga_core::stores::{InScope, StoreId};
use tamga_core::vocabulary::name::Name;
use tamga_host::entropy;
use tamga_host::places::Machine;
use tamga_testkit::memory::{self, MemoryDisk};

/// A machine, and what is looked at in it.
struct Lab {
    machine: Machine,
    base: PathBuf,
}

impl Lab {
    /// In memory: nothing of it is on this machine's disk.
    fn in_memory() -> (Lab, Arc<MemoryDisk>) {
        let (machine, disk) = memory::machine();
        (Lab { machine, base: "/lab".into() }, disk)
    }

    /// On the disk, in a directory of its own.
    fn below(directory: &Path) -> Lab {
        let lab = Lab { machine: Machine::in_directory(directory), base: directory.to_owned() };
        for sub in ["root/etc", "home"] {
            lab.machine.disk().make_directory(&lab.path(sub), 0o755).unwrap();
        }
        lab.write("root/etc/hosts", "127.0.0.1 localhost\n");
        lab
    }

    fn path(&self, sub: &str) -> PathBuf {
        self.base.join(sub)
    }

    fn write(&self, sub: &str, text: &str) {
        let path = self.path(sub);
        self.machine.disk().make_directory(path.parent().unwrap(), 0o755).unwrap();
        self.machine.disk().write_whole(&path, text.as_bytes(), 0o644).unwrap();
    }

    fn exists(&self, sub: &str) -> bool {
        self.machine.disk().exists(&self.path(sub))
    }

    fn text(&self, sub: &str) -> String {
        String::from_utf8(self.machine.disk().read(&self.path(sub)).unwrap().to_vec()).unwrap()
    }

    fn env(&self) -> Env {
        Env::new(self.machine.clone(), entropy::now(), false, Arc::new(Nobody))
    }

    fn bundle(&self) -> Choice {
        let named = Choice::named(&[StoreId::Bundle]);
        Choice { scope: InScope::User, named, bundles: vec![self.path("lab/roots.pem")] }
    }

    fn setup(&self, name: &str) -> setup::Request {
        setup::Request {
            names: names(&[name, "localhost"]),
            issuer: None,
            label: None,
            into: Some(self.path("lab/charts")),
            server: None,
            stores: self.bundle(),
            secret: Default::default(),
        }
    }
}

fn names(all: &[&str]) -> Vec<Name> {
    all.iter().map(|n| Name::from_str(n).unwrap()).collect()
}

#[track_caller]
fn done<D, P>(answer: Answer<D, P>) -> D {
    match answer {
        Answer::Done(d) => d,
        Answer::Planned(_) => panic!("nothing was to be planned only"),
    }
}

fn verdicts(env: &Env, target: &Path, anchors: &[std::path::PathBuf]) -> Vec<Outcome> {
    let terms = Terms { clients: vec![Client::Standard], anchors: anchors.to_vec(), ..Terms::default() };
    let targets = vec![target.to_string_lossy().into_owned()];
    let request = check::Request { targets, jobs: 1, observe: false, terms };
    check::check(env, &request, |c| c.ending).unwrap()
}

#[test]
fn the_whole_job_runs_in_memory() {
    let (lab, disk) = Lab::in_memory();
    the_whole_job(&lab);
    let keys = disk.files().into_iter().filter(|(path, ..)| path.ends_with("private-key.pem"));
    assert!(keys.map(|(.., mode)| mode).all(|mode| mode == 0o600));
    assert!(!Path::new("/lab").exists(), "something was written to the real disk");
}

#[test]
fn the_whole_job_runs_in_a_directory() {
    let directory = tempfile::tempdir().unwrap();
    the_whole_job(&Lab::below(directory.path()));
}

fn the_whole_job(lab: &Lab) {
    // Setup: authority, certificate, root in the bundle.
    let made = done(setup::setup(&lab.env(), &lab.setup("charts.saltmarsh.test")).unwrap());
    assert!(made.is_new_root && made.change == setup::Change::Issued);
    assert_eq!(made.rows.len(), 1);
    assert_eq!(made.rows[0].state, trust::State::Present, "{:?}", made.rows);
    // Issue, into a directory of its own.
    let issued = done(
        issue::issue(
            &lab.env(),
            &issue::Request {
                names: names(&["archive.saltmarsh.test"]),
                into: Some(lab.path("lab/archive")),
                ..issue::Request::default()
            },
        )
        .unwrap(),
    );
    let json = serde_json::to_value(&issued).unwrap();
    assert_eq!(json["certificates"][0]["label"], "archive.saltmarsh.test");
    assert!(lab.exists("lab/archive/private-key.pem"));
    // Apply: what is there is left, what is missing is made, and the second run has nothing to do.
    lab.write(
        "lab/tamga.toml",
        "[[certificate]]\nlabel = \"gauge-7\"\nnames = [\"gauge-7.saltmarsh.test\"]\n[hosts]\nnames = [\"gauge-7.saltmarsh.test\"]\n",
    );
    let request = apply::Request { file: Some(lab.path("lab/tamga.toml")), ..apply::Request::default() };
    let first = apply::apply(&lab.env(), &request).unwrap();
    assert_eq!(first.changes.iter().map(|r| r.change).collect::<Vec<_>>(), [Change::Issued, Change::Added]);
    assert!(lab.exists("lab/gauge-7/certificate.pem"), "paths are meant from the file");
    assert!(apply::apply(&lab.env(), &request).unwrap().changes.is_empty());
    // Check: good against the root, and renewed it is good again.
    let root = lab.path("lab/charts/root.pem");
    assert_eq!(verdicts(&lab.env(), &lab.path("lab/gauge-7"), std::slice::from_ref(&root)), [Outcome::Good]);
    let again = renew::Request { labels: vec!["gauge-7".parse().unwrap()], ..renew::Request::default() };
    assert_eq!(done(renew::renew(&lab.env(), &again).unwrap()).certificates.len(), 1);
    assert_eq!(verdicts(&lab.env(), &lab.path("lab/gauge-7"), &[root]), [Outcome::Good]);
    assert_eq!(verdicts(&lab.env(), &lab.path("lab/gauge-7"), &[]), [Outcome::Bad], "no store here has the root");
    assert_eq!(status::status(&lab.env()).unwrap().certificates.len(), 3);
    // Leave: the root is gone from the bundle; nobody said that the data directory should go, so it stays.
    let left = done(leave::leave(&lab.env(), &lab.bundle().bundles).unwrap());
    assert_eq!(left.outcome(), Outcome::Good);
    assert!(!lab.text("lab/roots.pem").contains("BEGIN CERTIFICATE"));
    assert!(left.hosts && lab.env().open_to_look().unwrap().is_some());
}

#[test]
fn a_dry_run_says_what_it_would_do_and_does_nothing() {
    let (lab, disk) = Lab::in_memory();
    let before = disk.files();
    let mut env = lab.env();
    env.dry_run = true;
    let request = setup::Request { into: None, ..lab.setup("charts.saltmarsh.test") };
    match setup::setup(&env, &request).unwrap() {
        Answer::Planned(plan) => assert_eq!((plan.authority, plan.ids), (None, vec![StoreId::Bundle])),
        Answer::Done(_) => panic!("something was done"),
    }
    assert_eq!(disk.files(), before);
    assert!(lab.env().open_to_look().unwrap().is_none());
}

#[test]
fn a_disk_that_is_full_at_any_change_loses_nothing_and_the_next_run_makes_it_whole() {
    let mut refused = 0;
    for changes in 0.. {
        let (lab, disk) = Lab::in_memory();
        lab.write("lab/roots.pem", "");
        disk.full_after(changes);
        let first = setup::setup(&lab.env(), &lab.setup("charts.saltmarsh.test"));
        // Whatever was made has its key beside it, and whatever is recorded stands.
        let (report, keys) = (status::status(&lab.env()).unwrap(), disk.files());
        for found in &report.certificates {
            let key = found.issued.folder.join("private-key.pem");
            assert!(keys.iter().any(|(path, ..)| *path == key), "{changes}: no key for {}", found.issued.label);
        }
        refused += usize::from(first.is_err());
        disk.full_after(usize::MAX);
        let second = done(setup::setup(&lab.env(), &lab.setup("charts.saltmarsh.test")).unwrap());
        assert_eq!(second.rows[0].state, trust::State::Present, "{changes}: {:?}", second.rows);
        assert_eq!(status::status(&lab.env()).unwrap().certificates.len(), 1, "{changes}");
        let root = lab.path("lab/charts/root.pem");
        assert_eq!(verdicts(&lab.env(), &lab.path("lab/charts"), &[root]), [Outcome::Good], "{changes}");
        if first.is_ok_and(|a| matches!(a, Answer::Done(d) if d.rows.iter().all(|r| r.state == trust::State::Present)))
        {
            break;
        }
    }
    assert!(refused > 2, "the disk was never full: {refused}");
}
