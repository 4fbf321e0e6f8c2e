//! The few functions of NSS and NSPR that are used, found at run time in the libraries that Chromium loads.
//!
//! Layouts and constants are those of NSS's public headers on LP64; they have not changed since NSS 3.12.

#![allow(non_snake_case, reason = "the names are NSS's own")]

use crate::platform::{self, Library};
use std::ffi::{c_char, c_int, c_uint, c_ulong, c_void};
use std::path::PathBuf;
use tamga_core::plan::nss::Library as Which;

/// SECItem.
#[repr(C)]
pub(super) struct Item {
    pub(super) kind: c_uint,
    pub(super) data: *mut u8,
    pub(super) length: c_uint,
}

/// CERTCertTrust.
#[repr(C)]
#[derive(Default)]
pub(super) struct Trust {
    pub(super) ssl: c_uint,
    pub(super) email: c_uint,
    pub(super) code: c_uint,
}

/// PK11CertListAll.
pub(super) const EVERY_INSTANCE: c_int = 6;

/// A node of CERTCertList. Of the head, which is a shorter structure, only `next` may be read.
#[repr(C)]
pub(super) struct Node {
    pub(super) next: *mut Node,
    pub(super) previous: *mut Node,
    pub(super) certificate: *mut c_void,
    /// In the list of every instance: the instance's nickname, NUL-terminated.
    pub(super) data: *mut c_char,
}

pub(super) type Slot = *mut c_void;
pub(super) type Cert = *mut c_void;
pub(super) type Ask = extern "C" fn(Slot, c_int, *mut c_void) -> *mut c_char;

macro_rules! functions {
    ($($name:ident($($argument:ty),*) -> $out:ty;)*) => {
        /// The functions. The libraries are never unloaded: the child ends with them.
        pub(super) struct Nss { $(pub(super) $name: unsafe extern "C" fn($($argument),*) -> $out,)* }

        impl Nss {
            fn find(nss: &Library, nspr: &Library) -> Result<Nss, libloading::Error> {
                Ok(Nss {
                    $($name: {
                        let symbol = concat!(stringify!($name), "\0").as_bytes();
                        // SAFETY: the signatures are those of the public headers of NSS and NSPR.
                        unsafe { *nss.get(symbol).or_else(|_| nspr.get(symbol))? }
                    },)*
                })
            }
        }
    };
}

functions! {
    NSS_Initialize(*const c_char, *const c_char, *const c_char, *const c_char, c_uint) -> c_int;
    NSS_Shutdown() -> c_int;
    PK11_SetPasswordFunc(Ask) -> ();
    PK11_GetInternalKeySlot() -> Slot;
    PK11_FreeSlot(Slot) -> ();
    PK11_NeedUserInit(Slot) -> c_int;
    PK11_InitPin(Slot, *const c_char, *const c_char) -> c_int;
    PK11_NeedLogin(Slot) -> c_int;
    PK11_IsLoggedIn(Slot, *mut c_void) -> c_int;
    PK11_CheckUserPassword(Slot, *const c_char) -> c_int;
    PK11_ImportDERCert(Slot, *mut Item, c_ulong, *const c_char, c_int) -> c_int;
    PK11_FindCertFromDERCertItem(Slot, *const Item, *mut c_void) -> Cert;
    PK11_ListCerts(c_int, *mut c_void) -> *mut Node;
    PK11_ListCertsInSlot(Slot) -> *mut Node;
    CERT_DestroyCertList(*mut Node) -> ();
    CERT_GetCertificateDer(Cert, *mut Item) -> c_int;
    CERT_GetCertTrust(Cert, *mut Trust) -> c_int;
    CERT_ChangeCertTrust(*mut c_void, Cert, *mut Trust) -> c_int;
    CERT_GetDefaultCertDB() -> *mut c_void;
    CERT_DestroyCertificate(Cert) -> ();
    SEC_DeletePermCertificate(Cert) -> c_int;
    PK11_ImportDERPrivateKeyInfoAndReturnKey(Slot, *mut Item, *mut Item, *mut Item, c_int, c_int, c_uint, *mut *mut c_void, *mut c_void) -> c_int;
    PK11_FindKeyByAnyCert(Cert, *mut c_void) -> *mut c_void;
    PK11_DeleteTokenCertAndKey(Cert, *mut c_void) -> c_int;
    SECKEY_DestroyPrivateKey(*mut c_void) -> ();
    PR_GetError() -> c_int;
    PR_ErrorToName(c_int) -> *const c_char;
}

impl Nss {
    /// Loads the libraries: the system's, the very files that Chromium is linked with, or those that a browser brought
    /// along. Of the latter each is named by its whole path, and the one for SQLite first: left to search, the loader would
    /// mix in parts of the system's version, whose trust the browser does not read.
    pub(super) fn load(from: &Which) -> Result<Nss, libloading::Error> {
        let open = |name: &str| {
            let name = platform::library_name(name);
            let own = match from {
                Which::In(folder) => Some(folder.join(&name)).filter(|p| p.exists()),
                Which::System => None,
            };
            platform::load(&own.unwrap_or_else(|| PathBuf::from(name)))
        };
        if let Which::In(_) = from {
            for name in ["mozglue", "mozsqlite3"] {
                // Not every build has them as files of their own.
                if let Ok(library) = open(name) {
                    std::mem::forget(library);
                }
            }
        }
        let nss = match cfg!(windows) {
            // There all of NSS is one file.
            true => open("nss3")?,
            false => {
                std::mem::forget(open("nspr4")?);
                std::mem::forget(open("nssutil3")?);
                open("nss3")?
            }
        };
        let nspr = if cfg!(windows) { open("nss3")? } else { open("nspr4")? };
        let found = Nss::find(&nss, &nspr)?;
        std::mem::forget((nspr, nss));
        Ok(found)
    }
}
