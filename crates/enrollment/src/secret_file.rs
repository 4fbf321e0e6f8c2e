//! The file with the service's secret, in the data directory.

use crate::seal::Secret;
use tamga_app::env::Env;
use tamga_app::failure::Result;
use tamga_app::output::write_journaled;
use tamga_core::error::Error;

/// The directory of the service in the data directory.
pub(crate) const DIRECTORY: &str = "enrollment";
const FILE: &str = "service.key";

/// The secret; it is made when it is needed for the first time.
///
/// Errors: the file cannot be read or written, or holds something else.
pub(crate) fn secret(env: &Env) -> Result<Secret> {
    let directory = env.machine.data().join(DIRECTORY);
    let path = directory.join(FILE);
    if !env.disk().exists(&path) {
        let (_lock, _ledger) = env.open_for_change()?;
        // Another process may have been faster.
        if !env.disk().exists(&path) {
            env.disk().make_directory(&directory, 0o700)?;
            write_journaled(env, &path, &Secret::generate(), 0o600)?;
        }
    }
    let octets = env.disk().read_named(&path)?;
    Secret::of(&octets).ok_or_else(|| {
        Error::Malformed {
            what: path.display().to_string(),
            why: "it is not the 32 octets that the service wrote; invitations cannot be opened without it".into(),
        }
        .into()
    })
}
