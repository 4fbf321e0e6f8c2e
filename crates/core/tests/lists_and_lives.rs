//! Revocation lists against a certificate, what is left of a life, what lies on the disk, and the schedules as text.

#![allow(clippy::unwrap_used, clippy::panic, unreachable_pub, dead_code, reason = "tests")]

mod machine;

use machine::{Counting, Machine, root};
use proptest::prelude::*;
use std::path::PathBuf;
use std::str::FromStr;
use tamga_core::ca::authority::create::{self, Request};
use tamga_core::ca::status::{self, OnDisk};
use tamga_core::deploy::schedule::{self, Job, Kind};
use tamga_core::pki::cert::crl::{Crl, Revoked, ToSign};
use tamga_core::pki::cert::profile::{Leaf, Links};
use tamga_core::pki::cert::{Certificate, build};
use tamga_core::pki::chain::revocation::{Said, said};
use tamga_core::pki::format::pem;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::{JudgedPurpose, Purpose};
use tamga_core::vocabulary::reason::Reason;
use tamga_core::vocabulary::timestamp::{DAY, Timestamp};

const NOW: i64 = 1_795_600_000;

fn at(days: i64) -> Timestamp {
    Timestamp::from_unix(NOW + days * DAY)
}

/// An authority with its key.
fn authority(label: &str, seed: u64) -> (Certificate, PrivateKey) {
    let entropy = Counting::from(seed);
    let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy).unwrap();
    let request = Request::plain(Label::from_str(label).unwrap());
    let made = create::root(&request, &key, "x".into(), at(-10), &entropy).unwrap();
    (made.authority.certificate, key)
}

/// A leaf that lives from one day to another; self-signed, since only its serial and dates matter here.
fn leaf(from: i64, until: i64, seed: u64) -> Certificate {
    let entropy = Counting::from(seed);
    let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy).unwrap();
    let names = [Name::from_str("charts.saltmarsh.test").unwrap()];
    let subject = tamga_core::pki::cert::profile::leaf_subject(&names).to_der().unwrap();
    let links = Links::default();
    let (from, until) = (at(from), at(until));
    let leaf = Leaf { names: &names, purposes: &[Purpose::Server], subject: &subject, from, until, links: &links };
    leaf.self_sign(&key, &entropy).unwrap()
}

fn list(of: &(Certificate, PrivateKey), number: u64, from: i64, until: i64, serials: &[&str]) -> Crl {
    let entries: Vec<Revoked> = serials
        .iter()
        .map(|s| Revoked { serial: (*s).to_owned(), at: at(-1), reason: Reason::KeyCompromise })
        .collect();
    let to_sign = ToSign { issuer: &of.0, number, this_update: at(from), next_update: at(until), entries: &entries };
    Crl::read(&to_sign.sign(&of.1, &Counting::from(9)).unwrap(), "a list").unwrap()
}

#[test]
fn only_a_list_that_counts_decides_and_the_latest_of_those() {
    let (ours, theirs) = (authority("saltmarsh", 1), authority("saltmarsh", 2));
    let c = leaf(-5, 90, 3);
    let judge = |lists: &[Crl]| said(&c, &ours.0, &[], lists, at(0));
    let why = |lists: &[Crl]| match judge(lists) {
        Said::Unknown(why) => why,
        other => panic!("{other:?}"),
    };
    assert!(why(&[]).contains("no list"));
    assert_eq!(judge(&[list(&ours, 1, -2, 7, &[])]), Said::Good);
    assert!(
        matches!(judge(&[list(&ours, 1, -2, 7, &[&c.serial])]), Said::Revoked(r) if r.reason == Reason::KeyCompromise)
    );
    // Another authority of the same name, one that has expired, one that has not begun.
    assert!(why(&[list(&theirs, 1, -2, 7, &[&c.serial])]).contains("signature"));
    assert!(why(&[list(&ours, 1, -9, -1, &[])]).contains("it ended on"));
    assert!(why(&[list(&ours, 1, 1, 7, &[])]).contains("it begins only on"));
    // The latest counts, whatever order they come in; of one moment the higher number.
    let (old, new) = (list(&ours, 1, -3, 7, &[&c.serial]), list(&ours, 2, -2, 7, &[]));
    assert_eq!(judge(&[old.clone(), new.clone()]), Said::Good);
    assert_eq!(judge(&[new, old]), Said::Good);
    let (low, high) = (list(&ours, 4, -2, 7, &[]), list(&ours, 5, -2, 7, &[&c.serial]));
    assert!(matches!(judge(&[low.clone(), high.clone()]), Said::Revoked(_)));
    assert!(matches!(judge(&[high, low]), Said::Revoked(_)));
    // One that does not count takes nothing away from one that does.
    let lists = [list(&theirs, 9, -1, 7, &[&c.serial]), list(&ours, 1, -2, 7, &[])];
    assert_eq!(judge(&lists), Said::Good);
    // Revoked only from a later moment on.
    assert_eq!(said(&c, &ours.0, &[], &[list(&ours, 1, -4, 7, &[&c.serial])], at(-2)), Said::Good);
}

#[test]
fn what_lies_on_the_disk_is_compared_and_not_believed() {
    let (c, other) = (leaf(-5, 90, 3), leaf(-5, 90, 4));
    let pem_of = |c: &Certificate| pem::write(pem::CERTIFICATE, c.der()).as_bytes().to_vec();
    assert_eq!(status::on_disk(&c, None), OnDisk::Missing);
    assert_eq!(status::on_disk(&c, Some(&pem_of(&c))), OnDisk::AsIssued);
    assert_eq!(status::on_disk(&c, Some(&[pem_of(&c), pem_of(&other)].concat())), OnDisk::AsIssued, "with its chain");
    assert!(
        matches!(status::on_disk(&c, Some(&pem_of(&other))), OnDisk::Other(s) if s.contains("charts.saltmarsh.test"))
    );
    for junk in [&b""[..], b"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n", &[0xff; 40]] {
        assert_eq!(status::on_disk(&c, Some(junk)), OnDisk::Unreadable);
    }
}

fn job(program: &str, data: &str) -> Job {
    Job { program: program.into(), data: data.into(), machine: false, passphrase_file: None }
}

#[test]
fn paths_with_everything_in_them_stay_one_word_for_each_scheduler() {
    let m = Machine::with(&[]);
    let odd = job("/opt/a b/100%/ta\"mga", "/home/o'brien/<&>/data");
    let text = |kind| schedule::parts(kind, &odd, &m).remove(0).text;
    let unit = text(Kind::Systemd);
    assert!(
        unit.contains(r#"ExecStart="/opt/a b/100%%/ta\"mga" renew --quiet --data-dir "/home/o'brien/<&>/data""#),
        "{unit}"
    );
    let line = text(Kind::Cron);
    assert!(line.contains(r"'/opt/a b/100\%/ta"), "{line}");
    assert!(line.contains(r"'/home/o'\''brien/<&>/data'"), "{line}");
    assert_eq!(line.lines().count(), 3);
    let agent = plist::Value::from_reader(std::io::Cursor::new(text(Kind::Launchd).into_bytes())).unwrap();
    let words = agent.as_dictionary().unwrap().get("ProgramArguments").unwrap().as_array().unwrap();
    let words: Vec<&str> = words.iter().map(|w| w.as_string().unwrap()).collect();
    assert_eq!(words, ["/opt/a b/100%/ta\"mga", "renew", "--quiet", "--data-dir", "/home/o'brien/<&>/data"]);
    let task = text(Kind::WindowsTask);
    assert!(task.contains("&lt;&amp;&gt;") && !task.contains("<&>"), "{task}");
}

#[test]
fn a_timer_of_the_machine_is_the_systems_own() {
    let m = Machine::with(&["systemctl"]);
    let of = |machine| Job { machine, ..job("/usr/bin/tamga", "/var/lib/tamga") };
    let places = |machine| -> Vec<PathBuf> {
        schedule::parts(Kind::Systemd, &of(machine), &m).into_iter().filter_map(|p| p.place).collect()
    };
    assert!(places(true).iter().all(|p| p.starts_with("/etc/systemd/system")));
    assert!(places(false).iter().all(|p| p.starts_with("/home/operator/.config/systemd/user")));
    let words = |machine| -> Vec<String> {
        let steps = schedule::install(Kind::Systemd, &of(machine), &m).unwrap();
        steps.iter().map(|p| p.step.words()).filter(|w| w.starts_with("run")).collect()
    };
    assert_eq!(words(true), ["run systemctl daemon-reload", "run systemctl enable --now tamga-renew.timer"]);
    assert!(words(false).iter().all(|w| w.contains("--user")));
    assert!(schedule::remove(Kind::Systemd, &of(true), &m).is_empty(), "nothing is there to take away");
    let _ = root("saltmarsh");
}

proptest! {
    #[test]
    fn a_life_only_gets_shorter(from in -400_i64..0, length in 1_i64..800, first in -500_i64..900, later in 0_i64..300) {
        let c = leaf(from, from + length, 5);
        let (a, b) = (status::part_left(&c, at(first)), status::part_left(&c, at(first + later)));
        prop_assert!(a <= 100 && b <= a);
        prop_assert_eq!(status::part_left(&c, at(from + length)), 0);
        prop_assert_eq!(status::part_left(&c, at(from)), 100);
    }
}

#[test]
fn safari_takes_825_days_and_not_one_more_and_nobody_else_counts_them() {
    use tamga_core::check::client::case::Input;
    use tamga_core::check::client::{Client, Outcome};
    use tamga_core::check::predict::predict;
    use tamga_core::finding::Code;
    let ours = authority("saltmarsh", 3);
    let name = Name::from_str("charts.saltmarsh.test").unwrap();
    let said = |days: i64, client: Client| {
        let entropy = Counting::from(17);
        let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy).unwrap();
        let names = [name.clone()];
        let subject = tamga_core::pki::cert::profile::leaf_subject(&names).to_der().unwrap();
        let links = Links::default();
        let (from, until) = (at(-1), at(days - 1));
        let leaf = Leaf { names: &names, purposes: &[Purpose::Server], subject: &subject, from, until, links: &links };
        let served = [leaf.issue(key.public(), &ours.0, &ours.1, &entropy).unwrap()];
        let input = Input {
            served: &served,
            extra: &[],
            anchors: std::slice::from_ref(&ours.0),
            distrusted: &[],
            distrusted_keys: &[],
            name: Some(&name),
            purpose: Some(JudgedPurpose::Server),
            at: at(0),
            lists: &[],
            revocation: Default::default(),
            spoken: Default::default(),
        };
        let verdict = predict(client, &input);
        (verdict.outcome, verdict.judgement.faults.iter().map(|f| f.code).collect::<Vec<_>>())
    };
    for client in Client::ALL {
        assert_eq!(said(825, client), (Outcome::Accepts, vec![]), "{}", client.word());
        let longer = match client {
            Client::Safari => (Outcome::Refuses, vec![Code::ValidityTooLong]),
            _ => (Outcome::Accepts, vec![]),
        };
        assert_eq!(said(826, client), longer, "{}", client.word());
    }
}

/// RFC 3161 §2.3: a time-stamping certificate has that one purpose, and the extension is critical.
#[test]
fn time_stamping_wants_that_purpose_alone_and_critical() {
    use tamga_core::check::client::case::Input;
    use tamga_core::check::client::{Client, Outcome};
    use tamga_core::check::predict::predict;
    let ours = authority("saltmarsh", 5);
    let entropy = Counting::from(19);
    let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy).unwrap();
    let names = [Name::from_str("stamps.saltmarsh.test").unwrap()];
    let subject = tamga_core::pki::cert::profile::leaf_subject(&names).to_der().unwrap();
    let links = Links::default();
    let leaf = Leaf {
        names: &names,
        purposes: &[Purpose::Client],
        subject: &subject,
        from: at(-1),
        until: at(9),
        links: &links,
    };
    let plain = leaf.issue(key.public(), &ours.0, &ours.1, &entropy).unwrap();
    let said = |purposes: Option<&[JudgedPurpose]>, critical: bool, wanted: JudgedPurpose| {
        let mut extensions = plain.extensions.clone();
        extensions.retain(|e| purposes.is_some() || e.extn_id.to_string() != "2.5.29.37");
        for e in extensions.iter_mut().filter(|e| e.extn_id.to_string() == "2.5.29.37") {
            let all: Vec<_> = purposes.into_iter().flatten().map(|p| p.oid()).collect();
            e.critical = critical;
            e.extn_value = der::asn1::OctetString::new(der::Encode::to_der(&all).unwrap()).unwrap();
        }
        let made = build::ToSign {
            serial: build::Serial::random(&entropy),
            issuer: plain.issuer.clone(),
            not_before: plain.not_before,
            not_after: plain.not_after,
            subject: plain.subject.clone(),
            spki: plain.key.spki().to_vec(),
            extensions,
        };
        let c = made.sign(&ours.1, &entropy).unwrap();
        let input = Input {
            served: &[c],
            extra: &[],
            anchors: std::slice::from_ref(&ours.0),
            distrusted: &[],
            distrusted_keys: &[],
            name: None,
            purpose: Some(wanted),
            at: at(0),
            lists: &[],
            revocation: Default::default(),
            spoken: Default::default(),
        };
        predict(Client::Standard, &input).outcome == Outcome::Accepts
    };
    use JudgedPurpose::{Code, Timestamp};
    assert!(said(Some(&[Timestamp]), true, Timestamp));
    assert!(!said(Some(&[Timestamp]), false, Timestamp), "not critical");
    assert!(!said(Some(&[Timestamp, Code]), true, Timestamp), "not alone");
    assert!(!said(None, true, Timestamp), "no purposes at all");
    assert!(!said(Some(&[Code]), true, Timestamp));
    assert!(said(Some(&[Timestamp, Code]), false, Code), "the rule is of time stamping alone");
}
