//! A chain as it is meant, before anything is wrong with it: root, intermediates, leaf, what is served and what the stores hold.

use super::make::{Hash, Recipe, basic, bits, id, name, names, purposes, sequence, tlv, usage};
use std::str::FromStr;
use std::sync::atomic::{AtomicU32, Ordering};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::vocabulary::name::Name;
use tamga_host::entropy::System;

const DAY: i64 = 86_400;

/// Which key, of the pool: the number tells two of a kind apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Key {
    /// P-256.
    P256(usize),
    /// P-384.
    P384,
    /// P-521.
    P521,
    /// Ed25519.
    Ed25519,
    /// RSA with 2048 bits.
    Rsa(usize),
    /// RSA with 1024 bits.
    Weak,
}

/// Keys are made once: RSA's take long.
pub struct Pool {
    p256: Vec<PrivateKey>,
    p384: PrivateKey,
    p521: PrivateKey,
    ed25519: PrivateKey,
    rsa: Vec<PrivateKey>,
    weak: PrivateKey,
}

impl Pool {
    /// Makes them.
    pub fn new() -> Pool {
        let make = |kind| PrivateKey::generate(kind, &System).unwrap();
        Pool {
            p256: (0..6).map(|_| make(KeyAlgorithm::P256)).collect(),
            p384: make(KeyAlgorithm::P384),
            p521: make(KeyAlgorithm::P521),
            ed25519: make(KeyAlgorithm::Ed25519),
            rsa: (0..3).map(|_| make(KeyAlgorithm::Rsa2048)).collect(),
            weak: PrivateKey::weak(&System).unwrap(),
        }
    }

    /// One of them.
    pub fn get(&self, key: Key) -> &PrivateKey {
        match key {
            Key::P256(n) => &self.p256[n],
            Key::P384 => &self.p384,
            Key::P521 => &self.p521,
            Key::Ed25519 => &self.ed25519,
            Key::Rsa(n) => &self.rsa[n],
            Key::Weak => &self.weak,
        }
    }
}

impl Default for Pool {
    fn default() -> Pool {
        Pool::new()
    }
}

/// What the stores hold of a chain.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum State {
    /// The root.
    Present,
    /// Nothing.
    Absent,
    /// A root of the same name with another key.
    Older,
    /// That and the right one.
    Both,
    /// The intermediate above the leaf, and no root.
    Intermediate,
    /// The leaf, and no root.
    Leaf,
    /// The root, and Chromium's own manager says that it is not to be trusted.
    Distrusted,
    /// Nothing, but a person clicked the warning away.
    Exception,
}

/// One certificate and the key that it is about.
#[derive(Clone)]
pub struct Part {
    /// What it says.
    pub recipe: Recipe,
    /// Its key.
    pub key: Key,
}

/// A chain.
#[derive(Clone)]
pub struct Chain {
    /// The root.
    pub root: Part,
    /// What stands between, the one under the root first.
    pub between: Vec<Part>,
    /// The leaf.
    pub leaf: Part,
    /// The host that is asked for.
    pub host: String,
    /// What the stores hold.
    pub state: State,
    /// Which of [leaf, intermediates upwards, root] are served, in this order.
    pub served: Vec<usize>,
    /// The leaf signs itself.
    pub alone: bool,
}

/// One cell's question.
pub struct Kind {
    /// What it is.
    pub word: String,
    /// What is served, leaf first.
    pub chain: Vec<Vec<u8>>,
    /// The same, read.
    pub read: Vec<Certificate>,
    /// The leaf's key, of the pool.
    pub key: Key,
    /// The host that is asked for.
    pub host: Name,
    /// What every store is to hold.
    pub anchors: Vec<Vec<u8>>,
    /// True if Chromium distrusts the root.
    pub distrusted: bool,
    /// True if a browser remembers an exception.
    pub exception: bool,
}

static SERIAL: AtomicU32 = AtomicU32::new(1);

fn number() -> u32 {
    SERIAL.fetch_add(1, Ordering::Relaxed)
}

fn authority(subject: &str, key: Key) -> Part {
    let mut recipe = Recipe {
        subject: name(subject),
        from: -40 * DAY,
        until: 3_000 * DAY,
        extensions: Vec::new(),
        hash: Hash::Usual,
        spoilt: false,
    };
    recipe.set(id::BASIC, true, basic(true, None));
    recipe.set(id::USAGE, true, usage(bits::CERT_SIGN | bits::CRL_SIGN));
    Part { recipe, key }
}

/// The host that most kinds ask for.
pub const HOST: &str = "charts.saltmarsh.test";

impl Chain {
    /// A good one with so many intermediates.
    pub fn good(intermediates: usize) -> Chain {
        let n = number();
        let mut leaf = Recipe {
            subject: name(HOST),
            from: -DAY,
            until: 300 * DAY,
            extensions: Vec::new(),
            hash: Hash::Usual,
            spoilt: false,
        };
        leaf.set(id::BASIC, true, basic(false, None));
        leaf.set(id::USAGE, true, usage(bits::DIGITAL_SIGNATURE));
        leaf.set(id::PURPOSES, false, purposes(&[id::SERVER]));
        leaf.set(id::NAMES, false, names(&[HOST]));
        Chain {
            root: authority(&format!("matrix root {n}"), Key::P256(0)),
            between: (0..intermediates)
                .map(|i| authority(&format!("matrix intermediate {n}.{i}"), Key::P256(1 + i % 3)))
                .collect(),
            leaf: Part { recipe: leaf, key: Key::P256(4) },
            host: HOST.into(),
            state: State::Present,
            served: (0..=intermediates).collect(),
            alone: false,
        }
    }

    /// Made and signed.
    pub fn kind(&self, word: &str, pool: &Pool) -> Kind {
        let serial = |recipe: &Recipe| {
            let _ = recipe;
            [&[0x41, 0x01][..], &number().to_be_bytes()].concat()
        };
        let made = |part: &Part, issuer: &Part| {
            let mut recipe = part.recipe.clone();
            let own = pool.get(part.key).public();
            if !recipe.extensions.iter().any(|e| e.0 == id::OWN_KEY) {
                recipe.set(id::OWN_KEY, false, tlv(4, &own.identifier()));
            }
            if recipe.subject != issuer.recipe.subject && !recipe.extensions.iter().any(|e| e.0 == id::ISSUERS_KEY) {
                let above = pool.get(issuer.key).public().identifier();
                recipe.set(id::ISSUERS_KEY, false, sequence(&[tlv(0x80, &above)]));
            }
            // An empty value stands for "left away on purpose".
            recipe.extensions.retain(|e| !e.2.is_empty());
            recipe.sign(own, &issuer.recipe.subject, pool.get(issuer.key), &serial(&recipe))
        };
        let line: Vec<&Part> = std::iter::once(&self.root).chain(&self.between).chain([&self.leaf]).collect();
        let mut ders = vec![made(&self.root, &self.root)];
        for pair in line.windows(2) {
            ders.push(if self.alone { made(pair[1], pair[1]) } else { made(pair[1], pair[0]) });
        }
        ders.reverse();
        let mut older = self.root.clone();
        older.key = Key::P256(3);
        let older = || made(&older, &older);
        let root = ders[ders.len() - 1].clone();
        let anchors = match self.state {
            State::Present | State::Distrusted => vec![root],
            State::Absent | State::Exception => vec![],
            State::Older => vec![older()],
            State::Both => vec![older(), root],
            State::Intermediate => vec![ders[1].clone()],
            State::Leaf => vec![ders[0].clone()],
        };
        let chain: Vec<Vec<u8>> = self.served.iter().map(|i| ders[*i].clone()).collect();
        Kind {
            word: word.to_owned(),
            read: chain.iter().map(|der| super::make::read(der)).collect(),
            chain,
            key: self.leaf.key,
            host: Name::from_str(&self.host).unwrap(),
            anchors,
            distrusted: self.state == State::Distrusted,
            exception: self.state == State::Exception,
        }
    }
}
