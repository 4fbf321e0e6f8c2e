//! A root for some certificates alone: its key is made, signs, and is forgotten.

use super::Source;
use crate::exit::Result;
use crate::session::Session;
use crate::words::human;
use tamga_core::authority::create::{self, Request};
use tamga_core::authority::{free, limits::Wanted};
use tamga_core::error::Error;
use tamga_core::issue;
use tamga_core::key::{KeyAlgorithm, PrivateKey};
use tamga_core::label::Label;
use tamga_core::moment::Span;
use tamga_core::purpose::Purpose;
use tamga_core::report::{Authority, KeyPlace};
use tamga_host::entropy;

/// The root: limited to exactly these names, ending with the last of the certificates.
pub(super) fn source(session: &Session, authorities: &[Authority], requests: &[issue::Request]) -> Result<Source> {
    let first = requests.first().ok_or(Error::NoAuthority)?;
    let label = Label::parse(&format!("{}-root", first.label))?;
    free(&label, authorities, None, None)?;
    let end = |r: &issue::Request| {
        r.until.map_or_else(
            || r.from.unwrap_or(session.now).unix() + r.valid_for.seconds(),
            tamga_core::moment::Moment::unix,
        )
    };
    let last = requests.iter().map(end).max().unwrap_or(0);
    let wanted = requests.iter().flat_map(|r| r.names.iter().map(ToString::to_string)).collect();
    let request = Request {
        valid_for: Some(Span::seconds_of(last - session.now.unix())),
        purposes: Purpose::ALL.to_vec(),
        wanted: Wanted { permit: wanted, any: false },
        ..Request::plain(label)
    };
    let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy::System)?;
    let made = create::root_for_exactly(&request, &key, first.folder.clone(), session.now, &entropy::System)?;
    Ok(Source::SingleUse(Box::new(Authority { key: KeyPlace::Discarded, ..made }), key))
}

/// What a person must know of such a root.
pub(super) fn words(label: &str) -> String {
    format!(
        "{} the key of its root {label} was never written and is gone: nothing more can be issued, renewed or revoked under it;\n       the private keys of the certificates remain, and whoever has one can pose as its names until it ends\n",
        human::care("note")
    )
}
