//! The files of a certificate, as JSON names them.

use serde::ser::SerializeMap;
use serde::{Serialize, Serializer};

/// The files of a certificate: the word of each, and its path.
pub(crate) enum Files<'a> {
    /// These names in this directory, which a list of a million writes without putting them together first.
    In(&'a str, &'a [(&'static str, &'a str)]),
    /// Each by itself.
    Each([(&'static str, String); 2]),
}

impl Serialize for Files<'_> {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        match self {
            Files::In(folder, names) => {
                let mut map = s.serialize_map(Some(names.len()))?;
                for (word, name) in *names {
                    map.serialize_entry(word, &format_args!("{folder}{}{name}", std::path::MAIN_SEPARATOR))?;
                }
                map.end()
            }
            Files::Each(files) => s.collect_map(files.iter().map(|(word, path)| (word, path))),
        }
    }
}
