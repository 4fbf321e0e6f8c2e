//! Firefox's policies: a root that every profile of the machine takes in when it starts.
//!
//! One file counts: `/etc/firefox/policies/policies.json`, else the one beside the program, and they are never merged (measured with
//! 153). Other people's settings in it stay.

use super::chromium::entry;
use super::{Blocker, Entry, Goal, Root, Scope, Store, StoreLocation, firefox};
use crate::pki::cert::Certificate;
use crate::pki::format::pem;
use crate::plan::nss::{NssAction, NssChange};
use crate::plan::ports::Files;
use crate::plan::ports::Look;
use crate::plan::step::{Planned, Step};
use crate::stores::StoreId;
use crate::vocabulary::text::Shown;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};

/// The store `firefox-policy`.
pub struct FirefoxPolicy;

/// The file that wins.
const FIRST: &str = "/etc/firefox/policies/policies.json";
/// The file beside the program.
const BESIDE: [&str; 4] = [
    "/usr/lib/firefox-esr/distribution/policies.json",
    "/usr/lib/firefox/distribution/policies.json",
    "/usr/lib64/firefox/distribution/policies.json",
    "/opt/firefox/distribution/policies.json",
];
/// Where the certificates lie that the policy names by their whole path.
const CERTIFICATES: &str = "/usr/lib/mozilla/certificates";
const BROWSERS: [&str; 2] = ["firefox", "firefox-esr"];

impl Store for FirefoxPolicy {
    fn id(&self) -> StoreId {
        StoreId::FirefoxPolicy
    }

    fn scope(&self) -> Scope {
        Scope::Machine
    }

    fn survey(&self, look: &dyn Look, _: &[PathBuf]) -> Vec<StoreLocation> {
        let file = [FIRST].iter().chain(&BESIDE).map(Path::new).find(|f| look.exists(f));
        if file.is_none() && !BROWSERS.iter().any(|b| look.program(b).is_some()) {
            return Vec::new();
        }
        let file = file.unwrap_or(Path::new(FIRST)).to_owned();
        let mut place =
            StoreLocation { store: self.id(), place: file, hindrance: None, entries: Vec::new(), guarded: false };
        let bytes = look.read(&place.place);
        match bytes.as_deref().map(serde_json::from_slice::<Value>) {
            Some(Ok(mut policies)) if policies.is_object() => {
                place.entries = entries(&policies, look);
                if installed(&mut policies).is_none() {
                    let shown = place.place.shown();
                    place.hindrance = Some(Blocker {
                        why: format!(
                            "{shown} has something else where policies.Certificates.Install, a list of files, must be"
                        ),
                        remedy: format!("fix {shown}, then: sudo tamga trust add --scope machine"),
                        absent: false,
                    });
                }
            }
            None => {}
            Some(_) => {
                let shown = place.place.shown();
                place.hindrance = Some(Blocker {
                    why: format!("{shown} is not JSON with an object: Firefox takes nothing from it either"),
                    remedy: format!("repair {shown}, then: sudo tamga trust add --scope machine"),
                    absent: false,
                });
            }
        }
        if place.hindrance.is_none() && !look.has_rights() {
            place.hindrance = Some(super::needs_rights());
        }
        vec![place]
    }

    fn change(&self, goal: Goal, root: &Root, place: &StoreLocation, look: &dyn Look) -> Vec<Planned> {
        let before = look.read(&place.place);
        let mut policies = before.as_deref().and_then(|b| serde_json::from_slice::<Value>(b).ok()).unwrap_or(json!({}));
        let stands = place.entries.iter().any(|e| e.certificate == root.certificate);
        if place.hindrance.is_some() || stands == (goal == Goal::Add) {
            return Vec::new();
        }
        let own = Path::new(CERTIFICATES).join(format!("{}.pem", root.mark()));
        let write = |path: &Path, bytes| Step::Write { path: path.to_owned(), bytes, mode: 0o644 };
        let kept = kept(&place.place);
        match goal {
            Goal::Add => {
                let Some(list) = installed(&mut policies) else { return Vec::new() };
                list.push(json!(own));
                let text = format!("{policies:#}\n").into_bytes();
                let mut steps: Vec<Planned> = [CERTIFICATES.into(), parent(&place.place)]
                    .into_iter()
                    .map(|path| Planned::plain(Step::Folder { path, mode: 0o755 }))
                    .collect();
                let undo = vec![Step::Remove { path: own.clone() }];
                steps.push(Planned { step: write(&own, root.pem().into_bytes()), undo });
                // How the file was written before, so that it can be just so again.
                if let Some(before) = before.as_ref().filter(|_| !look.exists(&kept)) {
                    steps.push(Planned {
                        step: write(&kept, before.clone()),
                        undo: vec![Step::Remove { path: kept.clone() }],
                    });
                }
                let undo = before
                    .map_or_else(|| Step::Remove { path: place.place.clone() }, |bytes| write(&place.place, bytes));
                steps.push(Planned { step: write(&place.place, text), undo: vec![undo] });
                steps
            }
            Goal::Remove => remove(root, place, look, policies, before.unwrap_or_default()),
        }
    }
}

/// The entry out of the list, the certificate's file away, and the root out of the profiles into which the policy put it: taking the
/// policy back does not do that.
fn remove(root: &Root, place: &StoreLocation, look: &dyn Look, mut policies: Value, before: Vec<u8>) -> Vec<Planned> {
    let write = |path: &Path, bytes| Step::Write { path: path.to_owned(), bytes, mode: 0o644 };
    let mut gone = Vec::new();
    if let Some(list) = installed(&mut policies) {
        list.retain(|v| {
            let path = v.as_str().map(PathBuf::from).unwrap_or_default();
            let is_it = certificate(&path, look).is_some_and(|c| c == root.certificate);
            if is_it {
                gone.push(path);
            }
            !is_it
        });
    }
    tidy(&mut policies);
    let kept = kept(&place.place);
    let original = look.read(&kept);
    let same = original.as_deref().and_then(|b| serde_json::from_slice::<Value>(b).ok()).is_some_and(|v| v == policies);
    let mut steps = Vec::new();
    let undo = vec![write(&place.place, before)];
    let step = match (same, &original) {
        (true, Some(bytes)) => write(&place.place, bytes.clone()),
        (_, None) if policies.as_object().is_some_and(serde_json::Map::is_empty) => {
            Step::Remove { path: place.place.clone() }
        }
        _ => write(&place.place, format!("{policies:#}\n").into_bytes()),
    };
    steps.push(Planned { step, undo });
    if let Some(bytes) = original.filter(|_| same) {
        let undo = vec![write(&kept, bytes)];
        steps.push(Planned { step: Step::Remove { path: kept }, undo });
    }
    for path in gone.into_iter().filter(|p| p.starts_with(CERTIFICATES)) {
        let undo = vec![write(&path, root.pem().into_bytes())];
        steps.push(Planned { step: Step::Remove { path }, undo });
    }
    let library = firefox::library(look);
    for folder in firefox::profiles(look) {
        let seen = look.nss(&folder, &library).unwrap_or_default();
        let der = root.certificate.der().to_vec();
        // What the person put in by the store `firefox` has our mark and stays theirs.
        let by_policy = seen.entries.iter().filter_map(entry).any(|e| {
            e.certificate == root.certificate
                && !e.mark.as_deref().is_some_and(|m| super::is_mark_of(m, &root.certificate))
        });
        if by_policy {
            let action = NssAction::Remove { der };
            steps.push(Planned::plain(Step::Database(NssChange { folder, library: library.clone(), action })));
        }
    }
    steps
}

fn parent(file: &Path) -> PathBuf {
    file.parent().unwrap_or(Path::new("/")).to_owned()
}

fn kept(file: &Path) -> PathBuf {
    file.with_extension("json.before-tamga")
}

/// `policies.Certificates.Install`, made where it is missing; None where something else is in its way.
fn installed(policies: &mut Value) -> Option<&mut Vec<Value>> {
    let certificates = policies
        .as_object_mut()?
        .entry("policies")
        .or_insert_with(|| json!({}))
        .as_object_mut()?
        .entry("Certificates")
        .or_insert_with(|| json!({}));
    certificates.as_object_mut()?.entry("Install").or_insert_with(|| json!([])).as_array_mut()
}

/// Takes away what is empty and was perhaps made by us.
fn tidy(policies: &mut Value) {
    let empty = |v: Option<&Value>| match v {
        Some(Value::Array(a)) => a.is_empty(),
        Some(Value::Object(o)) => o.is_empty(),
        _ => false,
    };
    for path in [&["policies", "Certificates", "Install"][..], &["policies", "Certificates"], &["policies"]] {
        let (last, above) = path.split_last().unwrap_or((&"", &[]));
        let at = above.iter().try_fold(&mut *policies, |v, key| v.get_mut(*key));
        if let Some(map) = at.and_then(Value::as_object_mut)
            && empty(map.get(*last))
        {
            map.remove(*last);
        }
    }
}

fn certificate(path: &Path, look: &dyn Files) -> Option<Certificate> {
    let bytes = look.read(path)?;
    let der = pem::certificates(&bytes).into_iter().next().unwrap_or(bytes);
    Certificate::read(&der, "a certificate of the policy").ok()
}

fn entries(policies: &Value, look: &dyn Look) -> Vec<Entry> {
    let list = policies.pointer("/policies/Certificates/Install").and_then(Value::as_array);
    list.into_iter()
        .flatten()
        .filter_map(|v| {
            let path = Path::new(v.as_str()?);
            let certificate = certificate(path, look)?;
            let mark = path.file_stem().map(|s| s.to_string_lossy().into_owned());
            Some(Entry { certificate, mark, trusted: true, distrusted: false, flaw: None })
        })
        .collect()
}
