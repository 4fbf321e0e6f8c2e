//! Certificates that clients got from the enrollment service by themselves.

use crate::report::Listed;
use schemars::JsonSchema;
use serde::Serialize;

/// A certificate that a client got from the enrollment service.
#[derive(Serialize, JsonSchema)]
pub struct Enrolled {
    /// The number of its account.
    pub account: i64,
    /// What is said of it.
    #[serde(flatten)]
    pub listed: Listed,
}

impl Enrolled {
    /// That its client should have renewed it, and what to do: by the end of the time that the service suggests, a sixth of its life before its end.
    pub(crate) fn is_late(&self) -> Option<(String, String)> {
        let (c, now, account) = (&self.listed.summary, self.listed.now, self.account);
        let (life, left) = (c.not_after.unix() - c.not_before.unix(), c.not_after.unix() - now.unix());
        (left * 6 < life).then(|| {
            (
                format!(
                    "the client of account {account} has not renewed {}, which ends on {}",
                    c.label,
                    c.not_after.date()
                ),
                format!("look into that server's log; whose account it is: tamga enrollment accounts show {account}"),
            )
        })
    }
}
