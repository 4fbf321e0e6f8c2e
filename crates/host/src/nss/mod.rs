//! NSS databases, through the library that the browser itself uses, in a child process of our own.
//!
//! One process can hold only one version of NSS, and a library must never be loaded with root's rights for another
//! person's files: so a child does the work, and gives up all rights first.

mod child;
mod file;
mod library;

use crate::error::{Error, Result};
use crate::places::Machine;
use crate::platform;
use crate::process;
use serde::{Deserialize, Serialize};
use std::path::Path;
use std::process::Command;
use std::time::Duration;
use tamga_core::plan::nss::{Library, NssAction, NssChange, NssEntry, NssFailure, NssView};
use tamga_core::plan::ports::Environment;

pub use child::answer;
use tamga_core::vocabulary::text::Shown;

/// The hidden word that makes Tamga the child.
pub const CHILD: &str = "nss-child";

/// NSS waits two seconds for a lock of its own; a loaded machine may take longer.
const LIMIT: Duration = Duration::from_secs(30);

/// What the child is asked.
#[derive(Serialize, Deserialize)]
pub(crate) struct Question {
    folder: crate::ledger::stored_path::StoredPath,
    library: Library,
    action: Option<NssAction>,
    /// What guards the database; only a child's standard input ever sees it.
    password: Option<String>,
}

/// What it answers: the database after the change.
type Answer = std::result::Result<NssView, NssFailure>;

/// True if this program can load the browsers' library: one that is linked statically cannot.
pub fn can_load() -> bool {
    cfg!(windows) || !cfg!(target_feature = "crt-static")
}

/// The objects of a database.
pub fn list(machine: &Machine, folder: &Path, library: &Library) -> Answer {
    ask(machine, &Question { folder: folder.into(), library: library.clone(), action: None, password: None })
}

/// What of a database is trusted or distrusted: from the file itself where every version of the library would read it alike, which takes a
/// fiftieth of the time, else from the library.
pub fn trust(machine: &Machine, folder: &Path, library: &Library) -> std::result::Result<Vec<NssEntry>, NssFailure> {
    // With the rights of root another person's file is left to the child, which gives them up first.
    let read = if machine.person.is_some() { None } else { file::read(&machine.real(folder), library) };
    match read {
        Some(entries) => Ok(entries),
        None => list(machine, folder, library).map(|view| view.entries),
    }
}

/// Changes a database and sees, in its answer, that the change is there.
pub fn change(machine: &Machine, change: &NssChange) -> Result<()> {
    let failed = |f: NssFailure| Error::Nss { folder: change.folder.clone(), why: f.why, remedy: f.remedy };
    let password = machine.password().and_then(|p| String::from_utf8(p.octets().to_vec()).ok());
    let (folder, library) = (change.folder.clone(), change.library.clone());
    let question = Question { folder: folder.into(), library, action: Some(change.action.clone()), password };
    let after = ask(machine, &question);
    if let Some(password) = question.password {
        drop(zeroize::Zeroizing::new(password));
    }
    let after = after.map_err(failed)?.entries;
    let reached = match &change.action {
        NssAction::Add { der, .. } => after.iter().any(|e| e.der == *der && e.is_trusted()),
        NssAction::AddPlain { der, .. } => after.iter().any(|e| e.der == *der),
        NssAction::AddIdentity { der, .. } => after.iter().any(|e| e.der == *der && e.has_key()),
        NssAction::Remove { der } | NssAction::RemoveIdentity { der } => !after.iter().any(|e| e.der == *der),
    };
    if reached {
        return Ok(());
    }
    Err(failed(NssFailure {
        why: "the library said yes, but a look at the database says no".into(),
        remedy: "close the browser and run the same command again".into(),
    }))
}

fn ask(machine: &Machine, question: &Question) -> Answer {
    if !can_load() {
        return Err(NssFailure {
            why: "this build of Tamga is linked statically, and cannot load the browser's library".into(),
            remedy: "take the build for your system's libraries, or set the browsers' policies: sudo tamga trust add --stores chromium-policy,firefox-policy".into(),
        });
    }
    let failure = |why: String| NssFailure { why, remedy: "run the same command again; if it stays, report it".into() };
    let program = std::env::current_exe().map_err(|e| failure(format!("Tamga cannot find itself: {e}")))?;
    // Through the open program where the system has that: the person may not be allowed into the directory that it lies in.
    let open = Path::new("/proc/self/exe");
    let mut command = Command::new(if open.exists() { open } else { &program });
    command.arg(CHILD).env(platform::HOME, machine.home());
    if let Some(p) = &machine.person {
        platform::as_user(&mut command, &p.rights);
    }
    let input = zeroize::Zeroizing::new(serde_json::to_vec(question).map_err(|e| failure(e.to_string()))?);
    let ended = process::run(command, &input, LIMIT).map_err(|e| match e.kind() {
        std::io::ErrorKind::PermissionDenied => NssFailure {
            why: format!("the person whose database it is may not run {}", program.shown()),
            remedy: format!("chmod 755 {}, then run the same command again", program.shown()),
        },
        _ => failure(format!("the child did not start: {e}")),
    })?;
    if ended.code != Some(0) {
        return Err(failure("the browser's library ended the child that read this database".into()));
    }
    serde_json::from_slice::<Answer>(&ended.output)
        .map_err(|e| failure(format!("the child's answer is cut short: {e}")))?
}
