//! Files that were exported from a certificate: the ledger knows them, and a renewal can write them again.

use crate::env::Env;
use crate::failure::Result;
use crate::output::absolute;
use std::path::{Path, PathBuf};
use tamga_core::deploy::export::Form;
use tamga_core::vocabulary::label::Label;
use tamga_host::ledger::Ledger;
use tamga_host::ledger::stored_path::{restored, stored};

/// The kind of event that says so.
const EXPORTED: &str = "exported";
const LEGACY: &str = " (older encryption)";
const ALIAS: &str = " as ";

/// One file that was exported.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Exported {
    /// Its form.
    pub(super) form: Form,
    /// The file.
    pub(super) file: PathBuf,
    /// The name inside a key store, if it is not the label.
    pub(crate) alias: Option<String>,
    /// True for the encryption that old programs need.
    pub(crate) legacy: bool,
}

impl Exported {
    fn detail(&self) -> String {
        let alias = self.alias.as_ref().map(|a| format!("{ALIAS}{a}")).unwrap_or_default();
        let legacy = if self.legacy { LEGACY } else { "" };
        format!("{}{alias}{legacy} into {}", self.form.word(), stored(&self.file))
    }

    fn read(detail: &str) -> Option<Exported> {
        let (how, file) = detail.split_once(" into ")?;
        let (how, legacy) = how.strip_suffix(LEGACY).map_or((how, false), |rest| (rest, true));
        let (form, alias) = how.split_once(ALIAS).map_or((how, None), |(form, alias)| (form, Some(alias.to_owned())));
        let file = restored(file);
        file.is_absolute().then_some(Exported { form: form.parse().ok()?, file, alias, legacy })
    }
}

/// Records that a file was written.
///
/// Errors: the ledger cannot be written.
pub(crate) fn record(env: &Env, label: &Label, mut written: Exported) -> Result<()> {
    written.file = absolute(&written.file)?;
    let (_lock, ledger) = env.open_for_change()?;
    Ok(ledger.note(env.now, EXPORTED, label, &written.detail())?)
}

/// The files that were exported from a label's certificate and are still there, as they were last written.
///
/// Errors: the ledger cannot be read.
pub(crate) fn of(env: &Env, ledger: &dyn Ledger, label: &Label) -> Result<Vec<Exported>> {
    let mut out: Vec<Exported> = Vec::new();
    for event in ledger.history(label)?.into_iter().filter(|e| e.kind == EXPORTED) {
        let Some(one) = Exported::read(&event.detail) else { continue };
        out.retain(|o| o.file != one.file);
        out.push(one);
    }
    out.retain(|o| env.disk().is_file(&o.file));
    Ok(out)
}

/// Where the passphrase of a key store lies if Tamga made it.
pub(crate) fn passphrase_file(store: &Path) -> PathBuf {
    let mut name = store.as_os_str().to_owned();
    name.push(".passphrase");
    PathBuf::from(name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_recorded_reads_back() {
        for (alias, legacy) in [(None, false), (Some("tomcat".to_owned()), true)] {
            let one = Exported { form: Form::Pkcs12, file: "/srv/lab into/charts.p12".into(), alias, legacy };
            assert_eq!(Exported::read(&one.detail()), Some(one));
        }
        assert_eq!(Exported::read("pkcs12 into charts.p12"), None, "an older ledger has relative paths");
    }
}
