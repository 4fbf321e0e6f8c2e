//! Enrollment: certificates over the network after proof of control (RFC 8555, RFC 8737, RFC 8738, RFC 9773). What is here is the protocol
//! as values: messages that are parsed once, states that follow from one another, texts that both sides compute. Nothing here connects,
//! stores or tells the time.

pub mod binding;
pub mod challenge;
pub mod csr;
pub mod dns;
pub mod failure;
pub mod identifier;
pub mod invitation;
pub mod jwk;
pub mod jws;
pub mod object;
pub mod problem;
pub mod renewal;
pub mod state;

use base64ct::{Base64UrlUnpadded, Encoding};

/// Octets as base64url without padding (RFC 4648 section 5, RFC 7515 section 2).
pub fn base64url(octets: &[u8]) -> String {
    Base64UrlUnpadded::encode_string(octets)
}

/// The octets of a base64url text without padding; None if it is none, or has bits that mean nothing.
pub fn from_base64url(text: &str) -> Option<Vec<u8>> {
    Base64UrlUnpadded::decode_vec(text).ok()
}
