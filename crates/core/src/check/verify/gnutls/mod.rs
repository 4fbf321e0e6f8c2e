//! GnuTLS' procedure as wget asks for it, and as git does through libcurl. Measured with GnuTLS 3.7 and wget 1.21 on Debian 12.

pub mod names;
pub mod readable;
mod words;

use super::{Trail, parts};
use crate::check::client::case::Input;
use crate::check::client::judge::Judgement;
use crate::check::client::{Client, Outcome, Verdict};
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::{id, seconds};
use crate::pki::key::Shape;
use crate::pki::signature::{Hash, Scheme};
use words::{WORDS, by_git};
pub use words::{all_words, words};

/// A chain of more certificates is not looked at.
const MOST_SERVED: usize = 16;

/// Extensions that it knows when they are critical.
const KNOWN: &[&[u8]] = &[
    id::SUBJECT_KEY_IDENTIFIER,
    id::KEY_USAGE,
    id::SUBJECT_ALT_NAME,
    id::ISSUER_ALT_NAME,
    id::BASIC_CONSTRAINTS,
    id::NAME_CONSTRAINTS,
    id::CRL_DISTRIBUTION_POINTS,
    id::CERTIFICATE_POLICIES,
    id::AUTHORITY_KEY_IDENTIFIER,
    id::EXTENDED_KEY_USAGE,
    id::AUTHORITY_INFO_ACCESS,
    id::TLS_FEATURES,
    id::INHIBIT_ANY_POLICY,
];

/// What GnuTLS makes of a chain. `without` leaves one objection out.
pub fn predict(client: Client, input: &Input<'_>, without: Option<&'static str>) -> Verdict {
    let mut run = Run { client, input, trail: Trail::new(without), most_below: 100 };
    run.verify();
    run.verdict()
}

struct Run<'a> {
    client: Client,
    input: &'a Input<'a>,
    trail: Trail,
    /// How many more certificates may follow.
    most_below: usize,
}

impl<'a> Run<'a> {
    fn object(&mut self, word: &'static str, depth: usize, detail: impl Into<String>) {
        let code = WORDS.iter().find(|w| w.0 == word).map_or(Code::Malformed, |w| w.1);
        let code = match (code, depth) {
            (Code::Expired | Code::NotYetValid, 1..) => Code::IssuerExpired,
            (code, _) => code,
        };
        self.trail.object(word, code, depth, detail);
    }

    fn verdict(self) -> Verdict {
        let host = self.input.name.map(ToString::to_string).unwrap_or_default();
        // What it prints follows its own order, not that of the search; the line that says nothing more comes last.
        let place = |word: &str| WORDS.iter().position(|w| w.0 == word).unwrap_or(0);
        let chosen = self.trail.objections.iter().min_by_key(|o| place(o.word));
        let refuses = chosen.is_some();
        // In TLS 1.3 a server that lacks a client certificate hangs up later, and wget ends without a word.
        let silent = !self.input.spoken.is_tls12;
        let text = match self.client {
            // Whatever ends the handshake first; then the library's verdict, one text for all; then the name.
            Client::Git => {
                let early =
                    |o: &&super::Objection| matches!(o.word, "unreadable" | "key-mismatch" | "signing" | "client");
                let objections = &self.trail.objections;
                let chosen = objections.iter().find(early).or_else(|| objections.iter().find(|o| o.word != "name"));
                chosen.or(objections.first()).map(|o| by_git(o, &host))
            }
            _ => chosen.filter(|o| !(silent && o.word == "client")).map(|o| match o.word {
                "unreadable" => o.detail.clone(),
                word => WORDS[place(word)].2.replace("NAME", &host),
            }),
        };
        let judgement = Judgement { path: self.trail.path.clone(), faults: self.trail.faults() };
        Verdict {
            client: self.client,
            outcome: if refuses { Outcome::Refuses } else { Outcome::Accepts },
            code: text,
            judgement,
            documented: false,
        }
    }

    fn verify(&mut self) {
        self.trail.path = self.input.served.first().cloned().into_iter().collect();
        let octets = self.input.served_octets();
        let why = match self.input.spoken.is_tls12 {
            true if octets.len() <= MOST_SERVED => readable::fault_in_any(&octets),
            _ => octets.first().and_then(|der| readable::fault_in_leaf(der)),
        };
        if let Some(why) = why {
            self.object("unreadable", 0, why);
            return;
        }
        let Some(leaf) = self.input.served.first() else { return };
        if self.client == Client::Git && !signs(leaf) {
            // A key of another kind than the signature's is noticed earlier.
            self.object("signing", 0, if self.input.spoken.key_mismatch { "mismatch" } else { "" });
            return;
        }
        if self.input.spoken.key_mismatch {
            self.object("key-mismatch", 0, "");
            return;
        }
        if self.input.spoken.demands_client && self.input.spoken.is_tls12 {
            self.object("client", 0, "");
            return;
        }
        if octets.len() > MOST_SERVED || octets[1..].iter().any(|der| readable::fault(der).is_some()) {
            self.object("too-many", 0, "");
            return;
        }
        self.chain(leaf);
        let at = self.input.at.unix();
        if seconds(&leaf.raw.not_before).is_some_and(|t| at < t) {
            self.object("own-not-activated", 0, leaf.not_before.to_string());
        }
        if seconds(&leaf.raw.not_after).is_some_and(|t| at >= t) {
            self.object("own-expired", 0, leaf.not_after.to_string());
        }
        if self.input.name.is_some_and(|n| !names::covers(leaf, n)) {
            self.object("name", 0, leaf.name_words().join(", "));
        }
        if self.input.spoken.demands_client && self.trail.objections.is_empty() {
            self.object("client", 0, "");
        }
    }

    /// The anchors of a name.
    fn anchors(&self, name: &[u8]) -> Vec<&'a Certificate> {
        let readable = |c: &&Certificate| c.subject == name && readable::fault(c.der()).is_none();
        self.input.anchors.iter().filter(readable).collect()
    }

    fn chain(&mut self, leaf: &'a Certificate) {
        let mut list = self.sorted(leaf);
        let self_signed = |c: &Certificate| issued(c, c);
        if list.len() > 1 && list.last().is_some_and(|c| self_signed(c)) {
            list.pop();
        }
        let cut = (1..list.len()).find(|i| self.anchors(&list[*i].issuer).iter().any(|a| **a == *list[*i]));
        if let Some(cut) = cut {
            list.truncate(cut + 1);
        }
        let Some(last) = list.last().copied() else { return };
        let before = (self.trail.clone(), self.most_below);
        self.against(&list, &self.anchors(&last.issuer));
        let unknown = |t: &Trail| {
            t.objections.iter().any(|o| matches!(o.word, "signer-not-found" | "expired" | "insecure-algorithm"))
        };
        if unknown(&self.trail) && last.subject != last.issuer {
            // Perhaps the last one is trusted itself.
            let first = std::mem::replace(&mut self.trail, before.0);
            self.most_below = before.1;
            self.against(&list, &self.anchors(&last.subject));
            let finds_none = |t: &Trail| t.objections.iter().any(|o| o.word == "signer-not-found");
            if !self.trail.objections.is_empty() && (finds_none(&self.trail) || !finds_none(&first)) {
                self.trail = first;
            }
        }
    }

    /// What was served in the order of issuers, as far as it goes.
    fn sorted(&self, leaf: &'a Certificate) -> Vec<&'a Certificate> {
        let all: Vec<&'a Certificate> = super::served(self.input).collect();
        let mut list = vec![leaf];
        let mut used = vec![false; all.len()];
        while let Some(top) = list.last().copied() {
            let next = (1..all.len()).find(|i| all[*i] != top && issued(top, all[*i]));
            match next {
                Some(i) if !used[i] && list.len() < all.len() => {
                    used[i] = true;
                    list.push(all[i]);
                }
                _ => break,
            }
        }
        list
    }

    /// Verifies a list, from its last certificate down, against trusted ones.
    fn against(&mut self, list: &[&'a Certificate], trusted: &[&'a Certificate]) {
        let mut list = list.to_vec();
        let mut path: Vec<Certificate> = list.iter().map(|c| (*c).clone()).collect();
        for (i, own) in list.iter().enumerate() {
            let same = |t: &&&Certificate| {
                if i == 0 { **t == *own } else { t.subject == own.subject && t.key == own.key }
            };
            if let Some(anchor) = trusted.iter().find(same) {
                path.truncate(i);
                path.push((*anchor).clone());
                self.trail.path = path;
                let before = self.trail.objections.len();
                self.dates(anchor, i);
                if self.trail.objections.len() > before {
                    return;
                }
                list.truncate(i);
                break;
            }
        }
        let Some((last, _)) = list.split_last().filter(|(l, _)| !l.der().is_empty()) else { return };
        let top = list.len() - 1;
        let fitting = || trusted.iter().rev().filter(|t| issued(last, t));
        let holds = |c: &&&Certificate| {
            let at = self.input.at.unix();
            let (from, until) = (seconds(&c.raw.not_before), seconds(&c.raw.not_after));
            from.is_none_or(|t| at >= t) && until.is_none_or(|t| at <= t)
        };
        let issuer = fitting().find(holds).or_else(|| fitting().next()).copied();
        if list.len() == self.trail.path.len() || self.trail.path.len() <= 1 {
            self.trail.path = list.iter().map(|c| (*c).clone()).chain(issuer.cloned()).collect();
        }
        if !self.one(last, issuer, top, list.len() == 1, &[]) {
            return;
        }
        let mut limits: Vec<&'a Certificate> = issuer.into_iter().collect();
        for i in (1..list.len()).rev() {
            if !self.one(list[i - 1], Some(list[i]), i - 1, i == 1, &limits) {
                return;
            }
            limits.push(list[i]);
        }
    }

    /// One certificate under its issuer; false where the search ends.
    fn one(
        &mut self,
        c: &'a Certificate,
        issuer: Option<&'a Certificate>,
        depth: usize,
        is_leaf: bool,
        limits: &[&'a Certificate],
    ) -> bool {
        let before = self.trail.objections.len();
        if self.most_below == 0 {
            self.object("path-length", depth + 1, c.subject_words());
            return false;
        }
        self.most_below -= 1;
        match issuer {
            None => {
                let code = if issued(c, c) && depth == 0 { Code::SelfSignedLeaf } else { Code::IssuerUnknown };
                self.trail.object("signer-not-found", code, depth, c.issuer_words());
            }
            Some(issuer) => self.under(c, issuer, depth, is_leaf, limits),
        }
        if let Some(unknown) = unknown_critical(c) {
            self.object("critical", depth, unknown);
        }
        if c.raw.extension(id::TLS_FEATURES).is_some() {
            self.object("staple", depth, c.subject_words());
        }
        self.dates(c, depth);
        self.trail.objections.len() == before
    }

    fn under(
        &mut self,
        c: &'a Certificate,
        issuer: &'a Certificate,
        depth: usize,
        is_leaf: bool,
        limits: &[&'a Certificate],
    ) {
        let words = issuer.subject_words();
        if let Some(unknown) = unknown_critical(issuer) {
            self.object("critical", depth + 1, unknown);
        }
        if issuer.raw.extension(id::TLS_FEATURES).is_some() {
            self.object("staple", depth + 1, issuer.subject_words());
        }
        self.dates(issuer, depth + 1);
        // Version 1 is an authority only where it is trusted itself.
        if !(issuer.raw.version_number() == Some(0) && self.input.anchors.contains(issuer)) {
            self.authority(issuer, depth);
        }
        for by in limits.iter().chain([&issuer]) {
            let Some(e) = by.raw.extension(id::NAME_CONSTRAINTS) else { continue };
            match parts::constraints(&e.value).filter(names::is_readable) {
                None => self.object("constraints", depth, words.clone()),
                Some(by) if is_leaf => {
                    if let Some(name) = names::forbidden(c, &by) {
                        self.object("constraints", depth, parts::shown(&name));
                    }
                }
                Some(_) => {}
            }
        }
        match algorithm(c, issuer) {
            Verifies::Insecure => self.object("insecure-algorithm", depth, c.subject_words()),
            Verifies::Not => self.object("signature", depth, c.subject_words()),
            Verifies::So => {}
        }
    }

    fn authority(&mut self, issuer: &Certificate, depth: usize) {
        let basic = issuer.raw.extension(id::BASIC_CONSTRAINTS).map(|e| parts::basic(&e.value));
        let ca = match &basic {
            None => issued(issuer, issuer) && self.input.anchors.contains(issuer),
            Some(Some((_, Some(length)))) if length.len() > 4 => false,
            Some(read) => read.as_ref().and_then(|(ca, _)| ca.as_ref()).is_some_and(|b| b.iter().any(|b| *b != 0)),
        };
        if !ca {
            self.object("signer-not-ca", depth + 1, issuer.subject_words());
        }
        if ca && let Some(Some((_, Some(length)))) = basic {
            let bare: Vec<u8> = length.iter().copied().skip_while(|b| *b == 0).collect();
            if bare.len() < 4 && length.first().is_some_and(|b| b & 0x80 == 0) {
                let most = bare.iter().fold(0usize, |n, b| n << 8 | usize::from(*b));
                self.most_below = self.most_below.min(most);
            }
        }
        if let Some(e) = issuer.raw.extension(id::KEY_USAGE)
            && parts::bits(&e.value).is_none_or(|(_, o)| o.first().is_none_or(|b| b & 0x04 == 0))
        {
            self.object("usage", depth + 1, issuer.subject_words());
        }
    }

    fn dates(&mut self, c: &Certificate, depth: usize) {
        let at = self.input.at.unix();
        let word = |i: usize, otherwise: String| if i > 0 { c.subject_words() } else { otherwise };
        if seconds(&c.raw.not_before).is_some_and(|t| at < t) {
            self.object("not-activated", depth, word(depth, c.not_before.to_string()));
        }
        if seconds(&c.raw.not_after).is_some_and(|t| at > t) {
            self.object("expired", depth, word(depth, c.not_after.to_string()));
        }
    }
}

/// The same attributes with the same octets, whatever type of string they are.
fn same_name(a: &[u8], b: &[u8]) -> bool {
    let bare = |name: &[u8]| {
        let all = parts::attributes(name)?;
        Some(all.into_iter().map(|(rdn, kind, _, octets)| (rdn, kind, octets)).collect::<Vec<_>>())
    };
    a == b || bare(a).is_some_and(|a| Some(a) == bare(b))
}

/// The names fit, and the identifiers do where both are there.
fn issued(c: &Certificate, by: &Certificate) -> bool {
    if !same_name(&c.issuer, &by.subject) {
        return false;
    }
    let said = c.raw.extension(id::AUTHORITY_KEY_IDENTIFIER).and_then(|e| parts::authority_key(&e.value)?.key);
    let own = by.raw.extension(id::SUBJECT_KEY_IDENTIFIER);
    let own = own.and_then(|e| parts::first(&e.value)?.expect(0x04).map(<[u8]>::to_vec));
    !matches!((said, own), (Some(a), Some(b)) if a != b)
}

/// keyUsage lets the key sign, or is not there.
fn signs(leaf: &Certificate) -> bool {
    let Some(e) = leaf.raw.extension(id::KEY_USAGE) else { return true };
    parts::bits(&e.value).is_none_or(|(_, octets)| octets.first().is_none_or(|b| b & 0x80 != 0))
}

fn unknown_critical(c: &Certificate) -> Option<String> {
    let unknown = |e: &&crate::pki::cert::raw::RawExtension| e.is_critical() && !KNOWN.contains(&e.id.as_slice());
    let e = c.raw.extensions.iter().flatten().find(unknown)?;
    Some(const_oid::ObjectIdentifier::from_bytes(&e.id).map(|o| o.to_string()).unwrap_or_default())
}

enum Verifies {
    So,
    Not,
    Insecure,
}

fn algorithm(c: &Certificate, issuer: &Certificate) -> Verifies {
    let verified = || if c.signed_by(issuer).is_ok() { Verifies::So } else { Verifies::Not };
    match (Scheme::of(&c.algorithm), issuer.key.shape()) {
        (_, Shape::Ec { explicit: true, .. } | Shape::Ec { compressed: true, .. }) => Verifies::Insecure,
        (Scheme::Pss { hash, mask, salt }, Shape::Rsa { .. }) => {
            let usual = matches!(hash, Hash::Sha256 | Hash::Sha384 | Hash::Sha512);
            if usual && hash == mask && salt == hash.length() { verified() } else { Verifies::Not }
        }
        (scheme, _) if matches!(scheme.hash(), Some(Hash::Md5 | Hash::Sha1)) => Verifies::Insecure,
        (Scheme::Other, _) => Verifies::Not,
        _ => verified(),
    }
}
