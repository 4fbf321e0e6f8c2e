//! How TLS is spoken.

use super::Odd;
use crate::differential::keys::Key;

/// The oddities.
pub const ALL: &[Odd] = &[
    ("TLS 1.2 alone", |s, _| s.tls.only = Some(2)),
    ("TLS 1.3 alone", |s, _| s.tls.only = Some(3)),
    ("client certificate demanded", |s, r| {
        s.tls.demands_client = true;
        s.tls.only = Some(if r.percent(50) { 2 } else { 3 });
    }),
    ("client certificate asked for", |s, _| s.tls.asks_client = true),
    ("one group alone", |s, r| s.tls.group = 1 + u8::try_from(r.below(3)).unwrap()),
    ("junk stapled", |s, _| s.tls.staple = true),
    ("P-384 in the leaf", |s, _| s.leaf().key = Key::P384),
    ("P-521 in the leaf", |s, _| s.leaf().key = Key::P521),
    ("Ed25519 in the leaf", |s, _| s.leaf().key = Key::Ed25519),
];
