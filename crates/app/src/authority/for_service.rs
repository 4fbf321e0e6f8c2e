//! An intermediate of its own for a service that issues without anybody present: the root's key is opened once, and never again while the
//! service runs.

use super::create;
use super::crl::List;
use crate::env::Env;
use crate::failure::Result;
use crate::secret::{AuthoritySecret, Secret};
use tamga_core::ca::authority;
use tamga_core::ca::authority::create::{AuthorityKey, Request as Wanted};
use tamga_core::ca::report::Authority;
use tamga_core::pki::cert::profile::Links;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::timestamp::Span;

/// A root's list counts so long where nobody is there to sign another.
const LIST_LIFE: Span = Span::days(365);

/// What to make.
#[derive(Clone, Debug)]
pub struct Request {
    /// The authority above it.
    pub parent: Label,
    /// Its label.
    pub label: Label,
    /// What is written into what it issues.
    pub links: Links,
    /// What is written into its own certificate. If it names a list, the authority above signs one now.
    pub own_links: Links,
    /// Opens the key of the authority above.
    pub secret: Secret,
    /// Protects its own.
    pub new_secret: AuthoritySecret,
}

/// Makes it.
///
/// Errors: as for making any intermediate, and for signing a list.
pub fn make(env: &Env, request: &Request) -> Result<Authority> {
    let protect = request.new_secret.wanted(env, &format!("the key of {}", request.label))?;
    let key = env.generate(KeyAlgorithm::P256)?;
    let (_lock, ledger) = env.open_for_change()?;
    let all = ledger.authorities()?;
    let parent = authority::choose(Some(&request.parent), &all, true)?.clone();
    let parent_key = env.authority_key(&parent, &request.secret)?;
    let wanted = Wanted {
        // It signs for servers, and nothing under it signs.
        purposes: vec![Purpose::Server],
        path_length: Some(0),
        links: request.links.clone(),
        own_links: Some(request.own_links.clone()),
        ..Wanted::plain(request.label.clone())
    };
    let made = create::make(
        env,
        &*ledger,
        &wanted,
        AuthorityKey::File(&key, protect.as_ref()),
        Some((&parent, &*parent_key)),
    )?;
    if request.own_links.crl.is_some() {
        let list = List { env, ledger: &*ledger, a: &parent, key: &*parent_key, output: None };
        list.sign(None, LIST_LIFE, &[])?;
    }
    Ok(made.authority)
}
