//! `tamga.toml`: what a lab is to have. Parsed once, completely: whatever comes out of it is valid, and an error has its line and
//! column.

use super::host::Host;
use super::raw;
use super::reader::Reader;
use super::service::{self, Service};
use crate::ca::authority::limits;
use crate::ca::issue::distinct;
use crate::check::client::Client;
use crate::deploy::export::Form;
use crate::deploy::hosts;
use crate::deploy::recipe::{self, Recipe};
use crate::error::{Error, Result};
use crate::pki::key::KeyAlgorithm;
use crate::pki::token::TokenUri;
use crate::stores::trust::{self, Store};
use crate::stores::{InScope, StoreId};
use crate::vocabulary::label::Label;
use crate::vocabulary::name::Name;
use crate::vocabulary::purpose::Purpose;
use crate::vocabulary::timestamp::{Span, Timestamp};
use std::net::IpAddr;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use toml::Spanned;

/// The whole file.
#[derive(Default)]
pub struct Lab {
    /// Where the ledger is, as it was typed; None for where the data directory says.
    pub ledger: Option<String>,
    /// Authorities; an intermediate after its issuer.
    pub authorities: Vec<Authority>,
    /// Certificates; every label is there once.
    pub certificates: Vec<Certificate>,
    /// Roots in stores.
    pub trust: Vec<Trust>,
    /// Names in the hosts file.
    pub hosts: Vec<hosts::Wanted>,
    /// The same as they were typed.
    pub hosts_typed: Vec<String>,
    /// Machines beyond this one; every name is there once.
    pub machines: Vec<Host>,
    /// What must hold afterwards.
    pub checks: Vec<Check>,
}

/// An authority.
#[derive(Clone, Debug)]
pub struct Authority {
    /// Its label.
    pub label: Label,
    /// Its issuer, for an intermediate.
    pub issuer: Option<Label>,
    /// What it may certify besides the usual.
    pub permit: Vec<String>,
    /// The kind of its key.
    pub key_algorithm: Option<KeyAlgorithm>,
    /// Its key on a token, with the module where the file names it; None for a file.
    pub key_uri: Option<TokenUri>,
    /// How long it is valid.
    pub valid_for: Option<Span>,
    /// What it may issue for; empty for the usual.
    pub purposes: Vec<Purpose>,
}

/// A certificate.
#[derive(Clone, Debug)]
pub struct Certificate {
    /// Its label.
    pub label: Label,
    /// Its names, each once; at least one.
    pub names: Vec<Name>,
    /// Under which authority, where there are several.
    pub issuer: Option<Label>,
    /// The server that it is for.
    pub server: Option<&'static Recipe>,
    /// Its purposes, if the file says them.
    pub purposes: Vec<Purpose>,
    /// The kind of its key, if the file says it.
    pub key_algorithm: Option<KeyAlgorithm>,
    /// How long it is valid, if the file says it.
    pub valid_for: Option<Span>,
    /// The first moment of the first one.
    pub not_before: Option<Timestamp>,
    /// Renewed when it expires within this time; else when a third of its validity is left.
    pub renew: Option<Span>,
    /// The service that issues it; None for an authority of this lab.
    pub from: Option<Service>,
    /// Where servers read it.
    pub targets: Vec<Target>,
}

/// Files from which a server reads a certificate.
#[derive(Clone, Debug)]
pub struct Target {
    /// The files, in the order of their renaming: what vouches for the whole comes last.
    pub files: Vec<TargetFile>,
    /// The account that owns them.
    pub owner: Option<String>,
    /// Their group.
    pub group: Option<String>,
    /// What protects the key in a file of a form that takes a passphrase.
    pub passphrase_file: Option<PathBuf>,
    /// The program, with its arguments, that brings commands to another machine; empty for this one.
    pub through: Vec<String>,
    /// The program, with its arguments, that is run after a change.
    pub run: Vec<String>,
    /// The server that must then show the new certificate.
    pub check: Option<Endpoint>,
}

/// A file of a target.
#[derive(Clone, Debug)]
pub struct TargetFile {
    /// Its path: absolute on this machine, as it was written on another.
    pub path: PathBuf,
    /// What is in it.
    pub content: Content,
    /// Its permission bits.
    pub mode: u32,
}

/// What is in a file of a target.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Content {
    /// The chain, PEM.
    Chain,
    /// The private key, PEM.
    Key,
    /// The root, PEM.
    Root,
    /// All of it in one form.
    Form(Form),
}

impl Content {
    /// True if a private key is in it.
    pub fn has_key(self) -> bool {
        match self {
            Content::Key => true,
            Content::Form(form) => form.wants_key(),
            Content::Chain | Content::Root => false,
        }
    }
}

/// A server that shows a certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Endpoint {
    /// Its name.
    pub host: Name,
    /// Its port.
    pub port: u16,
    /// The address at which it is reached, if that is not left to the resolver.
    pub at: Option<IpAddr>,
}

/// A root in stores.
#[derive(Clone)]
pub struct Trust {
    /// The authority's label.
    pub root: Label,
    /// Exactly these stores; empty for those of the scope.
    pub stores: Vec<&'static dyn Store>,
    /// Whose stores.
    pub scope: InScope,
    /// PEM bundles, absolute.
    pub bundles: Vec<PathBuf>,
}

/// What must hold afterwards.
#[derive(Clone, Debug)]
pub struct Check {
    /// What `tamga check` takes, as it was written; a path is meant from the file's own directory.
    pub target: String,
    /// The clients whose rules count; empty for those installed here.
    pub clients: Vec<Client>,
    /// Addresses at which names are reached, in lower case.
    pub resolve: Vec<(String, IpAddr)>,
    /// Files with the only roots that are trusted, absolute.
    pub anchors: Vec<PathBuf>,
}

/// Parses the file. `what` is what it is called in errors, `base` the directory from which its paths are meant.
///
/// Errors: what is wrong, with line and column, and what may have been meant.
///
/// ```
/// use std::path::Path;
/// use tamga_core::deploy::lab::file::read;
///
/// let text = "[[authority]]\nlabel = \"saltmarsh\"\n\n[[certificate]]\nnames = [\"charts.saltmarsh.test\"]\n";
/// let lab = read(text, "tamga.toml", Path::new("/lab"))?;
/// assert_eq!(lab.certificates[0].label.as_str(), "charts.saltmarsh.test");
/// assert!(read("[[certificat]]\n", "tamga.toml", Path::new("/lab")).is_err(), "with line, column and \"did you mean\"");
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn read(text: &str, what: &str, base: &Path) -> Result<Lab> {
    let reader = Reader { text, what, base };
    let file: raw::File = toml::from_str(text).map_err(|e| {
        let message = e.message().lines().next().unwrap_or_default().to_owned();
        reader.at(e.span().map_or(0, |s| s.start), spelling(&message))
    })?;
    let mut lab = Lab { ledger: file.ledger.as_ref().map(|l| l.get_ref().clone()), ..Lab::default() };
    for a in &file.authority {
        let authority = reader.authority(a)?;
        reader.unused(&lab, &authority.label, a.label.span())?;
        lab.authorities.push(authority);
    }
    for c in &file.certificate {
        let certificate = reader.certificate(c)?;
        let span = c.label.as_ref().or(c.names.first()).map_or(0..0, Spanned::span);
        reader.unused(&lab, &certificate.label, span)?;
        lab.certificates.push(certificate);
    }
    lab.trust = file.trust.iter().map(|t| reader.trust(t)).collect::<Result<_>>()?;
    for n in &file.hosts.names {
        lab.hosts.push(reader.value(n, hosts::Wanted::parse)?);
        lab.hosts_typed.push(n.get_ref().clone());
    }
    for h in &file.host {
        let host = reader.host(h, &lab.machines)?;
        lab.machines.push(host);
    }
    lab.checks = file.check.iter().map(|c| reader.check(c)).collect::<Result<_>>()?;
    Ok(lab)
}

impl Reader<'_> {
    fn unused(&self, lab: &Lab, label: &Label, span: Range<usize>) -> Result<()> {
        let taken =
            lab.authorities.iter().any(|a| a.label == *label) || lab.certificates.iter().any(|c| c.label == *label);
        if !taken {
            return Ok(());
        }
        let twice = Error::LabelTaken {
            label: label.to_string(),
            by: "something further up in the file".into(),
            instead: "give it another: label = \"…\"".into(),
        };
        Err(self.at(span.start, twice))
    }

    fn authority(&self, a: &raw::Authority) -> Result<Authority> {
        let permit = self.list(&a.permit, |typed| {
            let wanted = limits::Wanted { permit: vec![typed.to_owned()], any: false };
            limits::of_root(&wanted).map(|_| typed.to_owned())
        })?;
        Ok(Authority {
            label: self.value(&a.label, Label::from_str)?,
            issuer: self.optional(&a.issuer, Label::from_str)?,
            permit,
            key_algorithm: self.optional(&a.key_algorithm, KeyAlgorithm::from_str)?,
            key_uri: self.key_uri(a)?,
            valid_for: self.optional(&a.valid_for, Span::from_str)?,
            purposes: self.list(&a.purpose, Purpose::from_str)?,
        })
    }

    fn key_uri(&self, a: &raw::Authority) -> Result<Option<TokenUri>> {
        let uri = self.optional(&a.key_uri, TokenUri::from_str)?;
        match (uri, &a.module) {
            (Some(uri), Some(module)) => Ok(Some(TokenUri { module: Some(self.base.join(module.get_ref())), ..uri })),
            (None, Some(module)) => {
                let alone = Error::Contradiction {
                    what: "module is given without key_uri".into(),
                    why: "it is the library through which a token is reached".into(),
                    instead: "add the address of the key: key_uri = \"pkcs11:token=lab;object=saltmarsh\"".into(),
                };
                Err(self.at(module.span().start, alone))
            }
            (uri, None) => Ok(uri),
        }
    }

    fn certificate(&self, c: &raw::Certificate) -> Result<Certificate> {
        let names = distinct(self.list(&c.names, |n| Ok(Name::from_typed(n)?.0))?);
        let first =
            names.first().ok_or_else(|| Error::NamesNeeded { what: format!("a certificate in {}", self.what) })?;
        let label = match &c.label {
            Some(l) => self.value(l, Label::from_str)?,
            None => first.label().map_err(|e| self.at(c.names[0].span().start, e))?,
        };
        Ok(Certificate {
            label,
            names,
            issuer: self.optional(&c.issuer, Label::from_str)?,
            server: self.optional(&c.server, recipe::find)?,
            purposes: self.list(&c.purpose, Purpose::from_str)?,
            key_algorithm: self.optional(&c.key_algorithm, KeyAlgorithm::from_str)?,
            valid_for: self.optional(&c.valid_for, Span::from_str)?,
            not_before: self.optional(&c.not_before, Timestamp::from_str)?,
            renew: self.optional(&c.renew, Span::from_str)?,
            from: service::read(self, c)?,
            targets: c.place.iter().map(|p| self.target(p)).collect::<Result<_>>()?,
        })
    }

    /// A target must say what goes where, and in a form that there is.
    fn target(&self, p: &raw::Place) -> Result<Target> {
        let span = p.form.as_ref().or(p.mode.as_ref()).map_or(0..0, Spanned::span);
        let wrong = |why: &str, instead: &str| {
            let what = "a place is not whole".into();
            self.at(span.start, Error::Contradiction { what, why: why.into(), instead: instead.into() })
        };
        let form = self.optional(&p.form, Form::from_str)?;
        if form.is_some_and(Form::is_a_line) {
            return Err(wrong("no server reads that form", "write form = \"combined-pem\", \"pkcs12\" or another"));
        }
        let mode = match &p.mode {
            Some(m) => {
                let bits = u32::from_str_radix(m.get_ref(), 8).ok().filter(|b| b & !0o777 == 0 && b & 0o400 != 0);
                self.word(m, "mode", "three or four octal digits, such as \"0640\"", bits)?
            }
            None => 0o600,
        };
        let several = [(&p.root, Content::Root), (&p.key, Content::Key), (&p.certificate, Content::Chain)];
        let files: Vec<(&PathBuf, Content)> = match (&p.file, form) {
            (Some(_), _) if several.iter().any(|(f, _)| f.is_some()) => {
                return Err(wrong("it names one file and several", "keep file and form, or certificate and key"));
            }
            (Some(file), Some(form)) => vec![(file, Content::Form(form))],
            (Some(_), None) => {
                return Err(wrong("it names a file and no form", "add form = \"combined-pem\" or another"));
            }
            (None, Some(_)) => return Err(wrong("it names a form and no file", "add file = \"…\"")),
            (None, None) => several.into_iter().filter_map(|(f, content)| Some((f.as_ref()?, content))).collect(),
        };
        if files.is_empty() {
            return Err(wrong("it names no file", "add certificate = \"…\" and key = \"…\""));
        }
        let place = |path: &Path| if p.through.is_empty() { self.path(path) } else { path.to_owned() };
        let file = |(path, content): (&PathBuf, Content)| TargetFile {
            path: place(path),
            content,
            mode: if content.has_key() { mode } else { 0o644 },
        };
        let at = match &p.check_at {
            Some(a) => Some(self.word(a, "address", "one such as 127.0.0.1", a.get_ref().parse().ok())?),
            None => None,
        };
        let check = self.optional(&p.check, endpoint)?.map(|e| Endpoint { at, ..e });
        Ok(Target {
            files: files.into_iter().map(file).collect(),
            owner: p.owner.clone(),
            group: p.group.clone(),
            passphrase_file: p.passphrase_file.as_deref().map(|f| self.path(f)),
            through: p.through.clone(),
            run: p.run.clone(),
            check,
        })
    }

    fn trust(&self, t: &raw::Trust) -> Result<Trust> {
        Ok(Trust {
            root: self.value(&t.root, Label::from_str)?,
            stores: self.list(&t.stores, StoreId::from_str)?.into_iter().flat_map(trust::by_id).collect(),
            scope: self.optional(&t.scope, InScope::from_str)?.unwrap_or_default(),
            bundles: t.bundle.iter().map(|b| self.path(b)).collect(),
        })
    }

    fn check(&self, c: &raw::Check) -> Result<Check> {
        let resolve = |t: &raw::Text| {
            let pair = t.get_ref().split_once('=');
            let pair = pair.and_then(|(n, a)| Some((n.to_lowercase(), a.trim_matches(['[', ']']).parse().ok()?)));
            self.word(t, "name with its address", "one such as charts.saltmarsh.test=127.0.0.1", pair)
        };
        Ok(Check {
            target: c.target.get_ref().clone(),
            clients: self.list(&c.clients, Client::from_str)?,
            resolve: c.resolve.iter().map(resolve).collect::<Result<_>>()?,
            anchors: c.anchor.iter().map(|a| self.path(a)).collect(),
        })
    }
}

/// `HOST`, `HOST:PORT`, or the same behind `https://`; 443 where no port is written.
fn endpoint(typed: &str) -> Result<Endpoint> {
    let rest = typed.trim_start_matches("https://").trim_end_matches('/');
    let (host, port) = match rest.rsplit_once(':') {
        Some((host, port)) if !host.contains(':') || host.ends_with(']') => {
            let accepted = || Error::Word {
                what: "server",
                typed: typed.to_owned(),
                accepted: "HOST:PORT with a port from 1 to 65535".into(),
            };
            (host, port.parse().ok().filter(|p| *p > 0).ok_or_else(accepted)?)
        }
        _ => (rest, 443),
    };
    Ok(Endpoint { host: Name::from_str(host.trim_matches(['[', ']']))?, port, at: None })
}

/// What a reader of TOML says of a key that there is not.
fn spelling(message: &str) -> Error {
    let mut quoted = message.split('`').skip(1).step_by(2);
    let typed = quoted.next().unwrap_or_default().to_owned();
    let known: Vec<&str> = quoted.collect();
    if !message.starts_with("unknown field") || known.is_empty() {
        return Error::Malformed { what: "the file".into(), why: message.to_owned() };
    }
    Error::Word { what: "key of this file", typed, accepted: known.join(" ") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::Diagnostic;

    fn wrong(text: &str) -> (String, String) {
        let e = read(text, "tamga.toml", Path::new("/lab")).err().unwrap();
        (e.what(), e.remedy())
    }

    #[test]
    fn mistakes_are_reported_with_their_place_and_what_was_meant() {
        let (what, remedy) = wrong("[[certificate]]\nnames = [\"a.test\"]\nvalid_fro = \"90d\"\n");
        assert!(what.starts_with("tamga.toml, line 3, column 1: "), "{what}");
        assert!(remedy.contains("did you mean valid_for?"), "{remedy}");
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
            ("form = \"pkcs12\"", "a form and no file"),
            ("certificate = \"a\"\nfile = \"b\"\nform = \"der\"", "one file and several"),
            ("certificate = \"a\"\nmode = \"999\"", "999"),
        ] {
            let text = format!("[[certificate]]\nnames = [\"a.test\"]\n[[certificate.place]]\n{place}\n");
            let e = read(&text, "tamga.toml", Path::new("/lab")).err().unwrap();
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

    #[test]
    fn every_value_is_parsed_and_its_error_has_its_place() {
        for (text, place, why) in [
            ("[[trust]]\nroot = \"a\"\nstores = [\"chromum\"]\n", "line 3, column 11", "did you mean chromium?"),
            ("[[trust]]\nroot = \"a\"\nscope = \"machin\"\n", "line 3, column 9", "did you mean machine?"),
            ("[[trust]]\nroot = \"A B\"\n", "line 2, column 8", "label"),
            ("[[check]]\ntarget = \"x\"\nclients = [\"crul\"]\n", "line 3, column 12", "did you mean curl?"),
            ("[[check]]\ntarget = \"x\"\nresolve = [\"a=b\"]\n", "line 3, column 12", "127.0.0.1"),
            ("[hosts]\nnames = [\"not a name\"]\n", "line 2, column 10", ""),
            ("[[authority]]\nlabel = \"a\"\nissuer = \"B B\"\n", "line 3, column 10", "label"),
            ("[[authority]]\nlabel = \"a\"\npermit = [\"10.0.0.0/99\"]\n", "line 3, column 11", ""),
            ("[[certificate]]\nnames = [\"a.test\"]\nfor = \"ngnix\"\n", "line 3, column 7", "did you mean nginx?"),
            ("[[certificate]]\nnames = [\"a.test\"]\nissuer = \"..\"\n", "line 3, column 10", "label"),
        ] {
            let e = read(text, "tamga.toml", Path::new("/lab")).err().unwrap();
            assert!(e.what().contains(place), "{text}: {}", e.what());
            let all = format!("{} {} {}", e.what(), e.why(), e.remedy());
            assert!(all.contains(why), "{text}: {all}");
        }
    }

    #[test]
    fn paths_are_meant_from_the_files_own_directory() {
        let text = "[[certificate]]\nnames = [\"a.test\"]\n[[certificate.place]]\ncertificate = \"tls/a.pem\"\nkey = \"/k/a.key\"\n\
                    [[certificate.place]]\nthrough = [\"ssh\", \"x\"]\nkey = \"a.key\"\n[[trust]]\nroot = \"r\"\nbundle = [\"b.pem\"]\n";
        let lab = read(text, "tamga.toml", Path::new("/lab")).unwrap();
        let files = |n: usize| -> Vec<String> {
            lab.certificates[0].targets[n].files.iter().map(|f| f.path.to_string_lossy().into_owned()).collect()
        };
        assert_eq!(files(0), ["/k/a.key", "/lab/tls/a.pem"]);
        assert_eq!(files(1), ["a.key"], "on another machine it is that machine's");
        assert_eq!(lab.trust[0].bundles, [PathBuf::from("/lab/b.pem")]);
        assert_eq!(lab.certificates[0].targets[0].files[0].mode, 0o600);
    }
}
