//! wget and what else is made with GnuTLS. Measured with wget 1.21 and GnuTLS 3.7 on Debian 12.

/// What wget printed, as it is shown and compared: its first line that says more than "not trusted".
pub fn said(printed: &str) -> String {
    let lines = || {
        printed
            .lines()
            .map(|l| l.trim_start_matches("ERROR: ").trim())
            .filter(|l| !l.is_empty() && !l.starts_with("WARNING: "))
    };
    let overrides = lines().find(|l| !l.ends_with("is not trusted."));
    overrides.or_else(|| lines().next()).unwrap_or_default().to_owned()
}

/// What wget's own settings say.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Settings {
    /// The file that says it.
    pub from: std::path::PathBuf,
    /// `ca_certificate`: roots that are added.
    pub file: Option<std::path::PathBuf>,
    /// `check_certificate = off`.
    pub looks_away: bool,
}

/// Reads the file that WGETRC names, else `~/.wgetrc`.
pub fn settings(look: &dyn crate::plan::ports::Look) -> Settings {
    let from = look.env("WGETRC").map_or_else(|| look.home().join(".wgetrc"), Into::into);
    let mut found = Settings { from, ..Settings::default() };
    let text = look.read(&found.from).unwrap_or_default();
    for line in String::from_utf8_lossy(&text).lines() {
        let Some((key, value)) = line.split_once('=').filter(|_| !line.trim_start().starts_with('#')) else { continue };
        // Case, dashes and underscores do not count in its keys.
        let key: String = key.trim().to_lowercase().chars().filter(|c| c.is_ascii_alphanumeric()).collect();
        match (key.as_str(), value.trim()) {
            ("cacertificate", file) => found.file = Some(file.into()),
            ("checkcertificate", value) => {
                found.looks_away = matches!(value.to_lowercase().as_str(), "off" | "no" | "0");
            }
            _ => {}
        }
    }
    found
}
