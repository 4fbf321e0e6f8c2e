//! Identities in the stores from which browsers take their own: a certificate with its key, under Tamga's mark.

mod holder;

use crate::error::Result;
use crate::pki::cert::{Certificate, subject};
use crate::plan::nss::{Library, NssEntry};
use crate::plan::ports::Files;
use crate::plan::ports::Look;
use crate::plan::step::{Planned, Step};
use crate::stores::StoreId;
use crate::stores::trust::{Blocker, chromium, firefox};
use crate::vocabulary::fingerprint::Sha256Fingerprint;
use crate::vocabulary::label::Label;
use std::path::PathBuf;

pub use holder::{Holder, Parts};

/// An identity by its parts.
pub struct Identity {
    /// The certificate's label.
    pub label: Label,
    /// Leaf first, then intermediates.
    pub chain: Vec<Certificate>,
}

impl Identity {
    /// The mark under which it is in stores.
    pub fn mark(&self) -> String {
        let leaf = self.chain.first().map(Certificate::sha256);
        format!("tamga-{}-{}", self.label, leaf.as_ref().map_or("", |f| f.short()))
    }
}

/// One place, as it was found.
pub struct IdentityStore {
    /// The store's id.
    pub store: StoreId,
    /// The database's directory, the keychain, or the store as Windows names it.
    pub folder: PathBuf,
    /// What it is.
    pub holder: Holder,
    /// Why nothing can be changed there.
    pub hindrance: Option<Blocker>,
    /// What stands there.
    pub entries: Vec<NssEntry>,
    /// True if a password guards the keys in it.
    pub guarded: bool,
}

/// The state of an identity in one location.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// Certificate and key are there.
    Present,
    /// The certificate is there without its key: no server is ever shown it.
    WithoutKey,
    /// An earlier certificate of the same label and name is there.
    Older,
    /// Nothing of it is there.
    Absent,
    /// The place is not there or cannot be read.
    Unavailable,
}

impl State {
    /// The word of the interface.
    pub fn word(self) -> &'static str {
        match self {
            State::Present => "present",
            State::Older => "older",
            State::WithoutKey | State::Absent => "absent",
            State::Unavailable => "unavailable",
        }
    }
}

/// Every place from which programs here take an identity.
pub fn places(look: &dyn Look) -> Vec<IdentityStore> {
    use crate::stores::trust::Store;
    let library = firefox::library(look);
    let of_chromium = chromium::Chromium.survey(look, &[]).into_iter().map(|p| (p, Library::System));
    let of_firefox = firefox::Firefox.survey(look, &[]).into_iter().map(|p| (p, library.clone()));
    of_chromium
        .chain(of_firefox)
        .map(|(p, library)| {
            let there = look.exists(&p.place.join("cert9.db"));
            let entries = match there {
                true => look.nss(&p.place, &library).map(|v| v.entries).unwrap_or_default(),
                false => Vec::new(),
            };
            let holder = Holder::Nss(library);
            IdentityStore {
                store: p.store,
                folder: p.place,
                holder,
                hindrance: p.hindrance,
                entries,
                guarded: p.guarded,
            }
        })
        .chain(holder::native_places(look))
        .collect()
}

/// Judges an identity in a place.
pub fn state(identity: &Identity, place: &IdentityStore) -> State {
    if place.hindrance.is_some() {
        return State::Unavailable;
    }
    let Some(leaf) = identity.chain.first() else { return State::Absent };
    if let Some(e) = place.entries.iter().find(|e| e.der == leaf.der()) {
        return if e.has_key() { State::Present } else { State::WithoutKey };
    }
    match older(identity, place).is_empty() {
        true => State::Absent,
        false => State::Older,
    }
}

/// Earlier certificates of the same label and subject, which bear our mark.
pub fn older(identity: &Identity, place: &IdentityStore) -> Vec<Certificate> {
    let Some(leaf) = identity.chain.first() else { return Vec::new() };
    let begins = format!("tamga-{}-", identity.label);
    let ours = place.entries.iter().filter(|e| e.nickname.starts_with(&begins) && e.der != leaf.der());
    ours.filter_map(|e| Certificate::read(&e.der, "a certificate of the database").ok())
        .filter(|c| subject::same(&c.subject, &leaf.subject) && !c.is_ca())
        .collect()
}

/// The steps that bring it in: the key with its certificate, then intermediates, and what it replaces out.
pub fn add(identity: &Identity, parts: &Parts<'_>, place: &IdentityStore, look: &dyn Files) -> Result<Vec<Planned>> {
    let Some(leaf) = identity.chain.first() else { return Ok(Vec::new()) };
    let state = state(identity, place);
    if state == State::Present {
        return Ok(Vec::new());
    }
    let mut steps = Vec::new();
    if matches!(place.holder, Holder::Nss(_)) && !look.exists(&place.folder) {
        steps.push(Planned::plain(Step::Folder { path: place.folder.clone(), mode: 0o700 }));
    }
    if state == State::WithoutKey && !matches!(place.holder, Holder::Nss(_)) {
        // There the certificate alone would hide the one that comes with its key.
        steps.push(Planned::plain(place.take_out_bare(leaf)));
    }
    steps.push(place.take_in(identity, leaf, parts)?);
    for c in identity.chain.iter().skip(1).filter(|c| !place.entries.iter().any(|e| e.der == c.der())) {
        steps.push(place.take_in_issuer(identity, c));
    }
    for c in older(identity, place) {
        steps.push(Planned::plain(place.take_out(&c)));
    }
    Ok(steps)
}

/// Names what a keychain keeps without a name of ours. `label_of` says the label of a certificate by its SHA-256, if it is known.
pub fn name_known(place: &mut IdentityStore, label_of: &mut dyn FnMut(&Sha256Fingerprint) -> Option<Label>) {
    for e in place.entries.iter_mut().filter(|e| e.nickname.is_empty()) {
        let Ok(certificate) = Certificate::read(&e.der, "a certificate of the keychain") else { continue };
        if let Some(label) = label_of(&certificate.sha256()) {
            e.nickname = Identity { label, chain: vec![certificate] }.mark();
        }
    }
}

/// The steps that take out everything that has Tamga's mark for an identity; and how many identities there were.
pub fn remove_marked(place: &IdentityStore) -> (Vec<Planned>, usize) {
    let (mut steps, mut count) = (Vec::new(), 0);
    for e in &place.entries {
        let bare = e.nickname.strip_suffix(" issuer");
        let Ok(c) = Certificate::read(&e.der, "a certificate of the database") else { continue };
        let step = match bare {
            Some(mark) if mark.starts_with("tamga-") => place.take_out_issuer(&e.der),
            None if !c.is_ca() && crate::stores::trust::is_mark_of(&e.nickname, &c) => {
                count += 1;
                place.take_out(&c)
            }
            _ => continue,
        };
        steps.push(Planned::plain(step));
    }
    (steps, count)
}

/// The steps that take it out, with the intermediates that came with it and any earlier one.
pub fn remove(identity: &Identity, place: &IdentityStore) -> Vec<Planned> {
    let mut steps = Vec::new();
    let stands = |c: &Certificate| place.entries.iter().any(|e| e.der == c.der());
    let earlier = older(identity, place);
    for c in identity.chain.first().into_iter().filter(|c| stands(c)).chain(&earlier) {
        steps.push(Planned::plain(place.take_out(c)));
    }
    let begins = format!("tamga-{}-", identity.label);
    let named = |e: &&NssEntry| e.nickname.starts_with(&begins) && e.nickname.ends_with(" issuer");
    // A keychain keeps no names: there it is the intermediates of the chain that came with it.
    let of_chain =
        |e: &&NssEntry| place.holder == Holder::Keychain && identity.chain.iter().skip(1).any(|c| c.der() == e.der);
    for e in place.entries.iter().filter(|e| named(e) || of_chain(e)) {
        steps.push(Planned::plain(place.take_out_issuer(&e.der)));
    }
    steps
}
