//! Formats in which keys and certificates stand in files: one file each.

pub mod pem;
