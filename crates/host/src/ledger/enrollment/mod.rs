//! What the enrollment service keeps: accounts, invitations, orders, authorizations, challenges, and the nonces that were used.
//!
//! Every change is one durable commit, so that a service that is killed has either answered what stands here or answered nothing.

mod accounts;
mod nonces;
mod orders;

use crate::error::Result;
use tamga_core::ca::report::{Issued, Summary};
use tamga_core::enrollment::challenge::ChallengeType;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::jwk::Jwk;
use tamga_core::enrollment::object::{Account, Authorization, Challenge, Invitation, NewOrder, Order, Outcome};
use tamga_core::enrollment::state::AccountState;
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::timestamp::Timestamp;

/// The tables, since layout 6. Times are seconds since 1970; `identifiers`, `contact` and `names` are JSON arrays.
pub(super) const TABLES: &str = r#"
CREATE TABLE enrollment_account (id INTEGER PRIMARY KEY, thumbprint TEXT NOT NULL UNIQUE, jwk TEXT NOT NULL, state TEXT NOT NULL,
  contact TEXT NOT NULL, invitation TEXT, made_at INTEGER NOT NULL) STRICT;
CREATE TABLE enrollment_invitation (key_id TEXT PRIMARY KEY, sealed BLOB NOT NULL, names TEXT NOT NULL, uses_left INTEGER,
  ends INTEGER NOT NULL, made_at INTEGER NOT NULL) STRICT;
CREATE TABLE enrollment_order (id INTEGER PRIMARY KEY, account INTEGER NOT NULL, identifiers TEXT NOT NULL, named TEXT NOT NULL,
  profile TEXT, not_before INTEGER, not_after INTEGER, replaces TEXT, state TEXT NOT NULL, error TEXT, expires INTEGER NOT NULL,
  certificate TEXT, made_at INTEGER NOT NULL) STRICT;
CREATE INDEX enrollment_order_account ON enrollment_order (account, named);
CREATE INDEX enrollment_order_certificate ON enrollment_order (certificate) WHERE certificate IS NOT NULL;
CREATE INDEX enrollment_order_replaces ON enrollment_order (replaces) WHERE replaces IS NOT NULL;
CREATE INDEX enrollment_order_expires ON enrollment_order (expires) WHERE state = 'open';
CREATE TABLE enrollment_authorization (id INTEGER PRIMARY KEY, account INTEGER NOT NULL, kind TEXT NOT NULL, name TEXT NOT NULL,
  state TEXT NOT NULL, expires INTEGER NOT NULL) STRICT;
CREATE INDEX enrollment_authorization_name ON enrollment_authorization (account, name);
CREATE TABLE enrollment_order_authorization (of_order INTEGER NOT NULL, place INTEGER NOT NULL, "authorization" INTEGER NOT NULL,
  PRIMARY KEY (of_order, place)) STRICT, WITHOUT ROWID;
CREATE INDEX enrollment_authorization_orders ON enrollment_order_authorization ("authorization");
CREATE TABLE enrollment_challenge (id INTEGER PRIMARY KEY, "authorization" INTEGER NOT NULL, kind TEXT NOT NULL, token TEXT NOT NULL,
  state TEXT NOT NULL, validated INTEGER, error TEXT) STRICT;
CREATE INDEX enrollment_challenge_authorization ON enrollment_challenge ("authorization");
CREATE INDEX enrollment_challenge_waiting ON enrollment_challenge (id) WHERE state = 'processing';
CREATE TABLE enrollment_nonce (id BLOB PRIMARY KEY, at INTEGER NOT NULL) STRICT, WITHOUT ROWID;
"#;

/// Whose certificate it is, where a client got it by itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Enrolled {
    /// The account.
    pub account: i64,
    /// The order.
    pub order: i64,
}

/// An account that is to be made.
#[derive(Clone, Copy, Debug)]
pub struct NewAccount<'a> {
    /// Its key.
    pub key: &'a Jwk,
    /// How to reach its owner.
    pub contact: &'a [String],
    /// The key id of the invitation by which it comes.
    pub invitation: Option<&'a str>,
}

/// An account with what it has.
#[derive(Clone, Debug)]
pub struct Held {
    /// The account.
    pub account: Account,
    /// How many certificates were issued to it.
    pub certificates: u64,
    /// The names of the latest.
    pub names: Vec<String>,
    /// When it was issued.
    pub latest: Option<Timestamp>,
}

/// Accounts and invitations.
pub trait Accounts {
    /// Makes the account of a key, or returns the one that has it. Where an invitation is named, one use of it is taken in the same commit; None
    /// if it has none left.
    fn make_account(&self, new: &NewAccount<'_>, now: Timestamp) -> Result<Option<(Account, bool)>>;

    /// The account of this number.
    fn account(&self, id: i64) -> Result<Option<Account>>;

    /// The account of a key, by its thumbprint (RFC 7638).
    fn account_of_key(&self, thumbprint: &str) -> Result<Option<Account>>;

    /// Every account with what it has, oldest first.
    fn accounts(&self) -> Result<Vec<Held>>;

    /// One of them.
    fn account_held(&self, id: i64) -> Result<Option<Held>>;

    /// How an account's owner is reached.
    fn set_contact(&self, id: i64, contact: &[String]) -> Result<()>;

    /// The state of an account. Authorizations of one that is not valid count no more.
    fn set_account_state(&self, id: i64, state: AccountState, now: Timestamp) -> Result<()>;

    /// Gives an account another key. The account that has that key already, if it is another one.
    fn set_account_key(&self, id: i64, key: &Jwk, now: Timestamp) -> Result<Option<i64>>;

    /// Records an invitation.
    fn invite(&self, invitation: &Invitation) -> Result<()>;

    /// The invitation with this key id.
    fn invitation(&self, key_id: &str) -> Result<Option<Invitation>>;

    /// Every invitation, oldest first.
    fn invitations(&self) -> Result<Vec<Invitation>>;
}

/// Orders and what belongs to them.
pub trait Orders {
    /// Records an order. A name that this account has proved, or has begun to prove, keeps its authorization if `reuses`.
    fn make_order(&self, order: &NewOrder, now: Timestamp) -> Result<Order>;

    /// The order of this number.
    fn order(&self, id: i64) -> Result<Option<Order>>;

    /// The numbers of an account's orders that are not over, newest first, after the first so many; at most so many.
    fn orders_of(&self, account: i64, skipped: u64, most: u64, now: Timestamp) -> Result<Vec<i64>>;

    /// How many certificates an account got for exactly these names since a time, and when the first of them was.
    fn issued_since(&self, account: i64, names: &[Identifier], since: Timestamp) -> Result<(u64, Option<Timestamp>)>;

    /// How many of an account's orders are open.
    fn open_orders(&self, account: i64, now: Timestamp) -> Result<u64>;

    /// The label of the latest certificate that this account got for exactly these names.
    fn enrolled_label(&self, account: i64, names: &[Identifier]) -> Result<Option<Label>>;

    /// Records the certificate of an order in the same commit as the order's end; false if the order is over already.
    fn issue(&self, order: i64, issued: &Issued, now: Timestamp) -> Result<bool>;

    /// That an order failed.
    fn fail_order(&self, order: i64, error: &serde_json::Value) -> Result<()>;

    /// Whose certificate this is.
    fn enrolled(&self, sha256: &Sha256Fingerprint) -> Result<Option<Enrolled>>;

    /// The order by which a certificate is replaced, if it did not fail.
    fn replaced_by(&self, certificate_id: &str) -> Result<Option<i64>>;

    /// How many live certificates clients got by themselves, and how many of them end before a time.
    fn enrolled_count(&self, ends_before: Timestamp) -> Result<(u64, u64)>;

    /// Live certificates that clients got by themselves with their accounts, the one that ends first first; at most so many.
    fn enrolled_ending(&self, most: usize) -> Result<Vec<(Summary, i64)>>;

    /// The authorization of this number.
    fn authorization(&self, id: i64) -> Result<Option<Authorization>>;

    /// True if an account has proved every one of these names and it still counts.
    fn has_proved(&self, account: i64, names: &[Identifier], now: Timestamp) -> Result<bool>;

    /// Gives up an authorization.
    fn deactivate(&self, authorization: i64) -> Result<()>;

    /// The challenge of this number with its authorization.
    fn challenge(&self, id: i64) -> Result<Option<(Challenge, Authorization)>>;

    /// That the client says it is ready; false if it said so before.
    fn begin_challenge(&self, id: i64) -> Result<bool>;

    /// What came of it: the authorization follows in the same commit.
    fn end_challenge(&self, id: i64, kind: ChallengeType, outcome: &Outcome, now: Timestamp) -> Result<()>;

    /// Challenges that were to be looked at and of which nothing came: the service was stopped.
    fn unfinished_challenges(&self) -> Result<Vec<i64>>;

    /// Lets go of what is over since before a time: nonces, open orders and their authorizations.
    fn sweep(&self, now: Timestamp) -> Result<()>;
}

/// Nonces.
pub trait Nonces {
    /// Takes a nonce; false if it was taken before. What is recorded outlives the process, but perhaps not a loss of power.
    fn take_nonce(&self, id: &[u8], now: Timestamp) -> Result<bool>;
}

/// A JSON array of texts; what is none is empty.
fn texts(column: &str) -> Vec<String> {
    serde_json::from_str(column).unwrap_or_default()
}
