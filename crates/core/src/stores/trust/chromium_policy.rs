//! Chromium's managed policies: a root for everybody on the machine, in a file of our own.
//!
//! Of several files that set the same policy Chromium takes the last by name and merges nothing (measured with 156): so another file
//! with that setting is respected, and said.

use super::{Blocker, Entry, Goal, Root, Scope, Store, StoreLocation};
use crate::pki::cert::Certificate;
use crate::pki::cert::extensions::GeneralName;
use crate::plan::ports::Look;
use crate::plan::step::{Planned, Step};
use crate::stores::StoreId;
use crate::vocabulary::text::Shown;
use base64ct::{Base64, Encoding};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};

/// The store `chromium-policy`.
pub struct ChromiumPolicy;

/// Where each browser looks, and the programs that tell that it is installed.
const PLACES: [(&str, &[&str]); 4] = [
    ("/etc/chromium/policies/managed", &["chromium", "chromium-browser"]),
    ("/etc/opt/chrome/policies/managed", &["google-chrome", "google-chrome-stable"]),
    ("/etc/opt/edge/policies/managed", &["microsoft-edge", "microsoft-edge-stable"]),
    ("/etc/brave/policies/managed", &["brave-browser"]),
];
/// Our file.
const FILE: &str = "tamga-roots.json";
/// Roots that are trusted for everything.
const PLAIN: &str = "CACertificates";
/// Roots with limits: a root's own are carried over, so that a policy never trusts it further.
const LIMITED: &str = "CACertificatesWithConstraints";
/// What is trusted by nobody, whatever else is said.
const DISTRUSTED: &str = "CADistrustedCertificates";

impl Store for ChromiumPolicy {
    fn id(&self) -> StoreId {
        StoreId::ChromiumPolicy
    }

    fn scope(&self) -> Scope {
        Scope::Machine
    }

    fn survey(&self, look: &dyn Look, _: &[PathBuf]) -> Vec<StoreLocation> {
        PLACES
            .iter()
            .filter(|(folder, programs)| {
                programs.iter().any(|p| look.program(p).is_some()) || look.exists(&Path::new(folder).join(FILE))
            })
            .map(|(folder, _)| place(self.id(), Path::new(folder), look))
            .collect()
    }

    fn change(&self, goal: Goal, root: &Root, place: &StoreLocation, look: &dyn Look) -> Vec<Planned> {
        let path = place.place.join(FILE);
        let before = look.read(&path);
        let mut policy = before.as_deref().and_then(object).unwrap_or_else(|| json!({}));
        let der = Base64::encode_string(root.certificate.der());
        let stands = take_out(&mut policy, &der);
        match goal {
            Goal::Add if stands => return Vec::new(),
            Goal::Remove if !stands => return Vec::new(),
            Goal::Add => put_in(&mut policy, &root.certificate, der),
            Goal::Remove => {}
        }
        let write = |bytes| Step::Write { path: path.clone(), bytes, mode: 0o644 };
        let undo = vec![before.map_or_else(|| Step::Remove { path: path.clone() }, write)];
        if policy.as_object().is_some_and(serde_json::Map::is_empty) {
            return vec![Planned { step: Step::Remove { path: path.clone() }, undo }];
        }
        let text = format!("{:#}\n", policy);
        let mut steps = vec![Planned::plain(Step::Folder { path: place.place.clone(), mode: 0o755 })];
        steps.push(Planned { step: write(text.into_bytes()), undo });
        steps
    }
}

fn place(store: StoreId, folder: &Path, look: &dyn Look) -> StoreLocation {
    let mut place =
        StoreLocation { store, place: folder.to_owned(), hindrance: None, entries: Vec::new(), guarded: false };
    let names: Vec<String> = look.list(folder).into_iter().filter(|n| n.ends_with(".json")).collect();
    let (mut distrusted, mut winner) = (Vec::new(), None);
    for name in &names {
        let Some(policy) = look.read(&folder.join(name)).as_deref().and_then(object) else {
            if name == FILE {
                place.hindrance = Some(Blocker {
                    why: format!("{} is not JSON", folder.join(name).shown()),
                    remedy: format!("look at it, then: sudo rm {}", folder.join(name).shown()),
                    absent: false,
                });
            }
            continue;
        };
        distrusted.extend(list(&policy, DISTRUSTED));
        if policy.get(LIMITED).is_some() || policy.get(PLAIN).is_some() {
            winner = Some(name.clone());
        }
        for der in list(&policy, LIMITED).into_iter().chain(list(&policy, PLAIN)) {
            if let Ok(certificate) = Certificate::read(&der, name) {
                let mark = (name == FILE).then(|| format!("tamga-roots-{}", certificate.sha256().short()));
                place.entries.push(Entry { certificate, mark, trusted: true, distrusted: false, flaw: None });
            }
        }
    }
    for e in &mut place.entries {
        e.distrusted = distrusted.iter().any(|d| d == e.certificate.der());
    }
    // Ours counts only if no later file has the same setting.
    if let Some(other) = winner.filter(|w| w != FILE)
        && place.hindrance.is_none()
    {
        for e in place.entries.iter_mut().filter(|e| e.mark.is_some()) {
            e.trusted = false;
        }
        place.hindrance = Some(Blocker {
            why: format!("{other} sets roots by policy too, and Chromium takes one file's alone"),
            remedy: format!("the owner of {} must add the root there", folder.join(other).shown()),
            absent: false,
        });
    }
    if place.hindrance.is_none() && !look.has_rights() {
        place.hindrance = Some(super::needs_rights());
    }
    place
}

fn object(bytes: &[u8]) -> Option<Value> {
    serde_json::from_slice::<Value>(bytes).ok().filter(Value::is_object)
}

/// The certificates of a policy, DER: a list of base64, or of objects with it.
fn list(policy: &Value, name: &str) -> Vec<Vec<u8>> {
    let text =
        |v: &Value| v.as_str().or_else(|| v.get("certificate")?.as_str()).and_then(|t| Base64::decode_vec(t).ok());
    policy.get(name).and_then(Value::as_array).map(|all| all.iter().filter_map(text).collect()).unwrap_or_default()
}

/// Takes a certificate out of both lists, and lists that are empty then out of the policy. True if it stood in one.
fn take_out(policy: &mut Value, der: &str) -> bool {
    let mut stood = false;
    for name in [PLAIN, LIMITED] {
        let Some(all) = policy.get_mut(name).and_then(Value::as_array_mut) else { continue };
        let before = all.len();
        all.retain(|v| v.as_str() != Some(der) && v.get("certificate").and_then(Value::as_str) != Some(der));
        stood |= all.len() < before;
        if all.is_empty()
            && let Some(map) = policy.as_object_mut()
        {
            map.remove(name);
        }
    }
    stood
}

fn put_in(policy: &mut Value, root: &Certificate, der: String) {
    let limits = limits(root);
    let (name, entry) = match limits {
        Some(limits) => (LIMITED, json!({"certificate": der, "constraints": limits})),
        None => (PLAIN, json!(der)),
    };
    if let Some(map) = policy.as_object_mut() {
        let list = map.entry(name).or_insert_with(|| json!([]));
        if let Some(list) = list.as_array_mut() {
            list.push(entry);
        }
    }
}

/// A root's own limits in the policy's words; None for a root without any: there an empty object would make the entry void.
fn limits(root: &Certificate) -> Option<Value> {
    let permitted = &root.constraints.as_ref()?.permitted;
    let names: Vec<&str> = permitted
        .iter()
        .filter_map(|g| match g {
            GeneralName::Dns(d) => Some(d.trim_start_matches('.')),
            _ => None,
        })
        .collect();
    let blocks: Vec<String> = permitted
        .iter()
        .filter_map(|g| match g {
            GeneralName::Ip(octets) => block(octets),
            _ => None,
        })
        .collect();
    let mut out = serde_json::Map::new();
    if !names.is_empty() {
        out.insert("permitted_dns_names".into(), json!(names));
    }
    if !blocks.is_empty() {
        out.insert("permitted_cidrs".into(), json!(blocks));
    }
    (!out.is_empty()).then_some(Value::Object(out))
}

/// Address and mask as a CIDR block.
fn block(octets: &[u8]) -> Option<String> {
    let (address, mask) = octets.split_at_checked(octets.len() / 2)?;
    let bits: u32 = mask.iter().map(|b| b.count_ones()).sum();
    match address.len() {
        4 => Some(format!("{}/{bits}", std::net::Ipv4Addr::from(<[u8; 4]>::try_from(address).ok()?))),
        16 => Some(format!("{}/{bits}", std::net::Ipv6Addr::from(<[u8; 16]>::try_from(address).ok()?))),
        _ => None,
    }
}
