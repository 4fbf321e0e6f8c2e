//! The certificate request that finalizes an order (RFC 8555 section 7.4): it asks for exactly the names of the order, and for a key that counts.

use crate::enrollment::identifier::Identifier;
use crate::enrollment::jwk::Jwk;
use crate::enrollment::problem::{Problem, ProblemType};
use crate::error::Diagnostic as _;
use crate::pki::cert::csr::Csr;
use crate::pki::cert::extensions::GeneralName;
use crate::pki::cert::subject;
use crate::pki::key::Strength;
use crate::vocabulary::name;
use std::collections::BTreeSet;

fn refused(why: impl std::fmt::Display) -> Problem {
    Problem::new(ProblemType::BadCsr, format!("the certificate request is refused: {why}"))
}

/// Reads and judges a request; what it asks for besides names (usages, other extensions) is not granted, and that is no fault.
///
/// Errors: [`ProblemType::BadCsr`] where it does not parse, its signature is not its key's, the key is weak, of another kind, or the account's
/// own, it asks to be an authority, or its names are not those of the order.
pub fn judge(der: &[u8], order: &[Identifier], account: &Jwk) -> Result<Csr, Problem> {
    let csr = Csr::read_of_any_version(der, "it").map_err(|e| refused(e.why()))?;
    csr.proves_possession().map_err(|_| refused("its signature is not that of the key in it"))?;
    match csr.key.strength() {
        Strength::Rsa(bits) if bits < 2048 => {
            return Err(refused(format!("its RSA key has {bits} bits, and clients refuse those below 2048")));
        }
        Strength::Other => {
            return Err(refused("its kind of key is not certified here: use P-256, P-384, P-521, Ed25519 or RSA"));
        }
        _ => {}
    }
    if Jwk::of_spki(csr.key.spki()).is_some_and(|key| key == *account) {
        return Err(refused("its key is the account's, which signs requests and nothing else: make another"));
    }
    if csr.wishes.basic.as_ref().is_some_and(|b| b.ca) {
        return Err(refused("it asks to be an authority"));
    }
    let asked = names(&csr)?;
    let wanted: BTreeSet<Identifier> = order.iter().cloned().collect();
    if asked == wanted {
        return Ok(csr);
    }
    let words = |all: Vec<&Identifier>| all.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    let (more, less) = (words(asked.difference(&wanted).collect()), words(wanted.difference(&asked).collect()));
    Err(match (more.is_empty(), less.is_empty()) {
        (false, _) => refused(format!("it asks for {more}, which the order does not have")),
        _ => refused(format!("it does not ask for {less}, which the order has")),
    })
}

/// The names asked for. A common name that is a host's or an address counts with them: alone, or as one of them.
fn names(csr: &Csr) -> Result<BTreeSet<Identifier>, Problem> {
    let mut out = BTreeSet::new();
    for general in csr.wishes.names.iter().flatten() {
        let found = match general {
            GeneralName::Dns(text) => Some(Identifier::Dns(text.to_ascii_lowercase())),
            GeneralName::Ip(octets) => name::ip(octets).map(Identifier::Ip),
            _ => None,
        };
        out.insert(found.ok_or_else(|| {
            refused(format!("it asks for {}: only DNS names and addresses are certified", general.words()))
        })?);
    }
    if let Some(common) = subject::common_name(&csr.subject).filter(|c| !c.is_empty()) {
        let folded = common.to_ascii_lowercase();
        let named = folded.parse().map_or(Identifier::Dns(folded), Identifier::Ip);
        if out.is_empty() {
            out.insert(named);
        } else if !out.contains(&named) {
            return Err(refused("its common name is none of its other names"));
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
    use crate::ca::request::{Wanted, make};
    use crate::pki::key::PrivateKey;
    use crate::sample::{Foreseeable, leaf};

    fn identifiers(all: &[&str]) -> Vec<Identifier> {
        all.iter().map(|n| Identifier::of(&n.parse().unwrap()).unwrap()).collect()
    }

    #[test]
    fn the_names_are_those_of_the_order() {
        let (_, account) = leaf(&["account.test"]).unwrap();
        let account = Jwk::of_spki(account.public().spki()).unwrap();
        let key = PrivateKey::generate(crate::pki::key::KeyAlgorithm::P384, &Foreseeable).unwrap();
        let names = ["charts.saltmarsh.test", "192.168.7.2"].map(|n| n.parse().unwrap()).to_vec();
        let purposes = vec![crate::vocabulary::purpose::Purpose::Server];
        let wanted = Wanted { names, purposes, subject: None, folder: "charts".into() };
        let csr = make(&wanted, &key, None, b"", &Foreseeable).unwrap().0.der().to_vec();
        let judged = |order: &[&str]| judge(&csr, &identifiers(order), &account).map(drop).map_err(|p| p.detail);
        assert_eq!(judged(&["192.168.7.2", "charts.saltmarsh.test"]), Ok(()));
        assert!(judged(&["charts.saltmarsh.test"]).unwrap_err().contains("192.168.7.2, which the order does not have"));
        let more = judged(&["charts.saltmarsh.test", "192.168.7.2", "tides.saltmarsh.test"]).unwrap_err();
        assert!(more.contains("tides.saltmarsh.test, which the order has"), "{more}");
        // The key of the account is for the account.
        let own = Jwk::of_spki(key.public().spki()).unwrap();
        let refused = judge(&csr, &identifiers(&["192.168.7.2", "charts.saltmarsh.test"]), &own).unwrap_err();
        assert_eq!(refused.kind, ProblemType::BadCsr);
        // Not its signature; no request at all.
        let mut broken = csr.clone();
        *broken.last_mut().unwrap() ^= 1;
        for wrong in [&broken[..], b"", b"0", &csr[..100]] {
            assert_eq!(judge(wrong, &[], &account).unwrap_err().kind, ProblemType::BadCsr);
        }
    }
}
