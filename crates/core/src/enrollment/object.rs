//! What the service keeps: accounts, invitations, orders, authorizations and challenges (RFC 8555 section 7.1), as values.

use crate::enrollment::challenge::ChallengeType;
use crate::enrollment::identifier::Identifier;
use crate::enrollment::jwk::Jwk;
use crate::enrollment::problem::Problem;
use crate::enrollment::state::{self, AccountState, AuthorizationState, ChallengeState, OrderState, Recorded};
use crate::error::Result;
use crate::vocabulary::fingerprint::Sha256Fingerprint;
use crate::vocabulary::name::Name;
use crate::vocabulary::permit::Permit;
use crate::vocabulary::timestamp::Timestamp;
use zeroize::Zeroizing;

/// Seconds for which an order and its challenges wait for the client.
pub const ORDER_LIFE: i64 = 86_400;
/// Seconds for which a name that was proved counts as proved for the same account: a working day.
pub const PROOF_LIFE: i64 = 8 * 3600;

/// A client of the service, by its key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Account {
    /// Its number.
    pub id: i64,
    /// Its key.
    pub key: Jwk,
    /// Its state.
    pub state: AccountState,
    /// How to reach its owner: `mailto:` URLs.
    pub contact: Vec<String>,
    /// The key id of the invitation by which it came.
    pub invitation: Option<String>,
    /// Since when.
    pub made_at: Timestamp,
}

/// An invitation: a key id and a key with which a client binds its account (RFC 8555 section 7.3.4).
#[derive(Clone, Debug)]
pub struct Invitation {
    /// Its public name.
    pub key_id: String,
    /// The key, sealed: only the service opens it.
    pub sealed: Zeroizing<Vec<u8>>,
    /// For which names certificates may be ordered through it, as they were typed; none means all that the service certifies.
    pub names: Vec<String>,
    /// So many accounts may still come by it; None means any number.
    pub uses_left: Option<u32>,
    /// Until when.
    pub ends: Timestamp,
    /// Since when.
    pub made_at: Timestamp,
}

/// Which names are meant by patterns as a person types them: a domain with all that lies under it, an address, a block of addresses.
///
/// ```
/// use tamga_core::enrollment::object::names_meant;
///
/// let meant = names_meant(["buoys.saltmarsh.test", "192.168.7.0/24"])?;
/// assert!(meant.allows(&"7.buoys.saltmarsh.test".parse()?) && meant.allows(&"192.168.7.9".parse()?));
/// assert!(!meant.allows(&"charts.saltmarsh.test".parse()?));
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
///
/// Errors: one that is no name and no block.
pub fn names_meant<'a>(patterns: impl IntoIterator<Item = &'a str>) -> Result<Permit> {
    let mut out = Permit::Only { domains: Vec::new(), blocks: Vec::new() };
    for pattern in patterns {
        out.extend(pattern)?;
    }
    Ok(out)
}

impl Invitation {
    /// True if a name may be ordered through it.
    pub fn allows(&self, name: &Name) -> bool {
        self.names.is_empty() || names_meant(self.names.iter().map(String::as_str)).is_ok_and(|p| p.allows(name))
    }
}

/// An order as it is recorded; its state follows from it and its authorizations.
#[derive(Clone, Debug)]
pub struct Order {
    /// Its number.
    pub id: i64,
    /// Whose.
    pub account: i64,
    /// The names, as they were ordered.
    pub identifiers: Vec<Identifier>,
    /// The profile; None for the usual one.
    pub profile: Option<String>,
    /// The first moment that was asked for.
    pub not_before: Option<Timestamp>,
    /// The last moment that was asked for.
    pub not_after: Option<Timestamp>,
    /// The certificate that it replaces, as RFC 9773 names it.
    pub replaces: Option<String>,
    /// What it has come to.
    pub recorded: Recorded,
    /// Why it failed, as it was answered.
    pub error: Option<serde_json::Value>,
    /// Until when it waits.
    pub expires: Timestamp,
    /// The certificate that was issued for it.
    pub certificate: Option<Sha256Fingerprint>,
    /// Its authorizations, in the order of the names.
    pub authorizations: Vec<Authorization>,
}

impl Order {
    /// Its state at a time.
    pub fn state(&self, now: Timestamp) -> OrderState {
        let states: Vec<AuthorizationState> =
            self.authorizations.iter().map(|a| a.state.at(a.expires.max(self.counted_until(a)), now)).collect();
        state::order(self.recorded, &states, self.expires, now)
    }

    // A name that was proved for this order stays proved for it, though a later order would have to prove it again.
    fn counted_until(&self, a: &Authorization) -> Timestamp {
        if a.state == AuthorizationState::Valid { self.expires } else { a.expires }
    }
}

/// What is to be ordered.
#[derive(Clone, Debug)]
pub struct NewOrder {
    /// Whose.
    pub account: i64,
    /// The names, as they were ordered.
    pub identifiers: Vec<Identifier>,
    /// The profile.
    pub profile: Option<String>,
    /// The first moment that is asked for.
    pub not_before: Option<Timestamp>,
    /// The last moment that is asked for.
    pub not_after: Option<Timestamp>,
    /// The certificate that it replaces.
    pub replaces: Option<String>,
    /// For each name the token of its challenges; used where the name is still to be proved.
    pub tokens: Vec<String>,
}

/// That an account may order for a name, or how it can prove it.
#[derive(Clone, Debug)]
pub struct Authorization {
    /// Its number.
    pub id: i64,
    /// Whose.
    pub account: i64,
    /// The name, of a wildcard with its `*.`.
    pub identifier: Identifier,
    /// Its state as recorded.
    pub state: AuthorizationState,
    /// Until when.
    pub expires: Timestamp,
    /// How it can be proved, or was.
    pub challenges: Vec<Challenge>,
}

/// One way to prove a name.
#[derive(Clone, Debug)]
pub struct Challenge {
    /// Its number.
    pub id: i64,
    /// Its authorization.
    pub authorization: i64,
    /// Which way.
    pub kind: ChallengeType,
    /// What the answer must contain.
    pub token: String,
    /// Its state.
    pub state: ChallengeState,
    /// When it was proved.
    pub validated: Option<Timestamp>,
    /// Why it was not, as it was answered.
    pub error: Option<serde_json::Value>,
}

/// What came of looking at a challenge.
pub type Outcome = std::result::Result<(), Box<Problem>>;
