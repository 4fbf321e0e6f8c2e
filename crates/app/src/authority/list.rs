//! Every authority, or one in full.

use crate::env::Env;
use crate::failure::Result;
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
    /// How the key of each is kept; None where it still waits for its certificate.
    #[serde(skip)]
    pub keys: Vec<Option<KeyState>>,
}

/// One authority.
#[derive(Serialize, JsonSchema)]
pub struct One {
    /// It alone.
    pub authorities: [Member; 1],
    /// It.
    #[serde(skip)]
    pub authority: Authority,
    /// How its key is kept.
    #[serde(skip)]
    pub key: KeyState,
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
    pub fn of(env: &Env, a: &Authority) -> KeyState {
        match &a.key {
            KeyPlace::Here if !env.disk().exists(&a.folder.join(KEY_FILE)) => KeyState::Missing,
            KeyPlace::Here if env.is_locked(a) => KeyState::Encrypted,
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
    let keys = all.iter().map(|a| Some(KeyState::of(env, a))).chain(waiting.clone().map(|_| None)).collect();
    Ok(Report { authorities: all.into_iter().map(Member::from).chain(waiting).collect(), keys })
}

/// One authority.
///
/// Errors: there is none of this label; the ledger cannot be read.
pub fn show(env: &Env, label: &str) -> Result<One> {
    let all = env.authorities()?;
    let authority = authority::choose(Some(label), &all, false)?.clone();
    let listed = env.open_to_look()?.map(|l| l.listed(&authority.label)).transpose()?;
    let key = KeyState::of(env, &authority);
    Ok(One { authorities: [authority.clone().into()], authority, key, listed })
}
