//! Name constraints of every form (RFC 5280 §4.2.1.10).

use super::Odd;
use crate::differential::keys::oid;
use crate::differential::rng::Rng;
use crate::differential::situation::{Situation, address, alternative, common};
use crate::matrix::make::{id, sequence, tlv};

/// The oddities.
pub const ALL: &[Odd] = &[
    ("permits the domain", |s, r| put(s, r, &[dns("saltmarsh.test"), ip(&[127, 0, 0, 0], &[255, 0, 0, 0])], &[])),
    ("permits the domain, not critical", |s, r| {
        put(s, r, &[dns("saltmarsh.test"), ip(&[127, 0, 0, 0], &[255, 0, 0, 0])], &[]);
        for c in &mut s.line {
            for e in c.extensions.iter_mut().filter(|e| e.id == id::CONSTRAINTS) {
                e.flag = crate::differential::situation::Flag::No;
            }
        }
    }),
    ("permits another domain", |s, r| put(s, r, &[dns("harbour.test")], &[])),
    ("permits with a dot in front", |s, r| put(s, r, &[dns(".saltmarsh.test")], &[])),
    ("permits in upper case", |s, r| put(s, r, &[dns("SaltMarsh.TEST")], &[])),
    ("permits the empty name", |s, r| put(s, r, &[dns("")], &[])),
    ("permits a top domain", |s, r| put(s, r, &[dns("test")], &[])),
    ("permits half a label", |s, r| put(s, r, &[dns("marsh.test")], &[])),
    ("permits the host itself", |s, r| {
        let host = s.host.clone();
        put(s, r, &[dns(&host)], &[]);
    }),
    ("permits odd domains", |s, r| {
        let odd = r.of_these(&["saltmarsh.test.", "*.saltmarsh.test", "..test", "a b.test", "salt_marsh.test", "."]);
        put(s, r, &[dns("saltmarsh.test"), dns(odd)], &[]);
    }),
    ("excludes the domain", |s, r| put(s, r, &[], &[dns("saltmarsh.test")])),
    ("excludes another domain", |s, r| put(s, r, &[], &[dns("harbour.test")])),
    ("excludes with a dot in front", |s, r| {
        let d = if r.percent(50) { ".saltmarsh.test".to_owned() } else { format!(".{}", s.host) };
        put(s, r, &[], &[dns(&d)]);
    }),
    ("excludes the empty name", |s, r| put(s, r, &[], &[dns("")])),
    ("a wildcard under what is excluded", |s, r| {
        let host = s.host.clone();
        s.leaf().set(
            id::NAMES,
            false,
            alternative(&[(0x82, host.into_bytes()), (0x82, b"*.buoys.saltmarsh.test".to_vec())]),
        );
        let d = r.of_these(&["b1.buoys.saltmarsh.test", "buoys.saltmarsh.test", ".buoys.saltmarsh.test"]);
        put(s, r, &[], &[dns(d)]);
    }),
    ("a wildcard under what is permitted", |s, r| {
        let host = s.host.clone();
        s.leaf().set(id::NAMES, false, alternative(&[(0x82, host.into_bytes()), (0x82, b"*.saltmarsh.test".to_vec())]));
        let d = r.of_these(&["saltmarsh.test", ".saltmarsh.test", "c1.saltmarsh.test"]);
        put(s, r, &[dns(d)], &[]);
    }),
    ("permits addresses", |s, r| put(s, r, &[ip(&[127, 0, 0, 0], &[255, 0, 0, 0])], &[])),
    ("permits other addresses", |s, r| put(s, r, &[ip(&[10, 0, 0, 0], &[255, 0, 0, 0])], &[])),
    ("permits IPv6 alone", |s, r| put(s, r, &[ip(&[0xfd; 16], &[0xff; 16])], &[])),
    ("excludes the address", |s, r| {
        let octets = address(s.number).octets();
        put(s, r, &[], &[ip(&octets, &[255; 4])]);
    }),
    ("excludes all addresses", |s, r| put(s, r, &[], &[ip(&[0; 4], &[0; 4]), ip(&[0; 16], &[0; 16])])),
    ("a mask with gaps", |s, r| {
        if r.percent(50) {
            put(s, r, &[ip(&[127, 0, 0, 0], &[255, 0, 255, 0]), dns("saltmarsh.test")], &[]);
        } else {
            put(s, r, &[], &[ip(&[127, 1, 0, 0], &[255, 1, 0, 0])]);
        }
    }),
    ("an address with bits behind the mask", |s, r| {
        put(s, r, &[ip(&[127, 9, 9, 9], &[255, 0, 0, 0]), dns("saltmarsh.test")], &[]);
    }),
    ("addresses of odd length", |s, r| {
        let octets = r.of_these(&[vec![127, 0, 0, 1], vec![], vec![1; 7], vec![0; 16]]);
        put(s, r, &[(0x87, octets), dns("saltmarsh.test")], &[]);
    }),
    ("permits a mail domain", |s, r| {
        let base = r.of_these(&["saltmarsh.test", ".saltmarsh.test", "keeper@saltmarsh.test", "harbour.test"]);
        also(s, r, (0x81, b"keeper@saltmarsh.test".to_vec()));
        put(s, r, &[(0x81, base.into())], &[]);
    }),
    ("excludes a mail domain", |s, r| {
        let base = r.of_these(&["saltmarsh.test", "SALTMARSH.test", "Keeper@saltmarsh.test", "harbour.test"]);
        also(s, r, (0x81, b"keeper@SaltMarsh.test".to_vec()));
        put(s, r, &[], &[(0x81, base.into())]);
    }),
    ("permits URIs", |s, r| {
        let name = r.of_these(&[
            "https://c.saltmarsh.test/x",
            "https://127.0.0.1/",
            "urn:x",
            "https://c.saltmarsh.test:8443/",
        ]);
        let base = r.of_these(&[".saltmarsh.test", "saltmarsh.test", "c.saltmarsh.test", "harbour.test"]);
        also(s, r, (0x86, name.into()));
        put(s, r, &[(0x86, base.into())], &[]);
    }),
    ("excludes URIs", |s, r| {
        also(s, r, (0x86, b"https://c.saltmarsh.test/x".to_vec()));
        let base = r.of_these(&[".saltmarsh.test", "c.saltmarsh.test", "harbour.test"]);
        put(s, r, &[], &[(0x86, base.into())]);
    }),
    ("permits domains, and a URI is there", |s, r| {
        also(s, r, (0x86, b"https://c.harbour.test/x".to_vec()));
        put(s, r, &[dns("saltmarsh.test"), ip(&[127, 0, 0, 0], &[255, 0, 0, 0])], &[]);
    }),
    ("permits a directory", |s, r| {
        let base = if r.percent(50) { s.line[0].subject.clone() } else { common("someone else") };
        put(s, r, &[(0xa4, base)], &[]);
    }),
    ("excludes a directory", |s, r| {
        let base = if r.percent(50) { s.line[0].subject.clone() } else { common("someone else") };
        put(s, r, &[], &[(0xa4, base)]);
    }),
    ("constrains other kinds of names", |s, r| {
        let kind = r.of_these(&[
            (0xa0, [oid("1.3.6.1.4.1.311.20.2.3"), tlv(0xa0, &tlv(0x0c, b"user"))].concat()),
            (0x88, oid("1.3.6.1.4.1.32473.1")[2..].to_vec()),
        ]);
        if r.percent(50) {
            also(s, r, kind.clone());
        }
        if r.percent(50) { put(s, r, &[kind], &[]) } else { put(s, r, &[], &[kind]) }
    }),
    ("a constraint with minimum or maximum", |s, r| {
        let more = r.of_these(&[tlv(0x80, &[1]), tlv(0x81, &[5]), tlv(0x80, &[0])]);
        let tree = sequence(&[tlv(0x82, b"saltmarsh.test"), more]);
        let address = sequence(&[tlv(0x87, &[127, 0, 0, 0, 255, 0, 0, 0])]);
        let value = sequence(&[tlv(0xa0, &[tree, address].concat())]);
        raw(s, r, value);
    }),
    ("constraints empty or malformed", |s, r| {
        let value = r.of_these(&[
            sequence(&[]),
            sequence(&[tlv(0xa0, &[])]),
            vec![0x30, 4, 1],
            sequence(&[tlv(0xa0, &sequence(&[tlv(0x8b, b"x")]))]),
            sequence(&[tlv(0xa0, &sequence(&[tlv(0x82, &[0xff])]))]),
        ]);
        raw(s, r, value);
    }),
    ("constraints in the leaf", |s, r| {
        let base = r.of_these(&["saltmarsh.test", "harbour.test"]);
        s.leaf().set(id::CONSTRAINTS, true, trees(&[dns(base)], &[]));
    }),
    ("CN against the constraints", |s, r| {
        let subject = r.of_these(&["c.harbour.test", "no host", "harbour"]);
        s.leaf().subject = common(subject);
        if r.percent(50) {
            s.host = address(s.number).to_string();
            let octets = address(s.number).octets().to_vec();
            s.leaf().set(id::NAMES, false, alternative(&[(0x87, octets)]));
        }
        put(s, r, &[dns("saltmarsh.test"), ip(&[127, 0, 0, 0], &[255, 0, 0, 0])], &[]);
    }),
];

fn dns(base: &str) -> (u8, Vec<u8>) {
    (0x82, base.as_bytes().to_vec())
}

fn ip(address: &[u8], mask: &[u8]) -> (u8, Vec<u8>) {
    (0x87, [address, mask].concat())
}

fn trees(permitted: &[(u8, Vec<u8>)], excluded: &[(u8, Vec<u8>)]) -> Vec<u8> {
    let tree = |(tag, base): &(u8, Vec<u8>)| sequence(&[tlv(*tag, base)]);
    let mut parts = Vec::new();
    for (tag, list) in [(0xa0, permitted), (0xa1, excluded)] {
        if !list.is_empty() {
            parts.push(tlv(tag, &list.iter().flat_map(tree).collect::<Vec<_>>()));
        }
    }
    sequence(&parts)
}

fn put(s: &mut Situation, r: &mut Rng, permitted: &[(u8, Vec<u8>)], excluded: &[(u8, Vec<u8>)]) {
    raw(s, r, trees(permitted, excluded));
}

fn raw(s: &mut Situation, r: &mut Rng, value: Vec<u8>) {
    let at = 1 + r.below(s.line.len() - 1);
    s.line[at].set(id::CONSTRAINTS, true, value);
}

/// One more name in the leaf.
fn also(s: &mut Situation, _: &mut Rng, more: (u8, Vec<u8>)) {
    let first = if s.is_by_address() {
        (0x87, address(s.number).octets().to_vec())
    } else {
        (0x82, s.host.clone().into_bytes())
    };
    s.leaf().set(id::NAMES, false, alternative(&[first, more]));
}
