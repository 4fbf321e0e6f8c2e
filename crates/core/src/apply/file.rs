//! `tamga.toml`: what a lab is to have. Read once, every word of it judged, with the line and column of what is wrong.

use crate::error::{Error, Result};
use crate::export::Form;
use crate::issue::distinct;
use crate::key::KeyAlgorithm;
use crate::label::Label;
use crate::moment::{Moment, Span};
use crate::name::Name;
use crate::purpose::Purpose;
use crate::recipe;
use serde::Deserialize;
use std::path::PathBuf;
use toml::Spanned;

/// The whole file.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Lab {
    /// Authorities; an intermediate after its issuer.
    pub authority: Vec<Authority>,
    /// Certificates.
    pub certificate: Vec<Certificate>,
    /// Roots in stores.
    pub trust: Vec<Trust>,
    /// Names in the hosts file.
    pub hosts: Hosts,
    /// What must hold afterwards.
    pub check: Vec<Check>,
}

/// A word with its place in the file.
pub type Text = Spanned<String>;

/// An authority.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Authority {
    /// Its label.
    pub label: Text,
    /// Its issuer, for an intermediate.
    pub issuer: Option<Text>,
    /// What it may certify besides the usual.
    #[serde(default)]
    pub permit: Vec<Text>,
    /// The kind of its key.
    pub key_algorithm: Option<Text>,
    /// How long it lives.
    pub valid_for: Option<Text>,
    /// What it may issue for.
    #[serde(default)]
    pub purpose: Vec<Text>,
}

/// A certificate.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Certificate {
    /// Its names.
    pub names: Vec<Text>,
    /// Its label; else made from the first name.
    pub label: Option<Text>,
    /// Under which authority, where there are several.
    pub issuer: Option<Text>,
    /// The server that it is for.
    #[serde(rename = "for")]
    pub server: Option<Text>,
    /// Its purposes.
    #[serde(default)]
    pub purpose: Vec<Text>,
    /// The kind of its key.
    pub key_algorithm: Option<Text>,
    /// How long it lives.
    pub valid_for: Option<Text>,
    /// The first moment of the first one.
    pub not_before: Option<Text>,
    /// Renewed when it ends within this time; else when a third of its life is left.
    pub renew: Option<Text>,
    /// Where it is needed.
    #[serde(default)]
    pub place: Vec<Place>,
}

/// A place where a server reads a certificate.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Place {
    /// The chain, PEM.
    pub certificate: Option<PathBuf>,
    /// The private key, PEM.
    pub key: Option<PathBuf>,
    /// The root, PEM.
    pub root: Option<PathBuf>,
    /// All in one file, in `form`.
    pub file: Option<PathBuf>,
    /// The form of that file.
    pub form: Option<Text>,
    /// Whose the files are.
    pub owner: Option<String>,
    /// Their group.
    pub group: Option<String>,
    /// The permission bits of files with a key, octal; else 0600.
    pub mode: Option<Text>,
    /// What protects the key in that file.
    pub passphrase_file: Option<PathBuf>,
    /// The program, with its arguments, that brings commands to another machine.
    #[serde(default)]
    pub through: Vec<String>,
    /// The program, with its arguments, that is run after a change.
    #[serde(default)]
    pub run: Vec<String>,
    /// HOST:PORT that must then show the new certificate.
    pub check: Option<Text>,
    /// The address at which that host is met.
    pub check_at: Option<String>,
}

/// A root in stores.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Trust {
    /// The authority's label.
    pub root: Text,
    /// Which stores; else those of the scope.
    #[serde(default)]
    pub stores: Vec<String>,
    /// `user`, `machine` or `both`.
    pub scope: Option<String>,
    /// Files of roots.
    #[serde(default)]
    pub bundle: Vec<PathBuf>,
}

/// Names in the hosts file.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Hosts {
    /// `NAME` or `NAME=ADDRESS`.
    pub names: Vec<String>,
}

/// What must hold afterwards.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Check {
    /// What `tamga check` takes.
    pub target: String,
    /// Whose rules.
    #[serde(default)]
    pub clients: Vec<String>,
    /// `NAME=ADDRESS`.
    #[serde(default)]
    pub resolve: Vec<String>,
    /// Files of roots that count alone.
    #[serde(default)]
    pub anchor: Vec<PathBuf>,
}

/// A certificate whose words have been read.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// Its label.
    pub label: Label,
    /// Its names, each once.
    pub names: Vec<Name>,
    /// The kind of its key, if it is said.
    pub algorithm: Option<KeyAlgorithm>,
    /// Its purposes, if they are said.
    pub purposes: Vec<Purpose>,
    /// When it is renewed.
    pub renew: Option<Span>,
}

/// Reads the file. `what` is what it is called in errors.
///
/// Errors: what is wrong, with line and column, and what may have been meant.
pub fn read(text: &str, what: &str) -> Result<(Lab, Vec<Wanted>)> {
    let lab: Lab = toml::from_str(text).map_err(|e| {
        let message = e.message().lines().next().unwrap_or_default().to_owned();
        at(text, what, e.span().map_or(0, |s| s.start), spelling(&message))
    })?;
    let place = |e: Error, span: std::ops::Range<usize>| at(text, what, span.start, e);
    let judge = |t: &Text, result: Result<()>| result.map_err(|e| place(e, t.span()));
    let mut wanted = Vec::new();
    let mut labels: Vec<&str> = Vec::new();
    for a in &lab.authority {
        judge(&a.label, Label::parse(a.label.get_ref()).map(drop))?;
        judge(&a.label, fresh(a.label.get_ref(), &mut labels))?;
        for p in &a.purpose {
            judge(p, purpose(p.get_ref()).map(drop))?;
        }
        if let Some(k) = &a.key_algorithm {
            judge(k, KeyAlgorithm::parse(k.get_ref()).map(drop))?;
        }
        if let Some(v) = &a.valid_for {
            judge(v, Span::parse(v.get_ref()).map(drop))?;
        }
    }
    for c in &lab.certificate {
        let mut names = Vec::new();
        for n in &c.names {
            names.push(Name::parse(n.get_ref()).map_err(|e| place(e, n.span()))?);
        }
        let names = distinct(names);
        let first = names.first().ok_or_else(|| Error::NamesNeeded { what: format!("a certificate in {what}") })?;
        let label = match &c.label {
            Some(l) => Label::parse(l.get_ref()).map_err(|e| place(e, l.span()))?,
            None => first.label().map_err(|e| place(e, c.names[0].span()))?,
        };
        for (t, read) in [(&c.valid_for, true), (&c.renew, true), (&c.not_before, false)] {
            if let Some(t) = t {
                let result =
                    if read { Span::parse(t.get_ref()).map(drop) } else { Moment::parse(t.get_ref()).map(drop) };
                judge(t, result)?;
            }
        }
        if let Some(s) = &c.server {
            judge(s, recipe::find(s.get_ref()).map(drop))?;
        }
        let algorithm = match &c.key_algorithm {
            Some(k) => Some(KeyAlgorithm::parse(k.get_ref()).map_err(|e| place(e, k.span()))?),
            None => None,
        };
        let mut purposes = Vec::new();
        for p in &c.purpose {
            purposes.push(purpose(p.get_ref()).map_err(|e| place(e, p.span()))?);
        }
        for p in &c.place {
            whole(p, text, what)?;
        }
        let renew = c.renew.as_ref().map(|r| Span::parse(r.get_ref())).transpose()?;
        wanted.push(Wanted { label, names, algorithm, purposes, renew });
    }
    for (i, w) in wanted.iter().enumerate() {
        let taken = wanted[..i].iter().any(|o| o.label == w.label) || labels.contains(&w.label.as_str());
        if taken {
            let t = lab.certificate[i].label.as_ref().unwrap_or(&lab.certificate[i].names[0]);
            return Err(place(twice(w.label.as_str()), t.span()));
        }
    }
    Ok((lab, wanted))
}

fn twice(label: &str) -> Error {
    Error::LabelTaken {
        label: label.to_owned(),
        by: "something further up in the file".into(),
        instead: "give it another: label = \"…\"".into(),
    }
}

fn fresh<'a>(label: &'a str, seen: &mut Vec<&'a str>) -> Result<()> {
    if seen.contains(&label) {
        return Err(twice(label));
    }
    seen.push(label);
    Ok(())
}

fn purpose(typed: &str) -> Result<Purpose> {
    Purpose::parse(typed).ok_or_else(|| Error::Word {
        what: "purpose",
        typed: typed.to_owned(),
        accepted: "server client mail code".into(),
    })
}

/// A place must say what goes where, and in a form that there is.
fn whole(p: &Place, text: &str, what: &str) -> Result<()> {
    let span = p.form.as_ref().or(p.mode.as_ref()).map(Spanned::span);
    let wrong = |why: &str, instead: &str| {
        let e = Error::Contradiction { what: "a place is not whole".into(), why: why.into(), instead: instead.into() };
        at(text, what, span.clone().map_or(0, |s| s.start), e)
    };
    if let Some(f) = &p.form {
        let form = Form::parse(f.get_ref()).map_err(|e| at(text, what, f.span().start, e))?;
        if form.is_a_line() {
            return Err(wrong("no server reads that form", "write form = \"combined-pem\", \"pkcs12\" or another"));
        }
    }
    if let Some(m) = &p.mode {
        let bits = u32::from_str_radix(m.get_ref(), 8).ok().filter(|b| b & !0o777 == 0 && b & 0o400 != 0);
        bits.ok_or_else(|| {
            let accepted = "three or four octal digits, such as \"0640\"".into();
            at(text, what, m.span().start, Error::Word { what: "mode", typed: m.get_ref().clone(), accepted })
        })?;
    }
    match (&p.file, &p.certificate, &p.key, &p.root) {
        (Some(_), None, None, None) if p.form.is_some() => Ok(()),
        (Some(_), None, None, None) => {
            Err(wrong("it names a file and no form", "add form = \"combined-pem\" or another"))
        }
        (Some(_), ..) => Err(wrong("it names one file and several", "keep file and form, or certificate and key")),
        (None, None, None, None) => Err(wrong("it names no file", "add certificate = \"…\" and key = \"…\"")),
        (None, ..) if p.form.is_some() => Err(wrong("it names a form and no file", "add file = \"…\"")),
        _ => Ok(()),
    }
}

/// What a reader of TOML says of a key that there is not, with what may have been meant.
fn spelling(message: &str) -> Error {
    let mut quoted = message.split('`').skip(1).step_by(2);
    let typed = quoted.next().unwrap_or_default().to_owned();
    let known: Vec<&str> = quoted.collect();
    if !message.starts_with("unknown field") || known.is_empty() {
        return Error::Malformed { what: "the file".into(), why: message.to_owned() };
    }
    let nearest = known.iter().min_by_key(|k| distance(k, &typed)).filter(|k| distance(k, &typed) <= 3);
    let accepted = match nearest {
        Some(k) => format!("{k}, perhaps; there are {}", known.join(" ")),
        None => known.join(" "),
    };
    Error::Word { what: "key of this file", typed, accepted }
}

/// How many letters must change (Levenshtein).
fn distance(a: &str, b: &str) -> usize {
    let b: Vec<char> = b.chars().collect();
    let mut row: Vec<usize> = (0..=b.len()).collect();
    for (i, x) in a.chars().enumerate() {
        let mut before = row[0];
        row[0] = i + 1;
        for (j, y) in b.iter().enumerate() {
            let kept = before + usize::from(x != *y);
            before = row[j + 1];
            row[j + 1] = kept.min(row[j] + 1).min(before + 1);
        }
    }
    row[b.len()]
}

/// An error with the line and column, each from 1, of an octet.
fn at(text: &str, what: &str, offset: usize, inner: Error) -> Error {
    let before = text.get(..offset).unwrap_or(text);
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().unwrap_or_default().chars().count() + 1;
    Error::InFile { file: what.to_owned(), line, column, inner: Box::new(inner) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::Told;

    fn wrong(text: &str) -> (String, String) {
        let e = read(text, "tamga.toml").unwrap_err();
        (e.what(), e.remedy())
    }

    #[test]
    fn mistakes_are_told_with_their_place_and_what_was_meant() {
        let (what, remedy) = wrong("[[certificate]]\nnames = [\"a.test\"]\nvalid_fro = \"90d\"\n");
        assert!(what.starts_with("tamga.toml, line 3, column 1: "), "{what}");
        assert!(remedy.contains("valid_for, perhaps"), "{remedy}");
        let (what, _) = wrong("[[certificate]]\nnames = [\"a.test\", \"not a name\"]\n");
        assert!(what.starts_with("tamga.toml, line 2, column 20: "), "{what}");
        let (what, _) = wrong("[[certificate]]\nnames = \"a.test\"\n");
        assert!(what.contains("line 2, column 9"), "{what}");
        let (what, _) = wrong("[[certificate]\n");
        assert!(what.contains("line 1"), "{what}");
        for (place, why) in [
            ("file = \"a\"", "no form"),
            ("file = \"a\"\nform = \"pkcs13\"", "pkcs13"),
            ("file = \"a\"\nform = \"fingerprint\"", "no server reads"),
            ("form = \"pkcs12\"", "names no file"),
            ("certificate = \"a\"\nfile = \"b\"\nform = \"der\"", "one file and several"),
            ("certificate = \"a\"\nmode = \"999\"", "999"),
        ] {
            let text = format!("[[certificate]]\nnames = [\"a.test\"]\n[[certificate.place]]\n{place}\n");
            let e = read(&text, "tamga.toml").unwrap_err();
            assert!(format!("{} {}", e.what(), e.why()).contains(why), "{place}: {} {}", e.what(), e.why());
        }
    }

    #[test]
    fn a_label_is_given_once() {
        let two = "[[certificate]]\nnames = [\"a.test\"]\n[[certificate]]\nnames = [\"A.test\"]\n";
        assert!(wrong(two).0.contains("line 4"));
        assert!(
            wrong("[[authority]]\nlabel = \"a.test\"\n[[certificate]]\nnames = [\"a.test\"]\n").0.contains("line 4")
        );
    }
}
