//! Recipes: what to put where for a server, and every step to the padlock.

pub mod form;
pub mod install;
mod steps;

use crate::certificate::current;
use crate::env::Env;
use crate::failure::Result;
use crate::output::{absolute, may_replace};
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use tamga_core::ca::authority::{self, CERTIFICATE_FILE, KEY_FILE};
use tamga_core::ca::report::Issued;
use tamga_core::deploy::recipe::{self, Act, FileLocation, KnownError, Recipe, Setting, System, Tried, Work, Written};
use tamga_core::error::Error;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::word::Word as _;

/// For which server and certificate.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// The server; None for all that there are.
    pub server: Option<&'static Recipe>,
    /// For which system; None for this one, or the only one that the recipe knows.
    pub system: Option<System>,
    /// The certificate's label; None for the only one.
    pub label: Option<Label>,
    /// A file for the configuration.
    pub output: Option<PathBuf>,
    /// True if the configuration alone is wanted, for standard output.
    pub config_only: bool,
    /// The port for TLS; None for the server's usual one.
    pub port: Option<u16>,
    /// Where it listens; None for everywhere.
    pub address: Option<IpAddr>,
    /// The port of plain HTTP that is redirected.
    pub redirect: Option<u16>,
    /// True if TLS 1.3 is the oldest protocol.
    pub only_13: bool,
    /// The label of the authority whose certificates clients must show.
    pub client_authority: Option<Label>,
    /// The account that reads the key; None for the server's usual one.
    pub owner: Option<String>,
    /// The directory from which the server reads.
    pub into: Option<PathBuf>,
}

/// What there is to know.
pub enum Report {
    /// Every recipe.
    All,
    /// One recipe without a certificate.
    Facts(&'static Recipe),
    /// The configuration alone.
    Config(String),
    /// It would be written into this file.
    Planned(&'static Recipe, PathBuf),
    /// It would be carried out.
    PlannedInstall(Box<install::Plan>),
    /// It was carried out.
    Installed(Box<install::Done>),
    /// What was carried out was taken away again.
    Uninstalled(Box<install::Removed>),
    /// A recipe for a certificate, and the file into which its configuration was written.
    Written(Box<(Written, Setting)>, Option<PathBuf>),
}

/// Looks a recipe up, or fills it in for a certificate.
///
/// Errors: no such server or certificate; a key that the server does not take; a file that may not be replaced.
pub fn recipe(env: &Env, request: &Request) -> Result<Report> {
    let Some(found) = request.server else { return Ok(Report::All) };
    let (found, system) = found.on(request.system)?;
    let Some(issued) = certificate(env, request)? else { return Ok(Report::Facts(found)) };
    let setting = setting(env, request, &issued, (found, system), false)?;
    let written = recipe::write(found, &setting)?;
    if request.config_only {
        return Ok(Report::Config(written.config));
    }
    if let Some(output) = &request.output {
        if env.dry_run {
            return Ok(Report::Planned(found, output.clone()));
        }
        may_replace(env, output, written.config.as_bytes())?;
        env.disk().write_whole(output, written.config.as_bytes(), 0o644)?;
    }
    Ok(Report::Written(Box::new((written, setting)), request.output.clone()))
}

/// A recipe filled in for the certificate that is meant, for root. `apart`: its files lie where the server does not see them.
fn filled(env: &Env, request: &Request, apart: bool) -> Result<(Written, Setting, Issued)> {
    let all = || recipe::ALL.iter().map(|r| r.id).collect::<Vec<_>>().join(" ");
    let found = request.server.ok_or_else(|| Error::Word { what: "server", typed: String::new(), accepted: all() })?;
    let (found, system) = found.on(request.system)?;
    let Some(issued) = certificate(env, request)? else {
        return Err(Error::Contradiction {
            what: "no certificate was named".into(),
            why: "there is none yet, or there are several".into(),
            instead: format!("tamga recipe {} LABEL --install", found.id),
        }
        .into());
    };
    let setting = Setting { raise: false, ..setting(env, request, &issued, (found, system), apart)? };
    Ok((recipe::write(found, &setting)?, setting, issued))
}

/// The certificate that is meant: the one that is named, else the only one there is.
fn certificate(env: &Env, request: &Request) -> Result<Option<Issued>> {
    if let Some(label) = &request.label {
        return Ok(Some(current(env, label)?));
    }
    let labels = match env.open_to_look()? {
        Some(l) => l.labels(3)?,
        None => Vec::new(),
    };
    match &labels[..] {
        [one] => Ok(Some(current(env, one)?)),
        _ if request.output.is_some() || request.config_only => Err(Error::Contradiction {
            what: "a configuration is for one certificate, and none was named".into(),
            why: if labels.is_empty() { "there is none yet" } else { "there are several" }.into(),
            instead: format!("tamga recipe {} LABEL --output FILE", request.server.map_or("SERVER", |r| r.id)),
        }
        .into()),
        _ => Ok(None),
    }
}

fn setting(
    env: &Env,
    request: &Request,
    issued: &Issued,
    (found, system): (&Recipe, System),
    apart: bool,
) -> Result<Setting> {
    let own = || recipe::service_directory(Path::new(found.config.path)).join("tls").join(issued.label.as_str());
    let into = match &request.into {
        // A directory of another system, as it is.
        Some(into) if system == System::Windows && recipe::is_drive_path(into) => Some(into.clone()),
        Some(into) => Some(absolute(into)?),
        None => (apart && found.facts.place == FileLocation::Issued).then(own),
    };
    let clients = match &request.client_authority {
        Some(label) => {
            let all = env.authorities()?;
            let a = authority::choose(Some(label), &all, false)?;
            Some((a.root_label.clone(), env.authority_directory(&a.root_label).join(CERTIFICATE_FILE)))
        }
        None => None,
    };
    Ok(Setting {
        system,
        label: issued.label.clone(),
        names: issued.certificate.name_words().iter().filter_map(|n| Name::from_str(n).ok()).collect(),
        key: issued.certificate.key.clone(),
        sha256: issued.certificate.sha256(),
        life: issued.certificate.life(),
        locked: env.stored_key(&issued.label, &issued.folder.join(KEY_FILE)).is_ok_and(|k| k.is_locked()),
        folder: issued.folder.clone(),
        into,
        address: request.address,
        port: request.port,
        redirect: request.redirect,
        only_13: request.only_13,
        clients,
        owner: request.owner.clone(),
        raise: !env.raise().is_empty(),
    })
}

#[derive(Serialize, JsonSchema)]
struct TriedView {
    by: &'static str,
    with: &'static str,
}

/// An error text of a server, as JSON.
#[derive(Serialize, JsonSchema)]
pub struct FaultView {
    text: &'static str,
    code: Option<&'static str>,
    cause: &'static str,
    remedy: &'static str,
}

impl From<&KnownError> for FaultView {
    fn from(f: &KnownError) -> FaultView {
        FaultView { text: f.text, code: f.code.map(|c| c.word()), cause: f.why, remedy: f.remedy }
    }
}

#[derive(Serialize, JsonSchema)]
struct FactsView {
    server: &'static str,
    also: &'static [&'static str],
    title: &'static str,
    /// The system for which its steps are; null for all.
    system: Option<&'static str>,
    tried: TriedView,
    port: u16,
    key_algorithms: Vec<&'static str>,
    purposes: Vec<&'static str>,
    form: &'static str,
    chain: &'static str,
    owner: &'static str,
    mode: String,
    passphrase: &'static str,
    faults: Vec<FaultView>,
}

impl From<&'static Recipe> for FactsView {
    fn from(r: &'static Recipe) -> FactsView {
        let f = &r.facts;
        let (by, with) = match r.tried {
            Tried::Run(with) => ("run", with),
            Tried::Form(how) => ("form", how),
        };
        FactsView {
            server: r.id,
            also: r.also,
            title: r.title,
            system: f.system.map(|s| s.word()),
            tried: TriedView { by, with },
            port: f.port,
            key_algorithms: f.keys.iter().map(|k| k.word()).collect(),
            purposes: f.purposes.iter().map(|p| p.word()).collect(),
            form: f.form.word(),
            chain: f.chain,
            owner: f.owner,
            mode: format!("{:04o}", f.mode),
            passphrase: f.passphrase,
            faults: r.faults.iter().map(FaultView::from).collect(),
        }
    }
}

#[derive(Serialize, JsonSchema)]
struct WorkView<'a> {
    what: &'a str,
    /// `run`, `look`, `append`, `by-hand`.
    action: &'static str,
    /// The file to which lines are appended.
    path: Option<&'static str>,
    lines: &'a [String],
}

impl<'a> From<&'a Work> for WorkView<'a> {
    fn from(w: &'a Work) -> WorkView<'a> {
        let path = match w.act {
            Act::AtEnd(path) => Some(path),
            Act::Run | Act::Look | Act::ByHand => None,
        };
        WorkView { what: &w.what, action: w.act.word(), path, lines: &w.lines }
    }
}

#[derive(Serialize, JsonSchema)]
struct WrittenView<'a> {
    #[serde(flatten)]
    facts: FactsView,
    label: &'a str,
    path: &'a str,
    /// `write` (the whole file), `append`, `merge`, `write-beside` (the application, or another machine).
    action: &'static str,
    /// Where exactly, in words.
    place: Option<&'static str>,
    content: &'a str,
    file: Option<String>,
    files: Vec<WorkView<'a>>,
    steps: Vec<WorkView<'a>>,
    renewal: &'a [String],
    notes: &'a [String],
}

/// What would be carried out.
#[derive(Serialize, JsonSchema)]
struct PlanView<'a> {
    server: &'a str,
    label: &'a str,
    changed: bool,
    steps: &'a [install::Change],
}

#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
enum View<'a> {
    All { recipes: Vec<FactsView> },
    Facts { recipe: Box<FactsView> },
    Planned { recipe: (), dry_run: bool },
    Written { recipe: Box<WrittenView<'a>>, steps: Vec<steps::StepView> },
    PlannedInstall { install: PlanView<'a>, dry_run: bool },
    Installed { install: &'a install::Done },
    Uninstalled { uninstall: &'a install::Removed },
    // The text itself is the answer.
    Config {},
}

crate::report::schema_as!(Report => View<'static>);

impl Serialize for Report {
    fn serialize<S: Serializer>(&self, s: S) -> std::result::Result<S::Ok, S::Error> {
        match self {
            Report::All => View::All { recipes: recipe::ALL.iter().map(|r| FactsView::from(*r)).collect() },
            Report::Facts(r) => View::Facts { recipe: Box::new(FactsView::from(*r)) },
            Report::Config(_) => View::Config {},
            Report::PlannedInstall(plan) => {
                let install = PlanView {
                    server: plan.recipe.id,
                    label: &plan.issued.label,
                    changed: !plan.is_done(),
                    steps: &plan.steps,
                };
                View::PlannedInstall { install, dry_run: true }
            }
            Report::Installed(done) => View::Installed { install: done },
            Report::Uninstalled(removed) => View::Uninstalled { uninstall: removed },
            Report::Planned(..) => View::Planned { recipe: (), dry_run: true },
            Report::Written(both, file) => {
                let (w, setting) = &**both;
                fn work(all: &[Work]) -> Vec<WorkView<'_>> {
                    all.iter().map(WorkView::from).collect()
                }
                let recipe = Box::new(WrittenView {
                    facts: FactsView::from(w.recipe),
                    label: &setting.label,
                    path: &w.path,
                    action: w.recipe.config.place.word(),
                    place: w.recipe.config.place.detail(),
                    content: &w.config,
                    file: file.as_ref().map(Shown::shown),
                    files: work(&w.files),
                    steps: work(&w.steps),
                    renewal: &w.renewal,
                    notes: &w.remarks,
                });
                View::Written { recipe, steps: steps::steps(w) }
            }
        }
        .serialize(s)
    }
}
