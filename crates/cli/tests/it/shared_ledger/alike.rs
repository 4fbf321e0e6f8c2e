//! What is drawn at random is done to a ledger in a file and to one in PostgreSQL: both must answer the same.

use proptest::prelude::*;
use proptest::strategy::ValueTree as _;
use proptest::test_runner::{Config, TestRunner};
use std::collections::BTreeMap;
use std::path::Path;
use tamga_core::ca::report::{Authority, Issued, Life};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::crl::Revoked;
use tamga_core::sample;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::reason::Reason;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::ledger::{Chosen, Filter, Ledger, Ledgers as _, Page, Record, Sort, Work, WorkKind};
use tamga_testkit::postgres::Postgres;

/// So many sequences are drawn.
const CASES: u32 = 24;
/// Labels and names of all certificates.
const LABELS: [&str; 5] = ["charts", "charts-2", "archive_1", "gauge.7", "zz"];
const NAMES: [&str; 5] = ["charts.saltmarsh.test", "a_b.test", "localhost", "x%y.test", "*.buoys.saltmarsh.test"];

#[derive(Clone, Debug)]
enum Act {
    Issue { label: usize, certificate: usize, ends: End },
    Revoke { label: usize },
    Sign { at_least: u64 },
    Merge { number: u64, serial: u8 },
    Move { label: usize, to: u8 },
    Retire,
    Look { pattern: String, sort: u8, page: Option<(usize, usize)>, revoked: bool },
    Find { label: usize, certificate: usize },
}

#[derive(Clone, Copy, Debug)]
enum End {
    Finished,
    Abandoned,
    Interrupted,
}

fn act() -> impl Strategy<Value = Act> {
    let label = 0..LABELS.len();
    let end = prop_oneof![4 => Just(End::Finished), 2 => Just(End::Abandoned), 1 => Just(End::Interrupted)];
    prop_oneof![
        5 => (label.clone(), 0..40_usize, end).prop_map(|(label, certificate, ends)| Act::Issue { label, certificate, ends }),
        2 => label.clone().prop_map(|label| Act::Revoke { label }),
        1 => (0..2_000_000_000_u64).prop_map(|at_least| Act::Sign { at_least }),
        1 => (0..3_000_000_000_u64, any::<u8>()).prop_map(|(number, serial)| Act::Merge { number, serial }),
        1 => (label.clone(), any::<u8>()).prop_map(|(label, to)| Act::Move { label, to }),
        1 => Just(Act::Retire),
        4 => ("[a-z0-9*%_?\\[\\]\\\\.A-Z-]{0,5}", 0..3_u8, proptest::option::of((1..4_usize, 0..3_usize)), any::<bool>())
            .prop_map(|(pattern, sort, page, revoked)| Act::Look { pattern, sort, page, revoked }),
        2 => (label, 0..40_usize).prop_map(|(label, certificate)| Act::Find { label, certificate }),
    ]
}

fn at(n: usize) -> Timestamp {
    Timestamp::from_unix(1_800_000_000 + i64::try_from(n).unwrap())
}

/// One ledger, and what was begun in it.
struct Side {
    ledger: Box<dyn Ledger>,
    authority: Authority,
    begun: Vec<i64>,
}

impl Side {
    fn issued(&self, label: usize, c: &Certificate, folder: &Path) -> Issued {
        Issued {
            label: LABELS[label].parse().unwrap(),
            certificate: c.clone(),
            authority: Some(self.authority.label.clone()),
            folder: folder.to_owned(),
            life: Life::Live,
            revoked: None,
            host: None,
        }
    }

    /// Does it; what the ledger answers, as text.
    fn done(&mut self, n: usize, act: &Act, certificates: &[Certificate]) -> String {
        let (l, now, of) = (&*self.ledger, at(n), &self.authority.label);
        match act {
            Act::Issue { label, certificate, ends } => {
                let c = &certificates[*certificate];
                let folder = Path::new("/lab").join(LABELS[*label]);
                let issued = self.issued(*label, c, &folder);
                if l.by_fingerprint(&c.sha256()).unwrap().is_some() {
                    return "known".into();
                }
                let work = Work::Publish {
                    what: WorkKind::Certificate,
                    label: issued.label.clone(),
                    sha256: c.sha256(),
                    folder: folder.into(),
                    names: vec!["certificate.pem".into()],
                    tag: c.sha256().short().to_owned(),
                    answers: false,
                };
                let id =
                    l.begin(&work, &Record::Certificate { issued: &issued, kind: "renewed", root: None }, now).unwrap();
                match ends {
                    End::Finished => l.finish(id, &work).unwrap(),
                    End::Abandoned => l.abandon(id, &work, now).unwrap(),
                    End::Interrupted => self.begun.push(id),
                }
                format!("{:?}", l.unfinished().unwrap().into_iter().map(|(_, w)| w).collect::<Vec<_>>())
            }
            Act::Revoke { label } => {
                let all = l.issued(LABELS[*label]).unwrap();
                let serials: Vec<&str> = all.iter().map(|i| &*i.certificate.serial).collect();
                l.revoke(&LABELS[*label].parse().unwrap(), of, &serials, Reason::Superseded, now).unwrap();
                format!("{:?}", l.listed(of).unwrap())
            }
            Act::Sign { at_least } => {
                let number = l.take_number(of, *at_least).unwrap();
                let listed = l.listed(of).unwrap();
                l.published(of, number, &listed.entries, now).unwrap();
                format!("{number} {:?}", l.listed(of).unwrap())
            }
            Act::Merge { number, serial } => {
                let entry = Revoked { serial: format!("{serial:02x}"), at: now, reason: Reason::KeyCompromise };
                let added = l.merge_list(of, *number, &[entry], now).unwrap();
                format!("{added} {:?}", l.listed(of).unwrap())
            }
            Act::Move { label, to } => {
                let label: Label = LABELS[*label].parse().unwrap();
                let from = Path::new("/lab").join(label.as_str());
                l.moved(&label, &from, &Path::new("/lab").join(to.to_string()), now).unwrap();
                format!("{:?} {:?}", l.directories().unwrap().len(), l.history(label.as_str()).unwrap())
            }
            Act::Retire => {
                l.retire(of, now).unwrap();
                format!(
                    "{:?}",
                    l.authorities().unwrap().iter().map(|a| (a.label.clone(), a.retired)).collect::<Vec<_>>()
                )
            }
            Act::Look { pattern, sort, page, revoked } => {
                let filter = Filter {
                    pattern: (!pattern.is_empty()).then(|| pattern.clone()),
                    revoked: *revoked,
                    ..Filter::default()
                };
                let sort = [Sort::Issued, Sort::Label, Sort::Ends][usize::from(*sort)];
                let page = page.map(|(size, number)| Page { size, number });
                let mut rows = Vec::new();
                let count = l.summaries(&filter, sort, page, &mut |s| rows.push(s)).unwrap();
                format!("{count} {rows:?} {:?}", l.labels(3).unwrap())
            }
            Act::Find { label, certificate } => {
                let c = &certificates[*certificate];
                let name = c.name_words().first().cloned().unwrap_or_default();
                let said = |all: Vec<Issued>| all.iter().map(|i| (i.summary(), i.folder.clone())).collect::<Vec<_>>();
                format!(
                    "{:?} {:?} {:?} {:?} {:?}",
                    said(l.current(LABELS[*label]).unwrap().into_iter().collect()),
                    said(l.naming(&name).unwrap()),
                    said(l.by_number(&c.serial).unwrap()),
                    l.label_of(&c.sha256()).unwrap(),
                    said(l.in_use().unwrap()),
                )
            }
        }
    }
}

/// Forty certificates with names of the list, each with its own serial number.
fn certificates(runner: &mut TestRunner) -> Vec<Certificate> {
    use tamga_core::ca::issue::{self, Holder, Signer};
    use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
    use tamga_host::entropy::System;
    let (root, root_key) = sample::root().unwrap();
    let root = Authority { certificate: root.certificate.clone(), ..root };
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, &System).unwrap();
    (0..40)
        .map(|_| {
            let names = proptest::sample::subsequence(vec![0, 2, 4], 1..3).new_tree(runner).unwrap().current();
            let names: Vec<_> = names.into_iter().map(|n| NAMES[n].parse().unwrap()).collect();
            let wanted = issue::Request::server(names, "any".parse().unwrap(), "any".into());
            let signer = Signer::Authority(&root, &root_key);
            issue::make(&wanted, &Holder::Key(&key, None), &signer, b"", sample::NOW, &System).unwrap().certificate
        })
        .collect()
}

#[test]
fn a_file_and_a_server_answer_alike() {
    let Some(server) = Postgres::start(&["fsync=off"]) else { return };
    let mut runner = TestRunner::new(Config { cases: CASES, failure_persistence: None, ..Config::default() });
    let certificates = certificates(&mut runner);
    for case in 0..CASES {
        let acts = proptest::collection::vec(act(), 1..40).new_tree(&mut runner).unwrap().current();
        let folder = super::machine();
        let url = server.database(&format!("case_{case}"));
        let (root, _) = sample::root().unwrap();
        let side = |address: Option<String>| {
            let home = folder.path("home");
            let chosen = Chosen::new(None, BTreeMap::new(), home);
            let data = folder.path(if address.is_some() { "there" } else { "data" });
            if let Some(address) = address {
                chosen.relocate(&data, &address, Some("archive"), at(0)).unwrap();
            }
            let ledger = chosen.open(&data).unwrap();
            let work = Work::Swap { label: root.label.clone() };
            let id = ledger.begin(&work, &Record::Authority(&root), at(0)).unwrap();
            ledger.finish(id, &work).unwrap();
            Side { ledger, authority: root.clone(), begun: Vec::new() }
        };
        let (mut file, mut database) = (side(None), side(Some(url)));
        for (n, act) in acts.iter().enumerate() {
            let (a, b) = (file.done(n, act, &certificates), database.done(n, act, &certificates));
            assert_eq!(a, b, "{n} of {acts:#?}");
        }
        assert_eq!(file.begun.len(), database.begun.len());
        assert!(database.ledger.damage().unwrap().is_none());
    }
}
