//! The fields around the extensions: validity, serial numbers, versions, names, keys, signatures.

use super::Odd;
use crate::differential::keys::{Form, Hash, Key, Sig};
use crate::differential::rng::Rng;
use crate::differential::situation::{DAY, Situation, common, name, time};
use crate::matrix::make::{id, sequence, tlv};

/// The oddities.
pub const ALL: &[Odd] = &[
    ("leaf expired", |s, _| s.leaf().until = time(-3_600)),
    ("leaf not yet valid", |s, _| s.leaf().from = time(3_600)),
    ("issuer expired", |s, r| on_issuer(s, r, |c| c.until = time(-3_600))),
    ("issuer not yet valid", |s, r| on_issuer(s, r, |c| c.from = time(3_600))),
    ("begins before 1970", |s, r| {
        on_any(s, r, |c, r| {
            c.from = tlv(0x17, r.of_these(&[&b"690101000000Z"[..], b"500101000000Z", b"650614120000Z"]))
        });
    }),
    ("begins before 1950", |s, r| on_any(s, r, |c, _| c.from = tlv(0x18, b"19450101000000Z"))),
    ("GeneralizedTime before 2050", |s, r| {
        on_any(s, r, |c, r| match r.below(2) {
            0 => c.until = tlv(0x18, b"20480101000000Z"),
            _ => c.from = tlv(0x18, b"20200101000000Z"),
        });
    }),
    ("ends in 9999", |s, r| on_any(s, r, |c, _| c.until = tlv(0x18, b"99991231235959Z"))),
    ("ends in 2049 or 2050", |s, r| {
        on_any(s, r, |c, r| c.until = r.of_these(&[tlv(0x17, b"491231235959Z"), tlv(0x18, b"20500101000000Z")]));
    }),
    ("a time in another form", |s, r| {
        on_any(s, r, |c, r| {
            c.until = r.of_these(&[
                tlv(0x17, b"4012312359Z"),
                tlv(0x17, b"401231235959+0100"),
                tlv(0x18, b"20401231235959.5Z"),
                tlv(0x18, b"20401231235959"),
                tlv(0x17, b"401331235959Z"),
                tlv(0x17, b"400230235959Z"),
                tlv(0x17, b"401231235960Z"),
                tlv(0x17, b"not a time"),
            ]);
        });
    }),
    ("ends before it begins", |s, r| {
        on_any(s, r, |c, r| match r.below(2) {
            0 => (c.from, c.until) = (time(DAY), time(-DAY)),
            _ => (c.from, c.until) = (time(-DAY), time(-2 * DAY)),
        });
    }),
    ("leaf outlives its issuer", |s, _| s.leaf().until = time(4_000 * DAY)),
    ("serial number 0", |s, r| on_any(s, r, |c, _| c.serial = vec![0])),
    ("serial number negative", |s, r| on_any(s, r, |c, r| c.serial = [vec![0x81], r.octets(8)].concat())),
    ("serial number of 20 or 21 octets", |s, r| {
        on_any(s, r, |c, r| {
            c.serial = [vec![r.of_these(&[0x00, 0x7f])], vec![0x91], r.octets(r.clone().below(2) + 18)].concat()
        });
    }),
    ("serial number of 40 octets", |s, r| on_any(s, r, |c, r| c.serial = [vec![0x41], r.octets(39)].concat())),
    ("serial number with zeros in front", |s, r| {
        on_any(s, r, |c, r| c.serial = [vec![0, 0x41], r.octets(8)].concat());
    }),
    ("serial number empty", |s, r| on_any(s, r, |c, _| c.serial = vec![])),
    ("version 1 leaf", |s, _| {
        let leaf = s.leaf();
        leaf.version = None;
        bare(leaf);
    }),
    ("version 1 root", |s, _| {
        let root = s.root();
        s.line[root].version = None;
        bare(&mut s.line[root]);
    }),
    ("version 1 intermediate", |s, r| {
        s.with_intermediate(r);
        s.line[1].version = None;
        bare(&mut s.line[1]);
    }),
    ("version 1 with extensions", |s, r| {
        on_any(s, r, |c, r| c.version = r.of_these(&[None, Some(0)]));
    }),
    ("version 2 with extensions", |s, r| on_any(s, r, |c, _| c.version = Some(1))),
    ("version 4", |s, r| on_any(s, r, |c, _| c.version = Some(3))),
    ("version 3 without extensions", |s, r| on_any(s, r, |c, _| bare(c))),
    ("issuer in another string type", |s, r| {
        rename(s, r, |n| n.iter().map(|b| if *b == 0x0c { 0x13 } else { *b }).collect());
    }),
    ("issuer in another case", |s, r| rename(s, r, |n| n.to_ascii_uppercase())),
    ("issuer with more spaces", |s, r| {
        let at = r.below(s.line.len() - 1);
        let text = format!("twice  spaced {}", s.number);
        s.line[at + 1].subject = common(&text);
        s.line[at].issuer = Some(common(&text.replace("  ", " ")));
    }),
    ("issuer of another name", |s, r| {
        let at = r.below(s.line.len() - 1);
        s.line[at].issuer = Some(super::authorities::stranger(s));
    }),
    ("name in an old string type", |s, r| {
        let at = r.below(s.line.len());
        let text = format!("old {}", s.number);
        let wide = text.bytes().flat_map(|b| [0, b]).collect::<Vec<u8>>();
        s.line[at].subject = match r.below(4) {
            0 => name(&[(3, 0x14, text.as_bytes())]),
            1 => name(&[(3, 0x1e, &wide)]),
            2 => name(&[(3, 0x16, text.as_bytes())]),
            _ => name(&[(3, 0x13, text.as_bytes())]),
        };
    }),
    ("name of many attributes", |s, r| {
        let at = r.below(s.line.len());
        let text = format!("many {}", s.number);
        s.line[at].subject =
            name(&[(6, 0x13, b"NL"), (10, 0x0c, b"Saltmarsh"), (11, 0x0c, b"Buoys"), (3, 0x0c, text.as_bytes())]);
    }),
    ("name with octets that are no text", |s, r| {
        let at = r.below(s.line.len());
        let bad = [format!("bad {} ", s.number).into_bytes(), vec![0xff, 0xfe]].concat();
        let tag = r.of_these(&[0x0c, 0x13, 0x16]);
        s.line[at].subject = name(&[(3, tag, &bad)]);
    }),
    ("subject empty", |s, r| {
        let at = r.below(s.line.len());
        s.line[at].subject = sequence(&[]);
    }),
    ("signature changed", |s, r| on_any_below_root(s, r, |c| c.spoilt = true)),
    ("root's own signature changed", |s, _| {
        let root = s.root();
        s.line[root].spoilt = true;
    }),
    ("two algorithms", |s, r| on_any(s, r, |c, _| c.two_algorithms = true)),
    ("ECDSA with another hash", |s, r| {
        let hash = r.of_these(&[Hash::Sha224, Hash::Sha256, Hash::Sha384, Hash::Sha512, Hash::Sha512]);
        let key = r.of_these(&[Key::P256(2), Key::P384, Key::P521]);
        signed_by(s, r, key, Sig::With(hash));
    }),
    ("RSA with another hash", |s, r| {
        let hash = r.of_these(&[Hash::Sha224, Hash::Sha384, Hash::Sha512]);
        signed_by(s, r, Key::Rsa(1), Sig::With(hash));
    }),
    ("SHA-1", |s, r| {
        let key = r.of_these(&[Key::P256(2), Key::Rsa(1)]);
        signed_by(s, r, key, Sig::With(Hash::Sha1));
    }),
    ("MD5", |s, r| signed_by(s, r, Key::Rsa(1), Sig::With(Hash::Md5))),
    ("RSA-PSS, usual", |s, r| {
        let (hash, salt) = r.of_these(&[(Hash::Sha256, 32), (Hash::Sha384, 48), (Hash::Sha512, 64)]);
        signed_by(s, r, Key::Rsa(1), Sig::Pss(hash, hash, salt));
    }),
    ("RSA-PSS, unusual", |s, r| {
        let sig = r.of_these(&[
            Sig::Pss(Hash::Sha1, Hash::Sha1, 20),
            Sig::Pss(Hash::Sha256, Hash::Sha1, 32),
            Sig::Pss(Hash::Sha256, Hash::Sha256, 20),
            Sig::Pss(Hash::Sha256, Hash::Sha512, 32),
            Sig::Pss(Hash::Sha384, Hash::Sha384, 0),
            Sig::Pss(Hash::Sha224, Hash::Sha224, 28),
        ]);
        signed_by(s, r, Key::Rsa(1), sig);
    }),
    ("RSA of 1024 bits above", |s, r| signed_by(s, r, Key::Weak, Sig::Usual)),
    ("Ed25519 above", |s, r| signed_by(s, r, Key::Ed25519, Sig::Usual)),
    ("P-521 above", |s, r| signed_by(s, r, Key::P521, Sig::Usual)),
    ("point compressed above", |s, r| {
        signed_by_form(s, r, Key::P256(2), Form::Compressed);
    }),
    ("curve written out above", |s, r| signed_by_form(s, r, Key::P256(2), Form::Explicit)),
    ("RSA key for PSS alone above", |s, r| {
        let at = 1 + r.below(s.line.len() - 1);
        s.line[at].key = Key::Rsa(1);
        s.line[at].form = Form::PssOnly;
        let sig = Sig::Pss(Hash::Sha256, Hash::Sha256, 32);
        s.line[at - 1].sig = sig;
        if at == s.root() {
            s.line[at].sig = sig;
        }
    }),
    ("point compressed in the leaf", |s, _| {
        s.leaf().key = Key::P256(5);
        s.leaf().form = Form::Compressed;
    }),
    ("curve written out in the leaf", |s, _| {
        s.leaf().key = Key::P256(5);
        s.leaf().form = Form::Explicit;
    }),
];

fn on_any(s: &mut Situation, r: &mut Rng, change: impl Fn(&mut super::super::situation::Spec, &mut Rng)) {
    // The leaf as often as all that stand above it.
    let at = if r.percent(50) { 0 } else { r.below(s.line.len()) };
    change(&mut s.line[at], r);
}

fn on_any_below_root(s: &mut Situation, r: &mut Rng, change: impl Fn(&mut super::super::situation::Spec)) {
    let at = r.below(s.line.len().max(2) - 1);
    change(&mut s.line[at]);
}

fn on_issuer(s: &mut Situation, r: &mut Rng, change: impl Fn(&mut super::super::situation::Spec)) {
    let at = if s.line.len() > 1 { 1 + r.below(s.line.len() - 1) } else { 0 };
    change(&mut s.line[at]);
}

fn bare(c: &mut super::super::situation::Spec) {
    c.extensions.clear();
    c.without(id::OWN_KEY);
    c.without(id::ISSUERS_KEY);
}

fn rename(s: &mut Situation, r: &mut Rng, change: impl Fn(&[u8]) -> Vec<u8>) {
    let at = if s.line.len() > 1 { r.below(s.line.len() - 1) } else { return };
    // The text alone: what stands before it is tags, lengths and an identifier.
    let subject = s.line[at + 1].subject.clone();
    let Some(text) = subject.iter().position(|b| *b == 0x0c) else { return };
    let changed = match change(b"a\x0cb").as_slice() {
        // A change of the tag.
        [_, 0x13, _] => {
            let mut n = subject.clone();
            n[text] = 0x13;
            n
        }
        _ => [subject[..text + 2].to_vec(), change(&subject[text + 2..])].concat(),
    };
    s.line[at].issuer = Some(changed);
}

fn signed_by(s: &mut Situation, r: &mut Rng, key: Key, sig: Sig) {
    let at = if s.line.len() > 1 { 1 + r.below(s.line.len() - 1) } else { 0 };
    s.line[at].key = key;
    s.line[at].form = Form::Usual;
    s.line[at.saturating_sub(1)].sig = sig;
    if at == s.root() {
        // A root signs itself: with an odd algorithm half of the time.
        s.line[at].sig = if r.percent(50) || at == 0 { sig } else { Sig::Usual };
    }
}

fn signed_by_form(s: &mut Situation, r: &mut Rng, key: Key, form: Form) {
    let at = if s.line.len() > 1 { 1 + r.below(s.line.len() - 1) } else { 0 };
    s.line[at].key = key;
    s.line[at].form = form;
}
