//! A whole situation as it is meant: authorities, leaf, what is served in which order, what the stores hold, how TLS is spoken.

use super::keys::{Form, Key, Sig, algorithm, oid, sign, spki};
use super::rng::Rng;
use crate::matrix::chain::Pool;
use crate::matrix::make::{basic, bits, id, purposes, sequence, tlv, usage};
use std::net::Ipv4Addr;
use tamga_host::entropy::now;

/// Seconds in a day.
pub const DAY: i64 = 86_400;
/// The domain of all hosts here.
pub const DOMAIN: &str = "saltmarsh.test";

/// How an extension's flag stands.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Flag {
    /// Left away.
    No,
    /// TRUE.
    Critical,
    /// FALSE, written out: DER forbids it.
    Written,
}

/// An extension.
#[derive(Clone, Debug)]
pub struct Ext {
    /// Its identifier, dotted.
    pub id: String,
    /// Critical?
    pub flag: Flag,
    /// What the OCTET STRING holds.
    pub value: Vec<u8>,
}

/// One certificate as it is meant; octets where an oddity may want any.
#[derive(Clone, Debug)]
pub struct Spec {
    /// The number in `[0]`, and whether `[0]` is there; 2 is v3.
    pub version: Option<u8>,
    /// The serial number's octets.
    pub serial: Vec<u8>,
    /// The subject, DER.
    pub subject: Vec<u8>,
    /// The issuer, DER, if it is not the signer's subject.
    pub issuer: Option<Vec<u8>>,
    /// First moment, a whole element.
    pub from: Vec<u8>,
    /// Last moment, a whole element.
    pub until: Vec<u8>,
    /// Every extension, in order.
    pub extensions: Vec<Ext>,
    /// Its key.
    pub key: Key,
    /// How the key is written.
    pub form: Form,
    /// How it is signed.
    pub sig: Sig,
    /// Add a subjectKeyIdentifier of the usual kind.
    pub own_id: bool,
    /// Add an authorityKeyIdentifier of the usual kind.
    pub issuer_id: bool,
    /// The algorithm inside the signed part differs from the one outside.
    pub two_algorithms: bool,
    /// A bit of the signature is changed.
    pub spoilt: bool,
}

impl Spec {
    /// Sets an extension, in the place of another of its id.
    pub fn set(&mut self, id: &str, critical: bool, value: Vec<u8>) {
        self.without(id);
        self.add(id, critical, value);
    }

    /// Adds an extension, whatever is there.
    pub fn add(&mut self, id: &str, critical: bool, value: Vec<u8>) {
        let flag = if critical { Flag::Critical } else { Flag::No };
        self.extensions.push(Ext { id: id.into(), flag, value });
    }

    /// Leaves an extension away.
    pub fn without(&mut self, id: &str) {
        self.extensions.retain(|e| e.id != id);
        match id {
            id::OWN_KEY => self.own_id = false,
            id::ISSUERS_KEY => self.issuer_id = false,
            _ => {}
        }
    }
}

/// The issuer of a certificate that is not part of the chain.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum By {
    /// A certificate of the line: 0 is the leaf.
    Line(usize),
    /// Another of those beside it.
    Beside(usize),
    /// Itself.
    Itself,
}

/// One thing that is served, or that a store holds.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Thing {
    /// Of the line.
    Line(usize),
    /// Beside it.
    Beside(usize),
    /// Octets.
    Raw(Vec<u8>),
}

/// How the server speaks.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Tls {
    /// Only TLS 1.2, only 1.3, or both.
    pub only: Option<u8>,
    /// A client certificate is demanded.
    pub demands_client: bool,
    /// A client certificate is asked for, and not needed.
    pub asks_client: bool,
    /// A response of some octets is stapled, which is no OCSP response.
    pub staple: bool,
    /// The groups: 0 is the usual ones, else P-384 (1), X25519 (2), P-256 (3) alone.
    pub group: u8,
}

/// All of it.
#[derive(Clone, Debug)]
pub struct Situation {
    /// Its number: of names, addresses and serial numbers.
    pub number: usize,
    /// Leaf first, root last; each is signed by the next, the last by itself.
    pub line: Vec<Spec>,
    /// The rest, and who signed it.
    pub beside: Vec<(Spec, By)>,
    /// What is served, in order.
    pub served: Vec<Thing>,
    /// What the stores hold, in order.
    pub anchors: Vec<Thing>,
    /// The host that is asked for.
    pub host: String,
    /// How the server speaks.
    pub tls: Tls,
}

/// A case as clients meet it.
#[derive(Clone, Debug)]
pub struct Case {
    /// Its number.
    pub number: usize,
    /// What is odd about it.
    pub odd: Vec<&'static str>,
    /// The host that is asked for.
    pub host: String,
    /// What is served.
    pub chain: Vec<Vec<u8>>,
    /// The leaf's key.
    pub key: Key,
    /// How the leaf's key is written.
    pub form: Form,
    /// What the stores hold.
    pub anchors: Vec<Vec<u8>>,
    /// How the server speaks.
    pub tls: Tls,
    /// The first certificate is about the server's key.
    pub fits: bool,
}

/// Where a case is served.
pub fn address(number: usize) -> Ipv4Addr {
    let n = u32::try_from(number).unwrap();
    Ipv4Addr::from(0x7f01_0000 + n)
}

/// A time as an element, `shift` seconds from now: UTCTime until 2049, GeneralizedTime from then on (RFC 5280 §4.1.2.5).
pub fn time(shift: i64) -> Vec<u8> {
    let digits: String = now().plus(shift).to_string().chars().filter(char::is_ascii_digit).collect();
    match &digits[..4] >= "2050" {
        true => tlv(0x18, format!("{digits}Z").as_bytes()),
        false => tlv(0x17, format!("{}Z", &digits[2..]).as_bytes()),
    }
}

/// A name of some attributes: identifier's last number under 2.5.4, tag of the string, text.
pub fn name(parts: &[(u8, u8, &[u8])]) -> Vec<u8> {
    let one =
        |(last, tag, text): &(u8, u8, &[u8])| tlv(0x31, &sequence(&[oid(&format!("2.5.4.{last}")), tlv(*tag, text)]));
    sequence(&parts.iter().map(one).collect::<Vec<_>>())
}

/// A name of a commonName in UTF-8.
pub fn common(text: &str) -> Vec<u8> {
    name(&[(3, 0x0c, text.as_bytes())])
}

/// subjectAltName: one tagged element after another.
pub fn alternative(names: &[(u8, Vec<u8>)]) -> Vec<u8> {
    sequence(&names.iter().map(|(tag, body)| tlv(*tag, body)).collect::<Vec<_>>())
}

/// A good authority of this name.
pub fn authority(rng: &mut Rng, subject: &str, key: Key) -> Spec {
    let mut spec = Spec {
        version: Some(2),
        serial: serial(rng),
        subject: common(subject),
        issuer: None,
        from: time(-40 * DAY),
        until: time(3_000 * DAY),
        extensions: Vec::new(),
        key,
        form: Form::Usual,
        sig: Sig::Usual,
        own_id: true,
        issuer_id: true,
        two_algorithms: false,
        spoilt: false,
    };
    spec.set(id::BASIC, true, basic(true, None));
    spec.set(id::USAGE, true, usage(bits::CERT_SIGN | bits::CRL_SIGN));
    spec
}

/// A serial number that nobody else has.
pub fn serial(rng: &mut Rng) -> Vec<u8> {
    [vec![0x41], rng.octets(15)].concat()
}

impl Situation {
    /// A good one: one to three authorities above a leaf, most for a name, some for an address.
    pub fn good(seed: u64, number: usize, rng: &mut Rng) -> Situation {
        let between = [0, 0, 1, 1, 1, 2, 3][rng.below(7)];
        let by_address = rng.percent(12);
        let host = if by_address { address(number).to_string() } else { format!("c{number}.{DOMAIN}") };
        let key = |rng: &mut Rng, base: usize| match rng.below(10) {
            0 => Key::P384,
            1 | 2 => Key::Rsa(base % 3),
            _ => Key::P256(base % 6),
        };
        let root_key = key(rng, 0);
        let mut line = vec![authority(rng, &format!("root {seed}.{number}"), root_key)];
        for i in 0..between {
            let key = key(rng, 1 + i);
            line.push(authority(rng, &format!("intermediate {seed}.{number}.{i}"), key));
        }
        let mut leaf = authority(rng, &host, Key::P256(5));
        leaf.key = if rng.percent(20) { Key::Rsa(2) } else { Key::P256(5) };
        leaf.from = time(-DAY);
        leaf.until = time(300 * DAY);
        leaf.set(id::BASIC, true, basic(false, None));
        let encipher = if matches!(leaf.key, Key::Rsa(_)) { bits::KEY_ENCIPHERMENT } else { 0 };
        leaf.set(id::USAGE, true, usage(bits::DIGITAL_SIGNATURE | encipher));
        leaf.set(id::PURPOSES, false, purposes(&[id::SERVER]));
        let one =
            if by_address { (0x87, address(number).octets().to_vec()) } else { (0x82, host.clone().into_bytes()) };
        leaf.set(id::NAMES, false, alternative(&[one]));
        line.push(leaf);
        line.reverse();
        let served = (0..line.len() - 1).map(Thing::Line).collect();
        let anchors = vec![Thing::Line(line.len() - 1)];
        Situation { number, line, beside: Vec::new(), served, anchors, host, tls: Tls::default() }
    }

    /// The leaf.
    pub fn leaf(&mut self) -> &mut Spec {
        &mut self.line[0]
    }

    /// The root's place in the line.
    pub fn root(&self) -> usize {
        self.line.len() - 1
    }

    /// True if an address is asked for.
    pub fn is_by_address(&self) -> bool {
        self.host.parse::<Ipv4Addr>().is_ok()
    }

    /// Puts one more authority into the line, and into what is served, right above what stood below it.
    pub fn insert(&mut self, at: usize, spec: Spec) {
        self.line.insert(at, spec);
        let up = |i: &mut usize| *i += usize::from(*i >= at);
        for thing in self.served.iter_mut().chain(&mut self.anchors) {
            if let Thing::Line(i) = thing {
                up(i);
            }
        }
        for (_, by) in &mut self.beside {
            if let By::Line(i) = by {
                up(i);
            }
        }
        let place = self.served.iter().position(|t| *t == Thing::Line(at - 1)).map_or(self.served.len(), |p| p + 1);
        self.served.insert(place, Thing::Line(at));
    }

    /// Puts an intermediate above the leaf, if there is none.
    pub fn with_intermediate(&mut self, rng: &mut Rng) {
        if self.line.len() == 2 {
            let made = authority(rng, &format!("intermediate {}.{}", self.number, rng.clone().draw()), Key::P256(1));
            self.insert(1, made);
        }
    }

    /// Made and signed.
    pub fn case(&self, pool: &Pool, odd: Vec<&'static str>) -> Case {
        let above = |by: By, own: usize| match by {
            By::Line(i) => &self.line[i],
            By::Beside(i) => &self.beside[i].0,
            By::Itself => &self.beside[own].0,
        };
        let line: Vec<Vec<u8>> = (0..self.line.len())
            .map(|i| made(pool, &self.line[i], &self.line[(i + 1).min(self.line.len() - 1)], i + 1 == self.line.len()))
            .collect();
        let beside: Vec<Vec<u8>> = self
            .beside
            .iter()
            .enumerate()
            .map(|(i, (spec, by))| made(pool, spec, above(*by, i), *by == By::Itself))
            .collect();
        let octets = |thing: &Thing| match thing {
            Thing::Line(i) => line[*i].clone(),
            Thing::Beside(i) => beside[*i].clone(),
            Thing::Raw(octets) => octets.clone(),
        };
        Case {
            number: self.number,
            odd,
            host: self.host.clone(),
            chain: self.served.iter().map(octets).collect(),
            key: self.line[0].key,
            form: self.line[0].form,
            anchors: self.anchors.iter().map(octets).collect(),
            tls: self.tls,
            fits: match self.served.first() {
                Some(Thing::Line(i)) => self.line[*i].key == self.line[0].key,
                _ => false,
            },
        }
    }
}

fn made(pool: &Pool, spec: &Spec, issuer: &Spec, alone: bool) -> Vec<u8> {
    let by = pool.get(issuer.key);
    let outer = algorithm(by, issuer.key, spec.sig);
    let mut all = spec.extensions.clone();
    let mut put = |id: &str, value: Vec<u8>| all.push(Ext { id: id.into(), flag: Flag::No, value });
    let has_own = |id: &str, spec: &Spec| spec.extensions.iter().any(|e| e.id == id);
    if spec.own_id && !has_own(id::OWN_KEY, spec) {
        put(id::OWN_KEY, tlv(4, &pool.get(spec.key).public().identifier()));
    }
    if spec.issuer_id && !alone && !has_own(id::ISSUERS_KEY, spec) {
        put(id::ISSUERS_KEY, sequence(&[tlv(0x80, &by.public().identifier())]));
    }
    let extension = |e: &Ext| {
        let flag = match e.flag {
            Flag::No => Vec::new(),
            Flag::Critical => tlv(1, &[0xff]),
            Flag::Written => tlv(1, &[0]),
        };
        sequence(&[oid(&e.id), flag, tlv(4, &e.value)])
    };
    let inner = if spec.two_algorithms { sequence(&[oid("1.2.840.10045.4.3.3")]) } else { outer.clone() };
    let mut parts = Vec::new();
    parts.extend(spec.version.map(|v| tlv(0xa0, &tlv(2, &[v]))));
    parts.extend([
        tlv(2, &spec.serial),
        inner,
        spec.issuer.clone().unwrap_or_else(|| issuer.subject.clone()),
        sequence(&[spec.from.clone(), spec.until.clone()]),
        spec.subject.clone(),
        spki(pool, spec.key, spec.form),
    ]);
    if !all.is_empty() {
        parts.push(tlv(0xa3, &sequence(&all.iter().map(extension).collect::<Vec<_>>())));
    }
    let tbs = sequence(&parts);
    let mut signature = sign(by, issuer.key, spec.sig, &tbs);
    if spec.spoilt {
        let last = signature.len() - 1;
        signature[last] ^= 1;
    }
    sequence(&[tbs, outer, tlv(3, &[vec![0], signature].concat())])
}
