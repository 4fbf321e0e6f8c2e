//! Windows' certificate stores, through the system's own interface (CryptoAPI's certificate functions and CNG's keys).
//!
//! Nothing is done by a console program: the interface tells the reason of a refusal, and takes a key without a file.

use std::ffi::c_void;
use std::io::{Error, Result};
use std::ptr::{null, null_mut};
use tamga_core::plan::native::{NativeAction, NativeChange, NativeEntry, StoreName};
use windows_sys::Win32::Security::Cryptography::{
    CERT_CONTEXT, CERT_FRIENDLY_NAME_PROP_ID, CERT_KEY_PROV_INFO_PROP_ID, CERT_NCRYPT_KEY_HANDLE_PROP_ID,
    CERT_STORE_ADD_ALWAYS, CERT_STORE_ADD_REPLACE_EXISTING, CERT_STORE_CTRL_COMMIT, CERT_STORE_OPEN_EXISTING_FLAG,
    CERT_STORE_PROV_SYSTEM_REGISTRY_W, CERT_STORE_PROV_SYSTEM_W, CERT_STORE_READONLY_FLAG,
    CERT_SYSTEM_STORE_CURRENT_USER_ID, CERT_SYSTEM_STORE_LOCAL_MACHINE_ID, CERT_SYSTEM_STORE_LOCATION_SHIFT,
    CRYPT_ACQUIRE_ONLY_NCRYPT_KEY_FLAG, CRYPT_INTEGER_BLOB, CRYPT_MACHINE_KEYSET, CRYPT_USER_KEYSET,
    CertAddCertificateContextToStore, CertCloseStore, CertControlStore, CertCreateCertificateContext,
    CertDeleteCertificateFromStore, CertEnumCertificatesInStore, CertFreeCertificateContext,
    CertGetCertificateContextProperty, CertOpenStore, CertSetCertificateContextProperty,
    CryptAcquireCertificatePrivateKey, HCERTSTORE, NCRYPT_SECURITY_DESCR_PROPERTY, NCRYPT_SILENT_FLAG, NCryptDeleteKey,
    NCryptFreeObject, NCryptSetProperty, PFXImportCertStore, PKCS12_ALLOW_OVERWRITE_KEY, PKCS12_ALWAYS_CNG_KSP,
    X509_ASN_ENCODING,
};

/// An open store; closed when dropped.
struct Open(HCERTSTORE);

impl Drop for Open {
    fn drop(&mut self) {
        // SAFETY: it was opened by `open` or `PFXImportCertStore` and is closed once.
        unsafe { CertCloseStore(self.0, 0) };
    }
}

/// Opens a store. To read, a person's alone: as the system shows it, it has the machine's certificates in it as well.
fn open(store: &StoreName, write: bool) -> Result<Open> {
    let name: Vec<u16> = store.name.encode_utf16().chain([0]).collect();
    let location = if store.machine { CERT_SYSTEM_STORE_LOCAL_MACHINE_ID } else { CERT_SYSTEM_STORE_CURRENT_USER_ID };
    let access = if write { 0 } else { CERT_STORE_READONLY_FLAG | CERT_STORE_OPEN_EXISTING_FLAG };
    let flags = (location << CERT_SYSTEM_STORE_LOCATION_SHIFT) | access;
    let provider = if write || store.machine { CERT_STORE_PROV_SYSTEM_W } else { CERT_STORE_PROV_SYSTEM_REGISTRY_W };
    // SAFETY: the name ends with 0 and lives through the call.
    let handle = unsafe { CertOpenStore(provider, 0, 0, flags, name.as_ptr().cast()) };
    if handle.is_null() { Err(Error::last_os_error()) } else { Ok(Open(handle)) }
}

/// Calls `each` for every certificate until it says stop. The context is the store's; it is only borrowed.
fn every(store: &Open, mut each: impl FnMut(*const CERT_CONTEXT) -> bool) {
    let mut context: *mut CERT_CONTEXT = null_mut();
    loop {
        // SAFETY: the store is open; the previous context is given back to the function, which frees it.
        context = unsafe { CertEnumCertificatesInStore(store.0, context) };
        if context.is_null() {
            return;
        }
        if !each(context) {
            // SAFETY: the enumeration ends here, so its context is ours to free.
            unsafe { CertFreeCertificateContext(context) };
            return;
        }
    }
}

fn der(context: *const CERT_CONTEXT) -> Vec<u8> {
    // SAFETY: a context of a store points to so many bytes, which live as long as it does.
    unsafe {
        let c = &*context;
        std::slice::from_raw_parts(c.pbCertEncoded, c.cbCertEncoded as usize).to_vec()
    }
}

fn property(context: *const CERT_CONTEXT, id: u32) -> Option<Vec<u8>> {
    let mut length = 0;
    // SAFETY: without a buffer only the length is returned; then the buffer is as long as that.
    unsafe {
        if CertGetCertificateContextProperty(context, id, null_mut(), &mut length) == 0 {
            return None;
        }
        let mut bytes = vec![0_u8; length as usize];
        let got = CertGetCertificateContextProperty(context, id, bytes.as_mut_ptr().cast(), &mut length);
        (got != 0).then_some(bytes)
    }
}

fn friendly(context: *const CERT_CONTEXT) -> Option<String> {
    let bytes = property(context, CERT_FRIENDLY_NAME_PROP_ID)?;
    let units: Vec<u16> = bytes.chunks_exact(2).map(|b| u16::from_le_bytes([b[0], b[1]])).collect();
    Some(String::from_utf16_lossy(&units).trim_end_matches('\0').to_owned()).filter(|s| !s.is_empty())
}

/// Every certificate of a store.
///
/// Errors: the system's own, for instance that access is denied.
pub fn list(name: &StoreName) -> Result<Vec<NativeEntry>> {
    let store = match open(name, false) {
        // A store into which nobody has put anything is not there yet, and looking makes none.
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        other => other?,
    };
    let mut out = Vec::new();
    every(&store, |context| {
        let has_key = property(context, CERT_KEY_PROV_INFO_PROP_ID).is_some()
            || property(context, CERT_NCRYPT_KEY_HANDLE_PROP_ID).is_some();
        out.push(NativeEntry { der: der(context), friendly: friendly(context), has_key });
        true
    });
    Ok(out)
}

/// Makes a change and makes it durable.
///
/// Errors: the system's own; a person who says no to its dialog is one of them (`ERROR_CANCELLED`).
pub fn change(change: &NativeChange) -> Result<()> {
    let store = open(&change.store, true)?;
    match &change.action {
        NativeAction::Add { der, friendly } => {
            // SAFETY: the bytes live through the call, which copies them; the context is freed below.
            let context = unsafe {
                CertCreateCertificateContext(X509_ASN_ENCODING, der.as_ptr(), u32::try_from(der.len()).unwrap_or(0))
            };
            if context.is_null() {
                return Err(Error::last_os_error());
            }
            // Never in place of another: that one may be the machine's, which a person's store shows as well.
            let added = put(&store, context, friendly, CERT_STORE_ADD_ALWAYS);
            // SAFETY: made above, not used again.
            unsafe { CertFreeCertificateContext(context) };
            added?;
        }
        NativeAction::AddIdentity { der: leaf, friendly, pkcs12, passphrase, account } => {
            identity(&store, change.store.machine, leaf, friendly, (&pkcs12.0, &passphrase.0), account.as_deref())?;
        }
        NativeAction::Remove { der } => take(&store, &change.store, der)?,
    }
    // SAFETY: the store is open; without this some systems keep a removal only in memory.
    unsafe { CertControlStore(store.0, 0, CERT_STORE_CTRL_COMMIT, null()) };
    Ok(())
}

fn put(store: &Open, context: *const CERT_CONTEXT, friendly: &str, how: u32) -> Result<()> {
    let mut name: Vec<u16> = friendly.encode_utf16().chain([0]).collect();
    let length = u32::try_from(name.len() * 2).unwrap_or(0);
    let blob = CRYPT_INTEGER_BLOB { cbData: length, pbData: name.as_mut_ptr().cast() };
    // SAFETY: context, name and blob live through both calls, which copy them.
    unsafe {
        let value = std::ptr::from_ref(&blob).cast::<c_void>();
        if CertSetCertificateContextProperty(context, CERT_FRIENDLY_NAME_PROP_ID, 0, value) == 0
            || CertAddCertificateContextToStore(store.0, context, how, null_mut()) == 0
        {
            return Err(Error::last_os_error());
        }
    }
    Ok(())
}

/// Certificate and key from a PKCS#12 file that never lies on the disk.
fn identity(
    store: &Open,
    machine: bool,
    leaf: &[u8],
    friendly: &str,
    (file, passphrase): (&[u8], &[u8]),
    account: Option<&str>,
) -> Result<()> {
    let text = zeroize::Zeroizing::new(String::from_utf8_lossy(passphrase).into_owned());
    let wide: zeroize::Zeroizing<Vec<u16>> = text.encode_utf16().chain([0]).collect::<Vec<u16>>().into();
    let blob = CRYPT_INTEGER_BLOB { cbData: u32::try_from(file.len()).unwrap_or(0), pbData: file.as_ptr().cast_mut() };
    let place = if machine { CRYPT_MACHINE_KEYSET } else { CRYPT_USER_KEYSET };
    let flags = place | PKCS12_ALWAYS_CNG_KSP | PKCS12_ALLOW_OVERWRITE_KEY;
    // SAFETY: blob and passphrase live through the call, which only reads them; the store is closed when dropped.
    let taken = unsafe { PFXImportCertStore(&blob, wide.as_ptr(), flags) };
    if taken.is_null() {
        let e = Error::last_os_error();
        // Emulations of Windows refuse without a reason.
        return Err(if e.raw_os_error() == Some(0) { Error::other("it takes no PKCS#12 file") } else { e });
    }
    let taken = Open(taken);
    let mut done = Err(Error::other("the system took the file, but not its certificate"));
    every(&taken, |context| {
        if der(context) != leaf {
            return true;
        }
        done = put(store, context, friendly, CERT_STORE_ADD_REPLACE_EXISTING).and_then(|()| match account {
            Some(account) => let_read(context, account),
            None => Ok(()),
        });
        false
    });
    done
}

/// The key of a certificate, for as long as `work` needs it; it says whether the handle is gone with what it did.
fn with_key<T>(context: *const CERT_CONTEXT, work: impl FnOnce(usize) -> (T, bool)) -> Option<T> {
    let (mut key, mut spec, mut ours) = (0, 0, 0);
    // SAFETY: the context lives through the call; the key is freed if the system says that it is ours to free.
    unsafe {
        let flags = CRYPT_ACQUIRE_ONLY_NCRYPT_KEY_FLAG;
        if CryptAcquireCertificatePrivateKey(context, flags, null(), &mut key, &mut spec, &mut ours) == 0 {
            return None;
        }
        let (out, gone) = work(key);
        if ours != 0 && !gone {
            NCryptFreeObject(key);
        }
        Some(out)
    }
}

/// Lets a service's account read the key, beside the system and its administrators.
fn let_read(context: *const CERT_CONTEXT, account: &str) -> Result<()> {
    use windows_sys::Win32::Foundation::LocalFree;
    use windows_sys::Win32::Security::Authorization::{
        ConvertSidToStringSidW, ConvertStringSecurityDescriptorToSecurityDescriptorW, SDDL_REVISION_1,
    };
    use windows_sys::Win32::Security::{DACL_SECURITY_INFORMATION, LookupAccountNameW, PSECURITY_DESCRIPTOR};
    let name: Vec<u16> = account.encode_utf16().chain([0]).collect();
    let (mut sid, mut size) = ([0_u8; 256], 256_u32);
    let (mut domain, mut domain_size, mut kind) = ([0_u16; 256], 256_u32, 0);
    // SAFETY: every buffer is as long as its size says; what the system allocates is freed with its own function.
    unsafe {
        let (of, to) = (sid.as_mut_ptr().cast(), domain.as_mut_ptr());
        if LookupAccountNameW(null(), name.as_ptr(), of, &mut size, to, &mut domain_size, &mut kind) == 0 {
            return Err(Error::last_os_error());
        }
        let mut words: *mut u16 = null_mut();
        if ConvertSidToStringSidW(sid.as_mut_ptr().cast(), &mut words) == 0 {
            return Err(Error::last_os_error());
        }
        let length = (0..256).take_while(|i| *words.add(*i) != 0).count();
        let sid = String::from_utf16_lossy(std::slice::from_raw_parts(words, length));
        LocalFree(words.cast());
        let list = format!("D:P(A;;GA;;;SY)(A;;GA;;;BA)(A;;GR;;;{sid})");
        let list: Vec<u16> = list.encode_utf16().chain([0]).collect();
        let (mut descriptor, mut bytes): (PSECURITY_DESCRIPTOR, u32) = (null_mut(), 0);
        let text = list.as_ptr();
        if ConvertStringSecurityDescriptorToSecurityDescriptorW(text, SDDL_REVISION_1, &mut descriptor, &mut bytes) == 0
        {
            return Err(Error::last_os_error());
        }
        let flags = NCRYPT_SILENT_FLAG | DACL_SECURITY_INFORMATION;
        let set = with_key(context, |key| {
            (NCryptSetProperty(key, NCRYPT_SECURITY_DESCR_PROPERTY, descriptor.cast(), bytes, flags), false)
        });
        LocalFree(descriptor);
        match set {
            Some(0) => Ok(()),
            Some(code) => Err(Error::from_raw_os_error(code)),
            None => Err(Error::other("the key was not found where it had just been put")),
        }
    }
}

/// Takes a certificate out of this store alone: the person's shows the machine's too, and those are not the person's to take.
fn take(store: &Open, name: &StoreName, wanted: &[u8]) -> Result<()> {
    if !list(name)?.iter().any(|e| e.der == wanted) {
        return Ok(());
    }
    let mut found = Vec::new();
    every(store, |context| {
        // A person's own comes before the machine's.
        if der(context) == wanted && (name.machine || found.is_empty()) {
            // SAFETY: a context of its own for the same certificate; deleting it below frees it.
            found.push(unsafe { windows_sys::Win32::Security::Cryptography::CertDuplicateCertificateContext(context) });
        }
        true
    });
    for context in found {
        if property(context, CERT_KEY_PROV_INFO_PROP_ID).is_some() {
            // SAFETY: where it succeeds, the function frees the handle, and nothing uses it afterwards.
            with_key(context, |key| ((), unsafe { NCryptDeleteKey(key, 0) } == 0));
        }
        // SAFETY: the function frees the context, also when it fails.
        if unsafe { CertDeleteCertificateFromStore(context) } == 0 {
            return Err(Error::last_os_error());
        }
    }
    Ok(())
}
