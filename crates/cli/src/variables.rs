//! Passphrases in environment variables: taken out at the start, before there is a second thread or another program, so that no
//! child of ours ever inherits one.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::sync::OnceLock;
use zeroize::Zeroizing;

/// The options that name such a variable.
const OPTIONS: [&str; 2] = ["--passphrase-env", "--new-passphrase-env"];

static TAKEN: OnceLock<BTreeMap<OsString, Zeroizing<Vec<u8>>>> = OnceLock::new();

/// Takes the variables that the command line names out of the environment.
pub(crate) fn take() {
    let mut taken = BTreeMap::new();
    for name in named(std::env::args_os()) {
        if let Some(value) = std::env::var_os(&name) {
            let value = Zeroizing::new(value.into_encoded_bytes());
            tamga_host::memory::keep_in_memory(&value);
            taken.insert(name.clone(), value);
            // SAFETY: this is the start of the program: no other thread exists that could read the environment.
            unsafe { tamga_host::memory::forget_variable(&name) };
        }
    }
    let _ = TAKEN.set(taken);
}

/// The value of such a variable.
pub(crate) fn value(name: &str) -> Option<Zeroizing<Vec<u8>>> {
    TAKEN.get()?.get(OsString::from(name).as_os_str()).cloned()
}

fn named(mut words: impl Iterator<Item = OsString>) -> Vec<OsString> {
    let mut out = Vec::new();
    while let Some(word) = words.next() {
        if word == "--" {
            break;
        }
        for option in OPTIONS {
            if word == option {
                out.extend(words.next());
                break;
            }
            let text = word.to_str().and_then(|w| w.strip_prefix(option)?.strip_prefix('='));
            out.extend(text.map(OsString::from));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_spelling_of_the_options_is_seen_and_nothing_after_the_dashes() {
        let words =
            ["tamga", "issue", "--passphrase-env", "A", "--new-passphrase-env=B", "--", "--passphrase-env", "C"];
        assert_eq!(named(words.into_iter().map(OsString::from)), ["A", "B"]);
    }
}
