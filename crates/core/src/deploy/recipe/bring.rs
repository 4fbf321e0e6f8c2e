//! How a certificate's files come to where a server reads them.

use super::act::{Act, Work};
use super::setting::Setting;
use super::template::{Quote, Values};
use super::{FileLocation, Recipe, System, windows};
use crate::ca::authority::{CERTIFICATE_FILE, KEY_FILE, ROOT_FILE};
use crate::deploy::export::Form;
use crate::vocabulary::text::Shown;
use std::path::{Path, PathBuf};

/// The file in which a server looks for the root of its clients, without its ending.
pub(super) const CLIENTS_FILE: &str = "clients";

/// A file that a server reads, as it is put there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Placed {
    /// What is in it.
    pub content: PlacedContent,
    /// Where.
    pub path: PathBuf,
    /// The account and group whose file it is; empty for the account that puts it there.
    pub owner: String,
    /// Its permission bits.
    pub mode: u32,
}

/// What is in a file that a server reads.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PlacedContent {
    /// The same as in this file.
    Copy(PathBuf),
    /// The certificate with its key in this form.
    Form(Form),
}

/// What brings the files to a server.
pub(super) struct Brought {
    /// For a person.
    pub(super) work: Work,
    /// What of it is to be done again after each renewal.
    pub(super) again: Vec<String>,
    /// For a machine.
    pub(super) placed: Vec<Placed>,
}

/// The directory from which the server reads.
pub(super) fn place(recipe: &Recipe, s: &Setting) -> PathBuf {
    if s.system == System::Windows {
        return windows::place(recipe, s).into();
    }
    match (&s.into, recipe.facts.place) {
        (Some(into), _) => into.clone(),
        (None, FileLocation::Issued) => s.folder.clone(),
        (None, FileLocation::Own(folder)) => PathBuf::from(folder.replace("{label}", &s.label)),
    }
}

/// The files of the certificate, once and after each renewal.
pub(super) fn bring(recipe: &Recipe, s: &Setting, place: &Path, values: &Values) -> Brought {
    if s.system == System::Windows {
        return windows::bring(recipe, s, place, values);
    }
    let lines = |text: &str| values.fill(text, Quote::Shell).lines().map(str::to_owned).collect::<Vec<_>>();
    let own = place != s.folder;
    let (form, mode) = (recipe.facts.form, recipe.facts.mode);
    let owner = s.owner.as_deref().unwrap_or(recipe.facts.owner);
    let mut all = Vec::new();
    if own {
        all.extend(lines("{sudo}install -d -o {owner} -g {owner} -m 0750 {place}"));
    }
    let (mut again, mut placed) = (Vec::new(), Vec::new());
    let store = format!("{}.{}", s.label, form.ending());
    if form == Form::Pem && !own {
        let reader = if owner.is_empty() { "the account that starts it" } else { owner };
        let what = format!("the files stay where they are: {} reads them there as {reader}", recipe.name());
        return Brought { work: Work { what, act: Act::Look, lines: vec![s.folder.shown()] }, again, placed };
    }
    match form {
        Form::Pem => {
            for (name, mode) in [(CERTIFICATE_FILE, 0o644), (KEY_FILE, mode), (ROOT_FILE, 0o644)] {
                let content = PlacedContent::Copy(s.folder.join(name));
                placed.push(Placed { content, path: place.join(name), owner: owner.to_owned(), mode });
            }
        }
        Form::CombinedPem => again.extend(lines("tamga export {label} --as combined-pem --output {made} --yes")),
        form => {
            // A passphrase of its own, in a file that only its reader opens: it is never an argument.
            all.extend(lines(
                "(umask 077; test -s {made_secret} || od -An -N16 -tx1 /dev/urandom | tr -d ' \\n' > {made_secret})",
            ));
            again.extend(lines(&format!(
                "tamga export {{label}} --as {} --output {{made}} --new-passphrase-file {{made_secret}} --yes",
                form.word()
            )));
        }
    }
    again.extend(placed.iter().map(|p| installed(p, s.raise)));
    if form != Form::Pem {
        let made = Placed {
            content: PlacedContent::Form(form),
            path: place.join(&store),
            owner: if own { owner.to_owned() } else { String::new() },
            mode: if own { mode } else { 0o600 },
        };
        if own {
            let from = |name: &str| PlacedContent::Copy(s.folder.join(name));
            again.push(installed(&Placed { content: from(&store), ..made.clone() }, s.raise));
            if form != Form::CombinedPem {
                let name = format!("{store}.passphrase");
                let secret =
                    Placed { content: from(&name), path: place.join(&name), owner: owner.to_owned(), mode: 0o600 };
                again.push(installed(&secret, s.raise));
            }
        }
        placed.push(made);
    }
    all.extend(again.iter().cloned());
    let what = format!("put the files where {} reads them", recipe.name());
    Brought { work: Work { what, act: Act::Run, lines: all }, again, placed }
}

/// The root of the clients that may connect.
pub(super) fn bring_clients(
    recipe: &Recipe,
    s: &Setting,
    place: &Path,
    values: &Values,
) -> Option<(Work, Option<Placed>)> {
    if s.system == System::Windows {
        return windows::bring_clients(recipe, s, values).map(|work| (work, None));
    }
    let (_, root) = s.clients.as_ref()?;
    let form = recipe.facts.clients;
    let (mut lines, mut from) = (Vec::new(), root.clone());
    if form != Form::Pem {
        let text = "tamga export {clients_label} --as pkcs12 --output {clients_made} --yes";
        lines.extend(values.fill(text, Quote::Shell).lines().map(str::to_owned));
        from = s.folder.join(format!("{CLIENTS_FILE}.{}", form.ending()));
    }
    let placed = Placed {
        content: PlacedContent::Copy(from),
        path: place.join(format!("{CLIENTS_FILE}.{}", form.ending())),
        owner: String::new(),
        mode: 0o644,
    };
    // Where it was made it may already be in its place.
    if placed.content != PlacedContent::Copy(placed.path.clone()) {
        lines.push(installed(&placed, s.raise));
    }
    let what = "install the root of the clients that may connect".into();
    Some((Work { what, act: Act::Run, lines }, Some(placed)))
}

/// The line by which a person copies a file to its place.
fn installed(placed: &Placed, raise: bool) -> String {
    let Placed { content: PlacedContent::Copy(from), path, owner, mode } = placed else { return String::new() };
    let word = |p: &Path| Quote::Shell.quoted(&p.shown());
    let sudo = if raise { "sudo " } else { "" };
    let owned = match owner.as_str() {
        "" => "-D".to_owned(),
        owner => format!("-o {owner} -g {owner}"),
    };
    format!("{sudo}install {owned} -m {mode:04o} {} {}", word(from), word(path))
}
