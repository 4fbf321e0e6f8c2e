//! Where servers read a certificate: is what stands there what was put there, and is it the present one?

use crate::vocabulary::fingerprint::Sha256Fingerprint;

/// A file of a place, as it was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// Its path, in words.
    pub path: String,
    /// SHA-256 of its contents; None if it is not there or not readable.
    pub digest: Option<String>,
    /// What of its owner, group or mode is not as it must be.
    pub rights: Option<String>,
}

/// What the ledger knows of the last time that something was put there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recorded {
    /// SHA-256 of the certificate.
    pub certificate: Sha256Fingerprint,
    /// SHA-256 of each file's contents, in order.
    pub files: Vec<String>,
}

/// Why something must be put there; None if all is well.
///
/// `found` is empty for a place on another machine, which is not looked at: there the ledger alone counts.
pub fn differs(
    found: &[Found],
    recorded: Option<&Recorded>,
    certificate: &Sha256Fingerprint,
    of: usize,
) -> Option<String> {
    let Some(recorded) = recorded.filter(|r| r.files.len() == of) else {
        let there = found.iter().any(|f| f.digest.is_some());
        let first = found.first().map_or("", |f| f.path.as_str());
        return Some(if there { format!("{first} is not from here yet") } else { "nothing was put there yet".into() });
    };
    for (f, known) in found.iter().zip(&recorded.files) {
        match &f.digest {
            None => return Some(format!("{} is gone", f.path)),
            Some(s) if s != known => return Some(format!("{} was changed by somebody else", f.path)),
            Some(_) => {}
        }
    }
    if recorded.certificate != *certificate {
        return Some("the certificate there is an earlier one".into());
    }
    found.iter().find_map(|f| f.rights.as_ref().map(|r| format!("{}: {r}", f.path)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_difference_is_named() {
        let file = |sha: Option<&str>| Found { path: "/t/a.pem".into(), digest: sha.map(Into::into), rights: None };
        let (c1, c2) = (&Sha256Fingerprint::of(b"c1"), &Sha256Fingerprint::of(b"c2"));
        let known = Recorded { certificate: *c1, files: vec!["f1".into()] };
        let said = |f: &[Found], r: Option<&Recorded>, c: &Sha256Fingerprint| differs(f, r, c, 1).unwrap_or_default();
        assert_eq!(said(&[file(Some("f1"))], Some(&known), c1), "");
        assert_eq!(said(&[], Some(&known), c1), "", "another machine is not looked at");
        assert!(said(&[file(None)], None, c1).contains("nothing was put there"));
        assert!(said(&[file(Some("x"))], None, c1).contains("not from here"));
        assert!(said(&[file(None)], Some(&known), c1).contains("gone"));
        assert!(said(&[file(Some("x"))], Some(&known), c1).contains("changed by somebody else"));
        assert!(said(&[file(Some("f1"))], Some(&known), c2).contains("earlier"));
        let open = Found { rights: Some("its mode is 0644".into()), ..file(Some("f1")) };
        assert!(said(&[open], Some(&known), c1).contains("mode is 0644"));
    }
}
