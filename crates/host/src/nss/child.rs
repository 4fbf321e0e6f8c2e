//! The child's side: loads the library, opens one database, does one thing, answers, ends.

use super::library::{Cert, EVERY_INSTANCE, Item, Node, Nss, Slot, Trust};
use super::{Answer, Question};
use std::ffi::{CStr, CString, c_char, c_int, c_void};
use std::io::{Read, Write};
use tamga_core::plan::nss::{NssAction, NssEntry, NssFailure, NssView, ROOT_FLAGS};

/// Reads a question from standard input and writes the answer to standard output. Gives the exit code.
pub fn answer() -> u8 {
    // A private key or a password may be in it: wiped, and large enough from the first that no copy is left behind by growing.
    let mut input = zeroize::Zeroizing::new(Vec::with_capacity(1 << 20));
    if std::io::stdin().read_to_end(&mut input).is_err() {
        return 70;
    }
    let Ok(question) = serde_json::from_slice::<Question>(&input) else {
        return 70;
    };
    let answer: Answer = work(&question);
    let written = serde_json::to_vec(&answer).is_ok_and(|bytes| std::io::stdout().write_all(&bytes).is_ok());
    if written { 0 } else { 70 }
}

extern "C" fn no_password(_: Slot, _: c_int, _: *mut c_void) -> *mut c_char {
    std::ptr::null_mut()
}

fn work(question: &Question) -> Answer {
    let nss = Nss::load(&question.library).map_err(|_| NssFailure {
        why: "libnss3, the library that the browser uses, is not installed".into(),
        remedy: "sudo apt-get install libnss3".into(),
    })?;
    let folder = CString::new([b"sql:", question.folder.as_os_str().as_encoded_bytes()].concat())
        .map_err(|_| NssFailure { why: "the path holds a NUL".into(), remedy: "move the directory".into() })?;
    let read_only = u32::from(question.action.is_none());
    // SAFETY: the functions have the signatures of NSS's headers; every pointer given lives through the call;
    // slots, lists and certificates are released once and not used afterwards.
    unsafe {
        (nss.PK11_SetPasswordFunc)(no_password);
        if (nss.NSS_Initialize)(folder.as_ptr(), c"".as_ptr(), c"".as_ptr(), c"secmod.db".as_ptr(), read_only) != 0 {
            return Err(failure(
                &nss,
                "the database cannot be opened",
                "close the browser and try again; a damaged database must be moved away",
            ));
        }
        let slot = (nss.PK11_GetInternalKeySlot)();
        let done = if slot.is_null() {
            Err(failure(&nss, "the database has no slot", "close the browser and try again"))
        } else {
            let done = match &question.action {
                Some(action) => change(&nss, slot, action, question.password.as_deref()),
                None => Ok(()),
            };
            let guarded = (nss.PK11_NeedLogin)(slot) != 0;
            let listed = done.and_then(|()| list(&nss, slot)).map(|entries| NssView { entries, guarded });
            (nss.PK11_FreeSlot)(slot);
            listed
        };
        (nss.NSS_Shutdown)();
        done
    }
}

unsafe fn change(nss: &Nss, slot: Slot, action: &NssAction, password: Option<&str>) -> Result<(), NssFailure> {
    // SAFETY: see `work`.
    unsafe {
        match action {
            NssAction::Add { der, nickname } => {
                unlock(nss, slot, password)?;
                add(nss, slot, der, nickname, Some(ROOT_FLAGS))
            }
            NssAction::AddPlain { der, nickname } => {
                unlock(nss, slot, password)?;
                add(nss, slot, der, nickname, None)
            }
            NssAction::AddIdentity { der, nickname, pkcs8, public } => {
                unlock(nss, slot, password)?;
                add_key(nss, slot, &pkcs8.0, public, nickname)?;
                add(nss, slot, der, nickname, None)
            }
            NssAction::Remove { der } | NssAction::RemoveIdentity { der } => {
                let item = item(der);
                let found = (nss.PK11_FindCertFromDERCertItem)(slot, &item, std::ptr::null_mut());
                if found.is_null() {
                    return Ok(());
                }
                let with_key = matches!(action, NssAction::RemoveIdentity { .. });
                let key = if with_key {
                    unlock(nss, slot, password)?;
                    (nss.PK11_FindKeyByAnyCert)(found, std::ptr::null_mut())
                } else {
                    std::ptr::null_mut()
                };
                let status = if key.is_null() {
                    (nss.SEC_DeletePermCertificate)(found)
                } else {
                    (nss.SECKEY_DestroyPrivateKey)(key);
                    (nss.PK11_DeleteTokenCertAndKey)(found, std::ptr::null_mut())
                };
                let said = failure(nss, "the certificate cannot be taken out", "close the browser and try again");
                (nss.CERT_DestroyCertificate)(found);
                if status == 0 { Ok(()) } else { Err(said) }
            }
        }
    }
}

/// Makes a new database ready, and opens a guarded one by its password: without it a certificate would go in but not its trust,
/// and a key not at all.
unsafe fn unlock(nss: &Nss, slot: Slot, password: Option<&str>) -> Result<(), NssFailure> {
    // SAFETY: see `work`.
    unsafe {
        if (nss.PK11_NeedUserInit)(slot) != 0 && (nss.PK11_InitPin)(slot, std::ptr::null(), c"".as_ptr()) != 0 {
            return Err(failure(
                nss,
                "the new database cannot be initialised",
                "see that its directory may be written",
            ));
        }
        if (nss.PK11_NeedLogin)(slot) != 0
            && (nss.PK11_IsLoggedIn)(slot, std::ptr::null_mut()) == 0
            && (nss.PK11_CheckUserPassword)(slot, c"".as_ptr()) != 0
        {
            let given = password.and_then(|p| CString::new(p).ok());
            let opened = given.as_ref().is_some_and(|p| (nss.PK11_CheckUserPassword)(slot, p.as_ptr()) == 0);
            drop(given.map(|p| zeroize::Zeroizing::new(p.into_bytes())));
            if !opened {
                let why = match password {
                    Some(_) => "the primary password is wrong",
                    None => "a primary password guards the database",
                };
                let remedy = "give the browser's primary password: --passphrase-file FILE, or type it when asked";
                return Err(NssFailure { why: why.into(), remedy: remedy.into() });
            }
        }
    }
    Ok(())
}

/// For signatures, decryption and key agreement (KU_DIGITAL_SIGNATURE, KU_KEY_ENCIPHERMENT, KU_KEY_AGREEMENT).
const ALL_USES: u32 = 0x80 | 0x20 | 0x08;

unsafe fn add_key(nss: &Nss, slot: Slot, pkcs8: &[u8], public: &[u8], nickname: &str) -> Result<(), NssFailure> {
    let (mut key, mut name, mut value) = (item(pkcs8), item(nickname.as_bytes()), item(public));
    let mut made: *mut c_void = std::ptr::null_mut();
    // SAFETY: see `work`; the items live through the call, and NSS copies them.
    unsafe {
        let status = (nss.PK11_ImportDERPrivateKeyInfoAndReturnKey)(
            slot,
            &mut key,
            &mut name,
            &mut value,
            1,
            1,
            ALL_USES,
            &mut made,
            std::ptr::null_mut(),
        );
        if status != 0 {
            return Err(failure(
                nss,
                "the private key cannot be put in",
                "browsers take p256, p384 and RSA keys: tamga issue NAME --purpose client --key-algorithm p256",
            ));
        }
        if !made.is_null() {
            (nss.SECKEY_DestroyPrivateKey)(made);
        }
    }
    Ok(())
}

unsafe fn add(nss: &Nss, slot: Slot, der: &[u8], nickname: &str, trust: Option<u32>) -> Result<(), NssFailure> {
    const TRY: &str = "close the browser and try again";
    let nickname = CString::new(nickname).unwrap_or_default();
    let mut item = item(der);
    // SAFETY: see `work`.
    unsafe {
        let before = (nss.PK11_FindCertFromDERCertItem)(slot, &item, std::ptr::null_mut());
        let was_there = !before.is_null();
        if was_there {
            (nss.CERT_DestroyCertificate)(before);
        }
        if (nss.PK11_ImportDERCert)(slot, &mut item, 0, nickname.as_ptr(), 0) != 0 {
            return Err(failure(
                nss,
                "the certificate cannot be put in",
                "a key kind that NSS does not know (Ed25519)? make the authority with p256",
            ));
        }
        let found = (nss.PK11_FindCertFromDERCertItem)(slot, &item, std::ptr::null_mut());
        if found.is_null() {
            return Err(failure(nss, "the certificate is not found again", TRY));
        }
        let status = match trust {
            Some(ssl) => {
                let mut trust = Trust { ssl, ..Trust::default() };
                (nss.CERT_ChangeCertTrust)((nss.CERT_GetDefaultCertDB)(), found, &mut trust)
            }
            None => 0,
        };
        let said = failure(nss, "its trust cannot be set", TRY);
        if status != 0 && !was_there {
            (nss.SEC_DeletePermCertificate)(found);
        }
        (nss.CERT_DestroyCertificate)(found);
        if status == 0 { Ok(()) } else { Err(said) }
    }
}

/// DER and nickname of every instance of every certificate: only this list tells nicknames without looking into
/// structures whose layout changes.
unsafe fn nicknames(nss: &Nss) -> Vec<(Vec<u8>, String)> {
    let mut out = Vec::new();
    // SAFETY: as in `list`; a nickname is a C string of the list's arena, or null.
    unsafe {
        let head = (nss.PK11_ListCerts)(EVERY_INSTANCE, std::ptr::null_mut());
        if head.is_null() {
            return out;
        }
        let mut node: *mut Node = (*head).next;
        while node.cast() != head.cast::<c_void>() {
            if let Some(der) = der_of(nss, (*node).certificate)
                && !(*node).data.is_null()
            {
                out.push((der, CStr::from_ptr((*node).data).to_string_lossy().into_owned()));
            }
            node = (*node).next;
        }
        (nss.CERT_DestroyCertList)(head);
    }
    out
}

unsafe fn der_of(nss: &Nss, certificate: Cert) -> Option<Vec<u8>> {
    let mut der = Item { kind: 0, data: std::ptr::null_mut(), length: 0 };
    // SAFETY: DER is borrowed from the certificate and copied at once.
    unsafe {
        let has_der = (nss.CERT_GetCertificateDer)(certificate, &mut der) == 0 && !der.data.is_null();
        has_der.then(|| std::slice::from_raw_parts(der.data, der.length as usize).to_vec())
    }
}

unsafe fn list(nss: &Nss, slot: Slot) -> Result<Vec<NssEntry>, NssFailure> {
    let mut out = Vec::new();
    // SAFETY: see `nicknames`.
    let names = unsafe { nicknames(nss) };
    // SAFETY: the list is circular and ends at its head.
    unsafe {
        let head = (nss.PK11_ListCertsInSlot)(slot);
        if head.is_null() {
            return Ok(out);
        }
        let mut node: *mut Node = (*head).next;
        while node.cast() != head.cast::<c_void>() {
            let certificate = (*node).certificate;
            let mut trust = Trust::default();
            let has_trust = (nss.CERT_GetCertTrust)(certificate, &mut trust) == 0;
            if let Some(der) = der_of(nss, certificate) {
                let nickname = names.iter().find(|n| n.0 == der).map(|n| n.1.clone()).unwrap_or_default();
                out.push(NssEntry { der, nickname, ssl: if has_trust { trust.ssl } else { 0 } });
            }
            node = (*node).next;
        }
        (nss.CERT_DestroyCertList)(head);
    }
    Ok(out)
}

fn item(der: &[u8]) -> Item {
    Item { kind: 0, data: der.as_ptr().cast_mut(), length: u32::try_from(der.len()).unwrap_or(0) }
}

fn failure(nss: &Nss, what: &str, remedy: &str) -> NssFailure {
    // SAFETY: the name is a static string of NSPR, or null.
    let name = unsafe {
        let name = (nss.PR_ErrorToName)((nss.PR_GetError)());
        if name.is_null() { "no reason given".into() } else { CStr::from_ptr(name).to_string_lossy().into_owned() }
    };
    NssFailure { why: format!("{what}: {name}"), remedy: remedy.to_owned() }
}
