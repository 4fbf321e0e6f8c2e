//! OCSP (RFC 6960): questions about certificates read from anybody, and answers signed by the issuer or by one whom it made responder.

use crate::error::{Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::cert::extensions::{serial_hex, serial_octets};
use crate::pki::format::tlv::{self, FIRST, INTEGER, NULL, OCTETS, OID, SEQUENCE, write};
use crate::pki::key::SigningKey;
use crate::plan::ports::Entropy;
use crate::vocabulary::reason::Reason;
use crate::vocabulary::timestamp::Timestamp;
use const_oid::ObjectIdentifier;
use der::Encode;
use sha1::Sha1;
use sha2::{Digest, Sha256};

/// Upper bound on a question in octets: one about sixteen certificates has 2,000.
pub const LONGEST: usize = 8 << 10;
/// A question about more certificates is refused.
const MOST_ASKED: usize = 16;
/// A nonce has at most so many octets (RFC 9654 section 2.1).
const LONGEST_NONCE: usize = 128;

const SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
const SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
const NONCE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.2");
const BASIC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.1");
/// `[1]` and `[2]`, each with something whole inside.
const SECOND: u8 = 0xa1;
const THIRD: u8 = 0xa2;
const BIT_STRING: u8 = 0x03;
const ENUMERATED: u8 = 0x0a;
const GENERALIZED_TIME: u8 = 0x18;

/// Which certificate is asked for: by hashes of its issuer's name and key (RFC 6960 section 4.1.1).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CertificateId {
    der: Vec<u8>,
    hash: ObjectIdentifier,
    name: Vec<u8>,
    key: Vec<u8>,
    /// The serial number, lower-case hex without a leading zero octet.
    pub serial: String,
}

impl CertificateId {
    /// True if this is the issuer that is meant. Only SHA-1, which clients use, and SHA-256 are computed.
    pub fn is_of(&self, issuer: &Certificate) -> bool {
        let key = issuer.key.bits();
        match self.hash {
            SHA1 => self.name == Sha1::digest(&issuer.subject)[..] && self.key == Sha1::digest(key)[..],
            SHA256 => self.name == Sha256::digest(&issuer.subject)[..] && self.key == Sha256::digest(key)[..],
            _ => false,
        }
    }
}

/// A question.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Request {
    /// The certificates that are asked for, at least one.
    pub asked: Vec<CertificateId>,
    /// What the answer must repeat (RFC 9654).
    pub nonce: Option<Vec<u8>>,
}

impl Request {
    /// Reads DER. Its signature, if it has one, is not looked at: everybody may ask.
    ///
    /// Errors: it is too long, does not parse (RFC 6960 section 4.1.1), or asks for nothing or for too much.
    pub fn read(der: &[u8]) -> Result<Request> {
        let malformed = || Error::Malformed {
            what: "the OCSP request".into(),
            why: "it does not parse (RFC 6960 section 4.1.1)".into(),
        };
        if der.len() > LONGEST {
            return Err(malformed());
        }
        parsed(der).ok_or_else(malformed)
    }
}

fn parsed(der: &[u8]) -> Option<Request> {
    let outer = tlv::all(tlv::one(der)?.expect(SEQUENCE)?)?;
    let mut inner = tlv::all(outer.first()?.expect(SEQUENCE)?)?.into_iter().peekable();
    // Version and requestor's name may be left away.
    inner.next_if(|t| t.tag == FIRST);
    inner.next_if(|t| t.tag == SECOND);
    let list = tlv::all(inner.next()?.expect(SEQUENCE)?)?;
    if list.is_empty() || list.len() > MOST_ASKED {
        return None;
    }
    let asked =
        list.iter().map(|one| certificate_id(tlv::all(one.expect(SEQUENCE)?)?.first()?)).collect::<Option<_>>()?;
    let mut nonce = None;
    if let Some(extensions) = inner.next().filter(|t| t.tag == THIRD) {
        for extension in tlv::all(tlv::one(extensions.body)?.expect(SEQUENCE)?)? {
            let parts = tlv::all(extension.expect(SEQUENCE)?)?;
            let value = parts.last()?.expect(OCTETS)?;
            if parts.first()?.expect(OID)? == NONCE.as_bytes() {
                // The value is an OCTET STRING itself; older clients write the octets as they are.
                let octets = tlv::one(value).and_then(|t| t.expect(OCTETS)).unwrap_or(value);
                if octets.is_empty() || octets.len() > LONGEST_NONCE {
                    return None;
                }
                nonce = Some(value.to_vec());
            }
        }
    }
    Some(Request { asked, nonce })
}

fn certificate_id(t: &tlv::Tlv<'_>) -> Option<CertificateId> {
    let parts = tlv::all(t.expect(SEQUENCE)?)?;
    let [algorithm, name, key, serial] = parts.as_slice() else { return None };
    let hash = tlv::all(algorithm.expect(SEQUENCE)?)?
        .first()?
        .expect(OID)
        .and_then(|b| ObjectIdentifier::from_bytes(b).ok())?;
    let number = serial.expect(INTEGER).filter(|b| !b.is_empty() && b.len() <= 21)?;
    Some(CertificateId {
        der: t.whole.to_vec(),
        hash,
        name: name.expect(OCTETS)?.to_vec(),
        key: key.expect(OCTETS)?.to_vec(),
        serial: serial_hex(number),
    })
}

/// What is said of a certificate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// It was issued and is not revoked.
    Good,
    /// It is revoked.
    Revoked {
        /// Since when.
        at: Timestamp,
        /// Why.
        reason: Reason,
    },
    /// It was not issued here.
    Unknown,
}

/// Why nothing is said (RFC 6960 section 4.2.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// The question does not parse.
    Malformed = 1,
    /// A fault of the responder.
    Internal = 2,
    /// Later, perhaps.
    TryLater = 3,
    /// Nothing is known of that issuer here.
    Unauthorized = 6,
}

impl Refusal {
    /// The answer: DER.
    pub fn to_der(self) -> Vec<u8> {
        write(SEQUENCE, &[&write(ENUMERATED, &[&[self as u8]])]).to_vec()
    }
}

/// Who answers, and for how long it counts.
pub struct Responder<'a> {
    /// Its certificate: the issuer's own, or one that the issuer made for this.
    pub certificate: &'a Certificate,
    /// Its key.
    pub key: &'a dyn SigningKey,
    /// True if the certificate goes with the answer: one that was made for this is not known to the client.
    pub is_delegated: bool,
    /// Now.
    pub this_update: Timestamp,
    /// When there is something newer.
    pub next_update: Timestamp,
}

impl Responder<'_> {
    /// A signed answer, DER; `nonce` as it was asked.
    ///
    /// Errors: the key cannot sign.
    pub fn answer(
        &self,
        answers: &[(CertificateId, Standing)],
        nonce: Option<&[u8]>,
        entropy: &dyn Entropy,
    ) -> Result<Vec<u8>> {
        const ENCODING: Error = Error::Crypto { doing: "encoding an OCSP response" };
        let by_key = write(THIRD, &[&write(OCTETS, &[&Sha1::digest(self.certificate.key.bits())])]);
        let single: Vec<Vec<u8>> = answers.iter().map(|(id, standing)| self.single(id, *standing)).collect();
        let list = write(SEQUENCE, &single.iter().map(Vec::as_slice).collect::<Vec<_>>());
        let extensions = nonce.map(|n| {
            let one = write(SEQUENCE, &[&write(OID, &[NONCE.as_bytes()]), &write(OCTETS, &[n])]);
            write(SECOND, &[&write(SEQUENCE, &[&one])])
        });
        let produced = time(self.this_update);
        let mut parts: Vec<&[u8]> = vec![&by_key, &produced, &list];
        parts.extend(extensions.iter().map(|e| e.as_slice()));
        let data = write(SEQUENCE, &parts);
        let signature = self.key.sign(&data, entropy)?;
        let algorithm = self.key.signature_algorithm().to_der().map_err(|_| ENCODING)?;
        let bits = write(BIT_STRING, &[&[0], &signature]);
        let certificates = write(FIRST, &[&write(SEQUENCE, &[self.certificate.der()])]);
        let mut parts: Vec<&[u8]> = vec![&data, &algorithm, &bits];
        if self.is_delegated {
            parts.push(&certificates);
        }
        let basic = write(SEQUENCE, &parts);
        let bytes = write(SEQUENCE, &[&write(OID, &[BASIC.as_bytes()]), &write(OCTETS, &[&basic])]);
        Ok(write(SEQUENCE, &[&write(ENUMERATED, &[&[0]]), &write(FIRST, &[&bytes])]).to_vec())
    }

    fn single(&self, id: &CertificateId, standing: Standing) -> Vec<u8> {
        // [0] and [2] without a body, [1] with when and why.
        let status = match standing {
            Standing::Good => write(0x80, &[]),
            Standing::Unknown => write(0x82, &[]),
            Standing::Revoked { at, reason: Reason::Unspecified } => write(SECOND, &[&time(at)]),
            Standing::Revoked { at, reason } => {
                let why = write(FIRST, &[&write(ENUMERATED, &[&[reason.number()]])]);
                write(SECOND, &[&time(at), &why])
            }
        };
        let next = write(FIRST, &[&time(self.next_update)]);
        write(SEQUENCE, &[&id.der, &status, &time(self.this_update), &next]).to_vec()
    }
}

/// A GeneralizedTime: `YYYYMMDDHHMMSSZ`.
fn time(at: Timestamp) -> Vec<u8> {
    let digits: String = at.to_string().chars().filter(char::is_ascii_digit).collect();
    write(GENERALIZED_TIME, &[digits.as_bytes(), b"Z"]).to_vec()
}

/// A question about a certificate, as a client writes it: with SHA-1, which every responder computes, and without a nonce.
pub fn question(certificate: &Certificate, issuer: &Certificate) -> Vec<u8> {
    let serial = serial_octets(&certificate.serial).unwrap_or_default();
    let algorithm = write(SEQUENCE, &[&write(OID, &[SHA1.as_bytes()]), &write(NULL, &[])]);
    let id = write(
        SEQUENCE,
        &[
            &algorithm,
            &write(OCTETS, &[&Sha1::digest(&issuer.subject)]),
            &write(OCTETS, &[&Sha1::digest(issuer.key.bits())]),
            &write(INTEGER, &[&serial]),
        ],
    );
    let list = write(SEQUENCE, &[&write(SEQUENCE, &[&id])]);
    write(SEQUENCE, &[&write(SEQUENCE, &[&list])]).to_vec()
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
    use crate::sample::{Foreseeable, leaf};
    use proptest::prelude::*;

    #[test]
    fn a_question_is_read_and_answered() {
        let (certificate, key) = leaf(&["charts.saltmarsh.test"]).unwrap();
        let request = Request::read(&question(&certificate, &certificate)).unwrap();
        assert_eq!((request.asked.len(), request.nonce.clone()), (1, None));
        assert!(request.asked[0].is_of(&certificate));
        assert_eq!(request.asked[0].serial, certificate.serial);
        let (other, _) = leaf(&["archive.saltmarsh.test"]).unwrap();
        assert!(!request.asked[0].is_of(&other) || other.key == certificate.key);
        let responder = Responder {
            certificate: &certificate,
            key: &key,
            is_delegated: false,
            this_update: certificate.not_before,
            next_update: certificate.not_after,
        };
        let answer = responder.answer(&[(request.asked[0].clone(), Standing::Good)], None, &Foreseeable).unwrap();
        assert_eq!(answer.first(), Some(&SEQUENCE));
        assert_eq!(Refusal::Unauthorized.to_der(), [0x30, 3, 0x0a, 1, 6]);
    }

    proptest! {
        #[test]
        fn any_octets_are_a_question_or_none(octets in proptest::collection::vec(any::<u8>(), 0..300), flip in 0..2000_usize) {
            let _ = Request::read(&octets);
            let (certificate, _) = leaf(&["charts.saltmarsh.test"]).unwrap();
            let mut good = question(&certificate, &certificate);
            let at = flip % good.len();
            good[at] ^= (flip / 8) as u8 | 1;
            let _ = Request::read(&good);
        }
    }
}
