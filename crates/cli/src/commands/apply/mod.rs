//! `tamga apply [FILE]`: everything as one file says; only what differs is done.

mod certificates;
mod places;
mod typed;

use super::check;
use crate::args::SecretArgs;
use crate::exit::{self, Done, Failure, Result};
use crate::session::Session;
use crate::words::{human, json};
use places::Placing;
use serde_json::Value;
use std::collections::BTreeSet;
use std::path::PathBuf;
use tamga_core::apply::EXAMPLE;
use tamga_core::apply::file::{self, Lab, Wanted};
use tamga_core::error::{Error, Kind};
use tamga_core::report::Issued;
use tamga_core::text::Shown;
use tamga_host::{fs, places as machine};
use typed::{secrets, words};

/// The file's usual name.
const USUAL: &str = "tamga.toml";

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga apply --example > tamga.toml\n          tamga apply --dry-run\n          tamga apply --only charts"
)]
pub(crate) struct ApplyArgs {
    /// What the lab is to have [default: tamga.toml]
    #[arg(value_name = "FILE")]
    file: Option<PathBuf>,
    /// Print a file to begin with, with a remark at everything, and do nothing
    #[arg(long)]
    example: bool,
    /// Only these certificates and authorities (repeatable)
    #[arg(long, value_name = "LABEL", value_delimiter = ',')]
    only: Vec<String>,
    /// Try the checks of the file even if nothing was changed
    #[arg(long)]
    check: bool,
    #[command(flatten)]
    secrets: SecretArgs,
}

/// One thing that was done, or was to be.
struct Row {
    what: &'static str,
    about: String,
    change: &'static str,
    why: String,
    remedy: Option<String>,
}

/// One run.
struct Applying<'a> {
    session: &'a Session,
    args: &'a ApplyArgs,
    lab: Lab,
    wanted: Vec<Wanted>,
    rows: Vec<Row>,
    certificates: Vec<Issued>,
    code: u8,
}

pub(crate) fn run(session: &Session, args: &ApplyArgs) -> Result<Done> {
    if args.example {
        return Ok(Done::good(EXAMPLE.to_owned(), json!({"example": EXAMPLE})));
    }
    let given = args.file.clone().unwrap_or_else(|| USUAL.into());
    if args.file.is_none() && !given.exists() {
        return Err(Error::Objection {
            code: "no-file",
            what: format!("there is no {USUAL} in this folder"),
            why: "it says what the lab is to have, and nothing else is done".into(),
            instead: format!("begin with one: tamga apply --example > {USUAL}; or name another: tamga apply FILE"),
        }
        .into());
    }
    let at = tamga_host::error::Error::file("reading", &given);
    let path = std::fs::canonicalize(&given).map_err(at)?;
    refuse_if_open(session)?;
    // It says what is run and written: for a user too it must be the user's own.
    let text = fs::read_trusted(&path)?;
    let text = std::str::from_utf8(&text)
        .map_err(|_| Error::Malformed { what: given.shown(), why: "it is not UTF-8 text".into() })?;
    let (lab, wanted) = file::read(text, &given.shown())?;
    let folder = fs::parent(&path);
    std::env::set_current_dir(folder).map_err(tamga_host::error::Error::file("going to", folder))?;
    let mut applying =
        Applying { session, args, lab, wanted, rows: Vec::new(), certificates: Vec::new(), code: exit::GOOD };
    applying.known_labels()?;
    applying.go()?;
    Ok(applying.done())
}

/// As root nothing is done that somebody else could have written: not the file, not the program, not the data folder.
fn refuse_if_open(session: &Session) -> Result<()> {
    if !session.machine.acts_as_root() {
        return Ok(());
    }
    machine::refuse_if_open(&session.machine)?;
    if let Ok(program) = std::env::current_exe() {
        machine::refuse_if_replaceable(fs::parent(&program))?;
    }
    Ok(())
}

impl Applying<'_> {
    /// Labels of `--only` that the file does not have are mistyped.
    fn known_labels(&self) -> Result<()> {
        let has = |l: &String| {
            self.wanted.iter().any(|w| w.label.as_str() == l)
                || self.lab.authority.iter().any(|a| a.label.get_ref() == l)
        };
        match self.args.only.iter().find(|l| !has(l)) {
            None => Ok(()),
            Some(l) => {
                let known = self.wanted.iter().map(|w| w.label.to_string()).collect();
                Err(Error::LabelUnknown { label: l.clone(), sought: "label in the file", known }.into())
            }
        }
    }

    fn is_meant(&self, label: &str) -> bool {
        self.args.only.is_empty() || self.args.only.iter().any(|l| l == label)
    }

    /// The places, in the file, of the certificates that are meant.
    fn meant(&self) -> Vec<usize> {
        (0..self.wanted.len()).filter(|i| self.is_meant(self.wanted[*i].label.as_str())).collect()
    }

    fn is_dry(&self) -> bool {
        self.session.common.dry_run
    }

    fn go(&mut self) -> Result<()> {
        // What interrupted work left is finished or taken back first, and said.
        let _locks = match self.is_dry() {
            true => None,
            false => Some(self.session.open_for_apply()?),
        };
        self.authorities()?;
        let changed = self.certificates()?;
        self.places(&changed)?;
        if self.args.only.is_empty() {
            self.stores()?;
            self.hosts()?;
        }
        let nothing = self.rows.iter().all(|r| r.change == "none");
        if self.args.only.is_empty() && !self.is_dry() && (self.args.check || !nothing) {
            // Servers may be slow: nobody else waits for them at the lock.
            let session = self.session;
            session.unlocked(|| self.checks())??;
        }
        Ok(())
    }

    fn row(&mut self, what: &'static str, about: &str, change: &'static str, why: impl Into<String>) {
        let change = if self.is_dry() && change != "none" { "would" } else { change };
        self.rows.push(Row { what, about: about.to_owned(), change, why: why.into(), remedy: None });
    }

    /// One thing that could not be done: the rest goes on.
    fn failed(&mut self, what: &'static str, about: &str, failure: &Failure) {
        let told = &failure.0;
        let why = format!("{}: {}", told.what(), told.why());
        self.rows.push(Row { what, about: about.to_owned(), change: "failed", why, remedy: Some(told.remedy()) });
        // Something that the file asks for is not there.
        let code = if told.kind() == Kind::Stuck { exit::code(Kind::Stuck) } else { exit::BAD };
        self.code = exit::worst(self.code, code);
    }

    fn authorities(&mut self) -> Result<()> {
        let known = self.session.authorities()?;
        for a in self.lab.authority.clone() {
            let label = a.label.get_ref();
            if !self.is_meant(label) || known.iter().any(|k| k.label == *label) {
                continue;
            }
            if !self.is_dry() {
                let typed = words(&[label])
                    .option("--issuer", a.issuer.as_ref())
                    .list("--permit", &a.permit)
                    .option("--key-algorithm", a.key_algorithm.as_ref())
                    .option("--valid-for", a.valid_for.as_ref())
                    .list("--purpose", &a.purpose)
                    .with(secrets(&self.args.secrets));
                // Nothing below it can be made without it.
                super::authority::create_as(self.session, typed.parse()?)?;
            }
            self.row("authority", label, "made", "there was none");
        }
        Ok(())
    }

    fn places(&mut self, changed: &BTreeSet<String>) -> Result<()> {
        if self.lab.certificate.iter().all(|c| c.place.is_empty()) {
            return Ok(());
        }
        let looked = self.session.open_to_look()?;
        let placing = Placing::new(self.session, looked.as_ref(), &self.args.secrets)?;
        for i in self.meant() {
            let label = self.wanted[i].label.to_string();
            let label = label.as_str();
            for p in self.lab.certificate[i].place.clone() {
                if self.is_dry() && changed.contains(label) {
                    self.row("place", &format!("{label} {}", places::named(&p)), "put", "the certificate is new");
                    continue;
                }
                let Some(current) = looked.as_ref().map(|l| l.current(label)).transpose()?.flatten() else { continue };
                let about = format!("{label} {}", places::named(&p));
                match placing.put(&current, &p, self.is_dry()) {
                    Ok(None) => {}
                    Ok(Some(why)) => self.row("place", &about, "put", why),
                    Err(e) => self.failed("place", &about, &e),
                }
            }
        }
        Ok(())
    }

    fn stores(&mut self) -> Result<()> {
        for t in self.lab.trust.clone() {
            let root = t.root.get_ref();
            if self.is_dry() && !self.session.authorities()?.iter().any(|a| a.label == *root) {
                self.row("store", root, "added", "the root is new");
                continue;
            }
            let typed = words(&[root])
                .each("--stores", &t.stores)
                .option_word("--scope", t.scope.clone())
                .each("--bundle", &t.bundle.iter().map(|b| b.shown()).collect::<Vec<_>>())
                .with(secrets(&self.args.secrets));
            match typed.parse().and_then(|a| super::trust::add(self.session, a)) {
                Ok(done) => {
                    for s in done.json["stores"].as_array().into_iter().flatten() {
                        let text = |k: &str| s[k].as_str().unwrap_or_default().to_owned();
                        let about = format!("{root} {} {}", text("store"), text("place"));
                        match s["change"].as_str() {
                            Some("added") => self.row("store", &about, "added", text("why")),
                            Some("failed") => {
                                let why = text("why");
                                self.rows.push(Row { what: "store", about, change: "failed", why, remedy: None });
                                self.code = exit::worst(self.code, exit::BAD);
                            }
                            _ => {}
                        }
                    }
                }
                Err(e) => self.failed("store", root, &e),
            }
        }
        Ok(())
    }

    fn hosts(&mut self) -> Result<()> {
        let names = self.lab.hosts.names.clone();
        if names.is_empty() {
            return Ok(());
        }
        match words(&[]).with(names.clone()).parse().and_then(|a| super::hosts::add(self.session, a)) {
            Ok((_, true)) => self.row("hosts", &names.join(" "), "added", "they were not in the hosts file"),
            Ok((_, false)) => {}
            Err(e) => self.failed("hosts", &names.join(" "), &e),
        }
        Ok(())
    }

    fn checks(&mut self) -> Result<()> {
        for c in self.lab.check.clone() {
            let typed = words(&[&c.target])
                .each("--clients", &c.clients)
                .each("--resolve", &c.resolve)
                .each("--anchor", &c.anchor.iter().map(|b| b.shown()).collect::<Vec<_>>());
            match typed.parse().and_then(|a| check::run(self.session, &a)) {
                Ok(done) if done.code == exit::GOOD => self.row("check", &c.target, "held", "no client would warn"),
                Ok(done) => {
                    let first = done.json["targets"][0]["findings"][0].clone();
                    let text = |k: &str| first[k].as_str().unwrap_or_default().to_owned();
                    let (why, remedy) = (format!("{}: {}", text("code"), text("summary")), Some(text("remedy")));
                    self.rows.push(Row { what: "check", about: c.target.clone(), change: "failed", why, remedy });
                    self.code = exit::worst(self.code, exit::BAD);
                }
                Err(e) => self.failed("check", &c.target, &e),
            }
        }
        Ok(())
    }

    fn done(self) -> Done {
        let text = match self.rows.is_empty() {
            true => format!("{} everything is as the file says\n", human::good("nothing to do")),
            false => told(&self.rows),
        };
        let changes: Vec<Value> = self
            .rows
            .iter()
            .map(|r| json!({"what": r.what, "about": r.about, "change": r.change, "why": r.why, "remedy": r.remedy}))
            .collect();
        let labels: BTreeSet<&str> = self
            .rows
            .iter()
            .filter(|r| r.what == "certificate" && r.change != "failed")
            .map(|r| r.about.as_str())
            .collect();
        let certificates: Vec<Value> = self
            .session
            .open_to_look()
            .ok()
            .flatten()
            .map(|l| labels.iter().filter_map(|w| l.current(w).ok().flatten()).map(|i| json::issued(&i)).collect())
            .unwrap_or_default();
        let members = json!({"changes": changes, "certificates": certificates, "dry_run": self.is_dry()});
        Done { text, json: members, code: self.code }
    }
}

/// For a person: a line each, and what to do about what failed.
fn told(rows: &[Row]) -> String {
    let here = std::env::current_dir().unwrap_or_default();
    let short = |text: &str| text.replace(&format!("{}/", here.shown()), "");
    let lines: Vec<Vec<String>> = rows
        .iter()
        .map(|r| {
            let change = match r.change {
                "failed" => human::bad(r.change),
                "would" => human::care("would change"),
                other => human::good(other),
            };
            vec![change, r.what.to_owned(), human::strong(&short(&r.about)), short(&r.why)]
        })
        .collect();
    let mut text = human::table(&lines);
    for r in rows.iter().filter(|r| r.change == "failed") {
        if let Some(remedy) = r.remedy.as_ref().filter(|r| !r.is_empty()) {
            text.push_str(&format!("{} {}: {remedy}\n", human::dim("do:"), short(&r.about)));
        }
    }
    text
}
