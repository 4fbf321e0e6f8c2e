//! What holds an identity: an NSS database, a keychain of macOS, the personal store of Windows; and how each gets it.

use super::{Identity, IdentityStore};
use crate::error::Result;
use crate::pki::cert::Certificate;
use crate::pki::format::{pem, pkcs12, private_key};
use crate::pki::key::PrivateKey;
use crate::plan::native::{NativeAction, NativeChange, NativeEntry, StoreName};
use crate::plan::nss::{Library, NssAction, NssChange, NssEntry, Secret, USER};
use crate::plan::ports::{Commands, Entropy, Look};
use crate::plan::step::{FILE, Invocation, Planned, Step};
use crate::stores::StoreId;
use crate::stores::trust::macos::{SECURITY, fingerprint, user_keychain};
use crate::vocabulary::secret::Passphrase;
use crate::vocabulary::text::Shown;
use zeroize::Zeroizing;

/// The kind of a place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Holder {
    /// An NSS database, opened with this library.
    Nss(Library),
    /// A keychain of macOS.
    Keychain,
    /// The personal store of Windows; the machine's is the one from which servers take theirs.
    Windows {
        /// The machine's.
        machine: bool,
    },
}

/// What an identity is taken in with.
pub struct Parts<'a> {
    /// Its private key.
    pub key: &'a PrivateKey,
    /// For the passphrase of a container that lives only for one step.
    pub entropy: &'a dyn Entropy,
    /// An account that may read the key too, where the place has such rights.
    pub account: Option<String>,
}

/// The login keychain and Windows' personal stores, where they are.
pub(super) fn native_places(look: &dyn Look) -> Vec<IdentityStore> {
    let mut out = Vec::new();
    let keychain = user_keychain(look);
    if look.program(SECURITY).is_some() && look.exists(&keychain) {
        let mut place = IdentityStore {
            store: StoreId::MacosUser,
            folder: keychain,
            holder: Holder::Keychain,
            hindrance: None,
            entries: Vec::new(),
            guarded: false,
        };
        match keychain_entries(look, &place.folder.shown()) {
            Ok(entries) => place.entries = entries,
            Err(why) => {
                let remedy = "open the keychain in Keychain Access, then run the same command again".into();
                place.hindrance = Some(crate::stores::trust::Blocker { why, remedy, absent: false });
            }
        }
        out.push(place);
    }
    for (store, machine) in [(StoreId::WindowsUser, false), (StoreId::WindowsMachine, true)] {
        let name = personal(machine, "My");
        let Some(listed) = look.native(&name) else { continue };
        let mut place = IdentityStore {
            store,
            folder: name.words().into(),
            holder: Holder::Windows { machine },
            hindrance: None,
            entries: Vec::new(),
            guarded: false,
        };
        match listed {
            Ok(entries) => {
                let issuers = look.native(&personal(machine, "CA")).and_then(Result::ok).unwrap_or_default();
                place.entries = entries.into_iter().chain(issuers).map(of_native).collect();
                if machine && !look.has_rights() {
                    place.hindrance = Some(crate::stores::trust::Blocker {
                        why: "it belongs to the machine: an administrator's rights are needed".into(),
                        remedy: "the same command in a terminal opened with \"Run as administrator\"".into(),
                        absent: false,
                    });
                }
            }
            Err(why) => {
                let remedy = "look at the store: certmgr.msc (the person's) or certlm.msc (the machine's)".into();
                place.hindrance = Some(crate::stores::trust::Blocker { why, remedy, absent: false });
            }
        }
        out.push(place);
    }
    out
}

fn personal(machine: bool, name: &str) -> StoreName {
    StoreName { machine, name: name.to_owned() }
}

fn of_native(e: NativeEntry) -> NssEntry {
    NssEntry { der: e.der, nickname: e.friendly.unwrap_or_default(), ssl: if e.has_key { USER } else { 0 } }
}

/// Certificates of a keychain, and which of them have their key: `find-identity` names these by SHA-1.
fn keychain_entries(look: &dyn Commands, keychain: &str) -> Result<Vec<NssEntry>, String> {
    let ask = |words: &[&str]| {
        let i = Invocation::new(SECURITY, words.iter().copied());
        look.ask(&i, false).unwrap_or_else(|| Err(format!("{SECURITY} is missing")))
    };
    let certificates = ask(&["find-certificate", "-a", "-p", keychain])?;
    let identities = String::from_utf8_lossy(&ask(&["find-identity", keychain])?).into_owned();
    let with_key: Vec<&str> = identities
        .lines()
        .filter_map(|l| l.trim().split_once(") "))
        .filter_map(|(n, rest)| n.parse::<u32>().ok().and_then(|_| rest.split(' ').next()))
        .collect();
    let mut out = Vec::new();
    for der in pem::certificates(&certificates) {
        let Ok(c) = Certificate::read(&der, "a certificate of the keychain") else { continue };
        let ssl = if with_key.contains(&fingerprint(&c).as_str()) { USER } else { 0 };
        out.push(NssEntry { der, nickname: String::new(), ssl });
    }
    Ok(out)
}

impl IdentityStore {
    fn nss(&self, library: &Library, action: NssAction) -> Step {
        Step::Database(NssChange { folder: self.folder.clone(), library: library.clone(), action })
    }

    fn keychain(&self, words: &[&str]) -> Invocation {
        let keychain = self.folder.shown();
        Invocation::new(SECURITY, words.iter().map(|w| (*w).to_owned()).chain([keychain]))
    }

    /// The step that brings certificate and key in.
    pub(super) fn take_in(&self, identity: &Identity, leaf: &Certificate, parts: &Parts<'_>) -> Result<Planned> {
        let der = leaf.der().to_vec();
        let undo = vec![self.take_out(leaf)];
        let step = match &self.holder {
            Holder::Nss(library) => {
                let (nickname, public) = (identity.mark(), leaf.key.bits());
                let pkcs8 = Secret(private_key::pkcs8(parts.key)?);
                self.nss(library, NssAction::AddIdentity { der, nickname, pkcs8, public })
            }
            Holder::Keychain => {
                // The older protection: keychains open nothing newer before macOS 15.
                let (file, passphrase) = container(identity, &der, parts, true)?;
                // As a command on standard input: an argument could be read by everybody on the machine.
                let words = String::from_utf8_lossy(&passphrase);
                let line = Zeroizing::new(format!(
                    "import \"{FILE}\" -k \"{}\" -f pkcs12 -P \"{}\"\n",
                    self.folder.shown(),
                    &*words
                ));
                Step::Run(Invocation::new(SECURITY, ["-i"]).reading(line.as_bytes()).with_file(file.to_vec()))
            }
            Holder::Windows { machine } => {
                let (file, passphrase) = container(identity, &der, parts, false)?;
                Step::Native(NativeChange {
                    store: personal(*machine, "My"),
                    action: NativeAction::AddIdentity {
                        der,
                        friendly: identity.mark(),
                        pkcs12: Secret(file),
                        passphrase: Secret(passphrase),
                        account: parts.account.clone(),
                    },
                })
            }
        };
        Ok(Planned { step, undo })
    }

    /// The step that takes a certificate with its key out.
    pub(super) fn take_out(&self, leaf: &Certificate) -> Step {
        let der = leaf.der().to_vec();
        match &self.holder {
            Holder::Nss(library) => self.nss(library, NssAction::RemoveIdentity { der }),
            Holder::Keychain => Step::Run(self.keychain(&["delete-identity", "-Z", &fingerprint(leaf)])),
            Holder::Windows { machine } => {
                Step::Native(NativeChange { store: personal(*machine, "My"), action: NativeAction::Remove { der } })
            }
        }
    }

    /// The step that takes a certificate out that stands there without its key.
    pub(super) fn take_out_bare(&self, leaf: &Certificate) -> Step {
        match &self.holder {
            Holder::Keychain => self.take_out_issuer(leaf.der()),
            Holder::Nss(_) | Holder::Windows { .. } => self.take_out(leaf),
        }
    }

    /// The step that brings an intermediate in.
    pub(super) fn take_in_issuer(&self, identity: &Identity, c: &Certificate) -> Planned {
        let (der, name) = (c.der().to_vec(), format!("{} issuer", identity.mark()));
        let step = match &self.holder {
            Holder::Nss(library) => self.nss(library, NssAction::AddPlain { der, nickname: name }),
            Holder::Keychain => {
                let file = pem::write(pem::CERTIFICATE, c.der()).as_bytes().to_vec();
                Step::Run(self.keychain(&["add-certificates", "-k"]).with_file(file))
            }
            Holder::Windows { machine } => Step::Native(NativeChange {
                store: personal(*machine, "CA"),
                action: NativeAction::Add { der, friendly: name },
            }),
        };
        Planned { step, undo: vec![self.take_out_issuer(c.der())] }
    }

    /// The step that takes an intermediate out.
    pub(super) fn take_out_issuer(&self, der: &[u8]) -> Step {
        match &self.holder {
            Holder::Nss(library) => self.nss(library, NssAction::Remove { der: der.to_vec() }),
            Holder::Keychain => {
                let hash = Certificate::read(der, "an intermediate").map(|c| fingerprint(&c)).unwrap_or_default();
                Step::Run(self.keychain(&["delete-certificate", "-Z", &hash]))
            }
            Holder::Windows { machine } => Step::Native(NativeChange {
                store: personal(*machine, "CA"),
                action: NativeAction::Remove { der: der.to_vec() },
            }),
        }
    }
}

/// Bytes that are wiped when dropped.
type Bytes = Zeroizing<Vec<u8>>;

/// A PKCS#12 file and what opens it: 32 hex digits that nobody ever sees.
fn container(identity: &Identity, leaf: &[u8], parts: &Parts<'_>, legacy: bool) -> Result<(Bytes, Bytes)> {
    let mut bytes = Zeroizing::new([0; 16]);
    parts.entropy.fill(&mut *bytes);
    let words = Zeroizing::new(crate::vocabulary::text::hex(&*bytes).into_bytes());
    let passphrase = Passphrase::new(words.clone());
    let chain = [leaf.to_vec()];
    Ok((pkcs12::write_identity(&identity.mark(), parts.key, &chain, &passphrase, legacy, parts.entropy)?, words))
}
