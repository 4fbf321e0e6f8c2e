//! Invitations and accounts, for the administrator.

use crate::secret_file;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_app::env::Env;
use tamga_app::failure::Result;
use tamga_app::output::{Occupied, write_journaled};
use tamga_core::enrollment::base64url;
use tamga_core::enrollment::invitation::written;
use tamga_core::enrollment::object::{Invitation, names_meant};
use tamga_core::enrollment::state::AccountState;
use tamga_core::error::Error;
use tamga_core::plan::ports::Entropy as _;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Span;
use tamga_host::entropy;
use tamga_host::ledger::Held;
use zeroize::Zeroizing;

/// How long an invitation can be used where nothing is asked for.
pub const INVITATION_LIFE: Span = Span::days(30);
/// Octets of an invitation's key.
const KEY: usize = 32;

/// Whom to invite.
#[derive(Clone, Debug)]
pub struct Invite {
    /// The file for the invitation; None hands it back as text.
    pub output: Option<PathBuf>,
    /// For which names; empty for all that the service certifies.
    pub names: Vec<String>,
    /// How many accounts may come by it; None for any number.
    pub uses: Option<u32>,
    /// For how long.
    pub valid_for: Span,
    /// The directory of the service, for the file's reader.
    pub directory: Option<String>,
}

/// An invitation that was made.
#[derive(Serialize, JsonSchema)]
pub struct Invited {
    /// It.
    pub invitation: Made,
    /// What the file says.
    #[serde(skip)]
    pub text: Zeroizing<String>,
}

/// What can be said of an invitation.
#[derive(Serialize, JsonSchema)]
pub struct Made {
    /// Its key id.
    pub key_id: String,
    /// For which names; empty for all that the service certifies.
    pub names: Vec<String>,
    /// How many accounts may come by it; null for any number.
    pub uses: Option<u32>,
    /// Until when, RFC 3339.
    pub ends: String,
    /// The file; null if it was handed back as text.
    pub file: Option<String>,
}

/// Makes an invitation and writes it into a file of its own (0600).
///
/// Errors: a name pattern that is none; a file that exists or cannot be written.
pub fn invite(env: &Env, request: &Invite) -> Result<Invited> {
    names_meant(request.names.iter().map(String::as_str))?;
    // What is there may be an invitation that is in use.
    if let Some(file) = request.output.as_ref().filter(|f| env.disk().is_taken(f)) {
        return Err(Occupied::named(file).into());
    }
    let secret = secret_file::secret(env)?;
    let mut random = Zeroizing::new([0; 12 + KEY]);
    entropy::System.fill(&mut random[..]);
    let (id, key) = random.split_at(12);
    let key_id = base64url(id);
    let sealed = secret.seal(&key_id, key).ok_or(Error::Crypto { doing: "sealing an invitation" })?;
    let ends = env.now.plus(request.valid_for.seconds());
    let invitation = Invitation {
        key_id: key_id.clone(),
        sealed,
        names: request.names.clone(),
        uses_left: request.uses,
        ends,
        made_at: env.now,
    };
    let text = written(&key_id, key, request.directory.as_deref());
    if !env.dry_run {
        let (_lock, ledger) = env.open_for_change()?;
        if let Some(file) = &request.output {
            write_journaled(env, file, text.as_bytes(), 0o600)?;
        }
        // After the file: an invitation that nobody has is worth less than a file that no service knows, which can be deleted.
        ledger.invite(&invitation)?;
    }
    Ok(Invited {
        invitation: Made {
            key_id,
            names: request.names.clone(),
            uses: request.uses,
            ends: ends.to_string(),
            file: request.output.as_deref().map(Shown::shown),
        },
        text,
    })
}

/// An account as the administrator sees it.
#[derive(Serialize, JsonSchema)]
pub struct AccountView {
    /// Its number.
    pub id: i64,
    /// Its state: `valid`, `deactivated` or `revoked`.
    pub state: &'static str,
    /// How its owner is reached.
    pub contact: Vec<String>,
    /// The key id of its invitation; null if it came without one.
    pub invitation: Option<String>,
    /// Since when, RFC 3339.
    pub made_at: String,
    /// The thumbprint of its key (RFC 7638).
    pub thumbprint: String,
    /// How many certificates it got.
    pub certificates: u64,
    /// The names of the latest.
    pub names: Vec<String>,
    /// When it got the latest, RFC 3339.
    pub latest: Option<String>,
}

/// Accounts.
#[derive(Serialize, JsonSchema)]
pub struct Accounts {
    /// They, oldest first.
    pub accounts: Vec<AccountView>,
}

fn view(held: Held) -> AccountView {
    AccountView {
        id: held.account.id,
        state: held.account.state.word(),
        contact: held.account.contact,
        invitation: held.account.invitation,
        made_at: held.account.made_at.to_string(),
        thumbprint: held.account.key.thumbprint(),
        certificates: held.certificates,
        names: held.names,
        latest: held.latest.map(|t| t.to_string()),
    }
}

/// Every account, or one.
///
/// Errors: there is no such account; the ledger cannot be read.
pub fn accounts(env: &Env, id: Option<i64>) -> Result<Accounts> {
    let ledger = env.open_to_look()?;
    let all = match (&ledger, id) {
        (Some(l), None) => l.accounts()?,
        (Some(l), Some(id)) => l.account_held(id)?.into_iter().collect(),
        (None, _) => Vec::new(),
    };
    match (id, all.is_empty()) {
        (Some(id), true) => Err(unknown(id).into()),
        _ => Ok(Accounts { accounts: all.into_iter().map(view).collect() }),
    }
}

fn unknown(id: i64) -> Error {
    Error::Objection {
        code: "label-unknown",
        what: format!("there is no account {id}"),
        why: "the enrollment service has not made one with this number".into(),
        instead: "see which there are: tamga enrollment accounts".into(),
    }
}

/// Blocks an account: it can order nothing more. What it has stays valid until it is revoked.
///
/// Errors: there is no such account.
pub fn block(env: &Env, id: i64) -> Result<Accounts> {
    if env.dry_run {
        return accounts(env, Some(id));
    }
    let (_lock, ledger) = env.open_for_change()?;
    if ledger.account(id)?.is_none() {
        return Err(unknown(id).into());
    }
    ledger.set_account_state(id, AccountState::Revoked, env.now)?;
    Ok(Accounts { accounts: ledger.account_held(id)?.into_iter().map(view).collect() })
}
