//! What the leaf calls itself, and what is asked for.

use super::Odd;
use crate::differential::keys::oid;

use crate::differential::situation::{Situation, address, alternative, common, name};
use crate::matrix::make::{id, sequence, tlv};

/// The oddities.
pub const ALL: &[Odd] = &[
    ("another name", |s, r| {
        let other = r.of_these(&["archive.saltmarsh.test", "harbour.test", "saltmarsh.test", "test"]);
        s.leaf().set(id::NAMES, false, alternative(&[(0x82, other.into())]));
    }),
    ("another address", |s, _| {
        by_address(s);
        s.leaf().set(id::NAMES, false, alternative(&[(0x87, vec![127, 9, 9, 9])]));
    }),
    ("an address as a DNS name", |s, _| {
        by_address(s);
        let text = s.host.clone().into_bytes();
        s.leaf().set(id::NAMES, false, alternative(&[(0x82, text)]));
    }),
    ("an address as a DNS name and right", |s, _| {
        by_address(s);
        let (text, octets) = (s.host.clone().into_bytes(), address(s.number).octets().to_vec());
        s.leaf().set(id::NAMES, false, alternative(&[(0x82, text), (0x87, octets)]));
    }),
    ("an address of odd length", |s, r| {
        let octets = r.of_these(&[vec![127, 0, 1], vec![127, 0, 0, 1, 0], vec![0; 8], vec![]]);
        let mut names = own(s);
        names.push((0x87, octets));
        s.leaf().set(id::NAMES, false, alternative(&names));
    }),
    ("an address mapped into IPv6", |s, _| {
        by_address(s);
        let octets = [vec![0; 10], vec![0xff, 0xff], address(s.number).octets().to_vec()].concat();
        s.leaf().set(id::NAMES, false, alternative(&[(0x87, octets)]));
    }),
    ("a wildcard that fits", |s, _| {
        by_name(s, &format!("c{}.saltmarsh.test", s.number));
        dns(s, "*.saltmarsh.test");
    }),
    ("a wildcard over two labels", |s, _| {
        by_name(s, &format!("a.c{}.saltmarsh.test", s.number));
        dns(s, "*.saltmarsh.test");
    }),
    ("a wildcard in the middle", |s, r| {
        by_name(s, &format!("a.c{}.saltmarsh.test", s.number));
        let inner = r.of_these(&["a.*.saltmarsh.test", "*.*.saltmarsh.test", "*.c*.saltmarsh.test"]);
        dns(s, inner);
    }),
    ("a wildcard of part of a label", |s, r| {
        by_name(s, &format!("c{}.saltmarsh.test", s.number));
        let part = r.of_these(&["c*.saltmarsh.test", "*c.saltmarsh.test", "c**.saltmarsh.test"]);
        let number = s.number.to_string();
        let last = format!("*{}.saltmarsh.test", &number[number.len() - 1..]);
        let part = if r.percent(30) { last.as_str() } else { part };
        dns(s, part);
    }),
    ("a wildcard under a top domain", |s, _| {
        by_name(s, &format!("c{}.test", s.number));
        dns(s, "*.test");
    }),
    ("a wildcard alone", |s, r| {
        by_name(s, &format!("c{}", s.number));
        let star = r.of_these(&["*", "*.", "**"]);
        dns(s, star);
    }),
    ("a wildcard for its own base", |s, _| {
        by_name(s, &format!("c{}.saltmarsh.test", s.number));
        dns(s, &format!("*.c{}.saltmarsh.test", s.number));
    }),
    ("a wildcard under a public suffix", |s, r| {
        let suffix = r.of_these(&["co.uk", "github.io", "com"]);
        by_name(s, &format!("c{}.{suffix}", s.number));
        dns(s, &format!("*.{suffix}"));
    }),
    ("a name of one label", |s, _| {
        by_name(s, &format!("c{}", s.number));
        let host = s.host.clone();
        dns(s, &host);
    }),
    ("a dot behind", |s, _| {
        by_name(s, &format!("c{}.saltmarsh.test", s.number));
        let host = format!("{}.", s.host);
        dns(s, &host);
    }),
    ("a dot in front", |s, _| {
        by_name(s, &format!("c{}.saltmarsh.test", s.number));
        dns(s, ".saltmarsh.test");
    }),
    ("upper case", |s, _| {
        by_name(s, &format!("c{}.saltmarsh.test", s.number));
        let host = s.host.to_uppercase();
        dns(s, &host);
    }),
    ("an underscore", |s, _| {
        by_name(s, &format!("c_{}.saltmarsh.test", s.number));
        let host = s.host.clone();
        dns(s, &host);
    }),
    ("an underscore beside", |s, _| beside(s, &[(0x82, b"my_buoy.saltmarsh.test".to_vec())])),
    ("an international name", |s, _| {
        by_name(s, &format!("c{}.xn--mwe-hoa.test", s.number));
        let host = s.host.clone();
        dns(s, &host);
    }),
    ("raw UTF-8", |s, r| {
        let octets = r.of_these(&["möwe.saltmarsh.test".as_bytes().to_vec(), vec![0xff, 0x2e, 0x74]]);
        beside(s, &[(0x82, octets)]);
    }),
    ("odd DNS names beside", |s, r| {
        let odd = r.of_these(&[
            "",
            ".",
            "a..b.test",
            "has space.test",
            "-h.test",
            "a.b.test/x",
            "x\0.test",
            "*.*.test",
            "h:80",
        ]);
        beside(s, &[(0x82, odd.into())]);
    }),
    ("odd DNS names in front", |s, r| {
        let odd = r.of_these(&["", ".", "a..b.test", "has space.test", "-h.test", "a.b.test/x", "x\0.test", "h:80"]);
        let names = [vec![(0x82, odd.as_bytes().to_vec())], own(s)].concat();
        s.leaf().set(id::NAMES, false, alternative(&names));
    }),
    ("a zero octet in the name", |s, _| {
        by_name(s, &format!("c{}.saltmarsh.test", s.number));
        let name = format!("{}\0.harbour.test", s.host);
        dns(s, &name);
    }),
    ("other kinds of names too", |s, r| {
        let kinds = [
            (0x81, b"keeper@saltmarsh.test".to_vec()),
            (0x86, b"https://charts.saltmarsh.test/x".to_vec()),
            (0x86, b"urn:x".to_vec()),
            (0xa4, common("a directory")),
            (0x88, oid("1.3.6.1.4.1.32473.1")[2..].to_vec()),
            (0xa0, [oid("1.3.6.1.4.1.311.20.2.3"), tlv(0xa0, &tlv(0x0c, b"user"))].concat()),
            (0xa0, [oid("1.3.6.1.5.5.7.8.9"), tlv(0xa0, &tlv(0x0c, "köchin@saltmarsh.test".as_bytes()))].concat()),
        ];
        let one = r.of_these(&kinds);
        beside(s, &[one]);
    }),
    ("only other kinds of names", |s, r| {
        let kinds = [
            (0x81, b"keeper@saltmarsh.test".to_vec()),
            (0x86, b"https://charts.saltmarsh.test/x".to_vec()),
            (0xa4, common("a directory")),
        ];
        let one = r.of_these(&kinds);
        s.leaf().set(id::NAMES, false, alternative(&[one]));
    }),
    ("malformed names of other kinds", |s, r| {
        let kinds = [
            (0x81, b"no mailbox".to_vec()),
            (0x86, b"no uri".to_vec()),
            (0x81, vec![0xff]),
            (0x8b, vec![1]),
            (0xa4, vec![1]),
        ];
        let one = r.of_these(&kinds);
        beside(s, &[one]);
    }),
    ("no names, the host as CN", |s, _| {
        let host = s.host.clone();
        let leaf = s.leaf();
        leaf.without(id::NAMES);
        leaf.subject = common(&host);
    }),
    ("no names, another CN", |s, _| {
        let leaf = s.leaf();
        leaf.without(id::NAMES);
        leaf.subject = common("archive.saltmarsh.test");
    }),
    ("no names, a wildcard as CN", |s, _| {
        by_name(s, &format!("c{}.saltmarsh.test", s.number));
        let leaf = s.leaf();
        leaf.without(id::NAMES);
        leaf.subject = common("*.saltmarsh.test");
    }),
    ("no names, two CNs", |s, r| {
        let host = s.host.clone();
        let (first, second) = if r.percent(50) { (host.as_str(), "x.test") } else { ("x.test", host.as_str()) };
        let subject = name(&[(3, 0x0c, first.as_bytes()), (3, 0x0c, second.as_bytes())]);
        let leaf = s.leaf();
        leaf.without(id::NAMES);
        leaf.subject = subject;
    }),
    ("the host as CN beside another name", |s, r| {
        let host = s.host.clone();
        let other = r.of_these(&[(0x82, b"x.test".to_vec()), (0x81, b"a@x.test".to_vec()), (0x87, vec![10, 0, 0, 1])]);
        s.leaf().subject = common(&host);
        s.leaf().set(id::NAMES, false, alternative(&[other]));
    }),
    ("names critical", |s, _| {
        let names = own(s);
        s.leaf().set(id::NAMES, true, alternative(&names));
    }),
    ("names empty or malformed", |s, r| {
        let value = r.of_these(&[
            sequence(&[]),
            vec![0x30, 5, 0x82, 1],
            tlv(4, b"x"),
            vec![],
            sequence(&[tlv(0x82, b"x")])[1..].to_vec(),
        ]);
        s.leaf().set(id::NAMES, false, value);
    }),
    ("bytes behind the names", |s, _| {
        let value = [alternative(&own(s)), vec![0]].concat();
        s.leaf().set(id::NAMES, false, value);
    }),
    ("three hundred names", |s, _| {
        let many: Vec<(u8, Vec<u8>)> = (0..300).map(|n| (0x82, format!("b{n}.saltmarsh.test").into_bytes())).collect();
        beside(s, &many);
    }),
    ("subject empty, names critical", |s, _| {
        let names = own(s);
        s.leaf().subject = sequence(&[]);
        s.leaf().set(id::NAMES, true, alternative(&names));
    }),
    ("names in an authority", |s, r| {
        super::extensions::above(s, r, |c, _| {
            c.set(id::NAMES, false, alternative(&[(0x82, b"authority.harbour.test".to_vec())]))
        });
    }),
];

/// What names the host.
fn own(s: &Situation) -> Vec<(u8, Vec<u8>)> {
    if s.is_by_address() {
        vec![(0x87, address(s.number).octets().to_vec())]
    } else {
        vec![(0x82, s.host.clone().into_bytes())]
    }
}

fn beside(s: &mut Situation, more: &[(u8, Vec<u8>)]) {
    let names = [own(s), more.to_vec()].concat();
    s.leaf().set(id::NAMES, false, alternative(&names));
}

fn by_name(s: &mut Situation, host: &str) {
    s.host = host.to_owned();
}

fn by_address(s: &mut Situation) {
    s.host = address(s.number).to_string();
}

fn dns(s: &mut Situation, name: &str) {
    s.leaf().set(id::NAMES, false, alternative(&[(0x82, name.as_bytes().to_vec())]));
}
