//! The whole job through the library alone, as a service would do it: no command line, no terminal, no variable of the process.

#![allow(clippy::unwrap_used, clippy::panic, clippy::disallowed_methods, reason = "tests")]

use std::path::Path;
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

/// A machine of its own, with one bundle as its only store.
struct Lab(tempfile::TempDir);

impl Lab {
    fn new() -> Lab {
        let directory = tempfile::tempdir().unwrap();
        for sub in ["root/etc", "home", "lab"] {
            std::fs::create_dir_all(directory.path().join(sub)).unwrap();
        }
        std::fs::write(directory.path().join("root/etc/hosts"), "127.0.0.1 localhost\n").unwrap();
        Lab(directory)
    }

    fn path(&self, sub: &str) -> std::path::PathBuf {
        self.0.path().join(sub)
    }

    fn env(&self) -> Env {
        Env::new(Machine::in_directory(self.0.path()), entropy::now(), false, Arc::new(Nobody))
    }

    fn bundle(&self) -> Choice {
        let named = Choice::named(&[StoreId::Bundle]);
        Choice { scope: InScope::User, named, bundles: vec![self.path("lab/roots.pem")] }
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
fn the_whole_job_runs_without_a_command_line() {
    let lab = Lab::new();
    // Setup: authority, certificate, root in the bundle.
    let made = done(
        setup::setup(
            &lab.env(),
            &setup::Request {
                names: names(&["charts.saltmarsh.test", "localhost"]),
                issuer: None,
                label: None,
                into: Some(lab.path("lab/charts")),
                server: None,
                stores: lab.bundle(),
                secret: Default::default(),
            },
        )
        .unwrap(),
    );
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
    assert!(lab.path("lab/archive/private-key.pem").exists());
    // Apply: what is there is left, what is missing is made, and the second run has nothing to do.
    std::fs::write(
        lab.path("lab/tamga.toml"),
        "[[certificate]]\nlabel = \"gauge-7\"\nnames = [\"gauge-7.saltmarsh.test\"]\n[hosts]\nnames = [\"gauge-7.saltmarsh.test\"]\n",
    )
    .unwrap();
    let request = apply::Request { file: Some(lab.path("lab/tamga.toml")), ..apply::Request::default() };
    let first = apply::apply(&lab.env(), &request).unwrap();
    assert_eq!(first.changes.iter().map(|r| r.change).collect::<Vec<_>>(), [Change::Issued, Change::Added]);
    assert!(lab.path("lab/gauge-7/certificate.pem").exists(), "paths are meant from the file");
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
    assert!(!std::fs::read_to_string(lab.path("lab/roots.pem")).unwrap().contains("BEGIN CERTIFICATE"));
    assert!(left.hosts && lab.path("data/ledger.sqlite").exists());
}

#[test]
fn a_dry_run_says_what_it_would_do_and_does_nothing() {
    let lab = Lab::new();
    let mut env = lab.env();
    env.dry_run = true;
    let request = setup::Request {
        names: names(&["charts.saltmarsh.test"]),
        issuer: None,
        label: None,
        into: None,
        server: None,
        stores: lab.bundle(),
        secret: Default::default(),
    };
    match setup::setup(&env, &request).unwrap() {
        Answer::Planned(plan) => assert_eq!((plan.authority, plan.ids), (None, vec![StoreId::Bundle])),
        Answer::Done(_) => panic!("something was done"),
    }
    assert!(!lab.path("data").exists());
}
