//! The system's command of macOS and the stores of Windows, in memory. Arguments are taken strictly: what the real one would
//! refuse is refused here.

use super::Machine;
use sha1::{Digest, Sha1};
use std::path::{Path, PathBuf};
use tamga_core::form::pem;
use tamga_core::native::{NativeAction, NativeChange, NativeEntry, StoreName};
use tamga_core::nss::{NssEntry, USER};
use tamga_core::step::Invocation;

/// Where a domain's trust settings are kept in the machine in memory.
pub fn domain(admin: bool) -> PathBuf {
    Path::new("/trust-settings").join(if admin { "admin" } else { "user" })
}

fn sha1(der: &[u8]) -> String {
    Sha1::digest(der).iter().map(|b| format!("{b:02X}")).collect()
}

/// What `security` prints, or writes to the file that it is given.
pub fn security(m: &Machine, i: &Invocation, to_file: bool) -> Result<Vec<u8>, String> {
    let words: Vec<&str> = i.arguments.iter().map(String::as_str).collect();
    let admin = words.get(1) == Some(&"-d");
    let rest: Vec<&str> = words.iter().skip(1).copied().filter(|w| *w != "-d").collect();
    let mut all = m.databases.borrow_mut();
    let file = i.file.as_deref().map(|f| pem::certificates(f).remove(0));
    match (words[0], rest.as_slice(), file) {
        ("find-certificate", ["-a", "-p", keychain], None) if !to_file => {
            let found = all.get(Path::new(keychain)).ok_or("The specified keychain could not be found.")?;
            Ok(found.iter().flat_map(|e| pem::write(pem::CERTIFICATE, &e.der).as_bytes().to_vec()).collect())
        }
        ("trust-settings-export", [], None) if to_file => {
            let found = all.get(&domain(admin)).filter(|f| !f.is_empty());
            let found = found.ok_or("SecTrustSettingsCreateExternalRepresentation: No Trust Settings were found.")?;
            Ok(export(found))
        }
        ("add-trusted-cert", ["-r", "trustRoot", "-p", "ssl", "-p", "basic", "-k", keychain], Some(der)) => {
            let entry = NssEntry { der: der.clone(), nickname: String::new(), ssl: 1 };
            for place in [PathBuf::from(keychain), domain(admin)] {
                let entries = all.entry(place).or_default();
                if !entries.iter().any(|e| e.der == der) {
                    entries.push(entry.clone());
                }
            }
            Ok(Vec::new())
        }
        ("add-certificates", ["-k", keychain], Some(der)) => {
            let entries = all.get_mut(Path::new(keychain)).ok_or("The specified keychain could not be found.")?;
            if entries.iter().any(|e| e.der == der) {
                return Err("The specified item already exists in the keychain.".into());
            }
            entries.push(NssEntry { der, nickname: String::new(), ssl: 1 });
            Ok(Vec::new())
        }
        ("remove-trusted-cert", [], Some(der)) => {
            let entries = all.get_mut(&domain(admin)).ok_or("no settings")?;
            let before = entries.len();
            entries.retain(|e| e.der != der);
            if entries.len() == before { Err("The specified item could not be found.".into()) } else { Ok(Vec::new()) }
        }
        ("delete-certificate", ["-Z", hash, keychain], None) => {
            let entries = all.get_mut(Path::new(keychain)).ok_or("no keychain")?;
            let before = entries.len();
            entries.retain(|e| sha1(&e.der) != *hash);
            if entries.len() == before { Err("Unable to delete certificate".into()) } else { Ok(Vec::new()) }
        }
        _ => Err(format!("Usage: {words:?}")),
    }
}

/// The property list of exported settings; a result of 0 stands for "none given".
pub fn export(entries: &[NssEntry]) -> Vec<u8> {
    let rows: String = entries
        .iter()
        .map(|e| {
            format!(
                "<key>{}</key><dict><key>modDate</key><date>2026-11-25T10:00:00Z</date><key>trustSettings</key><array>\
                 <dict><key>kSecTrustSettingsPolicyName</key><string>sslServer</string>{}</dict></array></dict>",
                sha1(&e.der),
                if e.ssl == 0 {
                    String::new()
                } else {
                    format!("<key>kSecTrustSettingsResult</key><integer>{}</integer>", e.ssl)
                }
            )
        })
        .collect();
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\"><dict><key>trustList</key><dict>{rows}</dict>\
         <key>trustVersion</key><integer>1</integer></dict></plist>\n"
    )
    .into_bytes()
}

fn place(store: &StoreName) -> PathBuf {
    Path::new("/native").join(store.words())
}

/// The certificates of one of Windows' stores; None where the machine is no Windows.
pub fn list(m: &Machine, store: &StoreName) -> Option<Result<Vec<NativeEntry>, String>> {
    let all = m.databases.borrow();
    if !all.keys().any(|k| k.starts_with("/native")) {
        return None;
    }
    let entries = all.get(&place(store)).map(Vec::as_slice).unwrap_or_default();
    let of = |e: &NssEntry| NativeEntry {
        der: e.der.clone(),
        friendly: Some(e.nickname.clone()).filter(|n| !n.is_empty()),
        has_key: e.has_key(),
    };
    Some(Ok(entries.iter().map(of).collect()))
}

/// Changes one of Windows' stores.
pub fn change(m: &Machine, change: &NativeChange) {
    let mut all = m.databases.borrow_mut();
    let entries = all.entry(place(&change.store)).or_default();
    let (der, added) = match &change.action {
        NativeAction::Add { der, friendly } => (der, Some((friendly, 0))),
        NativeAction::AddIdentity { der, friendly, .. } => (der, Some((friendly, USER))),
        NativeAction::Remove { der } => (der, None),
    };
    entries.retain(|e| e.der != *der);
    if let Some((friendly, ssl)) = added {
        entries.push(NssEntry { der: der.clone(), nickname: friendly.clone(), ssl });
    }
}
