//! A root for some certificates alone: its key is made, signs, and is forgotten.

use super::make::Signer;
use crate::env::Env;
use crate::failure::Result;
use std::str::FromStr;
use tamga_core::ca::authority::create::{self, Request};
use tamga_core::ca::authority::{free, limits::Wanted};
use tamga_core::ca::issue;
use tamga_core::ca::report::{Authority, KeyPlace};
use tamga_core::error::Error;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::timestamp::Span;
use tamga_host::entropy;

/// The root: limited to exactly these names, valid until the last of the certificates expires.
pub(super) fn signer(env: &Env, authorities: &[Authority], requests: &[issue::Request]) -> Result<Signer> {
    let first = requests.first().ok_or(Error::NoAuthority)?;
    let label = Label::from_str(&format!("{}-root", first.label))?;
    free(&label, authorities, None, None)?;
    let end = |r: &issue::Request| {
        r.until.map_or_else(
            || r.from.unwrap_or(env.now).unix() + r.valid_for.seconds(),
            tamga_core::vocabulary::timestamp::Timestamp::unix,
        )
    };
    let last = requests.iter().map(end).max().unwrap_or(0);
    let wanted = requests.iter().flat_map(|r| r.names.iter().map(ToString::to_string)).collect();
    let request = Request {
        valid_for: Some(Span::seconds_of(last - env.now.unix())),
        purposes: Purpose::ALL.to_vec(),
        wanted: Wanted { permit: wanted, any: false },
        ..Request::plain(label)
    };
    let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy::System)?;
    let made = create::root_for_exactly(&request, &key, first.folder.clone(), env.now, &entropy::System)?;
    Ok(Signer::SingleUse(Box::new(Authority { key: KeyPlace::Discarded, ..made }), Box::new(key)))
}
