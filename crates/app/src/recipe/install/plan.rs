//! What is to be done so that a server shows a certificate: worked out from what stands there, without changing anything.

use crate::certificate::form;
use crate::env::Env;
use crate::failure::Result;
use crate::recipe::{Request, filled};
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};
use tamga_core::ca::report::Issued;
use tamga_core::deploy::access;
use tamga_core::deploy::recipe::{self, Placed, PlacedContent, Placement, Recipe, Tasks, program};
use tamga_core::error::{Error, Kind, Stated};
use tamga_core::plan::ports::Files as _;
use tamga_core::plan::step::Invocation;
use tamga_core::vocabulary::text::Shown;
use tamga_host::install::{Service, Stands, Wanted};
use tamga_host::ledger::{Installed, InstalledFile, Work};
use tamga_host::{digest, error, place, process};
use zeroize::Zeroizing;

/// The directory in which the releases of PostgreSQL have their configurations, in a recipe's path.
const VERSION: &str = "VERSION";

/// What is to be done, ready to be shown and carried out.
pub struct Plan {
    /// For which server.
    pub recipe: &'static Recipe,
    /// For which certificate.
    pub issued: Issued,
    /// The image; None for this machine.
    pub image: Option<PathBuf>,
    /// The steps, in order; empty if everything stands.
    pub steps: Vec<Change>,
    /// The recipe's own words for it.
    pub tasks: Tasks,
    /// The environment, on the image if there is one.
    pub(super) env: Env,
    pub(super) directory: PathBuf,
    pub(super) wanted: Vec<Ready>,
    pub(super) appended: Vec<(PathBuf, String)>,
    pub(super) commands: Commands,
    pub(super) recorded: Option<Installed>,
    pub(super) wants_clients: bool,
    /// The account that reads the files; None where that is root.
    pub(super) account: Option<u32>,
}

/// Each a program with its arguments.
#[derive(Default)]
pub(super) struct Commands {
    /// What does not touch the server that runs.
    pub(super) before: Vec<Vec<String>>,
    /// What makes it show the certificate.
    pub(super) start: Vec<Vec<String>>,
    /// What makes it forget it again.
    pub(super) undo: Vec<Vec<String>>,
}

/// A file that is to be written.
pub(super) struct Ready {
    pub(super) file: Wanted,
    /// True if something stands there.
    pub(super) stood: bool,
}

/// One step of a plan.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Change {
    /// `write`, `append`, `run`.
    pub action: &'static str,
    /// The file.
    pub path: Option<String>,
    /// Its permission bits, in octal digits.
    pub mode: Option<String>,
    /// The account whose file it becomes; none for root's, or as it is.
    pub owner: Option<String>,
    /// The lines that are added.
    pub content: Option<String>,
    /// The command, with its arguments.
    pub command: Option<Vec<String>>,
}

impl Plan {
    /// True if nothing is to be done.
    pub fn is_done(&self) -> bool {
        self.steps.is_empty()
    }

    pub(super) fn service(&self) -> Service<'_> {
        Service { machine: &self.env.machine, account: self.account }
    }

    /// What the journal says of it.
    pub(super) fn work(&self, links: &[PathBuf], files: &[InstalledFile]) -> Work {
        let machine = &self.env.machine;
        match self.image {
            // What is put back in an image, its next run puts there anyway.
            Some(_) => Work::Replace {
                said: format!(
                    "putting {} into an image was interrupted; run tamga recipe {} {} --install --sysroot again",
                    self.issued.label, self.recipe.id, self.issued.label
                ),
                files: files.iter().map(|f| machine.real(&f.path).into()).collect(),
            },
            None => Work::Install {
                server: self.recipe.id.to_owned(),
                label: self.issued.label.clone(),
                directory: self.directory.clone().into(),
                links: links.iter().cloned().map(Into::into).collect(),
                files: files.to_vec(),
                account: self.account,
            },
        }
    }
}

/// Works out what is to be done. `image`: the root of another system's files, in which nothing is run.
///
/// Errors: the recipe is for a person; the server is not there; a foreign file would be overwritten; no rights.
pub fn plan(env: &Env, request: &Request, image: Option<&Path>) -> Result<Plan> {
    let on = image.map_or_else(|| env.clone(), |i| env.in_image(i.to_owned()));
    let (written, setting, issued) = filled(env, request, image.is_some())?;
    let recipe = written.recipe;
    let command = format!("sudo tamga recipe {} {} --install", recipe.id, issued.label);
    let config = configuration(&on, recipe, &written.path)?;
    possible(env, &on, recipe, &config, setting.locked)?;
    if image.is_none() && !on.machine.acts_as_root() {
        return Err(error::Error::NeedsRights { path: config, command }.into());
    }
    if image.is_none() && !env.dry_run {
        // What an interrupted run left is put back first: else it would be taken for what stood here before.
        drop(env.open_for_change()?);
    }
    // The pair is proved before anything is written.
    env.key_of(&issued.label, &issued.folder, &issued.certificate, &Secret::default())?;
    let ledger = env.open_to_look()?;
    let installed = ledger.map(|l| l.installed()).transpose()?.unwrap_or_default();
    let recorded = installed.into_iter().find(|i| i.server == recipe.id && i.label == issued.label);
    let owner = setting.owner.as_deref().unwrap_or(recipe.facts.owner);
    let account = if matches!(owner, "" | "root") { None } else { Some(account_of(&on, owner)?.0) };
    let service = Service { machine: &on.machine, account };
    let mut making = Making {
        env: &on,
        service,
        recorded: recorded.filter(|_| image.is_none()),
        wanted: Vec::new(),
        steps: Vec::new(),
    };
    for placed in &written.tasks.placed {
        making.place(env, &issued, placed)?;
    }
    let mut appended = written.tasks.appended.clone();
    let mut is_configured = false;
    match recipe.config.place {
        Placement::AtEnd => appended.insert(0, (config.clone(), written.config.clone())),
        _ => is_configured |= making.whole(&config, &written.config, recipe)?,
    }
    for (path, lines) in &appended {
        is_configured |= making.append(path, lines)?;
    }
    let Making { recorded, wanted, mut steps, .. } = making;
    let is_new = recorded.as_ref().is_none_or(|r| r.certificate != issued.certificate.sha256());
    let mut commands = Commands::default();
    if image.is_none() && (is_new || !steps.is_empty()) {
        let first = recorded.is_none() || is_configured;
        commands = Commands::of(&on, &written.tasks, first)?;
    }
    steps.extend(
        commands
            .before
            .iter()
            .chain(&commands.start)
            .map(|words| Change { command: Some(words.clone()), ..Change::of("run") }),
    );
    Ok(Plan {
        recipe,
        issued,
        image: image.map(Path::to_owned),
        steps,
        tasks: written.tasks,
        env: on,
        directory: recipe::service_directory(&config),
        wanted,
        appended,
        commands,
        recorded,
        wants_clients: setting.clients.is_some(),
        account,
    })
}

/// Where the configuration goes on this machine: of several releases, the only one.
fn configuration(on: &Env, recipe: &Recipe, path: &str) -> Result<PathBuf> {
    let Some((above, rest)) = path.split_once(&format!("/{VERSION}/")) else { return Ok(path.into()) };
    let releases: Vec<String> =
        on.machine.list(Path::new(above)).into_iter().filter(|n| n.parse::<f32>().is_ok()).collect();
    match &releases[..] {
        [one] => Ok(Path::new(above).join(one).join(rest)),
        [] => Ok(Path::new(above).join(rest)),
        several => Err(Error::Contradiction {
            what: format!("{} is here in several releases: {}", recipe.id, several.join(", ")),
            why: "each has a configuration of its own".into(),
            instead: format!("follow the steps that tamga recipe {} LABEL prints, for one of them", recipe.id),
        }
        .into()),
    }
}

/// Errors: the recipe needs a person, or the server is not there.
fn possible(env: &Env, on: &Env, recipe: &Recipe, config: &Path, is_locked: bool) -> Result<()> {
    let by_hand = |why: &str| Error::Contradiction {
        what: format!("{} cannot be set up by --install", recipe.id),
        why: why.to_owned(),
        instead: format!("follow the steps that tamga recipe {} LABEL prints", recipe.id),
    };
    if recipe.unit.is_empty() {
        return Err(by_hand("its steps are about a program of yours, another machine, or a place inside a file").into());
    }
    if is_locked {
        return Err(by_hand("the key needs a passphrase, which only you can give to the server").into());
    }
    let directory = recipe::service_directory(config);
    let unit = recipe.unit.split('@').next().unwrap_or_default();
    let units = ["/lib/systemd/system", "/usr/lib/systemd/system", "/etc/systemd/system"];
    // A unit's variables may be in no file yet.
    let has_unit = || units.iter().any(|d| on.machine.exists(&Path::new(d).join(format!("{unit}.service"))));
    let needed = if recipe.config.place == Placement::AtEnd { config } else { &directory };
    if on.machine.exists(needed) || (config.starts_with("/etc/default") && has_unit()) {
        return Ok(());
    }
    let here = if on.machine.root() == env.machine.root() { "here" } else { "in the image" };
    Err(Stated {
        kind: Kind::Surroundings,
        code: "server-absent",
        what: format!("{} is not installed {here}", recipe.id),
        why: format!("{} is not there", needed.shown()),
        remedy: "install the server's package, then run the same command again".into(),
    }
    .into())
}

impl Commands {
    /// `first`: the server has to read its configuration, and not only its files, again.
    fn of(on: &Env, tasks: &Tasks, first: bool) -> Result<Commands> {
        let parsed = |lines: &[String]| lines.iter().map(|l| program(l)).collect::<tamga_core::error::Result<Vec<_>>>();
        let before = parsed(&[tasks.programs.clone(), tasks.check.clone()].concat())?;
        let systemctl = |verb: &str| vec![vec!["systemctl".to_owned(), verb.to_owned(), tasks.unit.clone()]];
        // Where it is printed for a shell, a restart does as well.
        let reload = parsed(&tasks.reload).unwrap_or_else(|_| systemctl("restart"));
        let restart = if tasks.start.is_empty() { reload.clone() } else { parsed(&tasks.start)? };
        Ok(match is_active(on, &tasks.unit) {
            Some(false) => Commands { before, start: systemctl("start"), undo: systemctl("stop") },
            _ => Commands { before, start: if first { restart.clone() } else { reload }, undo: restart },
        })
    }
}

/// Whether a unit of systemd is active; None where systemd does not run (sd_booted(3)).
pub(super) fn is_active(on: &Env, unit: &str) -> Option<bool> {
    if !on.machine.exists(Path::new("/run/systemd/system")) {
        return None;
    }
    // As root, as what follows is: the answer is about the same service.
    let ask = Invocation::new("systemctl", ["is-active", "--quiet", unit]).with_rights();
    process::invoke_to_end(&on.machine, &ask).ok().map(|ended| ended.code == Some(0))
}

impl Change {
    fn of(action: &'static str) -> Change {
        Change { action, path: None, mode: None, owner: None, content: None, command: None }
    }
}

/// The ids of an account, as the system knows it on which the files go.
fn account_of(on: &Env, name: &str) -> Result<(u32, u32)> {
    let unknown = || error::Error::Account { typed: name.to_owned(), why: "no account has this name".into() };
    let machine = &on.machine;
    if machine.root().is_none() {
        return Ok(place::ids(Some(name), None)?.ok_or_else(unknown)?);
    }
    let text = machine.read(Path::new("/etc/passwd")).unwrap_or_default();
    Ok(access::ids(&String::from_utf8_lossy(&text), name).ok_or_else(unknown)?)
}

/// A plan that is being made.
struct Making<'a> {
    env: &'a Env,
    service: Service<'a>,
    recorded: Option<Installed>,
    wanted: Vec<Ready>,
    steps: Vec<Change>,
}

impl Making<'_> {
    /// A file of the certificate. `env`: where that is.
    fn place(&mut self, env: &Env, issued: &Issued, placed: &Placed) -> Result<()> {
        let bytes = match &placed.content {
            PlacedContent::Copy(from) => env.disk().read(from).map_err(error::Error::file("reading", from))?,
            PlacedContent::Form(form) => form::made(env, issued, *form, &Secret::default(), None)?,
        };
        let ids = match placed.owner.as_str() {
            "" | "root" => None,
            owner => Some(account_of(self.env, owner)?),
        };
        let file = Wanted { path: placed.path.clone(), bytes, mode: placed.mode, ids };
        let owner = ids.is_some().then(|| placed.owner.clone());
        self.want(file, Change { owner, ..Change::of("write") })?;
        Ok(())
    }

    /// A configuration of its own. True if it is to be written.
    fn whole(&mut self, path: &Path, text: &str, recipe: &Recipe) -> Result<bool> {
        let file = Wanted { path: path.to_owned(), bytes: Zeroizing::new(text.into()), mode: 0o644, ids: None };
        let known = self.recorded.as_ref().and_then(|r| r.files.iter().find(|f| *f.path == *path));
        if let Some(stands) = self.service.look(path)?
            && *stands.bytes != *file.bytes
            && known.is_none_or(|k| k.digest != digest::sha256(&stands.bytes))
        {
            let what = match known {
                Some(_) => format!("{} was changed since Tamga wrote it", path.shown()),
                None => format!("{} is there already, and is not Tamga's", path.shown()),
            };
            return Err(Stated {
                kind: Kind::Refused,
                code: "file-exists",
                what,
                why: "what somebody wrote there would be lost".into(),
                remedy: format!("move it away, or follow the steps that tamga recipe {} LABEL prints", recipe.id),
            }
            .into());
        }
        self.want(file, Change::of("write"))
    }

    /// Lines at the end of a file of the server's. True if they are to be written.
    fn append(&mut self, path: &Path, lines: &str) -> Result<bool> {
        let stands = self.service.look(path)?;
        let before = self.recorded.iter().flat_map(|r| &r.appended).find(|a| *a.path == *path).map(|a| a.lines.clone());
        let text = stands.as_ref().map(|s| s.bytes.as_slice()).unwrap_or_default();
        let bytes = Zeroizing::new(recipe::at_end(text, before.as_deref(), lines));
        // Variables of a unit are often in no file yet.
        let (mode, ids) = stands.as_ref().map_or((0o644, None), |s| (s.mode, Some(s.ids)));
        let file = Wanted { path: path.to_owned(), bytes, mode, ids };
        let is_changed = self.want(file, Change { content: Some(lines.to_owned()), ..Change::of("append") })?;
        let copy = kept(path);
        if let Some(stands) = stands
            && is_changed
            && before.is_none()
            && self.service.look(&copy)?.is_none()
        {
            // What was there stays beside it for as long as the lines do.
            let file = Wanted { path: copy, bytes: stands.bytes, mode: stands.mode, ids: Some(stands.ids) };
            self.wanted.push(Ready { file, stood: false });
        }
        Ok(is_changed)
    }

    /// A file that is to be as this. True if it is not.
    fn want(&mut self, file: Wanted, change: Change) -> Result<bool> {
        let stands = self.service.look(&file.path)?;
        let is_so =
            |s: &Stands| *s.bytes == *file.bytes && s.mode == file.mode && file.ids.is_none_or(|ids| ids == s.ids);
        if stands.as_ref().is_some_and(is_so) {
            return Ok(false);
        }
        let mode = change.content.is_none().then(|| format!("{:04o}", file.mode));
        self.steps.push(Change { path: Some(file.path.shown()), mode, ..change });
        self.wanted.push(Ready { file, stood: stands.is_some() });
        Ok(true)
    }
}

/// Where what a file was before the first lines were added is kept.
pub(super) fn kept(path: &Path) -> PathBuf {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".before-tamga");
    path.with_file_name(name)
}
