//! A server left as it was found.

use super::plan::{is_active, kept};
use super::run;
use crate::env::Env;
use crate::failure::Result;
use crate::report::Outcome;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;
use tamga_core::deploy::recipe::{self, Recipe, program};
use tamga_core::error::{Error, Kind, Stated};
use tamga_core::plan::ports::Files as _;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_host::install::{self, Service, Wanted};
use tamga_host::ledger::{Appended, Installed, Ledger, Record, Work};
use tamga_host::{digest, fs};
use zeroize::Zeroizing;

/// What was taken away, and what remains.
#[derive(Serialize, JsonSchema)]
pub struct Removed {
    /// The server, by the word of its recipe.
    pub server: String,
    /// The certificate's label.
    pub label: Label,
    /// Files and links that were removed, or put back as they were.
    pub removed: Vec<String>,
    /// What is left, since other things may need it by now.
    pub kept: Vec<String>,
    /// What remains and should not, and why.
    pub remains: Vec<String>,
    /// The commands that were run.
    pub commands: Vec<String>,
}

impl Removed {
    /// Partial if something remains that should not.
    pub fn outcome(&self) -> Outcome {
        if self.remains.is_empty() { Outcome::Good } else { Outcome::Partial }
    }
}

/// Takes away what [`super::carry_out`] put there.
///
/// Errors: nothing is known of it; no rights; a file that cannot be removed.
pub fn remove(env: &Env, server: &Recipe, label: &Label) -> Result<Removed> {
    let known = env.open_to_look()?.map(|l| l.installed()).transpose()?.unwrap_or_default();
    let Some(one) = known.into_iter().find(|i| i.server == server.id && i.label == *label) else {
        return Err(Stated {
            kind: Kind::Surroundings,
            code: "not-installed",
            what: format!("{} was not set up for {label} by Tamga", server.id),
            why: "the ledger knows nothing of it".into(),
            remedy: format!("tamga recipe {} {label} --install sets it up", server.id),
        }
        .into());
    };
    if !env.machine.acts_as_root() {
        let path = recipe::service_directory(Path::new(server.config.path));
        let command = format!("sudo tamga recipe {} {label} --uninstall", server.id);
        return Err(tamga_host::error::Error::NeedsRights { path, command }.into());
    }
    let (_lock, ledger) = env.open_for_change()?;
    taken_away(env, &*ledger, &one)
}

/// Takes away everything that was ever set up; without the rights for it, nothing.
///
/// Errors: the ledger cannot be read or written.
pub fn clear(env: &Env) -> Result<Vec<Result<Removed>>> {
    let known = env.open_to_look()?.map(|l| l.installed()).transpose()?.unwrap_or_default();
    if known.is_empty() {
        return Ok(Vec::new());
    }
    if !env.machine.acts_as_root() {
        let needed = |i: &Installed| {
            let path = i.files.first().map_or_else(|| "/etc".into(), |f| f.path.0.clone());
            Err(tamga_host::error::Error::NeedsRights { path, command: "sudo tamga leave".into() }.into())
        };
        return Ok(known.iter().map(needed).collect());
    }
    let (_lock, ledger) = env.open_for_change()?;
    Ok(known.iter().map(|i| taken_away(env, &*ledger, i)).collect())
}

fn taken_away(env: &Env, ledger: &dyn Ledger, one: &Installed) -> Result<Removed> {
    let server = recipe::find(&one.server)?;
    let service = Service { machine: &env.machine, account: one.account };
    // The ledger is input too: only what a recipe writes is touched.
    let directory = recipe::service_directory(Path::new(server.config.path));
    for path in one.appended.iter().map(|a| &a.path).chain(&one.links) {
        if !recipe::is_of(server, path) {
            let what = format!("what the ledger knows of {}", one.server);
            let why = format!("{} is not one of its files", path.shown());
            return Err(Error::Malformed { what, why }.into());
        }
    }
    let said = format!(
        "leaving {} as it was found was interrupted; run tamga recipe {} {} --uninstall again",
        one.server, one.server, one.label
    );
    let files = one.appended.iter().map(|a| env.machine.real(&a.path).into()).collect();
    let work = Work::Replace { said, files };
    let id = ledger.begin(&work, &Record::Nothing, env.now)?;
    let mut out = Removed {
        server: one.server.clone(),
        label: one.label.clone(),
        removed: Vec::new(),
        kept: Vec::new(),
        remains: Vec::new(),
        commands: Vec::new(),
    };
    // What was enabled since may need what its commands enabled then, such as a module.
    let mut now = install::links(&env.machine, &directory);
    now.retain(|l| !one.links.iter().any(|made| **made == **l));
    let alone = now.iter().all(|l| one.beside.iter().any(|b| **b == **l));
    let is_ours = |link: &Path| {
        let leads = env.machine.resolved(link);
        one.files.iter().any(|f| !f.existed && *f.path == leads)
    };
    for link in one.links.iter().filter(|l| env.machine.link(l).is_some()) {
        if alone || is_ours(link) {
            service.remove(link)?;
            out.removed.push(link.shown());
        } else {
            out.kept.push(format!("{}: what was enabled since may need it", link.shown()));
        }
    }
    for appended in &one.appended {
        let is_new = one.files.iter().any(|f| f.path == appended.path && !f.existed);
        // A copy that another certificate's time made lacks the lines of that one too.
        let copy = Some(kept(&appended.path)).filter(|c| one.files.iter().any(|f| *f.path == **c && !f.existed));
        put_back(service, appended, copy.as_deref(), is_new, &mut out)?;
    }
    let mut rest = Vec::new();
    for file in one.files.iter().filter(|f| !f.existed && !one.appended.iter().any(|a| a.path == f.path)) {
        // The configuration goes first: it names the others.
        let is_configuration = recipe::is_of(server, &file.path) && !file.path.starts_with(directory.join("tls"));
        match service.look(&file.path)? {
            None => {}
            Some(stands) if digest::sha256(&stands.bytes) != file.digest => {
                out.remains.push(format!("{}: it was changed since", file.path.shown()));
            }
            Some(_) if is_configuration => {
                service.remove(&file.path)?;
                out.removed.push(file.path.shown());
            }
            Some(_) => rest.push(&file.path),
        }
    }
    for path in rest {
        if !out.remains.is_empty() {
            out.remains.push(format!("{}: what remains of the configuration may name it", path.shown()));
            continue;
        }
        service.remove(path)?;
        out.removed.push(path.shown());
        let above = fs::parent(path);
        // A directory with another name than the certificate's was there before it.
        if above.file_name().is_some_and(|n| n == one.label.as_str()) {
            service.remove_directory(above)?;
        }
    }
    restarted(env, server, one, &mut out);
    ledger.note_uninstalled(one, env.now)?;
    ledger.finish(id, &work)?;
    Ok(out)
}

/// A file of the server's as it was before the lines; if somebody has changed it since, only they go. `copy`: what it was;
/// `is_new`: there was none.
fn put_back(
    service: Service<'_>,
    appended: &Appended,
    copy: Option<&Path>,
    is_new: bool,
    out: &mut Removed,
) -> Result<()> {
    let Some(stands) = service.look(&appended.path)? else { return Ok(()) };
    let before = copy.map(|c| service.look(c)).transpose()?.flatten();
    let is_as_left = digest::sha256(&stands.bytes) == appended.digest;
    let bytes = match &before {
        Some(b) if is_as_left => b.bytes.clone(),
        _ => Zeroizing::new(recipe::without(&stands.bytes, &appended.lines)),
    };
    if *bytes == *stands.bytes {
        let text = String::from_utf8_lossy(&stands.bytes);
        // Gone with all its lines, by hand or by a run that was interrupted: nothing of it remains.
        if !appended.lines.lines().any(|ours| text.lines().any(|l| l == ours)) {
            return Ok(());
        }
        out.remains.push(format!("{}: the lines are no longer in it as they were added", appended.path.shown()));
        return Ok(());
    }
    if is_new && bytes.is_empty() {
        service.remove(&appended.path)?;
        out.removed.push(appended.path.shown());
        return Ok(());
    }
    let file = Wanted { path: appended.path.0.clone(), bytes, mode: stands.mode, ids: Some(stands.ids) };
    service.put(&[file])?;
    service.settle([&*appended.path].into_iter())?;
    out.removed.push(format!("the lines in {}", appended.path.shown()));
    Ok(())
}

/// The server takes it up, if it runs.
fn restarted(env: &Env, server: &Recipe, one: &Installed, out: &mut Removed) {
    let unit = server.unit.replace("{label}", &one.label);
    let is_alone = unit != server.unit;
    if is_active(env, &unit) == Some(false) {
        return;
    }
    // Where the service is this certificate's own, nothing is left for it to do.
    let verb = if is_alone { "stop" } else { "restart" };
    let reload = if server.start.is_empty() { server.reload } else { server.start };
    let own = program(&reload.replace("{sudo}", "").replace("{as_postgres}", "runuser -u postgres -- "));
    let words = match own {
        Ok(words) if !is_alone && !words.iter().any(|w| w.contains('{')) => words,
        _ => vec!["systemctl".into(), verb.into(), unit],
    };
    match run(env, &words) {
        Ok(()) => out.commands.push(words.join(" ")),
        Err((what, why, _)) => out.remains.push(format!("{}: {what}: {why}", server.id)),
    }
}
