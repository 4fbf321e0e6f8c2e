//! Why a key on a token cannot be used.

use crate::vocabulary::text::Shown;

/// Why a key on a token cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[non_exhaustive]
pub enum TokenFault {
    /// The module cannot be loaded or started: its own words.
    Module(String),
    /// The module ended the process that it was loaded in: how.
    Ended(String),
    /// The module did not answer in so many seconds.
    Silent(u64),
    /// No token is the one meant; those that are there.
    NoToken(Vec<String>),
    /// Several tokens could be meant.
    ManyTokens(Vec<String>),
    /// The PIN is wrong; true if the token says that few tries are left.
    PinWrong {
        /// True if the token says that few tries are left, or one.
        few_left: bool,
    },
    /// The token's PIN is locked.
    PinLocked,
    /// The PIN has a length or characters that the token does not take.
    PinRefused,
    /// The token has no key of that name.
    NoKey,
    /// So many keys could be meant.
    ManyKeys(usize),
    /// The token has no public key beside the private one, and the certificate does not say it.
    NoPublicKey,
    /// The key is of a kind that Tamga does not use, or cannot sign.
    Unusable,
    /// The token cannot make this kind of key, or not sign with it.
    Unsupported(String),
    /// The token may not be written.
    ReadOnly,
    /// The token was taken out, or its key deleted.
    Gone(String),
    /// The token's signature is not one of its key.
    WrongSignature,
    /// Anything else that the token answered.
    Refused(String),
}

impl TokenFault {
    /// True if something else has to be typed; else it is the surroundings that do not allow it.
    pub fn is_refusal(&self) -> bool {
        matches!(
            self,
            TokenFault::NoToken(_)
                | TokenFault::ManyTokens(_)
                | TokenFault::PinWrong { .. }
                | TokenFault::PinRefused
                | TokenFault::NoKey
                | TokenFault::ManyKeys(_)
                | TokenFault::NoPublicKey
                | TokenFault::Unusable
                | TokenFault::Unsupported(_)
        )
    }

    /// The word for programs.
    pub fn code(&self) -> &'static str {
        match self {
            TokenFault::Module(_) | TokenFault::Ended(_) | TokenFault::Silent(_) => "token-module-failed",
            TokenFault::NoToken(_) | TokenFault::ManyTokens(_) => "token-unknown",
            TokenFault::PinWrong { .. } | TokenFault::PinRefused => "pin-wrong",
            TokenFault::PinLocked => "pin-locked",
            TokenFault::NoKey | TokenFault::ManyKeys(_) | TokenFault::NoPublicKey => "token-key-unknown",
            TokenFault::Unusable | TokenFault::Unsupported(_) => "token-key-unsupported",
            TokenFault::Gone(_) => "token-gone",
            TokenFault::ReadOnly | TokenFault::WrongSignature | TokenFault::Refused(_) => "token-failed",
        }
    }

    /// Why, in one line.
    pub fn why(&self) -> String {
        let list = |all: &[String]| all.iter().map(|t| t.shown()).collect::<Vec<_>>().join(", ");
        match self {
            TokenFault::Module(said) => format!("its module cannot be used: {}", said.shown()),
            TokenFault::Ended(how) => format!("its module ended the process that it was loaded in: {}", how.shown()),
            TokenFault::Silent(seconds) => format!("its module did not answer for {seconds} seconds"),
            TokenFault::NoToken(all) if all.is_empty() => "its module sees no token".into(),
            TokenFault::NoToken(all) => format!("its module sees other tokens: {}", list(all)),
            TokenFault::ManyTokens(all) => format!("several tokens could be meant: {}", list(all)),
            TokenFault::PinWrong { few_left: true } => {
                "the PIN is wrong, and the token says that few tries are left".into()
            }
            TokenFault::PinWrong { few_left: false } => "the PIN is wrong".into(),
            TokenFault::PinLocked => "the token's PIN is locked after too many wrong ones".into(),
            TokenFault::PinRefused => "the token does not take a PIN of this length or with these characters".into(),
            TokenFault::NoKey => "the token has no private key of that name".into(),
            TokenFault::ManyKeys(n) => format!("the token has {n} private keys of that name"),
            TokenFault::NoPublicKey => "the token has no public key beside the private one".into(),
            TokenFault::Unusable => "the key is of a kind that Tamga does not use, or may not sign".into(),
            TokenFault::Unsupported(what) => format!("the token cannot do {}", what.shown()),
            TokenFault::ReadOnly => "the token may not be written".into(),
            TokenFault::Gone(said) => {
                format!("the token was taken out, or the key is no longer on it: {}", said.shown())
            }
            TokenFault::WrongSignature => "what the token returned is not a signature of its key".into(),
            TokenFault::Refused(said) => format!("the token refused: {}", said.shown()),
        }
    }

    /// What to do, in one line.
    pub fn remedy(&self) -> &'static str {
        match self {
            TokenFault::Module(_) => {
                "see that --module names the library of this token, and that its own settings are in place"
            }
            TokenFault::Ended(_) | TokenFault::Silent(_) => {
                "nothing was changed; see that the token answers its own tools, then run the same command again"
            }
            TokenFault::NoToken(_) => "put the token in, or correct token= in the address",
            TokenFault::ManyTokens(_) => "say which: token=LABEL, or serial=NUMBER, in the address",
            TokenFault::PinWrong { .. } => "give the right PIN; it was tried once, and is not tried again",
            TokenFault::PinLocked => "unlock it with the token's own tools",
            TokenFault::PinRefused => "give the PIN of the token, without anything before or after it",
            TokenFault::NoKey => "correct object= or id= in the address",
            TokenFault::ManyKeys(_) => "say which: id=%XX in the address, as the token's own tools show it",
            TokenFault::NoPublicKey => {
                "give the key's certificate: tamga authority import LABEL --certificate FILE --key-uri URI"
            }
            TokenFault::Unusable => "use a P-256, P-384, Ed25519 or RSA key that may sign",
            TokenFault::Unsupported(_) => "choose another kind: --key-algorithm p256",
            TokenFault::ReadOnly => "see that the token is not write-protected",
            TokenFault::Gone(_) => "put the token in again, then run the same command again",
            TokenFault::WrongSignature | TokenFault::Refused(_) => {
                "nothing was changed; see that the token answers its own tools, then run the same command again"
            }
        }
    }
}
