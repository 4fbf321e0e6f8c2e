//! Formats in which keys and certificates are in files: one file each.

pub mod container;
pub mod contents;
pub mod fingerprint;
pub mod holds_key;
pub mod jks;
pub mod legacy_pem;
pub mod mobileconfig;
pub mod pem;
pub mod pkcs12;
pub mod pkcs7;
pub mod private_key;
pub mod secret_yaml;

mod budget;
pub mod guard;
mod pbe;
pub(crate) mod tlv;
