//! The keychains of macOS, through the system's own `security` command: only it may change what the system trusts.
//!
//! A root counts if it is in a keychain *and* has trust settings that say so: each of the two alone is nothing. The system
//! asks the person in a dialog of its own before it changes the settings.

use super::{Blocker, Entry, Goal, Root, Scope, Store, StoreLocation, label_in_name, label_of_mark};
use crate::pki::cert::Certificate;
use crate::pki::format::pem;
use crate::plan::ports::Commands;
use crate::plan::ports::Environment;
use crate::plan::ports::Look;
use crate::plan::step::{Invocation, Planned, Step};
use crate::stores::StoreId;
use crate::vocabulary::text::Shown;
use std::collections::BTreeMap;
use std::path::PathBuf;

/// The stores `macos-user` and `macos-machine`.
pub struct Macos(pub Scope);

/// The system's command.
pub const SECURITY: &str = "/usr/bin/security";
/// The machine's keychain.
pub const MACHINE_KEYCHAIN: &str = "/Library/Keychains/System.keychain";

impl Macos {
    fn keychain(&self, look: &dyn Look) -> PathBuf {
        match self.0 {
            Scope::Machine => MACHINE_KEYCHAIN.into(),
            Scope::User => user_keychain(look),
        }
    }

    /// `-d` means the settings of the administrators' domain, which hold for everybody.
    fn domain(&self) -> &'static [&'static str] {
        if self.0 == Scope::Machine { &["-d"] } else { &[] }
    }

    fn run(&self, words: &[&str], rest: &[String], file: Option<&Certificate>) -> Step {
        let arguments = words[..1].iter().chain(self.domain()).chain(&words[1..]).map(|w| (*w).to_owned());
        let mut i = Invocation::new(SECURITY, arguments.chain(rest.iter().cloned()));
        // A person stands before a dialog.
        i.limit_seconds = 300;
        i.raised = self.0 == Scope::Machine;
        i.file = file.map(|c| pem::write(pem::CERTIFICATE, c.der()).as_bytes().to_vec());
        Step::Run(i)
    }

    fn delete(&self, certificate: &Certificate, keychain: &str) -> Step {
        let arguments = ["delete-certificate", "-Z", &fingerprint(certificate), keychain];
        Step::Run(Invocation { raised: self.0 == Scope::Machine, ..Invocation::new(SECURITY, arguments) })
    }

    fn add(&self, certificate: &Certificate, keychain: &str) -> Step {
        let words = ["add-trusted-cert", "-r", "trustRoot", "-p", "ssl", "-p", "basic", "-k"];
        self.run(&words, &[keychain.to_owned()], Some(certificate))
    }
}

/// The keychain that a person's login opens.
pub fn user_keychain(look: &dyn Environment) -> PathBuf {
    look.home().join("Library/Keychains/login.keychain-db")
}

impl Store for Macos {
    fn id(&self) -> StoreId {
        if self.0 == Scope::Machine { StoreId::MacosMachine } else { StoreId::MacosUser }
    }

    fn scope(&self) -> Scope {
        self.0
    }

    fn survey(&self, look: &dyn Look, _: &[PathBuf]) -> Vec<StoreLocation> {
        let keychain = self.keychain(look);
        if look.program(SECURITY).is_none() || !look.exists(&keychain) {
            return Vec::new();
        }
        let mut place =
            StoreLocation { store: self.id(), place: keychain, hindrance: None, entries: Vec::new(), guarded: false };
        match seen(self, look, &place.place.shown()) {
            Ok(entries) => place.entries = entries,
            Err(why) => {
                let remedy = "open the keychain in Keychain Access, then run the same command again".into();
                place.hindrance = Some(Blocker { why, remedy, absent: false });
            }
        }
        if self.0 == Scope::Machine && place.hindrance.is_none() && !look.has_rights() {
            place.hindrance = Some(super::needs_rights());
        }
        vec![place]
    }

    fn change(&self, goal: Goal, root: &Root, place: &StoreLocation, _: &dyn Look) -> Vec<Planned> {
        let c = &root.certificate;
        let keychain = place.place.shown();
        let there: Vec<&Entry> = place.entries.iter().filter(|e| e.certificate == *c).collect();
        let set = there.iter().any(|e| e.trusted || e.distrusted);
        let forget = || self.run(&["remove-trusted-cert"], &[], Some(c));
        match goal {
            Goal::Add if there.iter().any(|e| e.trusted && !e.distrusted) => Vec::new(),
            Goal::Add => {
                let mut steps = Vec::new();
                if there.is_empty() {
                    // By itself first: a person who then says no to the dialog leaves a certificate, which is taken out again.
                    let words = ["add-certificates", "-k", &keychain];
                    let file = pem::write(pem::CERTIFICATE, c.der()).as_bytes().to_vec();
                    let add = Invocation::new(SECURITY, words).with_file(file);
                    let step = Step::Run(Invocation { raised: self.0 == Scope::Machine, ..add });
                    steps.push(Planned { step, undo: vec![self.delete(c, &keychain)] });
                }
                steps.push(Planned { step: self.add(c, &keychain), undo: vec![forget()] });
                steps
            }
            Goal::Remove if there.is_empty() => Vec::new(),
            Goal::Remove => {
                let mut steps = Vec::new();
                if set {
                    // Settings first: without the certificate the command can no longer name them.
                    steps.push(Planned { step: forget(), undo: vec![self.add(c, &keychain)] });
                }
                steps.push(Planned::plain(self.delete(c, &keychain)));
                steps
            }
        }
    }
}

/// The keychain's certificates, each with what the settings of the domain say about it.
fn seen(store: &Macos, look: &dyn Commands, keychain: &str) -> Result<Vec<Entry>, String> {
    let list = Invocation::new(SECURITY, ["find-certificate", "-a", "-p", keychain]);
    let output = look.ask(&list, false).unwrap_or_else(|| Err(format!("{SECURITY} is missing")))?;
    let export = ["trust-settings-export"].iter().chain(store.domain()).map(|w| (*w).to_owned());
    let settings = match look.ask(&Invocation::new(SECURITY, export), true) {
        Some(Ok(file)) => settings(&file)?,
        // So it says where there are none yet.
        Some(Err(why)) if why.contains("No Trust Settings were found") => BTreeMap::new(),
        Some(Err(why)) => return Err(format!("the trust settings cannot be read: {why}")),
        None => BTreeMap::new(),
    };
    let mut out = Vec::new();
    for der in pem::certificates(&output) {
        let Ok(certificate) = Certificate::read(&der, "a certificate of the keychain") else { continue };
        let set = settings.get(&fingerprint(&certificate)).copied();
        let flaw = set.is_none().then(|| "it is in the keychain, but no trust settings trust it".into());
        out.push(Entry {
            mark: mark(&certificate),
            trusted: set == Some(Said::Root),
            distrusted: set == Some(Said::Deny),
            flaw: flaw.filter(|_| certificate.is_ca()),
            certificate,
        });
    }
    Ok(out)
}

/// A keychain keeps no name of ours: a root of Tamga's is known by the common name that it was given.
fn mark(c: &Certificate) -> Option<String> {
    let mark = format!("tamga-{}-{}", label_in_name(c)?, c.sha256().short());
    label_of_mark(&mark, c).is_some().then_some(mark)
}

/// As the command writes it: SHA-1, upper-case hex. It is a name here, not a proof.
pub(crate) fn fingerprint(c: &Certificate) -> String {
    c.sha1().to_ascii_uppercase()
}

/// What trust settings say about a certificate for servers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Said {
    Root,
    Deny,
    Nothing,
}

/// Reads exported trust settings: a property list of SHA-1 → settings (`SecTrustSettings.h`). No settings at all mean "a root for
/// everything"; a setting without a result means "a root"; one for another policy than SSL or basic X.509 says nothing here.
fn settings(file: &[u8]) -> Result<BTreeMap<String, Said>, String> {
    let bad = |why: &str| format!("the exported trust settings are not as expected: {why}");
    let value = plist::Value::from_reader(std::io::Cursor::new(file)).map_err(|e| bad(&e.to_string()))?;
    let list = value.as_dictionary().and_then(|d| d.get("trustList")).and_then(plist::Value::as_dictionary);
    let list = list.ok_or_else(|| bad("no trustList"))?;
    let mut out = BTreeMap::new();
    for (sha1, of) in list {
        let rows = of.as_dictionary().and_then(|d| d.get("trustSettings")).and_then(plist::Value::as_array);
        let said = match rows {
            None => Said::Root,
            Some(rows) if rows.is_empty() => Said::Root,
            Some(rows) => {
                let all: Vec<Said> = rows.iter().filter_map(plist::Value::as_dictionary).map(row).collect();
                match () {
                    () if all.contains(&Said::Deny) => Said::Deny,
                    () if all.contains(&Said::Root) => Said::Root,
                    () => Said::Nothing,
                }
            }
        };
        out.insert(sha1.to_ascii_uppercase(), said);
    }
    Ok(out)
}

fn row(row: &plist::Dictionary) -> Said {
    let policy = row.get("kSecTrustSettingsPolicyName").and_then(plist::Value::as_string);
    if !matches!(policy, None | Some("sslServer" | "basicX509")) {
        return Said::Nothing;
    }
    match row.get("kSecTrustSettingsResult").map(plist::Value::as_signed_integer) {
        // kSecTrustSettingsResultTrustRoot, …TrustAsRoot; …Deny.
        None | Some(Some(1 | 2)) => Said::Root,
        Some(Some(3)) => Said::Deny,
        _ => Said::Nothing,
    }
}
