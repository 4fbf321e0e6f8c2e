//! Stores: where clients look for roots. A store says what it would do; it never does it.

pub mod bundle;
pub mod chromium;
pub mod chromium_policy;
pub mod chromium_profile;
pub mod environment;
pub mod exceptions;
pub mod families;
pub mod firefox;
pub mod firefox_policy;
pub mod hsts;
pub mod java;
pub mod macos;
pub mod settings;
pub mod system;
pub mod windows;

use crate::pki::cert::{Certificate, subject};
use crate::plan::ports::Look;
use crate::plan::step::Planned;
pub use crate::stores::{InScope, Scope, StoreId};
use crate::vocabulary::label::Label;
use crate::vocabulary::timestamp::Timestamp;
use std::path::PathBuf;

/// A root with the label of its authority.
#[derive(Clone, Debug)]
pub struct Root {
    /// The authority's label.
    pub label: Label,
    /// The root.
    pub certificate: Certificate,
}

impl Root {
    /// The mark under which it is in stores: `tamga-LABEL-<first 8 hex of SHA-256>`.
    pub fn mark(&self) -> String {
        format!("tamga-{}-{}", self.label, self.certificate.sha256().short())
    }

    /// The root as PEM.
    pub fn pem(&self) -> String {
        crate::pki::format::pem::write(crate::pki::format::pem::CERTIFICATE, self.certificate.der()).to_string()
    }
}

/// True for the mark of this very certificate, under whatever label.
pub fn is_mark_of(mark: &str, certificate: &Certificate) -> bool {
    label_of_mark(mark, certificate).is_some()
}

/// The label inside a mark, if it is this certificate's.
///
/// ```
/// use tamga_core::sample::root;
/// use tamga_core::stores::trust::{Root, label_of_mark};
///
/// let root = Root { label: "saltmarsh".parse()?, certificate: root()?.0.certificate };
/// assert_eq!(label_of_mark(&root.mark(), &root.certificate), Some("saltmarsh".parse()?));
/// assert_eq!(label_of_mark("tamga-saltmarsh-00000000", &root.certificate), None, "another certificate's");
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn label_of_mark(mark: &str, certificate: &Certificate) -> Option<Label> {
    let (label, short) = mark.strip_prefix("tamga-")?.rsplit_once('-')?;
    let is_its = short.len() == 8 && certificate.sha256().starts_with(short);
    is_its.then(|| label.parse().ok()).flatten()
}

/// The label in a common name that Tamga gives its roots; None for any other name.
pub fn label_in_name(c: &Certificate) -> Option<Label> {
    let words = c.subject_words();
    let (label, _) = words.split("CN=").nth(1)?.split_once(" root (Tamga, tests only)")?;
    label.parse().ok()
}

/// A root in a place.
#[derive(Clone, Debug)]
pub struct Entry {
    /// The root.
    pub certificate: Certificate,
    /// The name it has there, if it has one.
    pub mark: Option<String>,
    /// True if it counts as a root for servers.
    pub trusted: bool,
    /// True if it is explicitly distrusted.
    pub distrusted: bool,
    /// What is missing though it stands there.
    pub flaw: Option<String>,
}

/// One place of a store, as it was found.
#[derive(Clone, Debug)]
pub struct StoreLocation {
    /// The store's id.
    pub store: StoreId,
    /// Where: a directory or file.
    pub place: PathBuf,
    /// Why nothing can be changed there, and the command that would do it; None if all is well.
    pub hindrance: Option<Blocker>,
    /// What stands there.
    pub entries: Vec<Entry>,
    /// True if adding needs a password that only the person knows.
    pub guarded: bool,
}

/// Why a place cannot be changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Blocker {
    /// The reason.
    pub why: String,
    /// The exact command or step that helps.
    pub remedy: String,
    /// True if the place is not there at all, so that nobody needs it.
    pub absent: bool,
}

/// What keeps a person without root's rights from the machine's stores.
pub(crate) fn needs_rights() -> Blocker {
    Blocker {
        why: "it belongs to the machine: root's rights are needed".into(),
        remedy: "sudo tamga trust add --scope machine; or the same command again with --elevate".into(),
        absent: false,
    }
}

crate::words! {
    /// What a store is asked for.
    pub enum Goal: "goal" {
        /// The root is to be trusted there.
        Add = "add",
        /// The root is to be gone from there.
        Remove = "remove",
    }
}

/// A store.
pub trait Store: Sync {
    /// The id of the interface.
    fn id(&self) -> StoreId;
    /// Whose it is.
    fn scope(&self) -> Scope;
    /// Looks at every place.
    fn survey(&self, look: &dyn Look, bundles: &[PathBuf]) -> Vec<StoreLocation>;
    /// The steps that reach the goal; empty if it is reached. The place has no hindrance.
    fn change(&self, goal: Goal, root: &Root, place: &StoreLocation, look: &dyn Look) -> Vec<Planned>;
}

/// Every store.
pub const ALL: &[&dyn Store] = &[
    &system::System,
    &java::Java(Scope::Machine),
    &java::Java(Scope::User),
    &chromium_policy::ChromiumPolicy,
    &firefox_policy::FirefoxPolicy,
    &bundle::Bundle,
    &chromium::Chromium,
    &firefox::Firefox,
    &macos::Macos(Scope::User),
    &macos::Macos(Scope::Machine),
    &windows::Windows(Scope::User),
    &windows::Windows(Scope::Machine),
];

/// True on macOS and Windows, which have a store of their own and none of Linux'.
pub(crate) fn has_native(look: &dyn Look) -> bool {
    look.program(macos::SECURITY).is_some()
        || look.native(&crate::plan::native::StoreName { machine: false, name: "Root".into() }).is_some()
}

/// The stores of an id: two where it has locations of the user and of the machine.
///
/// ```
/// use tamga_core::stores::{StoreId, trust};
///
/// assert_eq!(trust::by_id(StoreId::Chromium).count(), 1);
/// ```
pub fn by_id(id: StoreId) -> impl Iterator<Item = &'static dyn Store> {
    ALL.iter().copied().filter(move |s| s.id() == id)
}

crate::words! {
    /// The state of a root in one location.
    pub enum State: "state" {
        /// It is there and counts.
        Present = "present",
        /// It is not there, or does not count.
        Absent = "absent",
        /// Another root of the same name is there instead.
        Older = "older",
        /// It is there but has expired.
        Expired = "expired",
        /// It is there but distrusted.
        Distrusted = "distrusted",
        /// The place cannot be read or is not there.
        Unavailable = "unavailable",
    }
}

/// Judges one root in one place.
pub fn state(root: &Certificate, place: &StoreLocation, now: Timestamp) -> State {
    if place.hindrance.as_ref().is_some_and(|h| h.absent) {
        return State::Unavailable;
    }
    let of_root = |e: &&Entry| e.certificate == *root;
    if place.entries.iter().filter(of_root).any(|e| e.distrusted) {
        return State::Distrusted;
    }
    if place.entries.iter().filter(of_root).any(|e| e.trusted) {
        return if now > root.not_after { State::Expired } else { State::Present };
    }
    let same_name = |e: &Entry| e.certificate != *root && subject::same(&e.certificate.subject, &root.subject);
    if place.entries.iter().any(|e| e.trusted && same_name(e)) {
        return State::Older;
    }
    State::Absent
}
