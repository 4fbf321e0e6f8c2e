//! Trust stores changed in place: a root more or less, every other bag kept as it is.

use super::{Contents, DATA, Derived, Named, Reader, data, octets, oid, outer, pfx, read, write_trust};
use crate::error::{Error, Result};
use crate::pki::format::tlv::{self, FIRST, SEQUENCE};
use crate::vocabulary::secret::Passphrase;
use zeroize::Zeroizing;

/// Puts a root behind all others of a trust store that has no passphrase, every other bag kept as it is.
///
/// Errors: it is damaged; a passphrase protects it.
pub fn with(bytes: &[u8], root: &Named<Vec<u8>>) -> Result<Vec<u8>> {
    edited(bytes, |bags| {
        let fresh = write_trust(std::slice::from_ref(root));
        bags.extend(open_bags(&fresh).unwrap_or_default());
    })
}

/// Takes out every bag with this certificate.
///
/// Errors: as for [`with`].
pub fn without(bytes: &[u8], der: &[u8]) -> Result<Vec<u8>> {
    edited(bytes, |bags| {
        bags.retain(|bag| {
            let mut reader = Reader {
                passphrase: &Passphrase::new(Zeroizing::new(Vec::new())),
                given: false,
                what: "",
                derived: Derived::default(),
                out: Contents::default(),
            };
            let read = reader.bags(&tlv::write(SEQUENCE, &[bag]), 8);
            !matches!(read, Some(Ok(()))) || !reader.out.certificates.iter().any(|c| c.thing == der)
        });
    })
}

/// The bags of the first part that is not encrypted.
fn open_bags(bytes: &[u8]) -> Option<Vec<Vec<u8>>> {
    let der = tlv::to_der(bytes)?;
    let parts = outer(&der)?;
    let safe = octets(parts.get(1)?.inside()?.get(1)?.expect(FIRST)?)?;
    let infos = tlv::one(&safe)?.inside()?;
    let fields = infos.first()?.inside()?;
    (oid(fields.first()?)? == DATA).then_some(())?;
    let plain = octets(fields.get(1)?.expect(FIRST)?)?;
    Some(tlv::one(&plain)?.inside()?.iter().map(|b| b.whole.to_vec()).collect())
}

fn edited(bytes: &[u8], edit: impl FnOnce(&mut Vec<Vec<u8>>)) -> Result<Vec<u8>> {
    let what = "the trust store";
    read(bytes, None, what)?;
    let der = tlv::to_der(bytes).unwrap_or_default();
    let guarded = outer(&der).is_none_or(|parts| parts.len() > 2);
    let parts_of_safe = outer(&der).and_then(|p| {
        let safe = octets(p.get(1)?.inside()?.get(1)?.expect(FIRST)?)?;
        Some(tlv::one(&safe)?.inside()?.len())
    });
    match (open_bags(bytes), parts_of_safe) {
        (Some(mut bags), Some(1)) if !guarded => {
            edit(&mut bags);
            let safe = data(&tlv::write(SEQUENCE, &bags.iter().map(Vec::as_slice).collect::<Vec<_>>()));
            Ok(pfx(&tlv::write(SEQUENCE, &[&safe]), None).to_vec())
        }
        _ => Err(Error::PassphraseNeeded { what: what.into() }),
    }
}
