//! What is served: order, doubles, junk, gaps, depth, size.

use super::Odd;
use crate::differential::keys::Key;
use crate::differential::rng::Rng;
use crate::differential::situation::{By, Situation, Thing, authority};
use crate::matrix::make::{basic, id, tlv};

/// The oddities.
pub const ALL: &[Odd] = &[
    ("order shuffled", |s, r| {
        s.with_intermediate(r);
        s.served.push(Thing::Line(s.root()));
        for i in (2..s.served.len()).rev() {
            let j = 1 + r.below(i);
            s.served.swap(i, j);
        }
    }),
    ("leaf served twice", |s, _| s.served.insert(1.min(s.served.len()), Thing::Line(0))),
    ("all served twice", |s, _| {
        let again = s.served.clone();
        s.served.extend(again);
    }),
    ("unrelated certificate served", |s, r| {
        let other = authority(r, &format!("unrelated {}", s.number), Key::P256(3));
        s.beside.push((other, By::Itself));
        let at = 1 + r.below(s.served.len());
        s.served.insert(at, Thing::Beside(s.beside.len() - 1));
    }),
    ("junk served", |s, r| {
        let junk = match r.below(3) {
            0 => tlv(0x30, &tlv(2, &[7])),
            1 => r.octets(40),
            _ => tlv(0x30, &[]),
        };
        s.served.push(Thing::Raw(junk));
    }),
    ("intermediate not served", |s, r| {
        s.with_intermediate(r);
        if s.served.len() > 1 {
            let gone = 1 + r.below(s.served.len() - 1);
            s.served.remove(gone);
        }
    }),
    ("issuer served first", |s, r| {
        s.with_intermediate(r);
        if s.served.len() > 1 {
            s.served.swap(0, 1);
        }
    }),
    ("four to nine between", |s, r| deep(s, r, 4, 6)),
    ("ten to forty between", |s, r| deep(s, r, 10, 31)),
    ("ninety to a hundred between", |s, r| deep(s, r, 90, 11)),
    ("a large extension", |s, r| {
        let size = r.of_these(&[9_000, 20_000, 34_000, 70_000, 110_000]);
        let of = r.below(s.line.len() - 1);
        s.line[of].add("1.3.6.1.4.1.32473.9", false, tlv(4, &vec![0x5a; size]));
    }),
    ("path length too short", |s, r| {
        s.with_intermediate(r);
        let root = s.root();
        let of = 2 + r.below(root - 1);
        s.line[of].set(id::BASIC, true, basic(true, Some(0)));
    }),
    ("path length just enough", |s, _| {
        for i in 1..s.line.len() {
            s.line[i].set(id::BASIC, true, basic(true, Some(u8::try_from(i - 1).unwrap())));
        }
    }),
    ("self-issued intermediate under a short path length", |s, r| {
        s.with_intermediate(r);
        let root = s.root();
        s.line[1].subject = s.line[root].subject.clone();
        s.line[root].set(id::BASIC, true, basic(true, Some(0)));
    }),
];

fn deep(s: &mut Situation, r: &mut Rng, least: usize, more: usize) {
    let count = least + r.below(more);
    while s.line.len() < count + 2 {
        let i = s.line.len();
        let made = authority(r, &format!("deep {}.{i}.{}", s.number, r.clone().draw()), Key::P256(i % 6));
        s.insert(i - 1, made);
    }
}
