//! Formats in which keys and certificates stand in files: one file each.

pub mod legacy_pem;
pub mod pem;
pub mod private_key;
