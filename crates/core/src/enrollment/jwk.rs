//! Public keys as JSON (RFC 7517, RFC 7518 section 6, RFC 8037) and what is signed with them.

use crate::enrollment::problem::{Problem, ProblemType};
use crate::enrollment::{base64url, from_base64url};
use der::Decode;
use ring::signature as r;
use serde_json::{Map, Value};
use sha2::{Digest, Sha256};
use spki::SubjectPublicKeyInfoRef;

/// A key of an account, or of a certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Jwk {
    /// A point on a curve, each coordinate as long as the curve's field.
    Ec {
        /// The curve.
        curve: Curve,
        /// Its first coordinate.
        x: Vec<u8>,
        /// Its second.
        y: Vec<u8>,
    },
    /// Ed25519: 32 octets.
    Ed25519(Vec<u8>),
    /// RSA: modulus and exponent without leading zeros.
    Rsa {
        /// The modulus.
        n: Vec<u8>,
        /// The exponent.
        e: Vec<u8>,
    },
}

crate::words! {
    /// A curve of NIST's.
    pub enum Curve: "curve" {
        /// 256 bits.
        P256 = "P-256",
        /// 384 bits.
        P384 = "P-384",
        /// 521 bits.
        P521 = "P-521",
    }
}

impl Curve {
    /// The octets of a coordinate.
    pub(super) fn length(self) -> usize {
        match self {
            Curve::P256 => 32,
            Curve::P384 => 48,
            Curve::P521 => 66,
        }
    }
}

crate::words! {
    /// An algorithm of a signature (RFC 7518 section 3.1, RFC 8037 section 3.1).
    pub enum Algorithm: "signature algorithm" {
        /// ECDSA on P-256 with SHA-256.
        Es256 = "ES256",
        /// ECDSA on P-384 with SHA-384.
        Es384 = "ES384",
        /// ECDSA on P-521 with SHA-512.
        Es512 = "ES512",
        /// Ed25519.
        EdDsa = "EdDSA",
        /// RSA (PKCS#1) with SHA-256.
        Rs256 = "RS256",
    }
}

/// The algorithms that are taken, as a problem document lists them.
pub const ALGORITHMS: [&str; 5] = ["ES256", "ES384", "ES512", "EdDSA", "RS256"];

/// Bounds on the bits of an RSA modulus.
const RSA_BITS: std::ops::RangeInclusive<usize> = 2048..=8192;

fn refused(detail: impl Into<String>) -> Problem {
    Problem::new(ProblemType::BadPublicKey, detail)
}

impl Jwk {
    /// Reads a key, and sees that it is one: the point on its curve, the modulus of a size that counts.
    ///
    /// Errors: [`ProblemType::BadPublicKey`].
    pub fn parse(value: &Value) -> Result<Jwk, Problem> {
        let object = value.as_object().ok_or_else(|| refused("the key is no JSON object"))?;
        if ["d", "p", "q", "k"].iter().any(|m| object.contains_key(*m)) {
            return Err(refused("the key has a private part: throw it away and make another"));
        }
        let text = |member: &str| object.get(member).and_then(Value::as_str);
        let octets = |member: &str| {
            text(member)
                .and_then(from_base64url)
                .ok_or_else(|| refused(format!("the key has no {member} in base64url")))
        };
        match (text("kty"), text("crv")) {
            (Some("EC"), Some(crv)) => {
                let curve: Curve = crv.parse().map_err(|_| refused("the curve is none of P-256, P-384 and P-521"))?;
                let key = Jwk::Ec { curve, x: octets("x")?, y: octets("y")? };
                key.on_curve().then_some(key).ok_or_else(|| refused("the point is not on its curve"))
            }
            (Some("OKP"), Some("Ed25519")) => match octets("x")? {
                x if x.len() == 32 => Ok(Jwk::Ed25519(x)),
                _ => Err(refused("a key of Ed25519 has 32 octets")),
            },
            (Some("RSA"), _) => {
                let (n, e) = (octets("n")?, octets("e")?);
                let bits = n.len() * 8 - n.first().map_or(0, |b| b.leading_zeros() as usize);
                if n.first() == Some(&0) || !RSA_BITS.contains(&bits) {
                    return Err(refused("an RSA key has 2048 to 8192 bits here"));
                }
                let odd = e.last().is_some_and(|b| b & 1 == 1);
                if e.is_empty() || e.len() > 4 || e[0] == 0 || !odd || e == [1] {
                    return Err(refused("the exponent of the RSA key is not taken: use 65537"));
                }
                Ok(Jwk::Rsa { n, e })
            }
            _ => Err(refused("keys are EC (P-256, P-384, P-521), OKP (Ed25519) or RSA here")),
        }
    }

    /// Of a SubjectPublicKeyInfo; None for a key of another kind.
    pub fn of_spki(spki: &[u8]) -> Option<Jwk> {
        let info = SubjectPublicKeyInfoRef::from_der(spki).ok()?;
        let key = info.subject_public_key.as_bytes()?;
        match info.algorithm.oid.to_string().as_str() {
            "1.2.840.10045.2.1" => {
                let curve = Curve::ALL.into_iter().find(|c| key.len() == 1 + 2 * c.length())?;
                let (x, y) = key.strip_prefix(&[4])?.split_at(curve.length());
                let key = Jwk::Ec { curve, x: x.to_vec(), y: y.to_vec() };
                key.on_curve().then_some(key)
            }
            "1.3.101.112" => Some(Jwk::Ed25519(key.to_vec())),
            "1.2.840.113549.1.1.1" => {
                let key = rsa::pkcs1::RsaPublicKey::<der::asn1::UintRef<'_>>::from_der(key).ok()?;
                Some(Jwk::Rsa { n: key.modulus.as_bytes().to_vec(), e: key.public_exponent.as_bytes().to_vec() })
            }
            _ => None,
        }
    }

    /// Uncompressed, as SEC 1 section 2.3.3 writes it; None if it is no point.
    fn point(&self) -> Option<Vec<u8>> {
        match self {
            Jwk::Ec { x, y, .. } => Some([&[4][..], x, y].concat()),
            _ => None,
        }
    }

    fn on_curve(&self) -> bool {
        let (Jwk::Ec { curve, x, y }, Some(point)) = (self, self.point()) else { return false };
        x.len() == curve.length()
            && y.len() == curve.length()
            && match curve {
                Curve::P256 => p256::PublicKey::from_sec1_bytes(&point).is_ok(),
                Curve::P384 => p384::PublicKey::from_sec1_bytes(&point).is_ok(),
                Curve::P521 => p521::PublicKey::from_sec1_bytes(&point).is_ok(),
            }
    }

    /// The members that make the key, in the order in which RFC 7638 section 3.2 wants them.
    fn members(&self) -> Vec<(&'static str, String)> {
        match self {
            Jwk::Ec { curve, x, y } => {
                vec![("crv", curve.word().into()), ("kty", "EC".into()), ("x", base64url(x)), ("y", base64url(y))]
            }
            Jwk::Ed25519(x) => vec![("crv", "Ed25519".into()), ("kty", "OKP".into()), ("x", base64url(x))],
            Jwk::Rsa { n, e } => vec![("e", base64url(e)), ("kty", "RSA".into()), ("n", base64url(n))],
        }
    }

    /// As JSON.
    pub fn to_value(&self) -> Value {
        Value::Object(self.members().into_iter().map(|(k, v)| (k.to_owned(), Value::String(v))).collect::<Map<_, _>>())
    }

    /// SHA-256 of the canonical form, base64url (RFC 7638).
    pub fn thumbprint(&self) -> String {
        let members: Vec<String> = self.members().iter().map(|(k, v)| format!("\"{k}\":\"{v}\"")).collect();
        base64url(&Sha256::digest(format!("{{{}}}", members.join(","))))
    }

    /// The algorithm with which this key signs.
    pub fn algorithm(&self) -> Algorithm {
        match self {
            Jwk::Ec { curve: Curve::P256, .. } => Algorithm::Es256,
            Jwk::Ec { curve: Curve::P384, .. } => Algorithm::Es384,
            Jwk::Ec { curve: Curve::P521, .. } => Algorithm::Es512,
            Jwk::Ed25519(_) => Algorithm::EdDsa,
            Jwk::Rsa { .. } => Algorithm::Rs256,
        }
    }

    /// True if a signature over a message is this key's.
    pub fn verifies(&self, message: &[u8], signature: &[u8]) -> bool {
        match self {
            Jwk::Ec { curve, .. } => {
                let point = self.point().unwrap_or_default();
                let by: &dyn r::VerificationAlgorithm = match curve {
                    Curve::P256 => &r::ECDSA_P256_SHA256_FIXED,
                    Curve::P384 => &r::ECDSA_P384_SHA384_FIXED,
                    Curve::P521 => return es512(&point, message, signature),
                };
                r::UnparsedPublicKey::new(by, point).verify(message, signature).is_ok()
            }
            Jwk::Ed25519(x) => r::UnparsedPublicKey::new(&r::ED25519, x).verify(message, signature).is_ok(),
            Jwk::Rsa { n, e } => {
                r::RsaPublicKeyComponents { n, e }.verify(&r::RSA_PKCS1_2048_8192_SHA256, message, signature).is_ok()
            }
        }
    }
}

fn es512(point: &[u8], message: &[u8], signature: &[u8]) -> bool {
    use p521::ecdsa::signature::Verifier;
    let key = p521::ecdsa::VerifyingKey::from_sec1_bytes(point);
    let signature = p521::ecdsa::Signature::from_slice(signature);
    matches!((key, signature), (Ok(key), Ok(signature)) if key.verify(message, &signature).is_ok())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;

    /// RFC 7638 section 3.1.
    #[test]
    fn the_thumbprint_of_the_standard() {
        let key = serde_json::json!({
            "kty": "RSA",
            "n": "0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhDR1L6tSoc_BJECPebWKRXjBZCiFV4n3oknjhMstn64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0_FDW2QvzqY368QQMicAtaSqzs8KJZgnYb9c7d0zgdAZHzu6qMQvRL5hajrn1n91CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xBniIqbw0Ls1jF44-csFCur-kEgU8awapJzKnqDKgw",
            "e": "AQAB",
            "alg": "RS256",
            "kid": "2011-04-29"
        });
        let key = Jwk::parse(&key).unwrap();
        assert_eq!(key.thumbprint(), "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs");
        assert_eq!(Jwk::parse(&key.to_value()), Ok(key));
    }

    /// RFC 8037 appendix A.2, A.3 and A.4.
    #[test]
    fn ed25519_of_the_standard() {
        let key =
            serde_json::json!({ "kty": "OKP", "crv": "Ed25519", "x": "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo" });
        let key = Jwk::parse(&key).unwrap();
        assert_eq!(key.thumbprint(), "kPrK_qmxVWaYVA9wwBF6Iuo3vVzz7TxHCTwXBygrS4k");
        let signature =
            from_base64url("hgyY0il_MGCjP0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhijcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg");
        let message = b"eyJhbGciOiJFZERTQSJ9.RXhhbXBsZSBvZiBFZDI1NTE5IHNpZ25pbmc";
        assert!(key.verifies(message, &signature.clone().unwrap()));
        assert!(!key.verifies(b"another", &signature.unwrap()));
    }

    /// RFC 7515 appendix A.3.
    #[test]
    fn curves_of_the_standard() {
        let p256 = serde_json::json!({ "kty": "EC", "crv": "P-256",
            "x": "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU", "y": "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0" });
        let message = b"eyJhbGciOiJFUzI1NiJ9.eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ";
        let signature = "DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q";
        assert!(Jwk::parse(&p256).unwrap().verifies(message, &from_base64url(signature).unwrap()));
        // ES512 has its two numbers as long as the field (RFC 7518 section 3.4).
        use p521::ecdsa::signature::Signer;
        let key = p521::ecdsa::SigningKey::from_slice(&[1; 66]).unwrap();
        let point = key.verifying_key().to_sec1_point(false);
        let (x, y) = point.as_bytes()[1..].split_at(66);
        let jwk = Jwk::Ec { curve: Curve::P521, x: x.to_vec(), y: y.to_vec() };
        let signature: p521::ecdsa::Signature = key.sign(b"tide");
        assert!(jwk.verifies(b"tide", &signature.to_bytes()) && !jwk.verifies(b"ebb", &signature.to_bytes()));
        assert_eq!(Jwk::parse(&jwk.to_value()), Ok(jwk));
    }

    #[test]
    fn keys_that_are_none_are_refused() {
        let refuse = |key: Value| assert_eq!(Jwk::parse(&key).unwrap_err().kind, ProblemType::BadPublicKey, "{key}");
        let off = "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU";
        refuse(serde_json::json!({ "kty": "EC", "crv": "P-256", "x": off, "y": off }));
        refuse(serde_json::json!({ "kty": "EC", "crv": "secp256k1", "x": off, "y": off }));
        refuse(serde_json::json!({ "kty": "EC", "crv": "P-256", "x": "AA", "y": "AA" }));
        refuse(serde_json::json!({ "kty": "OKP", "crv": "Ed25519", "x": "AA" }));
        refuse(serde_json::json!({ "kty": "OKP", "crv": "X25519", "x": off }));
        refuse(serde_json::json!({ "kty": "OKP", "crv": "Ed25519", "x": off, "d": off }));
        refuse(serde_json::json!({ "kty": "RSA", "n": base64url(&[0xff; 128]), "e": "AQAB" }));
        refuse(serde_json::json!({ "kty": "RSA", "n": base64url(&[0xff; 2048]), "e": "AQAB" }));
        refuse(serde_json::json!({ "kty": "RSA", "n": base64url(&[0xff; 256]), "e": "AQ" }));
        refuse(serde_json::json!({ "kty": "RSA", "n": "", "e": "" }));
        refuse(serde_json::json!({ "kty": "oct", "k": "AAAA" }));
        refuse(serde_json::json!(null));
        refuse(serde_json::json!([]));
    }

    #[test]
    fn a_key_is_the_same_in_a_certificate() {
        let (certificate, key) = crate::sample::leaf(&["charts.saltmarsh.test"]).unwrap();
        let jwk = Jwk::of_spki(certificate.key.spki()).unwrap();
        assert_eq!(jwk, Jwk::of_spki(key.public().spki()).unwrap());
        assert_eq!(Jwk::parse(&jwk.to_value()), Ok(jwk));
    }
}
