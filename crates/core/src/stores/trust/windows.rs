//! Windows' own stores: on Windows through the system's interface, from within WSL through the PowerShell of the Windows beside it.
//!
//! A change to the person's store of roots is shown to the person by Windows itself, in a dialog that no program can answer.

use super::{Blocker, Entry, Goal, Root, Scope, Store, StoreLocation};
use crate::pki::cert::Certificate;
use crate::plan::native::{NativeAction, NativeChange, NativeEntry, StoreName};
use crate::plan::ports::Commands;
use crate::plan::ports::Look;
use crate::plan::step::{Invocation, Planned, Step};
use crate::stores::StoreId;
use base64ct::{Base64, Encoding};
use std::path::PathBuf;

/// The stores `windows-user` and `windows-machine`.
pub struct Windows(pub Scope);

/// The PowerShell that is part of every Windows, as WSL sees it.
pub const POWERSHELL: &str = "powershell.exe";

impl Windows {
    fn name(&self, name: &str) -> StoreName {
        StoreName { machine: self.0 == Scope::Machine, name: name.to_owned() }
    }
}

/// What was seen of a store of roots, and whether we may change it.
struct Seen {
    roots: Vec<NativeEntry>,
    distrusted: Vec<Vec<u8>>,
    may_change: bool,
}

impl Store for Windows {
    fn id(&self) -> StoreId {
        if self.0 == Scope::Machine { StoreId::WindowsMachine } else { StoreId::WindowsUser }
    }

    fn scope(&self) -> Scope {
        self.0
    }

    fn survey(&self, look: &dyn Look, _: &[PathBuf]) -> Vec<StoreLocation> {
        let name = self.name("Root");
        let seen = match look.native(&name) {
            Some(roots) => roots.map(|roots| {
                let disallowed = look.native(&self.name("Disallowed")).and_then(Result::ok).unwrap_or_default();
                let may_change = self.0 == Scope::User || look.has_rights();
                Seen { roots, distrusted: disallowed.into_iter().map(|e| e.der).collect(), may_change }
            }),
            None if beside_windows(look) => through_powershell(&name, look),
            None => return Vec::new(),
        };
        let place = PathBuf::from(name.words());
        let mut place = StoreLocation { store: self.id(), place, hindrance: None, entries: Vec::new(), guarded: false };
        match seen {
            Ok(seen) => {
                place.entries = seen.roots.iter().filter_map(|e| entry(e, &seen.distrusted)).collect();
                if !seen.may_change && self.0 == Scope::Machine {
                    place.hindrance = Some(Blocker {
                        why: "it belongs to the machine: an administrator's rights are needed".into(),
                        remedy: "in a terminal opened with \"Run as administrator\": tamga trust add --scope machine"
                            .into(),
                        absent: false,
                    });
                }
            }
            Err(why) => {
                let remedy = "look at the store: certmgr.msc (the person's) or certlm.msc (the machine's)".into();
                place.hindrance = Some(Blocker { why, remedy, absent: false });
            }
        }
        vec![place]
    }

    fn change(&self, goal: Goal, root: &Root, place: &StoreLocation, look: &dyn Look) -> Vec<Planned> {
        let der = root.certificate.der().to_vec();
        let there = place.entries.iter().find(|e| e.certificate == root.certificate);
        let add = NativeAction::Add { der: der.clone(), friendly: root.mark() };
        let remove = NativeAction::Remove { der };
        let natively = look.native(&self.name("Root")).is_some();
        let step = |action: &NativeAction| match natively {
            true => Step::Native(NativeChange { store: self.name("Root"), action: action.clone() }),
            false => Step::Run(by_powershell(&self.name("Root"), action)),
        };
        match (goal, there) {
            // Distrust is in a list of its own, and it was put there on purpose.
            (Goal::Add, Some(e)) if e.trusted || e.distrusted => Vec::new(),
            (Goal::Add, _) => vec![Planned { step: step(&add), undo: vec![step(&remove)] }],
            (Goal::Remove, None) => Vec::new(),
            (Goal::Remove, Some(_)) => vec![Planned { step: step(&remove), undo: vec![step(&add)] }],
        }
    }
}

fn entry(e: &NativeEntry, distrusted: &[Vec<u8>]) -> Option<Entry> {
    let certificate = Certificate::read(&e.der, "a certificate of the store").ok()?;
    let distrusted = distrusted.contains(&e.der);
    Some(Entry { certificate, mark: e.friendly.clone(), trusted: !distrusted, distrusted, flaw: None })
}

/// True on a Linux that runs within Windows, with the way out open.
pub fn beside_windows(look: &dyn Look) -> bool {
    let release = look.read(std::path::Path::new("/proc/sys/kernel/osrelease")).unwrap_or_default();
    String::from_utf8_lossy(&release).to_ascii_lowercase().contains("microsoft") && look.program(POWERSHELL).is_some()
}

/// A script on standard input, in one line: what PowerShell reads there it runs line by line.
fn script(body: &str) -> Invocation {
    let whole = format!(
        "try {{ $ErrorActionPreference='Stop'; {body}; exit 0 }} catch {{ [Console]::Error.WriteLine($_.Exception.Message); exit 1 }}\n\n"
    );
    let mut i = Invocation::new(POWERSHELL, ["-NoProfile", "-NonInteractive", "-Command", "-"]).reading(whole);
    // Starting takes seconds, and a person stands before a dialog.
    i.limit_seconds = 300;
    i
}

/// PowerShell's words for opening a store.
fn opened(store: &StoreName, access: &str) -> String {
    let place = if store.machine { "LocalMachine" } else { "CurrentUser" };
    format!(
        "$s=New-Object System.Security.Cryptography.X509Certificates.X509Store('{}','{place}'); $s.Open('{access}')",
        store.name
    )
}

/// One line for each certificate: the word, the certificate, its friendly name; both in Base64, since a name may hold anything.
fn listed(store: &StoreName, word: &str) -> String {
    let each = format!(
        "foreach ($c in $s.Certificates) {{ [Console]::Out.WriteLine('{word} ' + [Convert]::ToBase64String($c.RawData) + ' ' + [Convert]::ToBase64String([Text.Encoding]::UTF8.GetBytes([string]$c.FriendlyName))) }}"
    );
    format!("{}; {each}; $s.Close()", opened(store, "ReadOnly"))
}

fn through_powershell(roots: &StoreName, look: &dyn Commands) -> Result<Seen, String> {
    let disallowed = StoreName { name: "Disallowed".into(), ..roots.clone() };
    let rights = "$p=New-Object Security.Principal.WindowsPrincipal([Security.Principal.WindowsIdentity]::GetCurrent()); [Console]::Out.WriteLine('rights ' + $p.IsInRole([Security.Principal.WindowsBuiltInRole]::Administrator))";
    let body = format!("{rights}; {}; {}", listed(roots, "root"), listed(&disallowed, "disallowed"));
    let output = look.ask(&script(&body), false).unwrap_or_else(|| Err(format!("{POWERSHELL} is not found")))?;
    read(&String::from_utf8_lossy(&output))
}

/// Reads what the script printed.
///
/// Errors: the line about rights is missing, so something else answered; a certificate is not Base64.
fn read(output: &str) -> Result<Seen, String> {
    let bad = |line: &str| format!("{POWERSHELL} answered something else: {}", crate::vocabulary::text::harmless(line));
    let mut lines = output.lines().map(str::trim).filter(|l| !l.is_empty());
    let first = lines.next().unwrap_or("nothing");
    let may_change = first.strip_prefix("rights ").ok_or_else(|| bad(first))?.eq_ignore_ascii_case("true");
    let mut seen = Seen { roots: Vec::new(), distrusted: Vec::new(), may_change };
    for line in lines {
        let words: Vec<&str> = line.split(' ').collect();
        let bytes = |at: usize| words.get(at).and_then(|w| Base64::decode_vec(w).ok());
        match (words[0], bytes(1)) {
            ("root", Some(der)) => {
                let friendly = bytes(2).and_then(|b| String::from_utf8(b).ok()).filter(|s| !s.is_empty());
                seen.roots.push(NativeEntry { der, friendly, has_key: false });
            }
            ("disallowed", Some(der)) => seen.distrusted.push(der),
            _ => return Err(bad(line)),
        }
    }
    Ok(seen)
}

/// One change through PowerShell. The certificate travels on standard input.
fn by_powershell(store: &StoreName, action: &NativeAction) -> Invocation {
    let made = |der: &[u8]| {
        format!(
            "$d=[Convert]::FromBase64String('{}'); $c=New-Object System.Security.Cryptography.X509Certificates.X509Certificate2(,$d)",
            Base64::encode_string(der)
        )
    };
    let open = opened(store, "ReadWrite");
    match action {
        // A mark is made of label letters and hex digits: nothing in it ends the quotes.
        NativeAction::Add { der, friendly } | NativeAction::AddIdentity { der, friendly, .. } => {
            script(&format!("{}; $c.FriendlyName='{friendly}'; {open}; $s.Add($c); $s.Close()", made(der)))
        }
        NativeAction::Remove { der } => script(&format!("{}; {open}; $s.Remove($c); $s.Close()", made(der))),
    }
}
