//! Signed requests: JWS with flattened JSON (RFC 7515 section 7.2.2), as RFC 8555 section 6.2 narrows it.

use crate::enrollment::jwk::{ALGORITHMS, Algorithm, Jwk};
use crate::enrollment::problem::{Problem, ProblemType};
use crate::enrollment::{base64url, from_base64url};
use crate::error::Error;
use crate::pki::format::tlv;
use crate::pki::key::SigningKey;
use crate::plan::ports::Entropy;
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

/// A signed request as a body. `nonce` is None for a request inside another.
///
/// Errors: a key of a kind with which requests are not signed here; the key cannot sign.
pub fn sign(
    key: &dyn SigningKey,
    signer: &Signer,
    nonce: Option<&str>,
    url: &str,
    payload: &[u8],
    entropy: &dyn Entropy,
) -> crate::error::Result<Vec<u8>> {
    const KIND: Error = Error::Crypto { doing: "signing a request: the account's key is of another kind" };
    let own = Jwk::of_spki(key.public().spki()).ok_or(KIND)?;
    let mut header = serde_json::Map::new();
    header.insert("alg".into(), own.algorithm().word().into());
    header.extend(nonce.map(|n| ("nonce".to_owned(), n.into())));
    header.insert("url".into(), url.into());
    match signer {
        Signer::Key(jwk) => header.insert("jwk".into(), jwk.to_value()),
        Signer::Account(kid) => header.insert("kid".into(), kid.clone().into()),
    };
    let protected = base64url(Value::Object(header).to_string().as_bytes());
    let payload = base64url(payload);
    let signature = key.sign(format!("{protected}.{payload}").as_bytes(), entropy)?;
    let signature = match &own {
        Jwk::Ec { curve, .. } => fixed(&signature, curve.length()).ok_or(KIND)?,
        _ => signature,
    };
    let body = serde_json::json!({ "protected": protected, "payload": payload, "signature": base64url(&signature) });
    Ok(body.to_string().into_bytes())
}

/// The two numbers of an ECDSA signature, each as long as the curve's field (RFC 7518 section 3.4), of its DER (RFC 3279 section 2.2.3).
fn fixed(der: &[u8], length: usize) -> Option<Vec<u8>> {
    let numbers = tlv::all(tlv::one(der)?.expect(tlv::SEQUENCE)?)?;
    let [r, s] = numbers.as_slice() else { return None };
    let mut out = Vec::with_capacity(2 * length);
    for number in [r, s] {
        let octets = number.expect(tlv::INTEGER)?;
        let octets = octets.strip_prefix(&[0]).unwrap_or(octets);
        out.resize(out.len() + length.checked_sub(octets.len())?, 0);
        out.extend(octets);
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
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
    fn what_is_signed_here_is_verified_here() {
        use crate::pki::key::{KeyAlgorithm, PrivateKey};
        use crate::sample::Foreseeable;
        for kind in [KeyAlgorithm::P256, KeyAlgorithm::P384, KeyAlgorithm::P521, KeyAlgorithm::Ed25519] {
            let key = PrivateKey::generate(kind, &Foreseeable).unwrap();
            let jwk = Jwk::of_spki(key.public().spki()).unwrap();
            for signer in [Signer::Key(jwk.clone()), Signer::Account("https://a/account/1".into())] {
                let body = sign(&key, &signer, Some("AAAA"), "https://a/new", b"{}", &Foreseeable).unwrap();
                let request = Request::parse(&body).unwrap();
                assert_eq!((request.signer.clone(), request.verify(&jwk)), (signer, Ok(())), "{kind}");
            }
        }
        assert_eq!(fixed(&[0x30, 6, 2, 1, 1, 2, 1, 2], 2), Some(vec![0, 1, 0, 2]));
        for wrong in [&[][..], &[0x30, 3, 2, 1, 1], &[0x30, 8, 2, 3, 1, 2, 3, 2, 1, 2]] {
            assert_eq!(fixed(wrong, 2), None);
        }
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
