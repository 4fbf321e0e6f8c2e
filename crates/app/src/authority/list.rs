//! Every authority, or one in full.

use crate::env::Env;
use crate::failure::Result;
use crate::keys::is_locked;
use crate::report::{Member, Request as Waiting};
use schemars::JsonSchema;
use serde::Serialize;
use tamga_core::ca::authority::{self, KEY_FILE};
use tamga_core::ca::report::{Authority, KeyPlace};
use tamga_host::ledger::Listed;

/// Every authority, and the keys that wait for their certificate.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// They.
    pub authorities: Vec<Member>,
}

/// One authority.
#[derive(Serialize, JsonSchema)]
pub struct One {
    /// It alone.
    pub authorities: [Member; 1],
    /// It.
    #[serde(skip)]
    pub authority: Authority,
    /// What its revocation list says; None without a ledger.
    #[serde(skip)]
    pub listed: Option<Listed>,
}

/// How an authority's key is kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KeyState {
    /// In its directory, not encrypted.
    Open,
    /// In its directory, encrypted.
    Encrypted,
    /// It should be in its directory, and is not.
    Missing,
    /// Not here.
    Away(KeyPlace),
}

impl KeyState {
    /// How it is now.
    pub fn of(a: &Authority) -> KeyState {
        match &a.key {
            KeyPlace::Here if !a.folder.join(KEY_FILE).exists() => KeyState::Missing,
            KeyPlace::Here if is_locked(a) => KeyState::Encrypted,
            KeyPlace::Here => KeyState::Open,
            away => KeyState::Away(away.clone()),
        }
    }
}

/// Every authority.
///
/// Errors: the ledger cannot be read.
pub fn list(env: &Env) -> Result<Report> {
    let (all, waiting) = match env.open_to_look()? {
        Some(l) => (l.authorities()?, l.all_waiting()?),
        None => Default::default(),
    };
    let waiting = waiting.into_iter().filter(|w| w.is_authority);
    let waiting = waiting.map(|waiting| Member::Waiting(Box::new(Waiting { waiting, carried: None })));
    Ok(Report { authorities: all.into_iter().map(Member::from).chain(waiting).collect() })
}

/// One authority.
///
/// Errors: there is none of this label; the ledger cannot be read.
pub fn show(env: &Env, label: &str) -> Result<One> {
    let all = env.authorities()?;
    let authority = authority::choose(Some(label), &all, false)?.clone();
    let listed = env.open_to_look()?.map(|l| l.listed(&authority.label)).transpose()?;
    Ok(One { authorities: [authority.clone().into()], authority, listed })
}
