//! Signed requests: JWS with flattened JSON (RFC 7515 section 7.2.2), as RFC 8555 section 6.2 narrows it.

use crate::enrollment::from_base64url;
use crate::enrollment::jwk::{ALGORITHMS, Algorithm, Jwk};
use crate::enrollment::problem::{Problem, ProblemType};
use crate::vocabulary::text::harmless;
use serde_json::Value;

/// Upper bound on a request's body in octets: the largest certificate request, written twice in base64, is far below.
pub const LONGEST: usize = 64 << 10;

/// Who signed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Signer {
    /// A key by itself: for a new account, or for revoking by the certificate's own key.
    Key(Jwk),
    /// An account, by its URL.
    Account(String),
}

/// A request, whose signature is still to be verified.
#[derive(Clone, Debug)]
pub struct Request {
    /// Who says that he signed it.
    pub signer: Signer,
    /// The nonce; None where there is none, as in a request inside another.
    pub nonce: Option<String>,
    /// Where it was meant to go.
    pub url: String,
    /// What it says: empty for a POST that only reads (RFC 8555 section 6.3).
    pub payload: Vec<u8>,
    algorithm: Algorithm,
    signed: Vec<u8>,
    signature: Vec<u8>,
}

/// The three parts of a flattened JWS, decoded.
pub(super) struct Parts {
    pub(super) header: serde_json::Map<String, Value>,
    pub(super) payload: Vec<u8>,
    pub(super) signed: Vec<u8>,
    pub(super) signature: Vec<u8>,
}

/// Takes a flattened JWS apart.
pub(super) fn parts(value: &Value) -> Result<Parts, Problem> {
    let malformed = |why: &str| Problem::malformed(format!("the body is no signed request: {why}"));
    let object = value.as_object().ok_or_else(|| malformed("it is no JSON object"))?;
    if object.contains_key("header") {
        return Err(malformed("it has an unprotected header, which nobody signed"));
    }
    if object.contains_key("signatures") {
        return Err(malformed("it has several signatures; the flattened form has one"));
    }
    let text = |member: &str| {
        object
            .get(member)
            .and_then(Value::as_str)
            .ok_or_else(|| malformed(&format!("it has no {member}, or it is no string")))
    };
    let (protected, payload, signature) = (text("protected")?, text("payload")?, text("signature")?);
    let octets = |text: &str, what: &str| {
        from_base64url(text).ok_or_else(|| malformed(&format!("its {what} is not base64url without padding")))
    };
    let header: Value = serde_json::from_slice(&octets(protected, "protected header")?)
        .map_err(|_| malformed("its protected header is no JSON"))?;
    let Value::Object(header) = header else { return Err(malformed("its protected header is no JSON object")) };
    if header.contains_key("crit") || header.contains_key("b64") {
        return Err(malformed("its header wants extensions that are not known here"));
    }
    Ok(Parts {
        header,
        payload: octets(payload, "payload")?,
        signed: format!("{protected}.{payload}").into_bytes(),
        signature: octets(signature, "signature")?,
    })
}

impl Request {
    /// Reads a body.
    ///
    /// Errors: [`ProblemType::Malformed`]; [`ProblemType::BadSignatureAlgorithm`] with those that are taken;
    /// [`ProblemType::BadPublicKey`].
    pub fn parse(body: &[u8]) -> Result<Request, Problem> {
        if body.len() > LONGEST {
            return Err(Problem::malformed(format!("the body has more than {} KiB", LONGEST >> 10)).with_status(413));
        }
        // Deep nesting is refused by the parser itself.
        let value = serde_json::from_slice(body).map_err(|_| Problem::malformed("the body is no JSON"))?;
        Request::of(&value)
    }

    /// The same of a value inside another request.
    ///
    /// Errors: as for [`Request::parse`].
    pub fn of(value: &Value) -> Result<Request, Problem> {
        let Parts { header, payload, signed, signature } = parts(value)?;
        let text = |member: &str| header.get(member).and_then(Value::as_str);
        let typed = text("alg").ok_or_else(|| Problem::malformed("the protected header has no alg"))?;
        let algorithm = Algorithm::ALL.into_iter().find(|a| a.word() == typed).ok_or_else(|| Problem {
            algorithms: &ALGORITHMS,
            ..Problem::new(
                ProblemType::BadSignatureAlgorithm,
                format!("the algorithm {} is not taken: use one of {}", harmless(typed), ALGORITHMS.join(", ")),
            )
        })?;
        let signer = match (header.get("jwk"), header.get("kid")) {
            (Some(jwk), None) => Signer::Key(Jwk::parse(jwk)?),
            (None, Some(Value::String(kid))) => Signer::Account(kid.clone()),
            (None, Some(_)) => return Err(Problem::malformed("the kid is no string")),
            (Some(_), Some(_)) => return Err(Problem::malformed("the header has both jwk and kid")),
            (None, None) => return Err(Problem::malformed("the header has neither jwk nor kid")),
        };
        let nonce = match header.get("nonce") {
            None => None,
            Some(Value::String(nonce)) if from_base64url(nonce).is_some() => Some(nonce.clone()),
            Some(_) => return Err(Problem::malformed("the nonce is not base64url (RFC 8555 section 6.5.2)")),
        };
        let url = text("url").ok_or_else(|| Problem::malformed("the protected header has no url"))?.to_owned();
        Ok(Request { signer, nonce, url, payload, algorithm, signed, signature })
    }

    /// Sees that a key signed it.
    ///
    /// Errors: [`ProblemType::BadSignatureAlgorithm`] where the key signs otherwise; [`ProblemType::Malformed`] for a signature that
    /// is not its.
    pub fn verify(&self, key: &Jwk) -> Result<(), Problem> {
        if key.algorithm() != self.algorithm {
            return Err(Problem {
                algorithms: &ALGORITHMS,
                ..Problem::new(
                    ProblemType::BadSignatureAlgorithm,
                    format!("the header says {}, and this key signs with {}", self.algorithm, key.algorithm()),
                )
            });
        }
        if key.verifies(&self.signed, &self.signature) {
            return Ok(());
        }
        Err(Problem::malformed("the signature is not that of the key"))
    }

    /// What it says, as a JSON object.
    ///
    /// Errors: [`ProblemType::Malformed`] where it is none.
    pub fn object(&self) -> Result<serde_json::Map<String, Value>, Problem> {
        match serde_json::from_slice(&self.payload) {
            Ok(Value::Object(object)) => Ok(object),
            _ => Err(Problem::malformed("the payload is no JSON object")),
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
    use crate::enrollment::base64url;
    use serde_json::json;

    fn body(header: &Value, payload: &[u8], signature: &str) -> Vec<u8> {
        let protected = base64url(header.to_string().as_bytes());
        json!({ "protected": protected, "payload": base64url(payload), "signature": signature })
            .to_string()
            .into_bytes()
    }

    fn kind(body: &[u8]) -> ProblemType {
        Request::parse(body).unwrap_err().kind
    }

    #[test]
    fn what_is_no_signed_request_is_refused() {
        let good = json!({ "alg": "ES256", "kid": "https://a/1", "nonce": "AAAA", "url": "https://a/order" });
        assert!(Request::parse(&body(&good, b"{}", "AAAA")).is_ok());
        for text in ["", "null", "[]", "{}", "1", "\"x\"", "{\"protected\":1}", "{\"protected\":\"\",\"payload\":\"\"}"]
        {
            assert_eq!(kind(text.as_bytes()), ProblemType::Malformed, "{text}");
        }
        let deep = format!("{}{}", "[".repeat(5000), "]".repeat(5000));
        assert_eq!(kind(deep.as_bytes()), ProblemType::Malformed);
        assert_eq!(Request::parse(&vec![b' '; 4 << 20]).unwrap_err().status, 413);
        for (change, wanted) in [
            (json!({ "alg": "none" }), ProblemType::BadSignatureAlgorithm),
            (json!({ "alg": "HS256" }), ProblemType::BadSignatureAlgorithm),
            (json!({ "alg": null }), ProblemType::Malformed),
            (json!({ "kid": 7 }), ProblemType::Malformed),
            (json!({ "jwk": {} }), ProblemType::Malformed),
            (json!({ "kid": null, "jwk": {} }), ProblemType::Malformed),
            (json!({ "nonce": "a b" }), ProblemType::Malformed),
            (json!({ "nonce": "AAAA=" }), ProblemType::Malformed),
            (json!({ "url": null }), ProblemType::Malformed),
            (json!({ "crit": ["b64"] }), ProblemType::Malformed),
            (json!({ "b64": false }), ProblemType::Malformed),
        ] {
            let mut header = good.clone();
            header.as_object_mut().unwrap().extend(change.as_object().unwrap().clone());
            assert_eq!(kind(&body(&header, b"{}", "AAAA")), wanted, "{change}");
        }
        let unprotected = json!({ "protected": base64url(good.to_string().as_bytes()), "payload": "", "signature": "", "header": {} });
        assert_eq!(kind(unprotected.to_string().as_bytes()), ProblemType::Malformed);
    }

    #[test]
    fn a_signature_counts_only_for_its_key_and_its_bytes() {
        use ring::signature::{Ed25519KeyPair, KeyPair};
        let pair = Ed25519KeyPair::from_seed_unchecked(&[7; 32]).unwrap();
        let key = Jwk::Ed25519(pair.public_key().as_ref().to_vec());
        let header = json!({ "alg": "EdDSA", "jwk": key.to_value(), "nonce": "AAAA", "url": "https://a/new" });
        let signed = format!("{}.{}", base64url(header.to_string().as_bytes()), base64url(b"{\"a\":1}"));
        let signature = base64url(pair.sign(signed.as_bytes()).as_ref());
        let request = Request::parse(&body(&header, b"{\"a\":1}", &signature)).unwrap();
        assert_eq!(request.signer, Signer::Key(key.clone()));
        assert_eq!(request.verify(&key), Ok(()));
        assert_eq!(request.object().unwrap()["a"], 1);
        let other = Request::parse(&body(&header, b"{\"a\":2}", &signature)).unwrap();
        assert_eq!(other.verify(&key).unwrap_err().kind, ProblemType::Malformed);
        let (certificate, _) = crate::sample::leaf(&["charts.saltmarsh.test"]).unwrap();
        let another = Jwk::of_spki(certificate.key.spki()).unwrap();
        assert_eq!(request.verify(&another).unwrap_err().kind, ProblemType::BadSignatureAlgorithm);
    }
}
