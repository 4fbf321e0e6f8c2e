//! Where servers read their certificates: put there, taken up, seen; or put back.

use crate::args::SecretArgs;
use crate::exit::Result;
use crate::session::{Session, key_of};
use crate::words::{human, json};
use serde_json::Value;
use std::collections::HashMap;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use tamga_core::apply::file::Place;
use tamga_core::apply::place::{Found, Recorded, differs};
use tamga_core::authority::{CERTIFICATE_FILE, KEY_FILE, ROOT_FILE};
use tamga_core::cert::Certificate;
use tamga_core::error::{Kind, Told};
use tamga_core::export::{self, Form, Material, Settings};
use tamga_core::form::pem;
use tamga_core::name::Name;
use tamga_core::report::Issued;
use tamga_core::text::Shown;
use tamga_host::dial::{self, Ask, Prelude};
use tamga_host::fs::{self, File};
use tamga_host::ledger::{Ledger, Record, Work};
use tamga_host::place::{self, Owner, Through};
use tamga_host::{entropy, error};
use zeroize::Zeroizing;

/// So long a server has to show the new certificate.
const PATIENCE: Duration = Duration::from_secs(8);
/// The ledger's word for it.
const PLACED: &str = "placed";

/// What a place is called in words.
pub(super) fn named(p: &Place) -> String {
    let first = paths(p).into_iter().map(|(path, _)| path).next_back().unwrap_or_default();
    match p.through.last() {
        Some(host) => format!("in {} on {host}", first.shown()),
        None => format!("in {}", first.shown()),
    }
}

/// Its files in the order of their renaming, with true for those that hold a key; what vouches for the whole comes last.
fn paths(p: &Place) -> Vec<(PathBuf, bool)> {
    let absolute = |path: &Path| match p.through.is_empty() {
        true => std::path::absolute(path).unwrap_or_else(|_| path.to_owned()),
        false => path.to_owned(),
    };
    let has_key = |form: &str| Form::parse(form).is_ok_and(Form::wants_key);
    let single = p.file.as_ref().map(|f| (absolute(f), p.form.as_ref().is_some_and(|f| has_key(f.get_ref()))));
    let key = p.key.as_ref().map(|f| (absolute(f), true));
    let root = p.root.as_ref().map(|f| (absolute(f), false));
    let certificate = p.certificate.as_ref().map(|f| (absolute(f), false));
    single.into_iter().chain(root).chain(key).chain(certificate).collect()
}

fn mode_of(p: &Place, has_key: bool) -> u32 {
    match (&p.mode, has_key) {
        (Some(m), true) => u32::from_str_radix(m.get_ref(), 8).unwrap_or(0o600),
        (None, true) => 0o600,
        (_, false) => 0o644,
    }
}

/// A change that did not take, and was undone.
#[derive(Debug)]
struct NotTaken {
    why: String,
    undone: bool,
}

impl std::fmt::Display for NotTaken {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self.undone {
            true => "the server did not take the new certificate, and what stood there is back",
            false => "the server did not take the certificate",
        })
    }
}

impl std::error::Error for NotTaken {}

impl Told for NotTaken {
    fn kind(&self) -> Kind {
        Kind::Partial
    }
    fn code(&self) -> &'static str {
        "not-taken"
    }
    fn what(&self) -> String {
        self.to_string()
    }
    fn why(&self) -> String {
        self.why.clone()
    }
    fn remedy(&self) -> String {
        "look at the server's log, then run tamga apply again".into()
    }
}

/// What is known of all places.
pub(super) struct Placing<'a> {
    session: &'a Session,
    secrets: &'a SecretArgs,
    recorded: HashMap<String, Recorded>,
    open: Vec<(i64, Work)>,
}

impl<'a> Placing<'a> {
    pub(super) fn new(session: &'a Session, ledger: Option<&Ledger>, secrets: &'a SecretArgs) -> Result<Placing<'a>> {
        let (mut recorded, mut open) = (HashMap::new(), Vec::new());
        if let Some(l) = ledger {
            for e in l.of_kind(PLACED)? {
                let Ok(v) = serde_json::from_str::<Value>(&e.detail) else { continue };
                let text = |v: &Value| v.as_str().unwrap_or_default().to_owned();
                let files = v["sha256"].as_array().into_iter().flatten().map(text).collect();
                recorded.insert(text(&v["place"]), Recorded { certificate: text(&v["certificate"]), files });
            }
            open = l.unfinished()?;
        }
        Ok(Placing { session, secrets, recorded, open })
    }

    /// By what the ledger knows a place.
    fn key(label: &str, p: &Place) -> String {
        let files: Vec<String> = paths(p).iter().map(|(f, _)| f.shown()).collect();
        format!("{label} {} {}", p.through.join(" "), files.join(" "))
    }

    /// Puts a certificate where a server reads it, if it is not there; gives why it had to.
    pub(super) fn put(&self, issued: &Issued, p: &Place, dry: bool) -> Result<Option<String>> {
        let sha = issued.certificate.sha256();
        let all = paths(p);
        let owner = self.owner(p)?;
        let found: Vec<Found> = match p.through.is_empty() {
            false => Vec::new(),
            true => all.iter().map(|(path, key)| found(path, mode_of(p, *key), &owner)).collect(),
        };
        let recorded = self.recorded.get(&Placing::key(&issued.label, p));
        let waiting = self.open.iter().find(|(_, w)| is_of(w, &issued.label, &all, &sha));
        let why = differs(&found, recorded, &sha, all.len());
        let Some(mut why) = why.or_else(|| waiting.map(|_| "whether the server took it was not seen".to_owned()))
        else {
            return Ok(None);
        };
        if dry {
            return Ok(Some(why));
        }
        if waiting.is_some() {
            why = "the files stood, and whether the server took them was not seen".into();
        }
        match p.through.is_empty() {
            true => self.here(issued, p, &owner, waiting.map(|w| w.0))?,
            false => self.there(issued, p, &owner)?,
        }
        Ok(Some(why))
    }

    fn owner(&self, p: &Place) -> Result<Owner> {
        if p.through.is_empty() {
            return Ok(Owner { ids: place::ids(p.owner.as_deref(), p.group.as_deref())?, words: None });
        }
        let words = match (&p.owner, &p.group) {
            (None, None) => None,
            (o, g) => Some(format!(
                "{}{}",
                o.as_deref().unwrap_or_default(),
                g.as_ref().map(|g| format!(":{g}")).unwrap_or_default()
            )),
        };
        Ok(Owner { ids: None, words })
    }

    fn here(&self, issued: &Issued, p: &Place, owner: &Owner, waiting: Option<i64>) -> Result<()> {
        let (_lock, ledger) = self.session.open_for_change()?;
        let files: Vec<(PathBuf, String)>;
        let (id, work) = match waiting {
            // The files stand since an interrupted run: it goes on with the server.
            Some(id) => {
                let work = self.open.iter().find(|o| o.0 == id).map(|o| o.1.clone());
                let Some(Work::Place { files: f, label, certificate }) = work else { return Ok(()) };
                files = f.iter().map(|(path, sha)| (path.0.clone(), sha.clone())).collect();
                (id, Work::Place { files: f, label, certificate })
            }
            None => {
                let items = self.items(issued, p)?;
                files = items.iter().map(|i| (i.path.clone(), place::sha256(&i.bytes))).collect();
                let (label, certificate) = (issued.label.clone(), issued.certificate.sha256());
                let files_of = files.iter().map(|(path, sha)| (path.clone().into(), sha.clone())).collect();
                let work = Work::Place { label, certificate, files: files_of };
                for (file, _) in paths(p).iter().filter(|(_, key)| *key) {
                    if let Some(said) = crate::commands::export::version_control(file)? {
                        human::aside(&self.session.common, &said);
                    }
                }
                let id = ledger.begin(&work, &Record::Nothing, self.session.now)?;
                if let Err(e) = fs::deploy(&items, owner.ids) {
                    fs::recover_deployment(&files)?;
                    ledger.finish(id, &work)?;
                    return Err(e.into());
                }
                (id, work)
            }
        };
        let all = || files.iter().map(|f| f.0.as_path());
        let folder = std::env::current_dir().unwrap_or_default();
        let taken = || place::run(&p.run, &folder).map_err(|e| e.why()).and_then(|()| seen(issued, p));
        if let Err(why) = self.session.unlocked(taken)? {
            let undone = fs::roll_back(all())?;
            if undone {
                self.session.unlocked(|| drop(place::run(&p.run, &folder)))?;
            }
            ledger.finish(id, &work)?;
            ledger.note(self.session.now, "not-taken", &issued.label, &why)?;
            return Err(NotTaken { why, undone }.into());
        }
        let sums: Vec<&String> = files.iter().map(|f| &f.1).collect();
        self.record(&ledger, issued, p, &json!(sums))?;
        fs::settle(all())?;
        Ok(ledger.finish(id, &work)?)
    }

    fn there(&self, issued: &Issued, p: &Place, owner: &Owner) -> Result<()> {
        let items = self.items(issued, p)?;
        let through = Through(&p.through);
        let (_lock, ledger) = self.session.open_for_change()?;
        // The session there cleans up after itself; what this row is for is that the next run says it.
        let said = format!(
            "putting {} {} was interrupted; tamga apply puts it there again, with what was kept beside it removed",
            issued.label,
            named(p)
        );
        let work = Work::Replace { said, files: Vec::new() };
        let id = ledger.begin(&work, &Record::Nothing, self.session.now)?;
        let taken = || -> Result<std::result::Result<(), String>> {
            through.put(&items, owner)?;
            let run = if p.run.is_empty() { Ok(()) } else { through.run(&p.run) };
            Ok(run.map_err(|e| e.why()).and_then(|()| seen(issued, p)))
        };
        let taken = self.session.unlocked(taken)?.inspect_err(|_| drop(ledger.finish(id, &work)))?;
        if let Err(why) = taken {
            let back = || -> Result<bool> {
                let undone = through.put_back(&items)?;
                if !p.run.is_empty() {
                    let _ = through.run(&p.run);
                }
                Ok(undone)
            };
            let undone = self.session.unlocked(back)??;
            ledger.finish(id, &work)?;
            return Err(NotTaken { why, undone }.into());
        }
        let sums: Vec<String> = items.iter().map(|i| place::sha256(&i.bytes)).collect();
        self.record(&ledger, issued, p, &json!(sums))?;
        self.session.unlocked(|| through.settle(&items))??;
        Ok(ledger.finish(id, &work)?)
    }

    fn record(&self, ledger: &Ledger, issued: &Issued, p: &Place, sums: &Value) -> Result<()> {
        let detail = json!({
            "place": Placing::key(&issued.label, p), "certificate": issued.certificate.sha256(), "sha256": sums
        });
        Ok(ledger.note(self.session.now, PLACED, &issued.label, &detail.to_string())?)
    }

    /// The files' contents.
    fn items(&self, issued: &Issued, p: &Place) -> Result<Vec<File>> {
        let read = |name: &str| -> Result<Zeroizing<Vec<u8>>> {
            let file = issued.folder.join(name);
            Ok(fs::read_regular(&file).map_err(error::Error::file("reading", &file))?)
        };
        let chain = read(CERTIFICATE_FILE)?;
        let wants_key = paths(p).iter().any(|(_, key)| *key);
        let secrets = match &p.passphrase_file {
            Some(f) => SecretArgs { passphrase_file: Some(f.clone()), passphrase_env: None },
            None => self.secrets.clone(),
        };
        // Opened only where it must be: the pair is proved here, before anything is written.
        let key = match wants_key {
            true => Some(key_of(&issued.label, &issued.folder, &issued.certificate, &secrets)?),
            false => None,
        };
        let mut out = Vec::new();
        for (path, has_key) in paths(p) {
            let bytes = match (&p.file, &p.form) {
                (Some(_), Some(form)) => {
                    let certificates = |name: &str| -> Result<Vec<Certificate>> {
                        let ders = pem::certificates(&read(name)?);
                        Ok(ders.iter().map(|d| Certificate::read(d, name)).collect::<tamga_core::error::Result<_>>()?)
                    };
                    let chain = certificates(CERTIFICATE_FILE)?;
                    let root =
                        certificates(ROOT_FILE).ok().and_then(|mut r| r.pop()).filter(|r| chain.first() != Some(r));
                    let passphrase = secrets.given()?;
                    let form = Form::parse(form.get_ref())?;
                    let protects =
                        passphrase.as_ref().filter(|_| form.takes_passphrase() && p.passphrase_file.is_some());
                    let settings = Settings { passphrase: protects, legacy: false, now: self.session.now };
                    let key = match &key {
                        Some(_) => Some(key_of(&issued.label, &issued.folder, &issued.certificate, &secrets)?),
                        None => None,
                    };
                    let material = Material { alias: issued.label.clone(), key, chain, root };
                    export::make(form, &material, &settings, &entropy::System)?.bytes
                }
                _ if has_key => read(KEY_FILE)?,
                _ if p.root.as_ref().is_some_and(|r| path.ends_with(r)) => read(ROOT_FILE)?,
                _ => chain.clone(),
            };
            out.push(File { mode: mode_of(p, has_key), path, bytes });
        }
        Ok(out)
    }
}

fn found(path: &Path, mode: u32, owner: &Owner) -> Found {
    let bytes = fs::read_regular(path).ok();
    Found { path: path.shown(), sha256: bytes.map(|b| place::sha256(&b)), rights: place::rights(path, mode, owner) }
}

/// True if a row of the journal is about these files and this certificate.
fn is_of(work: &Work, label: &str, all: &[(PathBuf, bool)], sha: &str) -> bool {
    match work {
        Work::Place { label: l, certificate, files } => {
            l == label && certificate == sha && files.iter().map(|f| &*f.0).eq(all.iter().map(|a| a.0.as_path()))
        }
        _ => false,
    }
}

/// The server shows the new certificate, after a while at the most; why not, if it does not.
fn seen(issued: &Issued, p: &Place) -> std::result::Result<(), String> {
    let Some(target) = &p.check else { return Ok(()) };
    let typed = target.get_ref().trim_start_matches("https://").trim_end_matches('/');
    let (host, port) = match typed.rsplit_once(':') {
        Some((host, port)) => (host, port.parse::<u16>().map_err(|_| format!("{typed} has no port"))?),
        None => (typed, 443),
    };
    let name = Name::parse(host.trim_matches(['[', ']'])).map_err(|e| e.to_string())?;
    let given: Vec<(String, IpAddr)> = match &p.check_at {
        Some(a) => vec![(name.to_string(), a.parse().map_err(|_| format!("check_at: {a} is no address"))?)],
        None => Vec::new(),
    };
    let begun = Instant::now();
    loop {
        let why = match dial::resolve(&name, port, &given) {
            Ok(all) => match all
                .first()
                .map(|a| dial::meet(&Ask { host: &name, prelude: Prelude::None, path: "/", shown: None }, *a))
            {
                Some(Ok(met)) if met.chain.first().map(Vec::as_slice) == Some(issued.certificate.der()) => {
                    return Ok(());
                }
                Some(Ok(_)) => format!("{typed} still shows another certificate"),
                Some(Err(missed)) => missed.detail,
                None => format!("{typed} leads nowhere"),
            },
            Err(missed) => format!("{} does not resolve", missed.detail),
        };
        if begun.elapsed() > PATIENCE {
            return Err(why);
        }
        std::thread::sleep(Duration::from_millis(200));
    }
}
