//! The system's store of the Debian family: an anchor directory and `update-ca-certificates`.
//!
//! Its traps, each met below: only `.crt` counts; an update says 0 though a hook failed; what is removed leaves
//! dangling links behind, and Java's store keeps it for ever.

use super::families::{self, Family};
use super::{Blocker, Entry, Goal, Root, Scope, Store, StoreLocation};
use crate::pki::cert::Certificate;
use crate::pki::format::pem;
use crate::plan::ports::Files;
use crate::plan::ports::Look;
use crate::plan::step::{Invocation, Planned, Step};
use crate::stores::StoreId;
use crate::vocabulary::text::Shown;
use std::path::{Path, PathBuf};

/// The store `system`.
pub struct System;

/// Where anchors go.
pub const ANCHORS: &str = "/usr/local/share/ca-certificates";
/// What OpenSSL's and GnuTLS's clients read.
pub const BUNDLE: &str = "/etc/ssl/certs/ca-certificates.crt";
/// The directory of hash links.
pub const LINKS: &str = "/etc/ssl/certs";
/// The command.
pub const COMMAND: &str = "update-ca-certificates";
const JAVA: &str = "/etc/ssl/certs/java/cacerts";
const JAVA_HOOK: &str = "/etc/ca-certificates/update.d/jks-keystore";

impl Store for System {
    fn id(&self) -> StoreId {
        StoreId::System
    }

    fn scope(&self) -> Scope {
        Scope::Machine
    }

    fn survey(&self, look: &dyn Look, _: &[PathBuf]) -> Vec<StoreLocation> {
        if super::has_native(look) {
            return Vec::new();
        }
        if let Some(family) = families::of(look) {
            return vec![of_family(self.id(), family, look)];
        }
        let anchors = Path::new(ANCHORS);
        let mut place = StoreLocation {
            store: self.id(),
            place: anchors.into(),
            hindrance: None,
            entries: Vec::new(),
            guarded: false,
        };
        let bundle = look.read(Path::new(BUNDLE)).unwrap_or_default();
        let in_bundle = pem::certificates(&bundle);
        let java = look.read(Path::new(JAVA));
        let mut seen: Vec<Vec<u8>> = Vec::new();
        for name in look.list(anchors).into_iter().filter(|n| n.ends_with(".crt")) {
            for der in pem::certificates(&look.read(&anchors.join(&name)).unwrap_or_default()) {
                let Some(certificate) = Certificate::read_any(&der) else { continue };
                let trusted = in_bundle.contains(&der);
                let flaw = if !trusted {
                    Some(format!("the anchor {name} is there, but {COMMAND} has not taken it up"))
                } else if java.as_ref().is_some_and(|j| !holds(j, &der)) {
                    Some(format!(
                        "Java's store {JAVA} lacks it: the hook failed or was held up; run: sudo {COMMAND} --fresh"
                    ))
                } else if !linked(look, &name) {
                    Some(format!("the hash link in {LINKS} is missing; run: sudo {COMMAND} --fresh"))
                } else {
                    None
                };
                let mark = name.strip_suffix(".crt").map(str::to_owned);
                seen.push(der);
                place.entries.push(Entry { certificate, mark, trusted, distrusted: false, flaw });
            }
        }
        for der in in_bundle.iter().filter(|d| !seen.contains(d)) {
            if let Some(certificate) = Certificate::read_any(der) {
                place.entries.push(Entry { certificate, mark: None, trusted: true, distrusted: false, flaw: None });
            }
        }
        place.hindrance = hindrance(look);
        vec![place]
    }

    fn change(&self, goal: Goal, root: &Root, place: &StoreLocation, look: &dyn Look) -> Vec<Planned> {
        if let Some(family) = families::of(look) {
            return in_family(family, goal, root, place);
        }
        // No matter who put it there: a copy imported by hand is the same root.
        let ours: Vec<&Entry> =
            place.entries.iter().filter(|e| e.certificate == root.certificate && e.mark.is_some()).collect();
        match goal {
            Goal::Add => {
                let complete =
                    place.entries.iter().any(|e| e.certificate == root.certificate && e.trusted && e.flaw.is_none());
                if complete {
                    return Vec::new();
                }
                let path = Path::new(ANCHORS).join(format!("{}.crt", root.mark()));
                let mut steps = Vec::new();
                if ours.is_empty() {
                    let undo = vec![Step::Remove { path: path.clone() }, update(false)];
                    let bytes = root.pem().into_bytes();
                    steps.push(Planned::plain(Step::Folder { path: ANCHORS.into(), mode: 0o755 }));
                    steps.push(Planned { step: Step::Write { path, bytes, mode: 0o644 }, undo });
                    steps.push(Planned::plain(update(false)));
                } else {
                    // The anchor stands already but a link or Java missed it: only --fresh takes it up again.
                    steps.push(Planned::plain(update(true)));
                }
                steps
            }
            Goal::Remove => {
                let mut steps = Vec::new();
                for e in &ours {
                    let Some(mark) = &e.mark else { continue };
                    steps.extend(removal(look, mark, root));
                }
                if !steps.is_empty() {
                    steps.push(Planned::plain(update(false)));
                    if place.entries.iter().all(|e| e.certificate == root.certificate) {
                        // With no root left the command leaves the old bundle as it was.
                        steps.push(Planned::plain(Step::Write { path: BUNDLE.into(), bytes: Vec::new(), mode: 0o644 }));
                    }
                }
                steps
            }
        }
    }
}

/// The bundle that the system's clients read.
pub fn bundle(look: &dyn Look) -> PathBuf {
    families::of(look).map_or(BUNDLE, |f| f.bundle).into()
}

/// The anchors of a family without traps, and what its bundle holds.
fn of_family(store: StoreId, family: &Family, look: &dyn Look) -> StoreLocation {
    let folder = PathBuf::from(family.anchors);
    let in_bundle = pem::certificates(&look.read(Path::new(family.bundle)).unwrap_or_default());
    let mut entries: Vec<Entry> = Vec::new();
    for name in look.list(&folder) {
        let bytes = look.read(&folder.join(&name)).unwrap_or_default();
        let ders = pem::certificates(&bytes);
        for der in if ders.is_empty() { vec![bytes] } else { ders } {
            let Some(certificate) = Certificate::read_any(&der) else { continue };
            let trusted = in_bundle.contains(&der);
            let flaw =
                (!trusted).then(|| format!("the anchor {name} is there, but {} has not taken it up", family.command));
            let mark = Path::new(&name).file_stem().map(|s| s.to_string_lossy().into_owned());
            entries.push(Entry { certificate, mark, trusted, distrusted: false, flaw });
        }
    }
    for der in in_bundle.iter().filter(|d| !entries.iter().any(|e| e.certificate.der() == **d)).collect::<Vec<_>>() {
        if let Some(certificate) = Certificate::read_any(der) {
            entries.push(Entry { certificate, mark: None, trusted: true, distrusted: false, flaw: None });
        }
    }
    StoreLocation { store, place: folder, hindrance: hindrance(look), entries, guarded: false }
}

fn in_family(family: &Family, goal: Goal, root: &Root, place: &StoreLocation) -> Vec<Planned> {
    let update = || Step::Run(Invocation::new(family.command, family.arguments.iter().copied()).with_rights());
    let write = |path: &Path| Step::Write { path: path.to_owned(), bytes: root.pem().into_bytes(), mode: 0o644 };
    let ours: Vec<&str> =
        place.entries.iter().filter(|e| e.certificate == root.certificate).filter_map(|e| e.mark.as_deref()).collect();
    match goal {
        Goal::Add if place.entries.iter().any(|e| e.certificate == root.certificate && e.trusted) => Vec::new(),
        Goal::Add => {
            let path = Path::new(family.anchors).join(format!("{}.{}", root.mark(), family.ending));
            let undo = vec![Step::Remove { path: path.clone() }, update()];
            vec![Planned { step: write(&path), undo }, Planned::plain(update())]
        }
        Goal::Remove if ours.is_empty() => Vec::new(),
        Goal::Remove => {
            let mut steps: Vec<Planned> = ours
                .iter()
                .flat_map(|mark| ["pem", "crt", "cer", "der"].map(|e| format!("{mark}.{e}")))
                .map(|name| Path::new(family.anchors).join(name))
                .map(|path| {
                    // Only the file with the family's own ending was ours; the others are copies that a person put in.
                    let own = path.extension().is_some_and(|e| e == family.ending);
                    let undo = if own { vec![write(&path), update()] } else { Vec::new() };
                    Planned { step: Step::Remove { path }, undo }
                })
                .collect();
            steps.push(Planned::plain(update()));
            steps
        }
    }
}

/// Java first, while the link is still there; then the links, which a plain update would leave dangling; then the anchor.
fn removal(look: &dyn Look, mark: &str, root: &Root) -> Vec<Planned> {
    let mut steps = Vec::new();
    let link = Path::new(LINKS).join(format!("{mark}.pem"));
    let in_java = look.read(Path::new(JAVA)).is_some_and(|j| holds(&j, root.certificate.der()));
    if in_java && look.exists(Path::new(JAVA_HOOK)) {
        let line = format!("-{}\n", link.shown());
        steps.push(Planned::plain(Step::Run(Invocation::new(JAVA_HOOK, [""; 0]).reading(line).with_rights())));
    }
    for name in hash_links(look, &format!("{mark}.pem")) {
        steps.push(Planned::plain(Step::Remove { path: Path::new(LINKS).join(name) }));
    }
    if look.link(&link).is_some() {
        steps.push(Planned::plain(Step::Remove { path: link }));
    }
    let path = Path::new(ANCHORS).join(format!("{mark}.crt"));
    let undo = vec![Step::Write { path: path.clone(), bytes: root.pem().into_bytes(), mode: 0o644 }, update(true)];
    steps.push(Planned { step: Step::Remove { path }, undo });
    steps
}

fn update(fresh: bool) -> Step {
    // Measured: 2 to 9 seconds, 24 under load. dpkg may hold it up longer.
    Step::Run(Invocation::new(COMMAND, if fresh { vec!["--fresh"] } else { Vec::new() }).with_rights())
}

fn hindrance(look: &dyn Look) -> Option<Blocker> {
    if families::is_declared(look) {
        return Some(Blocker {
            why: "this system is made from its declaration: a change by hand would be lost".into(),
            remedy:
                "in configuration.nix: security.pki.certificateFiles = [ /path/root.pem ]; then nixos-rebuild switch"
                    .into(),
            absent: true,
        });
    }
    let command = families::of(look).map_or(COMMAND, |f| f.command);
    if look.program(command).is_none() {
        return Some(Blocker {
            why: format!("{COMMAND} is not installed"),
            remedy: "sudo apt-get install ca-certificates".into(),
            absent: true,
        });
    }
    if !look.has_rights() {
        return Some(super::needs_rights());
    }
    None
}

fn holds(haystack: &[u8], needle: &[u8]) -> bool {
    !needle.is_empty() && haystack.windows(needle.len()).any(|w| w == needle)
}

/// Names of hash links such as `5c379c84.0` that lead to this link.
fn hash_links(look: &dyn Files, target: &str) -> Vec<String> {
    look.list(Path::new(LINKS))
        .into_iter()
        .filter(|n| is_hash_name(n))
        .filter(|n| look.link(&Path::new(LINKS).join(n)).is_some_and(|t| t.file_name() == Some(target.as_ref())))
        .collect()
}

fn linked(look: &dyn Look, anchor: &str) -> bool {
    let target = format!("{}.pem", anchor.trim_end_matches(".crt"));
    !hash_links(look, &target).is_empty()
}

/// Eight hex digits, a dot, a number: the only names that OpenSSL finds in a directory.
pub fn is_hash_name(name: &str) -> bool {
    name.split_once('.').is_some_and(|(hash, n)| {
        hash.len() == 8
            && hash.bytes().all(|b| b.is_ascii_hexdigit())
            && !n.is_empty()
            && n.bytes().all(|b| b.is_ascii_digit())
    })
}
