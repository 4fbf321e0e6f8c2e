//! The system's command of macOS and the stores of Windows, in memory. Arguments are taken strictly: what the real one would
//! refuse is refused here.

use super::Machine;
use sha1::{Digest, Sha1};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use tamga_core::pki::format::{pem, pkcs12};
use tamga_core::plan::native::{NativeAction, NativeChange, NativeEntry, StoreName};
use tamga_core::plan::nss::{NssEntry, USER};
use tamga_core::plan::step::{FILE, Invocation};
use tamga_core::vocabulary::secret::Passphrase;
use zeroize::Zeroizing;

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
    if words == ["-i"] {
        return import(&mut all, &String::from_utf8_lossy(&i.input), i.file.as_deref().unwrap());
    }
    let file = i.file.as_deref().map(|f| pem::certificates(f).remove(0));
    match (words[0], rest.as_slice(), file) {
        ("find-certificate", ["-a", "-p", keychain], None) if !to_file => {
            let found = all.get(Path::new(keychain)).ok_or("The specified keychain could not be found.")?;
            Ok(found.iter().flat_map(|e| pem::write(pem::CERTIFICATE, &e.der).as_bytes().to_vec()).collect())
        }
        ("find-identity", [keychain], None) if !to_file => {
            let found = all.get(Path::new(keychain)).ok_or("The specified keychain could not be found.")?;
            let lines: String = found
                .iter()
                .filter(|e| e.has_key())
                .enumerate()
                .map(|(n, e)| format!("  {}) {} \"a name with 3) in it\"\n", n + 1, sha1(&e.der)))
                .collect();
            Ok(format!("\nPolicy: X.509 Basic\n  Matching identities\n{lines}     1 identities found\n").into_bytes())
        }
        ("delete-identity", ["-Z", hash, keychain], None) => {
            let entries = all.get_mut(Path::new(keychain)).ok_or("no keychain")?;
            let before = entries.len();
            entries.retain(|e| sha1(&e.der) != *hash || !e.has_key());
            if entries.len() == before { Err("Unable to delete identity".into()) } else { Ok(Vec::new()) }
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

/// One command on standard input: a container with certificate and key, which its passphrase must open.
fn import(all: &mut BTreeMap<PathBuf, Vec<NssEntry>>, line: &str, file: &[u8]) -> Result<Vec<u8>, String> {
    let words: Vec<&str> = line.trim_end().split('"').collect();
    let ["import ", FILE, " -k ", keychain, " -f pkcs12 -P ", passphrase, ""] = words.as_slice() else {
        return Err(format!("not understood: {line}"));
    };
    let passphrase = Passphrase::new(Zeroizing::new(passphrase.as_bytes().to_vec()));
    let found = pkcs12::read(file, Some(&passphrase), "the container")
        .map_err(|e| format!("MAC verification failed: {e:?}"))?;
    let entries = all.get_mut(Path::new(keychain)).ok_or("no keychain")?;
    let der = found.certificates[0].thing.clone();
    if entries.iter().any(|e| e.der == der) {
        return Err("The specified item already exists in the keychain.".into());
    }
    assert_eq!(found.keys.len(), 1);
    entries.push(NssEntry { der, nickname: String::new(), ssl: USER });
    Ok(Vec::new())
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
