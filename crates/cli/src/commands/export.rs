//! `tamga export WHAT --as FORM`: a certificate, a root or a foreign file in the form that a server or a device wants.

use crate::args::{NewSecretArgs, SecretArgs};
use crate::exit::{Done, Result};
use crate::session::{Session, key_of, open, stored_key};
use crate::words::{human, json};
use serde_json::Value;
use std::io::{IsTerminal, Write};
use std::path::{Path, PathBuf};
use tamga_core::authority::{CERTIFICATE_FILE, KEY_FILE, ROOT_FILE};
use tamga_core::cert::Certificate;
use tamga_core::error::Error;
use tamga_core::export::{self, ALL, Form, Made, Material, Settings};
use tamga_core::form::contents::{self, Contents};
use tamga_core::form::pem;
use tamga_core::key::PrivateKey;
use tamga_core::text::Shown;
use tamga_host::ledger::{Record, Work};
use tamga_host::{entropy, fs};

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga export charts.saltmarsh.test --as pkcs12 --encrypt-key\n          tamga export saltmarsh --as mobileconfig\n          tamga export foreign.p12 --as pem --passphrase-file secret --output chain.pem"
)]
pub(crate) struct ExportArgs {
    /// A label, or a file or folder of any form
    what: String,
    /// pem combined-pem der pkcs8 pkcs12 pkcs7 jks mobileconfig kubernetes-secret base64 fingerprint
    #[arg(long = "as", value_name = "FORM")]
    form: String,
    /// Where to; - is standard output [default: ./LABEL with the form's ending; one line is printed]
    #[arg(long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// What the server is to call it inside a key store [default: the label]
    #[arg(long, value_name = "TEXT")]
    alias: Option<String>,
    /// pkcs12 for programs that know only triple DES and SHA-1: weaker
    #[arg(long)]
    legacy: bool,
    /// The private key, where it lies elsewhere
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: NewSecretArgs,
}

impl ExportArgs {
    /// A label in a form, as `--for` wants it.
    pub(crate) fn of(
        label: &str,
        form: Form,
        output: PathBuf,
        secrets: SecretArgs,
        new_secrets: NewSecretArgs,
    ) -> Self {
        Self {
            what: label.to_owned(),
            form: form.word().to_owned(),
            output: Some(output),
            alias: None,
            legacy: false,
            key_file: None,
            secrets,
            new_secrets,
        }
    }
}

pub(crate) fn run(session: &Session, args: &ExportArgs) -> Result<Done> {
    let form = Form::parse(&args.form)?;
    if args.legacy && form != Form::Pkcs12 {
        return Err(Error::Contradiction {
            what: format!("--legacy does not go with {}", form.word()),
            why: "only pkcs12 has an older protection".into(),
            instead: "leave --legacy away, or write --as pkcs12".into(),
        }
        .into());
    }
    let mut source = source(session, args, form)?;
    if source.label.is_none()
        && let (Some(leaf), Some(ledger)) = (source.material.chain.first(), session.open_to_look()?)
    {
        source.label = ledger.by_number(&leaf.sha256())?.pop().map(|i| i.label);
    }
    if let Some(alias) = &args.alias {
        source.material.alias.clone_from(alias);
    }
    let of = format!("the private key in the new {} file", form.word());
    let passphrase = args.new_secrets.wanted(&of)?;
    let output = match &args.output {
        Some(path) => Some(path.clone()),
        None if form.is_a_line() => None,
        None => Some(PathBuf::from(format!("{}.{}", plain(&source.material.alias), form.ending()))),
    };
    let settings = Settings { passphrase: passphrase.as_ref(), legacy: args.legacy, now: session.now };
    let mut made = export::make(form, &source.material, &settings, &entropy::System)?;
    let to_screen = output.as_deref().is_none_or(|o| o == Path::new("-"));
    if to_screen {
        return printed(session, form, &made);
    }
    let output = output.unwrap_or_default();
    if session.common.dry_run {
        let text = format!("would write {} ({} octets) into {}\n", form.word(), made.bytes.len(), output.shown());
        return Ok(Done::good(text, json!({"exports": [], "dry_run": true})));
    }
    may_replace(session, &output, &made.bytes)?;
    write_journaled(session, &output, &made.bytes, if made.has_key { 0o600 } else { 0o644 })?;
    if let Some(label) = &source.label {
        let (_lock, ledger) = session.open_for_change()?;
        ledger.note(session.now, "exported", label, &format!("{} into {}", form.word(), output.shown()))?;
    }
    let watched = if made.has_key { version_control(&output)? } else { None };
    // What opens it must no more be committed than the key itself.
    if let Some(secret) = args.new_secrets.new_passphrase_file.as_deref().filter(|s| s.parent() == output.parent()) {
        version_control(secret)?;
    }
    if form == Form::Pkcs12 && made.has_key && !args.legacy {
        made.remarks.push("Windows before 10, Java before 8u301 and old devices need --legacy");
    }
    Ok(done(form, &source.material, &made, &output, watched))
}

/// What is exported, and the label under which the ledger knows it.
struct Source {
    label: Option<String>,
    material: Material,
}

fn source(session: &Session, args: &ExportArgs, form: Form) -> Result<Source> {
    let path = Path::new(&args.what);
    let ledger = session.open_to_look()?;
    if !path.exists() {
        let known = match &ledger {
            Some(l) => l.authorities()?,
            None => Vec::new(),
        };
        if let Some(a) = known.iter().find(|a| a.label == args.what) {
            let material =
                Material { alias: a.label.clone(), key: None, chain: vec![a.certificate.clone()], root: None };
            return with_key(args, Source { label: Some(a.label.clone()), material });
        }
        let issued = match &ledger {
            Some(l) => l.current(&args.what)?,
            None => None,
        };
        let Some(i) = issued else {
            let known = match ledger {
                Some(l) => known.into_iter().map(|a| a.label).chain(l.labels(20)?).collect(),
                None => Vec::new(),
            };
            let sought = "file, authority or certificate";
            return Err(Error::LabelUnknown { label: args.what.clone(), sought, known }.into());
        };
        let key = match form.wants_key() && args.key_file.is_none() {
            true => Some(key_of(&i.label, &i.folder, &i.certificate, &args.secrets)?),
            false => None,
        };
        let mut material = folder(&i.folder, &i.label, key)?;
        // The ledger's certificate is the one that is meant, whatever has been put into the folder since.
        match material.chain.first() {
            Some(c) if *c == i.certificate => {}
            _ => material.chain = vec![i.certificate.clone()],
        }
        return with_key(args, Source { label: Some(i.label), material });
    }
    let what = path.shown();
    let named = path.file_name().map_or_else(|| "exported".into(), |n| plain(&n.to_string_lossy()));
    if path.is_dir() {
        let stored = path.join(KEY_FILE);
        let key = match form.wants_key() && args.key_file.is_none() && stored.exists() {
            true => Some(open(stored_key(&what, &stored)?, &format!("the key in {what}"), &args.secrets)?),
            false => None,
        };
        return with_key(args, Source { label: None, material: folder(path, &named, key)? });
    }
    let bytes = fs::read_named(path)?;
    let found = read(&bytes, args, form, &what)?;
    let stem = path.file_stem().map_or_else(|| named.clone(), |n| plain(&n.to_string_lossy()));
    with_key(args, Source { label: None, material: export::arranged(found, &stem, &what)? })
}

/// What a file holds; its passphrase is asked for only if it is needed.
fn read(bytes: &[u8], args: &ExportArgs, form: Form, what: &str) -> Result<Contents> {
    let given = args.secrets.given()?;
    match contents::open(bytes, given.as_ref(), what) {
        Err(Error::PassphraseNeeded { .. }) => {
            // The certificates of a PEM file are readable without its key.
            let open = pem::certificates(bytes);
            if !form.wants_key() && !open.is_empty() && bytes.first() != Some(&0x30) {
                let certificates = open.into_iter().map(|thing| contents::Named { alias: None, thing }).collect();
                return Ok(Contents { keys: Vec::new(), certificates });
            }
            Ok(contents::open(bytes, Some(&args.secrets.needed(what)?), what)?)
        }
        other => Ok(other?),
    }
}

/// The certificates of a folder that Tamga or a person filled in Tamga's way.
fn folder(path: &Path, alias: &str, key: Option<PrivateKey>) -> Result<Material> {
    let certificates = |name: &str| -> Result<Vec<Certificate>> {
        let file = path.join(name);
        let bytes = match fs::read_regular(&file) {
            Ok(bytes) => bytes,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(e) => return Err(tamga_host::error::Error::file("reading", &file)(e).into()),
        };
        let what = file.shown();
        Ok(pem::certificates(&bytes)
            .iter()
            .map(|d| Certificate::read(d, &what))
            .collect::<tamga_core::error::Result<_>>()?)
    };
    let chain = certificates(CERTIFICATE_FILE)?;
    let root = certificates(ROOT_FILE)?.pop().filter(|r| chain.first() != Some(r));
    if chain.is_empty() && key.is_none() {
        let why = format!("the folder holds no {CERTIFICATE_FILE}");
        return Err(Error::Malformed { what: path.shown(), why }.into());
    }
    Ok(Material { alias: alias.to_owned(), key, chain, root })
}

/// Adds the key of `--key-file`, and sees that key and certificate belong together.
fn with_key(args: &ExportArgs, mut source: Source) -> Result<Source> {
    let m = &mut source.material;
    if let Some(file) = &args.key_file {
        m.key = Some(open(stored_key(&m.alias, file)?, &format!("the key in {}", file.shown()), &args.secrets)?);
    }
    if let (Some(key), Some(leaf)) = (&m.key, m.chain.first())
        && *key.public() != leaf.key
    {
        let path = args.key_file.clone().unwrap_or_else(|| PathBuf::from(&args.what));
        return Err(Error::KeyMismatch { label: m.alias.clone(), path }.into());
    }
    Ok(source)
}

/// A name that is a file's and stays in this folder.
fn plain(name: &str) -> String {
    let kept: String = name.chars().map(|c| if c.is_alphanumeric() || "._-".contains(c) { c } else { '-' }).collect();
    let kept = kept.trim_start_matches('.').to_owned();
    if kept.is_empty() { "exported".into() } else { kept }
}

/// To standard output: never a key to a terminal.
fn printed(session: &Session, form: Form, made: &Made) -> Result<Done> {
    let json = session.common.format == crate::args::Format::Json;
    if json && !form.is_a_line() {
        return Err(Error::Contradiction {
            what: format!("{} and JSON cannot both go to standard output", form.word()),
            why: "they would be mixed".into(),
            instead: "name a file: --output FILE".into(),
        }
        .into());
    }
    if made.has_key && std::io::stdout().is_terminal() {
        return Err(Error::Contradiction {
            what: "a private key is never shown on a terminal".into(),
            why: "it would stay in the scrollback and in recordings".into(),
            instead: "name a file: --output FILE".into(),
        }
        .into());
    }
    let text = String::from_utf8_lossy(&made.bytes).into_owned();
    if form.is_a_line() {
        let spellings: Vec<Value> = made
            .spellings
            .iter()
            .map(|s| json!({"kind": s.what, "wanted_by": s.wanted_by, "value": s.value}))
            .collect();
        let json = match form {
            Form::Fingerprint => json!({"exports": [{"form": form.word(), "fingerprints": spellings}]}),
            _ => json!({"exports": [{"form": form.word(), "value": text.trim_end()}]}),
        };
        let rows: Vec<Vec<String>> = made
            .spellings
            .iter()
            .map(|s| vec![human::strong(s.what), s.value.clone(), human::dim(s.wanted_by)])
            .collect();
        return Ok(Done::good(if rows.is_empty() { text } else { human::table(&rows) }, json));
    }
    let mut out = std::io::stdout().lock();
    // A reader that went away is no failure.
    let _ = out.write_all(&made.bytes).and_then(|()| out.flush());
    Ok(Done::good(String::new(), json!({})))
}

/// Writes a file whole under the journal: what a killed run or a full disk leaves beside it, perhaps with a key in it, the next run
/// removes.
pub(crate) fn write_journaled(session: &Session, output: &Path, bytes: &[u8], mode: u32) -> Result<()> {
    let (_lock, ledger) = session.open_for_change()?;
    let whole = std::path::absolute(output).map_err(tamga_host::error::Error::file("finding", output))?;
    let said = format!("writing {} was interrupted; run the same command again", output.shown());
    let work = Work::Replace { said, files: vec![whole.into()] };
    let id = ledger.begin(&work, &Record::Nothing, session.now)?;
    let written = fs::write_whole(output, bytes, mode);
    // A staged file that could not even be removed keeps its row.
    if written.is_ok() || fs::unstage(output).is_ok() {
        ledger.finish(id, &work)?;
    }
    Ok(written?)
}

/// Another file of that name is replaced only with a yes.
pub(crate) fn may_replace(session: &Session, output: &Path, new: &[u8]) -> Result<()> {
    let Ok(there) = fs::read_regular(output) else { return Ok(()) };
    if **there == *new || crate::ask::confirm(session, &format!("{} exists: replace it?", output.shown())) == Some(true)
    {
        return Ok(());
    }
    Err(Error::Objection {
        code: "file-exists",
        what: format!("{} is there already", output.shown()),
        why: "a file of yours is not replaced unasked".into(),
        instead: "name another with --output FILE, or replace it with --yes".into(),
    }
    .into())
}

/// Where a key lands in a version-controlled folder: ignored by a new `.gitignore`, or a warning with the line to add.
pub(super) fn version_control(output: &Path) -> Result<Option<String>> {
    let file = std::path::absolute(output).map_err(tamga_host::error::Error::file("finding", output))?;
    let (Some(folder), Some(name)) = (file.parent(), file.file_name().map(|n| n.to_string_lossy().into_owned())) else {
        return Ok(None);
    };
    if !folder.ancestors().any(|a| a.join(".git").exists()) {
        return Ok(None);
    }
    let ignore = folder.join(".gitignore");
    const OURS: &str = "# Private keys: never commit them.\n";
    let covered = |line: &str| [name.as_str(), "*"].contains(&line.trim().trim_start_matches('/'));
    let text = match fs::read_to_replace(&ignore).map(|b| String::from_utf8_lossy(&b).into_owned()) {
        Ok(text) if text.lines().any(covered) => return Ok(None),
        Ok(text) if text.starts_with(OURS) => format!("{}\n/{name}\n", text.trim_end()),
        Ok(_) => {
            let place = ignore.shown();
            return Ok(Some(format!("add the line /{name} to {place}: the private key must not be committed")));
        }
        Err(_) => format!("{OURS}/{name}\n"),
    };
    fs::write_whole(&ignore, text.as_bytes(), 0o644)?;
    Ok(Some(format!("{} keeps it out of version control", ignore.shown())))
}

fn done(form: Form, m: &Material, made: &Made, output: &Path, watched: Option<String>) -> Done {
    let what = ALL.iter().find(|f| f.0 == form).map_or("", |f| f.3);
    let mode = if made.has_key { " (readable by you alone)" } else { "" };
    let mut text = format!(
        "{} {} as {}: {what}\nin      {}{mode}\n",
        human::good("written"),
        human::strong(&m.alias),
        form.word(),
        output.shown()
    );
    for remark in &made.remarks {
        text.push_str(&format!("{}    {remark}\n", human::dim("note")));
    }
    if let Some(line) = &watched {
        text.push_str(&format!("{}    {line}\n", human::care("note")));
    }
    let notes: Vec<&str> = made.remarks.iter().copied().chain(watched.as_deref()).collect();
    let json = json!({"exports": [{"form": form.word(), "alias": m.alias, "file": output, "has_key": made.has_key,
        "certificates": m.chain.iter().map(Certificate::sha256).collect::<Vec<_>>(), "notes": notes}]});
    Done::good(text, json)
}
