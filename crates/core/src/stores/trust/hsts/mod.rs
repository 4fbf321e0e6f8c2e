//! Strict-Transport-Security (RFC 6797) as browsers' profiles remember it: such a host is asked over HTTPS alone, on every port, and a
//! warning about its certificate cannot be clicked away (§8.4, §12.1).

mod chromium;
mod firefox;

use crate::plan::ports::Look;
use crate::vocabulary::client_id::Client;
use crate::vocabulary::timestamp::Timestamp;
use std::path::PathBuf;

/// A host that a profile asks over HTTPS alone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Remembered {
    /// Whose profile.
    pub client: Client,
    /// The file that remembers it.
    pub file: PathBuf,
    /// Whose header it was: the host itself, or a domain above it that said `includeSubDomains`.
    pub domain: String,
    /// Until when.
    pub until: Timestamp,
}

/// What the profiles of the person's browsers remember of a host. Of addresses nothing is remembered (RFC 6797 §8.1.1).
pub fn remembered(look: &dyn Look, host: &str) -> Vec<Remembered> {
    if host.parse::<std::net::IpAddr>().is_ok() {
        return Vec::new();
    }
    let mut all = chromium::remembered(look, host);
    all.extend(firefox::remembered(look, host));
    all
}
