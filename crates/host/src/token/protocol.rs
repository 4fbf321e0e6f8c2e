//! What is said between Tamga and the child that has a token's module in it: one line of JSON each way, in turn.

use base64ct::{Base64, Encoding};
use serde::{Deserialize, Serialize};
use tamga_core::pki::token::Mechanism;
use tamga_core::vocabulary::token_fault::TokenFault;

/// Octets, as base64.
#[derive(Clone, Serialize, Deserialize)]
#[serde(transparent)]
pub(super) struct Octets(String);

impl Octets {
    /// Writes them.
    pub(super) fn of(octets: &[u8]) -> Octets {
        Octets(Base64::encode_string(octets))
    }

    /// Reads them; empty if they are not base64, which the other side never writes.
    pub(super) fn read(&self) -> Vec<u8> {
        Base64::decode_vec(&self.0).unwrap_or_default()
    }
}

/// What the child is asked.
#[derive(Serialize, Deserialize)]
pub(super) enum Question {
    /// Load the module and find the token. The first question, once.
    Open {
        /// The module's path.
        module: std::path::PathBuf,
        /// The address of the key.
        uri: String,
    },
    /// Log in; without a PIN at the token's own keypad.
    LogIn {
        /// The PIN.
        pin: Option<String>,
    },
    /// Find the private key of the address.
    Find,
    /// Make a key of this kind, with the label of the address and this identifier.
    Make {
        /// The kind, as it is typed.
        algorithm: String,
        /// Its identifier.
        id: Octets,
    },
    /// Delete the key that was just made.
    Delete,
    /// Sign.
    Sign {
        /// How.
        mechanism: Mechanism,
        /// What.
        input: Octets,
    },
}

/// What it answers.
#[derive(Serialize, Deserialize)]
pub(super) enum Reply {
    /// The token was found.
    Opened(Token),
    /// It was done.
    Done,
    /// The key was found or made.
    Key(Key),
    /// A signature, as the token gave it.
    Signature(Octets),
    /// It was not done.
    Failed(TokenFault),
}

/// A token.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Token {
    /// Its label.
    pub(super) label: String,
    /// True if a PIN is needed for its private keys.
    pub needs_pin: bool,
    /// True if the PIN is typed at the token itself.
    pub has_keypad: bool,
    /// True if it signs RSA only over messages that it hashes itself.
    pub hashes_itself: bool,
}

impl Token {
    /// Its label, without the blanks that fill it up.
    pub fn label(&self) -> &str {
        &self.label
    }
}

/// A key on a token.
#[derive(Serialize, Deserialize)]
pub(super) struct Key {
    /// Its public key as SubjectPublicKeyInfo; None if the token does not say it.
    pub spki: Option<Octets>,
    /// Its label.
    pub object: Option<String>,
    /// Its identifier.
    pub id: Option<Octets>,
    /// Whether it may leave the token, or once could; None if the token does not say.
    pub extractable: Option<bool>,
}
