//! Keys, signatures, certificates, file formats and chains (RFC 5280, RFC 9525). Nothing here knows of stores, clients or Tamga's own authorities.

pub mod cert;
pub mod chain;
pub mod difference;
pub mod format;
pub mod key;
pub mod ocsp;
pub mod signature;
pub mod token;
