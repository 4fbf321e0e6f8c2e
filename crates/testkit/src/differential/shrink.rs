//! Makes a difference small: of everything that is odd about a situation only what the difference needs stays. Each round visits with the
//! real client every situation that is one step plainer, then all the steps that kept the difference, one upon the other.

use super::keys::{Form, Key, Sig};
use super::observe::{self, Said};
use super::odd;
use super::predict::predicted;
use super::rng::Rng;
use super::serve;
use super::situation::{By, Case, DAY, Ext, Situation, Spec, Thing, Tls, alternative, authority, time};
use crate::matrix::chain::Pool;
use crate::matrix::make::{basic, bits, id, purposes, usage};
use std::fmt::Write as _;
use std::path::Path;
use tamga_core::check::client::Client;
use tamga_core::vocabulary::text::hex;
use tamga_core::vocabulary::timestamp::Timestamp;

/// One thing made plain. Places count at the moment at which the step is taken. The order of the variants is the order in which several
/// may be taken without shifting each other's places.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Step {
    /// A field of a certificate of the line.
    Field(Place, Field),
    /// An extension: one of the usual becomes the usual one, another goes. Counted from the end.
    Extension(Place, std::cmp::Reverse<usize>),
    /// A usual extension that is missing.
    Missing(Place, usize),
    /// How the server speaks TLS.
    Tls(Part),
    /// Not served any more.
    Served(std::cmp::Reverse<usize>),
    /// Not trusted any more.
    Anchor(std::cmp::Reverse<usize>),
    /// An authority between leaf and root goes.
    Authority(std::cmp::Reverse<usize>),
}

/// A certificate of a situation.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Place {
    /// Of the line: 0 is the leaf.
    Line(usize),
    /// Beside it.
    Beside(usize),
}

/// A field of a certificate.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
#[allow(missing_docs, reason = "their names say it")]
pub enum Field {
    Version,
    Serial,
    Subject,
    Issuer,
    From,
    Until,
    Key,
    Form,
    Signature,
    OwnId,
    IssuerId,
    Algorithms,
    Spoilt,
}

/// A part of how TLS is spoken.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
#[allow(missing_docs, reason = "their names say it")]
pub enum Part {
    Version,
    Client,
    Staple,
    Group,
}

const FIELDS: [Field; 13] = [
    Field::Version,
    Field::Serial,
    Field::Subject,
    Field::Issuer,
    Field::From,
    Field::Until,
    Field::Key,
    Field::Form,
    Field::Signature,
    Field::OwnId,
    Field::IssuerId,
    Field::Algorithms,
    Field::Spoilt,
];

/// What would stand there if nothing were odd.
fn plain(s: &Situation, place: Place) -> Spec {
    let leaf = place == Place::Line(0);
    let (nth, word) = match place {
        Place::Line(i) => (i, "authority"),
        Place::Beside(i) => (i + 3, "other authority"),
    };
    let subject = if leaf { s.host.clone() } else { format!("{word} {}.{nth}", s.number) };
    let mut spec = authority(&mut Rng::of(s.number as u64, nth as u64), &subject, Key::P256(nth % 5));
    if !leaf {
        return spec;
    }
    spec.key = Key::P256(5);
    spec.from = time(-DAY);
    spec.until = time(300 * DAY);
    spec.set(id::BASIC, true, basic(false, None));
    spec.set(id::USAGE, true, usage(bits::DIGITAL_SIGNATURE));
    spec.set(id::PURPOSES, false, purposes(&[id::SERVER]));
    let one = match s.host.parse::<std::net::Ipv4Addr>() {
        Ok(address) => (0x87, address.octets().to_vec()),
        Err(_) => (0x82, s.host.clone().into_bytes()),
    };
    spec.set(id::NAMES, false, alternative(&[one]));
    spec
}

fn at(s: &Situation, place: Place) -> &Spec {
    match place {
        Place::Line(i) => &s.line[i],
        Place::Beside(i) => &s.beside[i].0,
    }
}

fn same(a: &Ext, b: &Ext) -> bool {
    (&a.id, a.flag, &a.value) == (&b.id, b.flag, &b.value)
}

/// A time differs from another only by when it was written.
fn near(a: &[u8], b: &[u8]) -> bool {
    a.len() == b.len() && a[..a.len() - 7] == b[..b.len() - 7]
}

fn is_plain(spec: &Spec, plain: &Spec, field: Field) -> bool {
    match field {
        Field::Version => spec.version == plain.version,
        Field::Serial => spec.serial.len() == plain.serial.len() && spec.serial[0] == plain.serial[0],
        Field::Subject => spec.subject.len() == plain.subject.len() || spec.subject == plain.subject,
        Field::Issuer => spec.issuer == plain.issuer,
        Field::From => near(&spec.from, &plain.from),
        Field::Until => near(&spec.until, &plain.until),
        Field::Key => matches!(spec.key, Key::P256(_)),
        Field::Form => spec.form == plain.form,
        Field::Signature => spec.sig == plain.sig,
        Field::OwnId => spec.own_id == plain.own_id,
        Field::IssuerId => spec.issuer_id == plain.issuer_id,
        Field::Algorithms => spec.two_algorithms == plain.two_algorithms,
        Field::Spoilt => spec.spoilt == plain.spoilt,
    }
}

/// The places of certificates that are served or trusted, or that stand above one that is.
fn places(s: &Situation) -> Vec<Place> {
    let used = |i: &usize| s.served.iter().chain(&s.anchors).any(|t| *t == Thing::Beside(*i));
    let beside = (0..s.beside.len()).filter(used).map(Place::Beside);
    (0..s.line.len()).map(Place::Line).chain(beside).collect()
}

/// Everything that is odd about a situation, as the steps that would make it plain.
pub fn steps(s: &Situation) -> Vec<Step> {
    let mut out = Vec::new();
    for place in places(s) {
        let (spec, plain) = (at(s, place), plain(s, place));
        out.extend(FIELDS.into_iter().filter(|f| !is_plain(spec, &plain, *f)).map(|f| Step::Field(place, f)));
        for (i, e) in spec.extensions.iter().enumerate() {
            let again = spec.extensions[..i].iter().any(|b| b.id == e.id);
            if again || !plain.extensions.iter().any(|p| same(p, e)) {
                out.push(Step::Extension(place, std::cmp::Reverse(i)));
            }
        }
        for (i, p) in plain.extensions.iter().enumerate() {
            if !spec.extensions.iter().any(|e| e.id == p.id) {
                out.push(Step::Missing(place, i));
            }
        }
    }
    let (tls, usual) = (s.tls, Tls::default());
    let parts = [
        (Part::Version, tls.only != usual.only),
        (Part::Client, tls.demands_client || tls.asks_client),
        (Part::Staple, tls.staple),
        (Part::Group, tls.group != usual.group),
    ];
    out.extend(parts.into_iter().filter(|p| p.1).map(|p| Step::Tls(p.0)));
    // The leaf stays.
    out.extend((1..s.served.len()).map(|i| Step::Served(std::cmp::Reverse(i))));
    if s.anchors.len() > 1 {
        out.extend((0..s.anchors.len()).map(|i| Step::Anchor(std::cmp::Reverse(i))));
    }
    out.extend((1..s.root()).map(|i| Step::Authority(std::cmp::Reverse(i))));
    out.sort();
    out
}

/// Takes a step.
pub fn take(s: &mut Situation, step: Step) {
    match step {
        Step::Field(place, field) => {
            let plain = plain(s, place);
            make_plain(at_mut(s, place), plain, field);
        }
        Step::Extension(place, std::cmp::Reverse(i)) => {
            let usual = plain(s, place).extensions;
            let all = &mut at_mut(s, place).extensions;
            let again = all[..i].iter().any(|b| b.id == all[i].id);
            match usual.into_iter().find(|p| p.id == all[i].id && !again) {
                Some(usual) => all[i] = usual,
                None => drop(all.remove(i)),
            }
        }
        Step::Missing(place, i) => {
            let usual = plain(s, place).extensions.remove(i);
            at_mut(s, place).extensions.push(usual);
        }
        Step::Tls(Part::Version) => s.tls.only = None,
        Step::Tls(Part::Client) => (s.tls.demands_client, s.tls.asks_client) = (false, false),
        Step::Tls(Part::Staple) => s.tls.staple = false,
        Step::Tls(Part::Group) => s.tls.group = 0,
        Step::Served(std::cmp::Reverse(i)) => drop(s.served.remove(i)),
        Step::Anchor(std::cmp::Reverse(i)) => {
            if s.anchors.len() > 1 {
                s.anchors.remove(i);
            }
        }
        Step::Authority(std::cmp::Reverse(i)) => {
            s.line.remove(i);
            let gone = |t: &Thing| *t == Thing::Line(i);
            s.served.retain(|t| !gone(t));
            s.anchors.retain(|t| !gone(t));
            if s.served.is_empty() {
                s.served.push(Thing::Line(0));
            }
            for thing in s.served.iter_mut().chain(&mut s.anchors) {
                if let Thing::Line(n) = thing {
                    *n -= usize::from(*n > i);
                }
            }
            // What it had signed is signed by the one above it.
            for (_, by) in &mut s.beside {
                if let By::Line(n) = by {
                    *n -= usize::from(*n > i);
                }
            }
        }
    }
}

fn at_mut(s: &mut Situation, place: Place) -> &mut Spec {
    match place {
        Place::Line(i) => &mut s.line[i],
        Place::Beside(i) => &mut s.beside[i].0,
    }
}

fn make_plain(spec: &mut Spec, plain: Spec, field: Field) {
    match field {
        Field::Version => spec.version = plain.version,
        Field::Serial => spec.serial = plain.serial,
        Field::Subject => spec.subject = plain.subject,
        Field::Issuer => spec.issuer = plain.issuer,
        Field::From => spec.from = plain.from,
        Field::Until => spec.until = plain.until,
        Field::Key => spec.key = plain.key,
        Field::Form => spec.form = Form::Usual,
        Field::Signature => spec.sig = Sig::Usual,
        Field::OwnId => spec.own_id = true,
        Field::IssuerId => spec.issuer_id = true,
        Field::Algorithms => spec.two_algorithms = false,
        Field::Spoilt => spec.spoilt = false,
    }
}

/// A difference on its way down.
pub struct Difference {
    /// Whose.
    pub client: Client,
    /// The number under which the case was drawn.
    pub drawn: usize,
    /// The steps taken so far.
    pub taken: Vec<Step>,
    /// What was foreseen and what was seen, without names of the case.
    pub about: (Said, Said),
}

/// Texts without what differs from case to case.
fn bare(said: &Said, host: &str) -> Said {
    let words = said.1.as_ref().map(|w| {
        let text = w.replace(host, "HOST");
        text.chars().map(|c| if c.is_ascii_digit() { '#' } else { c }).collect()
    });
    (said.0, words)
}

/// The same two answers?
pub fn about(foreseen: &Said, seen: &Said, host: &str) -> (Said, Said) {
    (bare(foreseen, host), bare(seen, host))
}

/// Where cases come from, and where they are visited.
pub struct Ground<'a> {
    /// Of the run.
    pub seed: u64,
    /// The oddity, if the run draws one alone.
    pub only: Option<&'a str>,
    /// Keys.
    pub pool: &'a Pool,
    /// A directory of this run's own.
    pub folder: &'a Path,
    /// When it is judged.
    pub now: fn() -> Timestamp,
}

impl Ground<'_> {
    fn situation(&self, drawn: usize, number: usize, taken: &[Step]) -> Situation {
        let mut s = odd::draw_as(self.seed, drawn, number, self.only).0;
        for step in taken {
            take(&mut s, *step);
        }
        s
    }

    /// Which of these still differ as they should. `next` is the first number that nobody had.
    fn still(&self, client: Client, tried: &[(&Difference, Vec<Step>)], next: &mut usize) -> Vec<bool> {
        let cases: Vec<Case> = tried
            .iter()
            .enumerate()
            .map(|(i, (d, steps))| self.situation(d.drawn, *next + i, steps).case(self.pool, Vec::new()))
            .collect();
        *next += cases.len();
        let at = (self.now)();
        let port = serve::serve(&cases, self.pool);
        let folder = tempfile::Builder::new().prefix("shrink-").tempdir_in(self.folder).unwrap();
        std::fs::copy(self.folder.join("other-root.der"), folder.path().join("other-root.der")).unwrap();
        let seen = observe::observe(&cases, port, folder.path(), &[client]);
        let answer = |(case, (d, _)): (&Case, &(&Difference, Vec<Step>))| {
            let refused: Vec<usize> = seen.refused.iter().filter(|r| r.0 == case.number).map(|r| r.1).collect();
            let foreseen = predicted(client, case, &refused, at, None);
            let said = seen.said[&client].get(&case.number);
            said.is_some_and(|said| about(&foreseen, said, &case.host) == d.about)
        };
        cases.iter().zip(tried).map(answer).collect()
    }

    /// Takes steps until none is left that keeps the difference, at most `rounds` times.
    pub fn shrink(&self, client: Client, all: &mut [Difference], rounds: usize, next: &mut usize) {
        for _ in 0..rounds {
            let singles: Vec<(usize, Step)> = all
                .iter()
                .enumerate()
                .flat_map(|(i, d)| {
                    let open = steps(&self.situation(d.drawn, *next, &d.taken));
                    // Depth alone makes hundreds of steps: a part of them shows enough, and the rest follows in the next round.
                    open.into_iter().take(200).map(move |s| (i, s))
                })
                .collect();
            if singles.is_empty() {
                return;
            }
            let tried = |taken: &[(usize, Vec<Step>)]| -> Vec<(usize, Vec<Step>)> {
                taken.iter().map(|(i, more)| (*i, [&all[*i].taken[..], more].concat())).collect()
            };
            let ask = |of: Vec<(usize, Vec<Step>)>, next: &mut usize| {
                let with: Vec<(&Difference, Vec<Step>)> = of.into_iter().map(|(i, s)| (&all[i], s)).collect();
                self.still(client, &with, next)
            };
            let alone: Vec<(usize, Vec<Step>)> = singles.iter().map(|(i, s)| (*i, vec![*s])).collect();
            let kept = ask(tried(&alone), next);
            let good: Vec<(usize, Step)> = singles.into_iter().zip(kept).filter(|g| g.1).map(|g| g.0).collect();
            if good.is_empty() {
                return;
            }
            // All that were good alone, one upon the other.
            let mut together: Vec<(usize, Vec<Step>)> = Vec::new();
            for (i, step) in &good {
                let before = together.iter().rfind(|t| t.0 == *i).map(|t| t.1.clone()).unwrap_or_default();
                together.push((*i, [&before[..], &[*step]].concat()));
            }
            let kept = ask(tried(&together), next);
            for (i, d) in all.iter_mut().enumerate() {
                let held = together.iter().zip(&kept).filter(|(t, k)| t.0 == i && **k);
                if let Some((best, _)) = held.max_by_key(|(t, _)| t.1.len()) {
                    d.taken.extend(&best.1);
                }
            }
        }
    }

    /// The smallest situation in words: what is served, what is trusted, and everything that is still odd.
    pub fn words(&self, d: &Difference) -> String {
        let s = self.situation(d.drawn, d.drawn, &d.taken);
        let thing = |t: &Thing| match t {
            Thing::Line(i) => name(&s, Place::Line(*i)),
            Thing::Beside(i) => name(&s, Place::Beside(*i)),
            Thing::Raw(octets) => format!("{} octets {}", octets.len(), hex(&octets[..octets.len().min(40)])),
        };
        let list = |all: &[Thing]| all.iter().map(thing).collect::<Vec<_>>().join(", ");
        let said = |s: &Said| format!("{} {}", s.0.word(), s.1.as_deref().unwrap_or_default());
        let mut out = String::new();
        writeln!(out, "case {}, {}, {} steps smaller, at {}", d.drawn, d.client.word(), d.taken.len(), s.host).unwrap();
        writeln!(out, "  foreseen: {}\n  seen:     {}", said(&d.about.0), said(&d.about.1)).unwrap();
        writeln!(out, "  served:   {}\n  trusted:  {}", list(&s.served), list(&s.anchors)).unwrap();
        for step in steps(&s) {
            writeln!(out, "{}", odd_words(&s, step)).unwrap();
        }
        out
    }
}

fn name(s: &Situation, place: Place) -> String {
    match place {
        Place::Line(0) => "leaf".into(),
        Place::Line(i) if i == s.root() => "root".into(),
        Place::Line(i) => format!("authority {i}"),
        Place::Beside(i) => format!("other {i}"),
    }
}

/// What a step would take away.
fn odd_words(s: &Situation, step: Step) -> String {
    let of = |place: Place, what: String| format!("  {}: {what}", name(s, place));
    match step {
        Step::Field(place, field) => {
            let spec = at(s, place);
            let value = match field {
                Field::Version => format!("{:?}", spec.version),
                Field::Serial => hex(&spec.serial),
                Field::Subject => hex(&spec.subject),
                Field::Issuer => hex(spec.issuer.as_deref().unwrap_or_default()),
                Field::From => String::from_utf8_lossy(&spec.from[2..]).into_owned(),
                Field::Until => String::from_utf8_lossy(&spec.until[2..]).into_owned(),
                Field::Key => format!("{:?}", spec.key),
                Field::Form => format!("{:?}", spec.form),
                Field::Signature => format!("{:?}", spec.sig),
                Field::OwnId | Field::IssuerId => "left out".into(),
                Field::Algorithms | Field::Spoilt => "yes".into(),
            };
            of(place, format!("{field:?} {value}"))
        }
        Step::Extension(place, std::cmp::Reverse(i)) => {
            let e = &at(s, place).extensions[i];
            of(place, format!("extension {} {:?} {}", e.id, e.flag, hex(&e.value)))
        }
        Step::Missing(place, i) => of(place, format!("no extension {}", plain(s, place).extensions[i].id)),
        Step::Tls(part) => format!("  TLS: {part:?} {:?}", s.tls),
        Step::Served(std::cmp::Reverse(i)) => format!("  needs what is served at {i}"),
        Step::Anchor(std::cmp::Reverse(i)) => format!("  needs what is trusted at {i}"),
        Step::Authority(std::cmp::Reverse(i)) => format!("  needs authority {i}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every oddity, made plain step by step, ends in a good situation: else something odd could not be taken away.
    #[test]
    fn whatever_is_drawn_can_be_made_plain() {
        for number in 1..400 {
            let mut s = odd::draw_as(7, number, 9_000 + number, None).0;
            for round in 0.. {
                let open: Vec<Step> = steps(&s).into_iter().filter(|t| !matches!(t, Step::Served(_))).collect();
                let Some(step) = open.first() else { break };
                assert!(round < 2_000, "case {number} never ends: {step:?}");
                take(&mut s, *step);
            }
            assert!(s.line.len() <= 2, "case {number}");
            assert!(s.anchors.len() <= 1, "case {number}");
            for place in places(&s) {
                assert!(
                    FIELDS.iter().all(|f| is_plain(at(&s, place), &plain(&s, place), *f)),
                    "case {number}: {place:?}"
                );
            }
        }
    }

    /// Steps that are taken together in their order mean what each of them means alone.
    #[test]
    fn steps_taken_in_order_do_not_shift_each_other() {
        for number in 1..200 {
            let mut s = odd::draw_as(11, number, 20_000 + number, None).0;
            for step in steps(&s) {
                // Panics where a place is gone.
                take(&mut s, step);
            }
            assert_eq!(s.served.len(), 1, "case {number}");
        }
    }

    /// A case drawn again under another number is the same but for its names.
    #[test]
    fn a_case_drawn_under_another_number_has_the_same_oddities() {
        for number in 1..100 {
            let (a, words) = odd::draw_as(3, number, number, None);
            let (b, again) = odd::draw_as(3, number, 70_000 + number, None);
            assert_eq!(words, again);
            assert_eq!((a.line.len(), a.served.len(), a.tls), (b.line.len(), b.served.len(), b.tls));
            assert_ne!(a.host, b.host);
        }
    }

    #[test]
    fn names_and_numbers_do_not_make_two_of_one_difference() {
        use tamga_core::check::client::Outcome::{Accepts, Refuses};
        let said = |o, w: &str| (o, Some(w.to_owned()));
        let a = about(&(Accepts, None), &said(Refuses, "no name c12.saltmarsh.test (62)"), "c12.saltmarsh.test");
        let b = about(&(Accepts, None), &said(Refuses, "no name c9.saltmarsh.test (62)"), "c9.saltmarsh.test");
        assert_eq!(a, b);
        assert_ne!(a, about(&(Accepts, None), &said(Refuses, "expired"), "c9.saltmarsh.test"));
    }
}
