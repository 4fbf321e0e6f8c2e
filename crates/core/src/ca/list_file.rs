//! The file of `tamga issue --list`: the names of one certificate on each line, apart by spaces, tabs or commas; `#`
//! begins a remark.

use crate::ca::issue;
use crate::error::{Error, Result};
use crate::vocabulary::label::Label;
use crate::vocabulary::name::Name;

/// What a line asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The names, each once; at least one.
    pub names: Vec<Name>,
    /// What to call it: its first name.
    pub label: Label,
}

/// Every line that asks for something. `what` is the file, for errors.
///
/// Errors: a word that is no name, two lines with the same first name (each with the number of its line), no line at
/// all.
///
/// ```
/// use tamga_core::ca::list_file;
///
/// let lab = "charts.saltmarsh.test 10.0.0.7  # the chart server\narchive.saltmarsh.test\n";
/// let entries = list_file::read(lab, "lab.txt")?;
/// assert_eq!(entries.len(), 2);
/// assert_eq!((entries[0].label.as_str(), entries[0].names.len()), ("charts.saltmarsh.test", 2));
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn read(text: &str, what: &str) -> Result<Vec<Entry>> {
    let mut out: Vec<Entry> = Vec::new();
    let mut labels = std::collections::HashSet::new();
    // The mark with which some editors begin a file is no part of a name.
    for (n, line) in text.trim_start_matches('\u{feff}').lines().enumerate() {
        let at = |e: Error| Error::InList { file: what.to_owned(), line: n + 1, inner: Box::new(e) };
        let words = line.split('#').next().unwrap_or_default();
        let words = words.split([' ', '\t', ',', '\r']).filter(|w| !w.is_empty());
        let names = issue::distinct(words.map(|w| Ok(Name::from_typed(w)?.0)).collect::<Result<Vec<_>>>().map_err(at)?);
        let Some(first) = names.first() else { continue };
        let label = first.label().map_err(at)?;
        if !labels.insert(label.to_string()) {
            return Err(at(Error::LabelTaken {
                label: label.to_string(),
                by: "a line further up".into(),
                instead: "give each line another first name, or join the lines".into(),
            }));
        }
        out.push(Entry { names, label });
    }
    if out.is_empty() {
        return Err(Error::Malformed { what: what.to_owned(), why: "no line of it holds a name".into() });
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_read_and_remarks_are_not() {
        let all = read("\u{feff}# gauges\na.test, b.test\t10.0.0.7 # north\r\n\n c.test c.test\n", "l").unwrap();
        let names = |e: &Entry| e.names.iter().map(ToString::to_string).collect::<Vec<_>>();
        assert_eq!(all.len(), 2);
        assert_eq!(names(&all[0]), ["a.test", "b.test", "10.0.0.7"]);
        assert_eq!(names(&all[1]), ["c.test"]);
    }

    #[test]
    fn a_bad_line_is_named_by_its_number() {
        assert!(matches!(read("a.test\nb..test\n", "l"), Err(Error::InList { line: 2, .. })));
        assert!(matches!(read("a.test\n#\na.test c.test\n", "l"), Err(Error::InList { line: 3, .. })));
        assert!(matches!(read("# nothing\n", "l"), Err(Error::Malformed { .. })));
    }
}
