//! What interrupted work left, finished or taken back by the next run, and said.

use crate::error::Result;
use crate::files::{self, Mended};
use crate::ledger::{Ledger, Work};
use tamga_core::authority::CERTIFICATE_FILE;
use tamga_core::cert::Certificate;
use tamga_core::form::pem;
use tamga_core::moment::Moment;

/// Looks at the journal and mends. The caller holds the data folder's lock. One line for each thing found.
pub fn recover(ledger: &Ledger, now: Moment) -> Result<Vec<String>> {
    let mut said = Vec::new();
    for (id, work) in ledger.unfinished()? {
        match &work {
            Work::Publish { what, label, sha256, folder, names, tag } => {
                let mended = files::mend(folder, names, tag)?;
                let standing = std::fs::read(folder.join(CERTIFICATE_FILE))
                    .ok()
                    .and_then(|bytes| pem::certificates(&bytes).into_iter().next())
                    .and_then(|der| Certificate::read(&der, "certificate.pem").ok())
                    .is_some_and(|c| c.sha256() == *sha256);
                if standing {
                    ledger.finish(id)?;
                    // The row only survived its own clearing: nothing was wrong.
                    if mended == Mended::GoneOn {
                        said.push(format!(
                            "the {what} {label} was interrupted while its files were put in place; it is complete now"
                        ));
                    }
                } else {
                    ledger.abandon(id, &work, now)?;
                    said.push(format!("the {what} {label} was interrupted before its files stood; it was taken back, nothing else changed"));
                }
            }
            Work::Trust { goal, label, store, place, .. } => {
                ledger.finish(id)?;
                let verb = if goal == "add" { "putting" } else { "taking" };
                said.push(format!(
                    "{verb} the root {label} {} {store} ({}) was interrupted; run tamga trust {goal} {label} again",
                    if goal == "add" { "into" } else { "out of" },
                    place.display()
                ));
            }
        }
    }
    Ok(said)
}
