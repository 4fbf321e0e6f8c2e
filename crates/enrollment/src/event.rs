//! What the service decided, for its log: one event a decision.

use schemars::JsonSchema;
use serde::Serialize;
use std::net::IpAddr;
use tamga_core::vocabulary::timestamp::Timestamp;

/// What was decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum What {
    /// A new account.
    AccountMade,
    /// An account has another key, another state or another contact.
    AccountChanged,
    /// An order was taken.
    Ordered,
    /// Control of a name was proved.
    Proved,
    /// It was not.
    NotProved,
    /// A certificate was issued.
    Issued,
    /// A certificate was revoked.
    Revoked,
    /// A request was refused.
    Refused,
    /// A revocation list was signed.
    ListSigned,
    /// The service's own certificate was renewed.
    Renewed,
    /// Something went wrong here.
    Failed,
}

/// One decision.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Event {
    /// When.
    #[serde(serialize_with = "time")]
    #[schemars(with = "String")]
    pub at: Timestamp,
    /// What.
    pub event: What,
    /// Whose request it was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub account: Option<i64>,
    /// From where it came.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub peer: Option<IpAddr>,
    /// The names that it is about.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<String>,
    /// One sentence without its full stop.
    pub detail: String,
}

fn time<S: serde::Serializer>(at: &Timestamp, s: S) -> Result<S::Ok, S::Error> {
    s.collect_str(at)
}

/// Called for every decision.
pub type Seen = std::sync::Arc<dyn Fn(&Event) + Send + Sync>;
