//! Certificates alone in a PKCS#7 message (RFC 5652 §5.2: a SignedData with no content and no signer), DER or PEM.

use super::contents::{Contents, unnamed};
use super::pbe::oid;
use super::pem;
use super::tlv::{self, FIRST, OID, SEQUENCE, SET};
use crate::error::{Error, Result};
use const_oid::ObjectIdentifier;
use zeroize::Zeroizing;

const SIGNED_DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.2");
const DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.1");

/// True if these bytes are such a message.
pub fn is_one(bytes: &[u8]) -> bool {
    message(bytes).is_some_and(|der| fields(&der).is_some())
}

/// The message's DER, whichever way it is in the file.
fn message(bytes: &[u8]) -> Option<Zeroizing<Vec<u8>>> {
    if bytes.first() == Some(&SEQUENCE) {
        return tlv::to_der(bytes);
    }
    let (blocks, _) = pem::read(bytes);
    let block = blocks.iter().find(|b| matches!(b.label.as_str(), "PKCS7" | "CMS" | "PKCS #7 SIGNED DATA"))?;
    tlv::to_der(&block.der)
}

fn fields(der: &[u8]) -> Option<Vec<tlv::Tlv<'_>>> {
    let parts = tlv::one(der)?.inside()?;
    (oid(parts.first()?)? == SIGNED_DATA).then(|| tlv::one(parts.get(1)?.expect(FIRST)?)?.inside()).flatten()
}

/// Writes these certificates (DER), in their order, as DER.
///
/// ```
/// use tamga_core::pki::format::pkcs7::{read, write};
/// use tamga_core::sample::root;
///
/// let root = root()?.0.certificate.der().to_vec();
/// assert_eq!(read(&write(&[root.clone()]), "the file")?.certificates[0].thing, root);
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn write(certificates: &[Vec<u8>]) -> Vec<u8> {
    let content = tlv::write(SEQUENCE, &[&tlv::write(OID, &[DATA.as_bytes()])]);
    let all: Vec<&[u8]> = certificates.iter().map(Vec::as_slice).collect();
    let nothing = tlv::write(SET, &[]);
    let signed = tlv::write(SEQUENCE, &[&tlv::integer(1), &nothing, &content, &tlv::write(FIRST, &all), &nothing]);
    tlv::write(SEQUENCE, &[&tlv::write(OID, &[SIGNED_DATA.as_bytes()]), &tlv::write(FIRST, &[&signed])]).to_vec()
}

/// The certificates of one. A signature over content is not looked at.
///
/// Errors: it is damaged, or holds no certificate.
pub fn read(bytes: &[u8], what: &str) -> Result<Contents> {
    let malformed = |why: &str| Error::Malformed { what: what.to_owned(), why: why.to_owned() };
    let der = message(bytes).ok_or_else(|| malformed("its encoding is damaged or cut short"))?;
    let fields = fields(&der).ok_or_else(|| malformed("it is no signed PKCS#7 message"))?;
    let set = fields.iter().find(|f| f.tag == FIRST).ok_or_else(|| malformed("it holds no certificates"))?;
    let inside = set.inside().ok_or_else(|| malformed("the set of certificates is damaged"))?;
    let certificates = inside.iter().filter(|c| c.tag == SEQUENCE).map(|c| unnamed(c.whole.to_vec())).collect();
    Ok(Contents { certificates, ..Contents::default() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_written_comes_back() {
        let all = [vec![0x30, 3, 2, 1, 7], vec![0x30, 3, 2, 1, 8]];
        let der = write(&all);
        let text = pem::write("PKCS7", &der);
        for bytes in [der.as_slice(), text.as_bytes()] {
            assert!(is_one(bytes));
            let got = read(bytes, "x").unwrap();
            assert_eq!(got.certificates.into_iter().map(|c| c.thing).collect::<Vec<_>>(), all);
        }
        for end in 0..der.len() {
            assert!(read(&der[..end], "x").is_err());
        }
    }
}
