//! Authorities: made, shown, widened, taken offline, signed elsewhere, backed up, replaced, retired.

pub mod backup;
pub mod create;
pub mod crl;
pub mod for_service;
pub mod import;
pub mod list;
pub mod offline;
pub mod online;
pub mod passphrase;
pub mod permit;
pub mod receive;
pub mod request;
pub mod retire;
pub mod rollover;
pub mod sign;

use crate::env::Env;
use crate::failure::Result;
use tamga_core::ca::authority;
use tamga_core::ca::report::Authority;
use tamga_core::vocabulary::label::Label;
use tamga_host::ledger::Ledger;

/// Refuses a label that an authority, a certificate or a waiting key has.
fn free(ledger: &dyn Ledger, label: &Label) -> Result<Vec<Authority>> {
    let all = ledger.authorities()?;
    let (issued, waiting) = (ledger.current(label.as_str())?, ledger.waiting_place(label.as_str())?);
    authority::free(label, &all, issued.as_ref(), waiting.as_deref())?;
    Ok(all)
}

/// The authority of a label, as a dry run sees it: it can sign now.
fn able(env: &Env, label: &str) -> Result<Authority> {
    let all = env.authorities()?;
    let a = authority::choose(Some(label), &all, true)?;
    authority::can_sign(a)?;
    Ok(a.clone())
}

/// The same, whose key is in a file that can be read.
fn able_with_file(env: &Env, label: &str) -> Result<Authority> {
    let a = able(env, label)?;
    authority::has_key_file(&a)?;
    Ok(a)
}
