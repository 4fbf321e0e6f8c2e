//! Fingerprints.

use tamga_core::vocabulary::text::hex;

/// Returns the SHA-256 of the bytes, lower-case hex.
pub fn sha256(bytes: &[u8]) -> String {
    hex(ring::digest::digest(&ring::digest::SHA256, bytes).as_ref())
}
