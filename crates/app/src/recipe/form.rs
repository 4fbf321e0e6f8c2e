//! A new certificate in the form that its server wants besides PEM.

use crate::certificate::export::{self, Output};
use crate::env::Env;
use crate::failure::Result;
use crate::secret::{NewSecret, Secret};
use std::path::PathBuf;
use tamga_core::ca::report::Issued;
use tamga_core::deploy::export::Form;
use tamga_core::deploy::recipe::Recipe;

/// What was written.
pub struct Report {
    /// The file.
    pub export: export::Report,
    /// The file with its passphrase, where Tamga made one.
    pub passphrase_file: Option<PathBuf>,
}

/// Writes it, with a passphrase of its own in a file beside it where none was given; None where PEM is what the server wants.
///
/// Errors: as for [`export::export`].
pub fn write(
    env: &Env,
    server: &'static Recipe,
    issued: &Issued,
    secret: &Secret,
    new_secret: &NewSecret,
) -> Result<Option<Report>> {
    let form = server.facts.form;
    if form == Form::Pem {
        return Ok(None);
    }
    let output = issued.folder.join(format!("{}.{}", issued.label, form.ending()));
    let (mut secret, mut new_secret, mut passphrase_file) = (secret.clone(), new_secret.clone(), None);
    if new_secret.is_wanted() {
        // The key was just encrypted with the new passphrase: it opens with the same.
        secret = Secret { file: new_secret.file.clone(), variable: new_secret.variable.clone() };
        if form == Form::CombinedPem {
            new_secret = NewSecret::default();
        }
    } else if form != Form::CombinedPem {
        let file = export::passphrase_beside(env, &output)?;
        passphrase_file = Some(file.clone());
        new_secret.file = Some(file);
    }
    let request = export::Request {
        what: PathBuf::from(issued.label.as_str()),
        form,
        // An older one of the same certificate is replaced: that is what was asked for.
        output: Output::File { path: output, replace: true },
        alias: None,
        legacy: false,
        key_file: None,
        secret,
        new_secret,
    };
    let export = export::export(env, &request)?;
    Ok(Some(Report { export, passphrase_file }))
}
