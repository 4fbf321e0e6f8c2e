//! External accounts: an invitation's key signs the key of the new account (RFC 8555 section 7.3.4).

use crate::enrollment::base64url;
use crate::enrollment::jwk::Jwk;
use crate::enrollment::jws;
use crate::enrollment::problem::{Problem, ProblemType};
use ring::hmac;
use serde_json::Value;

/// A binding, whose code is still to be verified.
pub struct Binding {
    /// Which invitation it is.
    pub kid: String,
    algorithm: hmac::Algorithm,
    parts: jws::Parts,
}

fn refused(why: &str) -> Problem {
    Problem::malformed(format!("the external account binding is refused: {why}"))
}

impl Binding {
    /// Reads it; `url` is where the request goes around it, `key` the account's.
    ///
    /// Errors: [`ProblemType::Malformed`] where it is none, for another URL, or another key.
    pub fn parse(value: &Value, url: &str, key: &Jwk) -> Result<Binding, Problem> {
        let parts = jws::parts(value)?;
        let text = |member: &str| parts.header.get(member).and_then(Value::as_str);
        let algorithm = match text("alg") {
            Some("HS256") => hmac::HMAC_SHA256,
            Some("HS384") => hmac::HMAC_SHA384,
            Some("HS512") => hmac::HMAC_SHA512,
            _ => return Err(refused("its alg is none of HS256, HS384 and HS512")),
        };
        let kid = text("kid").ok_or_else(|| refused("it has no kid"))?.to_owned();
        if parts.header.contains_key("nonce") {
            return Err(refused("it has a nonce of its own"));
        }
        if text("url") != Some(url) {
            return Err(refused("its url is another than that of the request"));
        }
        let inner: Value = serde_json::from_slice(&parts.payload).map_err(|_| refused("its payload is no key"))?;
        match Jwk::parse(&inner) {
            Ok(inner) if inner == *key => Ok(Binding { kid, algorithm, parts }),
            _ => Err(refused("its payload is not the key of the account")),
        }
    }

    /// Makes one: the invitation's key signs the key of the account, for the URL to which the request around it goes.
    pub fn make(key_id: &str, secret: &[u8], url: &str, account: &Jwk) -> Value {
        let header = serde_json::json!({ "alg": "HS256", "kid": key_id, "url": url }).to_string();
        let (protected, payload) = (base64url(header.as_bytes()), base64url(account.to_value().to_string().as_bytes()));
        let signed =
            hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, secret), format!("{protected}.{payload}").as_bytes());
        serde_json::json!({ "protected": protected, "payload": payload, "signature": base64url(signed.as_ref()) })
    }

    /// Sees that the invitation's key made it.
    ///
    /// Errors: [`ProblemType::Unauthorized`].
    pub fn verify(&self, secret: &[u8]) -> Result<(), Problem> {
        let key = hmac::Key::new(self.algorithm, secret);
        hmac::verify(&key, &self.parts.signed, &self.parts.signature).map_err(|_| {
            Problem::new(
                ProblemType::Unauthorized,
                "the external account binding was not made with the key of that invitation",
            )
        })
    }
}
