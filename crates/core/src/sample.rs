//! A made-up lab for the examples of the documentation: not for use, every key in it can be computed by anyone.

use crate::ca::authority::create::{self, Request};
use crate::ca::issue::{self, Holder, Signer};
use crate::ca::report::Authority;
use crate::error::Result;
use crate::pki::cert::Certificate;
use crate::pki::key::{KeyAlgorithm, PrivateKey};
use crate::plan::ports::Entropy;
use crate::vocabulary::name::Name;
use crate::vocabulary::timestamp::Timestamp;

/// Noon of the day on which every example plays.
pub const NOW: Timestamp = Timestamp::from_unix(1_795_694_400);

/// Bytes that anyone can foresee.
pub struct Foreseeable;

impl Entropy for Foreseeable {
    fn fill(&self, into: &mut [u8]) {
        into.iter_mut().zip(1..=u8::MAX).for_each(|(to, n)| *to = n);
    }
}

/// The root of the lab, and its key.
///
/// Errors: none that an example meets.
pub fn root() -> Result<(Authority, PrivateKey)> {
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, &Foreseeable)?;
    let wanted = Request::plain("saltmarsh".parse()?);
    let made = create::root(&wanted, &key, "saltmarsh".into(), NOW, &Foreseeable)?;
    Ok((made.authority, key))
}

/// A server's certificate under that root, and its key.
///
/// Errors: a name that the root may not certify.
pub fn leaf(names: &[&str]) -> Result<(Certificate, PrivateKey)> {
    let (root, root_key) = root()?;
    let key = PrivateKey::generate(KeyAlgorithm::P256, &Foreseeable)?;
    let names: Vec<Name> = names.iter().map(|n| n.parse()).collect::<Result<_>>()?;
    let label = names.first().map_or_else(|| "empty".parse(), Name::label)?;
    let wanted = issue::Request::server(names, label, "charts".into());
    let signer = Signer::Authority(&root, &root_key);
    Ok((issue::make(&wanted, &Holder::Key(&key, None), &signer, b"", NOW, &Foreseeable)?.certificate, key))
}
