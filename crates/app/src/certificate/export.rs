//! A certificate, a root or a foreign file, in the form that a server or a device wants.

use super::exports::{self, Exported, passphrase_file};
use crate::env::Env;
use crate::failure::Result;
use crate::output::{keep_out_of_version_control, may_replace, write_journaled};
use crate::secret::{NewSecret, Secret};
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE, ROOT_FILE};
use tamga_core::deploy::export::{self, Form, Made, Material, Settings};
use tamga_core::error::Error;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::format::container;
use tamga_core::pki::format::contents::{self, Contents};
use tamga_core::pki::format::pem;
use tamga_core::pki::format::private_key;
use tamga_core::pki::key::PrivateKey;
use tamga_core::plan::ports::Entropy;
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::text::{Shown, hex};
use tamga_host::{entropy, fs};
use zeroize::Zeroizing;

/// Where to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Output {
    /// A file named as the label, with the form's ending; a form of one line goes into the report.
    #[default]
    Default,
    /// Into the report, to be printed.
    Report,
    /// Into a file; `replace` answers the question whether one that is there may be replaced.
    File {
        /// The file.
        path: PathBuf,
        /// True if it may be replaced unasked.
        replace: bool,
    },
}

/// What to export, and how.
#[derive(Clone, Debug)]
pub struct Request {
    /// A label, or a file or directory of any form.
    pub what: PathBuf,
    /// The form.
    pub form: Form,
    /// Where to.
    pub output: Output,
    /// What the server is to call it inside a key store; None for the label.
    pub alias: Option<String>,
    /// PKCS#12 for programs that know only triple DES and SHA-1.
    pub legacy: bool,
    /// A file with the private key, where it lies elsewhere.
    pub key_file: Option<PathBuf>,
    /// Opens what is exported.
    pub secret: Secret,
    /// Protects what is written.
    pub new_secret: NewSecret,
}

/// What was exported, or would be.
pub struct Report {
    /// The form.
    pub form: Form,
    /// What was exported, by the name that it has inside a key store.
    pub alias: String,
    /// Its certificates, leaf first.
    pub chain: Vec<Certificate>,
    /// What was made.
    pub made: Made,
    /// Remarks.
    pub notes: Vec<String>,
    /// How it is kept out of version control.
    pub version_control: Option<String>,
    /// The file with its passphrase, where Tamga made one.
    pub passphrase_file: Option<PathBuf>,
    /// Where it is.
    pub place: Place,
}

/// Where an export is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// In the report alone.
    Report,
    /// In a file.
    File(PathBuf),
    /// Nowhere: it would be written into this file.
    Planned(PathBuf),
}

#[derive(Serialize, JsonSchema)]
struct FileView<'a> {
    form: &'static str,
    alias: &'a str,
    file: String,
    has_key: bool,
    certificates: Vec<Sha256Fingerprint>,
    passphrase_file: Option<String>,
    notes: Vec<&'a str>,
}

#[derive(Serialize, JsonSchema)]
struct Spelling<'a> {
    kind: &'a str,
    wanted_by: &'a str,
    value: &'a str,
}

#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
enum LineView<'a> {
    Fingerprints { form: &'static str, fingerprints: Vec<Spelling<'a>> },
    Value { form: &'static str, value: String },
}

#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
enum View<'a> {
    Planned { exports: [(); 0], dry_run: bool },
    Line { exports: [LineView<'a>; 1] },
    Written { exports: [FileView<'a>; 1] },
    // The bytes themselves are the answer.
    Bytes {},
}

crate::report::schema_as!(Report => View<'static>);

impl Serialize for Report {
    fn serialize<S: Serializer>(&self, s: S) -> std::result::Result<S::Ok, S::Error> {
        let form = self.form.word();
        match &self.place {
            Place::Planned(_) => View::Planned { exports: [], dry_run: true },
            Place::Report if self.form == Form::Fingerprint => {
                let all = self.made.spellings.iter();
                let all = all.map(|s| Spelling { kind: s.what, wanted_by: s.wanted_by, value: &s.value });
                View::Line { exports: [LineView::Fingerprints { form, fingerprints: all.collect() }] }
            }
            Place::Report if self.form.is_a_line() => {
                let value = String::from_utf8_lossy(&self.made.bytes).trim_end().to_owned();
                View::Line { exports: [LineView::Value { form, value }] }
            }
            Place::Report => View::Bytes {},
            Place::File(file) => View::Written {
                exports: [FileView {
                    form,
                    alias: &self.alias,
                    file: file.shown(),
                    has_key: self.made.has_key,
                    certificates: self.chain.iter().map(Certificate::sha256).collect(),
                    passphrase_file: self.passphrase_file.as_ref().map(|p| p.shown()),
                    notes: self.notes.iter().chain(&self.version_control).map(String::as_str).collect(),
                }],
            },
        }
        .serialize(s)
    }
}

/// Exports.
///
/// Errors: what is named is nowhere, or cannot be read or opened; the form needs what is not there; a file that may not be replaced.
pub fn export(env: &Env, request: &Request) -> Result<Report> {
    let form = request.form;
    if request.legacy && form != Form::Pkcs12 {
        return Err(Error::Contradiction {
            what: format!("--legacy does not go with {}", form.word()),
            why: "only pkcs12 has an older protection".into(),
            instead: "leave --legacy away, or write --as pkcs12".into(),
        }
        .into());
    }
    let mut source = source(env, request)?;
    if source.label.is_none()
        && let (Some(leaf), Some(ledger)) = (source.material.chain.first(), env.open_to_look()?)
    {
        source.label = ledger.by_fingerprint(&leaf.sha256())?.map(|i| i.label);
    }
    if let Some(alias) = &request.alias {
        source.material.alias.clone_from(alias);
    }
    let of = format!("the private key in the new {} file", form.word());
    let destination = destination(request, &source.material.alias);
    let mut new_secret = request.new_secret.clone();
    let mut passphrase_file = None;
    if let (Some((output, replace)), true) = (&destination, form.is_store() && source.material.key.is_some())
        && !new_secret.is_wanted()
    {
        // A key store is never left without a passphrase: one is asked for, else made and put beside it.
        match (env.dry_run, env.caller.is_present()) {
            (true, _) => {}
            (false, true) => new_secret.encrypt = true,
            (false, false) => {
                // A store that may not be replaced gets no passphrase beside it that does not open it.
                if !replace {
                    may_replace(env, output, &[])?;
                }
                passphrase_file = Some(passphrase_beside(env, output)?);
            }
        }
        new_secret.file.clone_from(&passphrase_file);
    }
    let passphrase = match env.dry_run && form.is_store() && !new_secret.is_wanted() && source.material.key.is_some() {
        true => Some(Passphrase::new(random_passphrase())),
        false => new_secret.wanted(env, &of)?,
    };
    let settings = Settings { passphrase: passphrase.as_ref(), legacy: request.legacy, now: env.now };
    let made = export::make(form, &source.material, &settings, &entropy::System)?;
    let Material { alias, chain, .. } = source.material;
    let report = |place, made: Made, notes, version_control| Report {
        form,
        alias: alias.clone(),
        chain: chain.clone(),
        made,
        notes,
        version_control,
        passphrase_file: passphrase_file.clone(),
        place,
    };
    let Some((output, replace)) = destination else { return Ok(report(Place::Report, made, Vec::new(), None)) };
    if env.dry_run {
        return Ok(report(Place::Planned(output), made, Vec::new(), None));
    }
    if !replace {
        may_replace(env, &output, &made.bytes)?;
    }
    write_journaled(env, &output, &made.bytes, if made.has_key { 0o600 } else { 0o644 })?;
    if let Some(label) = &source.label {
        let (alias, legacy) = (request.alias.clone(), request.legacy);
        exports::record(env, label, Exported { form, file: output.clone(), alias, legacy })?;
    }
    let version_control = if made.has_key { keep_out_of_version_control(env, &output)? } else { None };
    // What opens it must no more be committed than the key itself.
    if let Some(secret) = new_secret.file.as_deref().filter(|s| s.parent() == output.parent()) {
        keep_out_of_version_control(env, secret)?;
    }
    let mut notes: Vec<String> = made.remarks.iter().map(|r| (*r).to_owned()).collect();
    if form == Form::Pkcs12 && made.has_key && !request.legacy {
        notes.push("Windows before 10, Java before 8u301 and old devices need --legacy".into());
    }
    let stretched = form == Form::Pkcs12 && made.has_key && !request.legacy;
    if let Some(p) = passphrase.as_ref().filter(|_| stretched) {
        let rounds = private_key::rounds(p);
        notes.push(match p.is_random() {
            true => format!(
                "its passphrase is 128 random bits: {rounds} rounds of key derivation are enough, and it opens at once"
            ),
            false => {
                format!("its passphrase is stretched by {rounds} rounds of key derivation: a program takes about a second to open it")
            }
        });
    }
    Ok(report(Place::File(output), made, notes, version_control))
}

/// The file that is written, and whether one that is there is replaced; None for standard output.
fn destination(request: &Request, alias: &str) -> Option<(PathBuf, bool)> {
    match &request.output {
        Output::Report => None,
        Output::Default if request.form.is_a_line() => None,
        Output::Default => Some((PathBuf::from(format!("{}.{}", file_name(alias), request.form.ending())), false)),
        Output::File { path, replace } => Some((path.clone(), *replace)),
    }
}

fn random_passphrase() -> Zeroizing<Vec<u8>> {
    let mut random = Zeroizing::new([0; 16]);
    entropy::System.fill(&mut *random);
    Zeroizing::new(hex(&*random).into_bytes())
}

/// The file with the passphrase of a key store, beside it: made if it is not there, so that a store that is written again keeps its
/// passphrase.
///
/// Errors: it cannot be written.
pub(crate) fn passphrase_beside(env: &Env, store: &Path) -> Result<PathBuf> {
    let file = passphrase_file(store);
    if !env.disk().exists(&file) {
        write_journaled(env, &file, &random_passphrase(), 0o600)?;
    }
    Ok(file)
}

/// What is exported, and the label under which the ledger knows it.
struct Source {
    label: Option<Label>,
    material: Material,
}

fn source(env: &Env, request: &Request) -> Result<Source> {
    let path = &request.what;
    let mut source = if !env.disk().is_named(path) {
        of_ledger(env, request)?
    } else if env.disk().is_directory(path) {
        of_directory(env, request)?
    } else {
        let what = fs::name_of(path);
        let found = read(env, &env.disk().read_named(path)?, request, &what)?;
        let stem = path.file_stem().map_or_else(|| "exported".into(), |n| file_name(&n.to_string_lossy()));
        Source { label: None, material: export::arranged(found, &stem, &what)? }
    };
    // The key of `key_file`; and key and certificate belong together.
    let m = &mut source.material;
    if let Some(file) = &request.key_file {
        m.key = Some(env.open_key(
            env.stored_key(&m.alias, file)?,
            &format!("the key in {}", file.shown()),
            &request.secret,
        )?);
    }
    if let (Some(key), Some(leaf)) = (&m.key, m.chain.first())
        && *key.public() != leaf.key
    {
        let path = request.key_file.clone().unwrap_or_else(|| path.clone());
        return Err(Error::KeyMismatch { label: m.alias.clone(), path }.into());
    }
    Ok(source)
}

fn wants_key(request: &Request) -> bool {
    request.form.wants_key() && request.key_file.is_none()
}

fn of_ledger(env: &Env, request: &Request) -> Result<Source> {
    let label = request.what.shown();
    let ledger = env.open_to_look()?;
    let known = match &ledger {
        Some(l) => l.authorities()?,
        None => Vec::new(),
    };
    if let Some(a) = known.iter().find(|a| a.label == *label) {
        let material = Material { alias: label, key: None, chain: vec![a.certificate.clone()], root: None };
        return Ok(Source { label: Some(a.label.clone()), material });
    }
    let issued = match &ledger {
        Some(l) => l.current(&label)?,
        None => None,
    };
    let Some(i) = issued else {
        let known = match ledger {
            Some(l) => known.into_iter().map(|a| a.label.to_string()).chain(l.labels(20)?).collect(),
            None => Vec::new(),
        };
        return Err(Error::LabelUnknown { label, sought: "file, authority or certificate", known }.into());
    };
    super::lookup::here(&i)?;
    let key = match wants_key(request) {
        true => Some(env.key_of(&i.label, &i.folder, &i.certificate, &request.secret)?),
        false => None,
    };
    let mut material = directory(env, &i.folder, &i.label, key)?;
    // The ledger's certificate is the one that is meant, whatever has been put into the directory since.
    match material.chain.first() {
        Some(c) if *c == i.certificate => {}
        _ => material.chain = vec![i.certificate.clone()],
    }
    Ok(Source { label: Some(i.label.clone()), material })
}

fn of_directory(env: &Env, request: &Request) -> Result<Source> {
    let path = &request.what;
    let what = path.shown();
    let named = path.file_name().map_or_else(|| "exported".into(), |n| file_name(&n.to_string_lossy()));
    let stored = path.join(KEY_FILE);
    let key = match wants_key(request) && env.disk().exists(&stored) {
        true => Some(env.open_key(env.stored_key(&what, &stored)?, &format!("the key in {what}"), &request.secret)?),
        false => None,
    };
    Ok(Source { label: None, material: directory(env, path, &named, key)? })
}

/// What a file holds; its passphrase is asked for only if it is needed.
fn read(env: &Env, bytes: &[u8], request: &Request, what: &str) -> Result<Contents> {
    let given = request.secret.given(env)?;
    match container::open(bytes, given.as_ref(), what) {
        Err(Error::PassphraseNeeded { .. }) => {
            // The certificates of a PEM file are readable without its key.
            let open = pem::certificates(bytes);
            if !request.form.wants_key() && !open.is_empty() && bytes.first() != Some(&0x30) {
                let certificates = open.into_iter().map(|thing| contents::Named { alias: None, thing }).collect();
                return Ok(Contents { certificates, ..Contents::default() });
            }
            Ok(request.secret.open(env, what, |p| container::open(bytes, Some(p), what))?.0)
        }
        other => Ok(other?),
    }
}

/// The certificates of a directory that Tamga or a person filled in Tamga's way.
fn directory(env: &Env, path: &Path, alias: &str, key: Option<PrivateKey>) -> Result<Material> {
    let certificates = |name: &str| -> Result<Vec<Certificate>> {
        let file = path.join(name);
        let bytes = match env.disk().read(&file) {
            Ok(bytes) => bytes,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(e) => return Err(tamga_host::error::Error::file("reading", &file)(e).into()),
        };
        let what = file.shown();
        let all = pem::certificates(&bytes);
        Ok(all.iter().map(|d| Certificate::read(d, &what)).collect::<tamga_core::error::Result<_>>()?)
    };
    let chain = certificates(CERTIFICATE_FILE)?;
    let root = certificates(ROOT_FILE)?.pop().filter(|r| chain.first() != Some(r));
    if chain.is_empty() && key.is_none() {
        let why = format!("the directory holds no {CERTIFICATE_FILE}");
        return Err(Error::Malformed { what: path.shown(), why }.into());
    }
    Ok(Material { alias: alias.to_owned(), key, chain, root })
}

/// A name that is a file's and stays in its directory.
fn file_name(name: &str) -> String {
    let kept: String = name.chars().map(|c| if c.is_alphanumeric() || "._-".contains(c) { c } else { '-' }).collect();
    let kept = kept.trim_start_matches('.').to_owned();
    if kept.is_empty() { "exported".into() } else { kept }
}
