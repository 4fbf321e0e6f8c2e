//! A recipe carried out: on this machine, or into an image.

mod plan;
mod proof;
mod removal;

pub use plan::{Change, Plan, plan};
pub use removal::{Removed, clear, remove};

use crate::env::Env;
use crate::failure::Result;
use proof::Proof;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::deploy::recipe::{Act, Work, known};
use tamga_core::error::{Diagnostic, Kind, Stated};
use tamga_core::finding::{Code, Finding};
use tamga_core::plan::step::Invocation;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::harmless;
use tamga_host::error::Error;
use tamga_host::ledger::stored_path::StoredPath;
use tamga_host::ledger::{Appended, Installed, InstalledFile, Ledger, Record};
use tamga_host::{digest, install, process};

/// A command has so many seconds: a service may take its time to start.
const LIMIT: u64 = 120;

/// What was done.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// The server, by the word of its recipe.
    pub server: &'static str,
    /// The certificate's label.
    pub label: Label,
    /// False if everything stood already.
    pub changed: bool,
    /// What changed, and what was run, in order.
    pub steps: Vec<Change>,
    /// What is left to a person.
    #[serde(skip)]
    pub by_hand: Vec<Work>,
    /// The target of `tamga check` that was checked; none in an image, where nothing runs.
    pub target: Option<String>,
    /// Clients that would warn all the same, such as those that do not trust the root.
    pub warn: Vec<&'static str>,
    /// The authority whose root they do not know, where that is the only reason.
    #[serde(skip)]
    pub untrusted: Option<Label>,
    /// Why they would.
    #[serde(skip)]
    pub findings: Vec<Finding>,
    /// The image.
    #[serde(skip)]
    pub image: Option<PathBuf>,
}

/// Carries a plan out: files in place, commands run, the server seen to show the certificate. If it does not, everything is as
/// before.
///
/// Errors: a file that cannot be written, a command that fails, a server that does not show the certificate; then it was undone. What
/// could not be undone is in the error.
pub fn carry_out(env: &Env, plan: Plan) -> Result<Done> {
    let target = plan.image.is_none().then(|| plan.tasks.target.clone());
    let (server, label) = (plan.recipe.id, plan.issued.label.clone());
    let mut done = Done {
        server,
        label,
        changed: !plan.is_done(),
        steps: plan.steps.clone(),
        by_hand: plan.by_hand(),
        target,
        warn: Vec::new(),
        untrusted: None,
        findings: Vec::new(),
        image: plan.image.clone(),
    };
    let proof = Proof::of(&plan);
    if !plan.is_done() {
        let (_lock, ledger) = env.open_for_change()?;
        change(env, &*ledger, &plan, &proof)?;
    } else if plan.image.is_none() {
        // A server that has been stopped since is none that is set up.
        proof.shown(env).map_err(|why| {
            let instead = format!("look at its log, and start it: systemctl restart {}", plan.tasks.unit);
            stated("not-shown", format!("everything stands, but {server} does not show the certificate"), why, instead)
        })?;
    }
    if plan.image.is_none() {
        (done.warn, done.findings) = proof.warned(env)?;
        let only = done.findings.iter().all(|f| f.code == Code::IssuerUnknown);
        done.untrusted = plan.issued.authority.clone().filter(|_| only && !done.findings.is_empty());
    }
    Ok(done)
}

fn change(env: &Env, ledger: &dyn Ledger, plan: &Plan, proof: &Proof<'_>) -> Result<()> {
    let files: Vec<InstalledFile> = plan
        .wanted
        .iter()
        .map(|w| InstalledFile {
            path: w.file.path.clone().into(),
            digest: digest::sha256(&w.file.bytes),
            existed: w.stood,
        })
        .collect();
    let service = plan.service();
    let links = install::links(service.machine, &plan.directory);
    let work = plan.work(&links, &files);
    let id = ledger.begin(&work, &Record::Nothing, env.now)?;
    let all: Vec<_> = plan.wanted.iter().map(|w| w.file.clone()).collect();
    let mut is_started = false;
    let carried = service.put(&all).map_err(|e| (e.what(), e.why(), e.remedy())).and_then(|()| {
        plan.commands.before.iter().try_for_each(|words| run(&plan.env, words))?;
        is_started = true;
        plan.commands.start.iter().try_for_each(|words| run(&plan.env, words))?;
        match plan.image {
            Some(_) => Ok(()),
            None => proof.shown(&plan.env).map_err(|why| {
                let remedy = format!("look at its log, then give the line to tamga explain: {}", plan.recipe.proof.0);
                ("the server does not show the certificate".into(), why, remedy)
            }),
        }
    });
    if let Err((what, why, remedy)) = carried {
        let mut left = service.withdraw(&plan.directory, &links, &files);
        // A server that was not touched has nothing to forget.
        let again = plan.commands.undo.iter().filter(|_| is_started).find_map(|words| run(&plan.env, words).err());
        left.extend(again.map(|(what, why, _)| format!("{what}: {why}")));
        ledger.finish(id, &work)?;
        ledger.note(env.now, "not-taken", &plan.issued.label, &format!("{what}: {why}"))?;
        let (code, after) = match left.is_empty() {
            true => ("not-taken", "everything is as before".to_owned()),
            false => ("stuck", format!("not undone: {}", left.join("; "))),
        };
        return Err(stated(code, format!("{} was not set up: {what}; {after}", plan.recipe.id), why, remedy).into());
    }
    if plan.image.is_none() {
        ledger.note_installed(&plan.record(&files, &links), env.now)?;
    }
    service.settle(files.iter().map(|f| &*f.path))?;
    Ok(ledger.finish(id, &work)?)
}

fn stated(code: &'static str, what: String, why: String, remedy: String) -> Stated {
    let kind = if code == "stuck" { Kind::Stuck } else { Kind::Partial };
    Stated { kind, code, what, why, remedy }
}

/// What failed, why, and what to do.
type Why = (String, String, String);

/// Runs a command of a recipe, as root.
///
/// Errors: it fails, with the line of what it printed that says most.
fn run(env: &Env, words: &[String]) -> std::result::Result<(), Why> {
    let Some((program, rest)) = words.split_first() else { return Ok(()) };
    let mut invocation = Invocation::new(program, rest.to_vec()).with_rights();
    invocation.limit_seconds = LIMIT;
    let what = format!("{} failed", words.join(" "));
    let ended =
        process::invoke_to_end(&env.machine, &invocation).map_err(|e: Error| (what.clone(), e.why(), e.remedy()))?;
    if ended.code == Some(0) {
        return Ok(());
    }
    let printed = format!("{}\n{}", ended.errors.as_received(), String::from_utf8_lossy(&ended.output));
    let lines: Vec<String> = printed.lines().map(harmless).filter(|l| !l.trim().is_empty()).collect();
    let explained = lines.iter().find_map(|l| known(l).first().map(|k| (l, k.fault)));
    Err(match explained {
        Some((line, fault)) => (format!("{what}: {}", line.trim()), fault.why.to_owned(), fault.remedy.to_owned()),
        None => {
            let why = lines.last().cloned().unwrap_or_else(|| match ended.code {
                Some(code) => format!("it ended with {code}"),
                None => format!("it did not end within {LIMIT} seconds"),
            });
            (what, why, format!("run it yourself to see all that it prints: {}", words.join(" ")))
        }
    })
}

impl Plan {
    /// What is left to a person: in an image, the commands too.
    fn by_hand(&self) -> Vec<Work> {
        let tasks = &self.tasks;
        let lines: Vec<String> = [&tasks.programs, &tasks.check].into_iter().flatten().cloned().collect();
        let commands = Work { what: "run these in the image: nothing was".into(), act: Act::ByHand, lines };
        let in_image = self.image.is_some() && !commands.lines.is_empty();
        in_image.then_some(commands).into_iter().chain(tasks.by_hand.clone()).collect()
    }

    /// What the ledger keeps of it.
    fn record(&self, files: &[InstalledFile], links: &[PathBuf]) -> Installed {
        let earlier = self.recorded.as_ref();
        let is_made = |l: &PathBuf| !links.contains(l) || earlier.is_some_and(|r| r.links.iter().any(|e| **e == **l));
        let (made, beside): (Vec<_>, Vec<_>) =
            install::links(&self.env.machine, &self.directory).into_iter().partition(is_made);
        let was = |path: &StoredPath| earlier.into_iter().flat_map(|r| &r.files).find(|f| f.path == *path);
        // What stood before the first time counts, not what an earlier time put there.
        let new =
            files.iter().map(|f| InstalledFile { existed: was(&f.path).map_or(f.existed, |w| w.existed), ..f.clone() });
        let others = earlier.into_iter().flat_map(|r| &r.files).filter(|w| !files.iter().any(|f| f.path == w.path));
        let after = |path: &PathBuf| {
            self.service().look(path).ok().flatten().map(|s| digest::sha256(&s.bytes)).unwrap_or_default()
        };
        let appended = self.appended.iter().map(|(path, lines)| {
            let known = earlier.into_iter().flat_map(|r| &r.appended).find(|a| *a.path == *path);
            let is_written = files.iter().any(|f| *f.path == *path);
            // What the first time found is beside the file. Once somebody may have changed the file since, only our lines go from it.
            let digest = match known {
                Some(known) if !is_written => known.digest.clone(),
                Some(_) => String::new(),
                None => after(path),
            };
            Appended { path: path.clone().into(), lines: lines.clone(), digest }
        });
        Installed {
            server: self.recipe.id.to_owned(),
            label: self.issued.label.clone(),
            certificate: self.issued.certificate.sha256(),
            files: new.chain(others.cloned()).collect(),
            appended: appended.collect(),
            links: made.into_iter().map(Into::into).collect(),
            beside: beside.into_iter().map(Into::into).collect(),
            account: self.account,
        }
    }
}
