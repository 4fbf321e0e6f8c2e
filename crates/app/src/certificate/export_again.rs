//! An exported file, written again after a renewal.

use super::export::{self, Output};
use super::exports::{Exported, passphrase_file};
use crate::env::Env;
use crate::failure::Result;
use crate::secret::{NewSecret, Secret};
use std::path::{Path, PathBuf};
use tamga_core::ca::report::Issued;
use tamga_core::error::Error;
use tamga_core::pki::format::container;
use tamga_core::vocabulary::text::Shown;

/// Writes a file again from the present certificate: a key store with the passphrase that lies beside it, else one that is asked for.
///
/// Errors: the passphrase is not beside it and nobody can be asked; the file cannot be written; the ledger is another account's.
pub(crate) fn write_again(env: &Env, issued: &Issued, exported: &Exported, secret: &Secret) -> Result<export::Report> {
    if env.machine.acts_as_root() && env.machine.person.is_some() {
        return Err(Error::Objection {
            code: "not-as-root",
            what: format!("{} was not written again", exported.file.shown()),
            why: "its path is in the ledger of another account, and root writes nothing on its word".into(),
            instead: format!("run it without sudo: tamga renew {} --exports", issued.label),
        }
        .into());
    }
    let beside = passphrase_file(&exported.file);
    let mut new_secret = NewSecret::default();
    if exported.form.is_store() {
        if opens(env, &beside, &exported.file) {
            new_secret.file = Some(beside);
        } else if !env.caller.is_present() {
            return Err(Error::Objection {
                code: "passphrase-needed",
                what: format!("{} was not written again", exported.file.shown()),
                why: format!("its passphrase is not in {}, and there is no terminal to ask at", beside.shown()),
                instead: format!(
                    "tamga export {} --as {} --output {} --new-passphrase-file FILE --yes",
                    issued.label,
                    exported.form.word(),
                    exported.file.shown()
                ),
            }
            .into());
        }
    }
    let request = export::Request {
        what: PathBuf::from(issued.label.as_str()),
        form: exported.form,
        output: Output::File { path: exported.file.clone(), replace: true },
        alias: exported.alias.clone(),
        legacy: exported.legacy,
        key_file: None,
        secret: secret.clone(),
        new_secret,
    };
    export::export(env, &request)
}

/// True if the passphrase in a file opens a key store: a person may have written it again with another one.
fn opens(env: &Env, passphrase: &Path, store: &Path) -> bool {
    if !env.disk().is_file(passphrase) {
        return false;
    }
    let given = Secret { file: Some(passphrase.to_owned()), variable: None }.given(env);
    let (Ok(Some(given)), Ok(bytes)) = (given, env.disk().read(store)) else { return false };
    container::open(&bytes, Some(&given), &store.shown()).is_ok()
}
