//! Roots with a double, cross-signed, rolled over, reissued, expired with another way, unknown.

use super::Odd;
use crate::differential::keys::Key;
use crate::differential::rng::Rng;
use crate::differential::situation::{By, DAY, Situation, Thing, authority, common, serial, time};
use crate::matrix::make::{constraints, id};

/// It leaves nothing above the leaf: drawn with others, it comes last.
pub const ALONE: &str = "leaf signed by itself";

/// The oddities.
pub const ALL: &[Odd] = &[
    ("root unknown", |s, _| s.anchors.clear()),
    ("root unknown and served", |s, _| {
        s.anchors.clear();
        s.served.push(Thing::Line(s.root()));
    }),
    ("root served", |s, _| s.served.push(Thing::Line(s.root()))),
    ("root of the same name with another key, before", |s, r| {
        let double = namesake(s, r);
        s.anchors.insert(0, double);
    }),
    ("root of the same name with another key, after", |s, r| {
        let double = namesake(s, r);
        s.anchors.push(double);
    }),
    ("root of the same name with another key, alone", |s, r| {
        let double = namesake(s, r);
        s.anchors = vec![double];
    }),
    ("root of the same name with another key, served", |s, r| {
        let double = namesake(s, r);
        s.served.push(double);
    }),
    ("root reissued with the same key, both trusted", |s, r| {
        let again = reissued(s, r);
        let place = r.below(2).min(s.anchors.len());
        s.anchors.insert(place, again);
    }),
    ("root reissued, the older expired", |s, r| {
        let again = reissued(s, r);
        let root = s.root();
        s.line[root].until = time(-DAY);
        let place = r.below(2).min(s.anchors.len());
        s.anchors.insert(place, again);
    }),
    ("root reissued with other permits", |s, r| {
        let again = reissued(s, r);
        let root = s.root();
        s.line[root].set(id::CONSTRAINTS, true, constraints(&["harbour.test"], &[]));
        let place = r.below(2).min(s.anchors.len());
        s.anchors.insert(place, again);
    }),
    ("cross-signed root served under the trusted other", |s, r| {
        let other = beside(s, r, "other root");
        let crossed = cross(s, r, other);
        s.served.push(crossed);
        s.anchors = vec![Thing::Beside(other)];
    }),
    ("cross-signed root served, both trusted", |s, r| {
        let other = beside(s, r, "other root");
        let crossed = cross(s, r, other);
        s.served.push(crossed);
        s.anchors.push(Thing::Beside(other));
    }),
    ("cross-signed root served, the other unknown", |s, r| {
        let other = beside(s, r, "other root");
        let crossed = cross(s, r, other);
        s.served.push(crossed);
    }),
    ("cross-signed root served, expired", |s, r| {
        let other = beside(s, r, "other root");
        let crossed = cross(s, r, other);
        if let Thing::Beside(i) = crossed {
            s.beside[i].0.until = time(-DAY);
        }
        s.served.push(crossed);
        s.anchors.push(Thing::Beside(other));
    }),
    ("intermediate twice, one expired", |s, r| {
        s.with_intermediate(r);
        let mut again = s.line[1].clone();
        again.serial = serial(r);
        again.until = time(-DAY);
        s.beside.push((again, By::Line(2)));
        let place = 1 + r.below(2);
        s.served.insert(place.min(s.served.len()), Thing::Beside(s.beside.len() - 1));
    }),
    ("intermediate in the store, no root", |s, r| {
        s.with_intermediate(r);
        s.anchors = vec![Thing::Line(1)];
    }),
    ("intermediate in the store and the root", |s, r| {
        s.with_intermediate(r);
        s.anchors.insert(0, Thing::Line(1));
    }),
    ("leaf in the store, no root", |s, _| s.anchors = vec![Thing::Line(0)]),
    ("leaf in the store and the root", |s, _| s.anchors.insert(0, Thing::Line(0))),
    (ALONE, |s, r| {
        let mut alone = s.line[0].clone();
        alone.serial = serial(r);
        s.line = vec![alone];
        s.beside.clear();
        s.served = vec![Thing::Line(0)];
        s.anchors = if r.percent(50) { vec![Thing::Line(0)] } else { vec![] };
    }),
    ("root signed by another key", |s, r| {
        let other = beside(s, r, "quite another");
        let root = s.root();
        let mut spoken = s.line[root].clone();
        spoken.issuer = Some(spoken.subject.clone());
        s.beside.push((spoken, By::Beside(other)));
        s.anchors = vec![Thing::Beside(s.beside.len() - 1)];
    }),
    ("rolled over", |s, r| {
        // The new root, the old one trusted, and the old one's signature on the new key (RFC 4210 §4.4).
        let other = beside(s, r, "other root");
        s.beside[other].0.subject = s.line[s.root()].subject.clone();
        let crossed = cross(s, r, other);
        s.served.push(crossed);
        s.anchors = vec![Thing::Beside(other)];
    }),
];

/// A root of its own; gives its place.
fn beside(s: &mut Situation, r: &mut Rng, subject: &str) -> usize {
    let root = authority(r, &format!("{subject} {}.{}", s.number, r.clone().draw()), Key::P256(3));
    s.beside.push((root, By::Itself));
    s.beside.len() - 1
}

fn namesake(s: &mut Situation, r: &mut Rng) -> Thing {
    let mut double = s.line[s.root()].clone();
    double.serial = serial(r);
    double.key = Key::P256(4);
    s.beside.push((double, By::Itself));
    Thing::Beside(s.beside.len() - 1)
}

fn reissued(s: &mut Situation, r: &mut Rng) -> Thing {
    let mut again = s.line[s.root()].clone();
    again.serial = serial(r);
    again.from = time(-20 * DAY);
    s.beside.push((again, By::Itself));
    Thing::Beside(s.beside.len() - 1)
}

fn cross(s: &mut Situation, r: &mut Rng, by: usize) -> Thing {
    let mut crossed = s.line[s.root()].clone();
    crossed.serial = serial(r);
    s.beside.push((crossed, By::Beside(by)));
    Thing::Beside(s.beside.len() - 1)
}

/// A name that no authority here has.
pub fn stranger(s: &Situation) -> Vec<u8> {
    common(&format!("stranger {}", s.number))
}
