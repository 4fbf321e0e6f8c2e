//! Chromium's own certificate manager: a database in each profile, with roots imported by hand and with what is distrusted.
//!
//! It is read and never written: the format is the browser's own affair, and the browser holds it locked while it runs.

use super::exceptions::CHROMIUM;
use crate::pki::cert::Certificate;
use crate::plan::ports::Look;
use std::path::PathBuf;

/// The file in each profile.
const FILE: &str = "ServerCertificate";

/// What the manager says about a certificate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Said {
    /// A root for servers.
    Trusted,
    /// Never.
    Distrusted,
    /// Only a help for building chains.
    Hint,
}

/// One certificate of a profile's manager.
#[derive(Clone, Debug)]
pub struct Kept {
    /// The database.
    pub file: PathBuf,
    /// The profile's name.
    pub profile: String,
    /// The certificate.
    pub certificate: Certificate,
    /// What is said about it.
    pub said: Said,
}

/// Every certificate in the managers of the person's profiles.
pub fn all(look: &dyn Look) -> Vec<Kept> {
    let mut out = Vec::new();
    for folder in CHROMIUM.map(|f| look.home().join(f)) {
        for profile in look.list(&folder) {
            let file = folder.join(&profile).join(FILE);
            for (der, settings) in look.kept_certificates(&file) {
                let Ok(certificate) = Certificate::read(&der, "a certificate of the browser's manager") else {
                    continue;
                };
                let said = said(&settings);
                out.push(Kept { file: file.clone(), profile: profile.clone(), certificate, said });
            }
        }
    }
    out
}

/// Reads the settings: field 1 is a message whose field 1 is the kind of trust: 1 unspecified, 2 distrusted, 3 trusted (measured
/// with Chromium 156). What is not understood is a hint: it then changes nothing.
fn said(settings: &[u8]) -> Said {
    let Some([0x0a, length, rest @ ..]) = settings.get(..).filter(|s| s.len() >= 2) else { return Said::Hint };
    match rest.get(..usize::from(*length)) {
        Some([0x08, 2, ..]) => Said::Distrusted,
        Some([0x08, 3, ..]) => Said::Trusted,
        _ => Said::Hint,
    }
}
