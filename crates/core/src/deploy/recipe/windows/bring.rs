//! How a certificate's files come to where a server on Windows reads them.

use super::super::act::{Act, Work};
use super::super::bring::{Brought, CLIENTS_FILE};
use super::super::setting::Setting;
use super::super::template::{Quote, Values};
use super::super::{FileLocation, Recipe};
use crate::ca::authority::{CERTIFICATE_FILE, KEY_FILE, ROOT_FILE};
use crate::deploy::export::Form;
use crate::vocabulary::text::Shown;
use std::path::Path;

/// Where files go that a server would read where they were made, if they were made on another machine. Only administrators make directories
/// there: in `C:/ProgramData` anybody could have made this one before, and would own it.
const DIRECTORY: &str = "C:/Program Files/tls/{label}";

/// True for a path of Windows with a drive.
///
/// ```
/// use tamga_core::deploy::recipe::is_drive_path;
///
/// assert!(is_drive_path("D:/tls".as_ref()) && !is_drive_path("/tls".as_ref()));
/// ```
pub fn is_drive_path(path: &Path) -> bool {
    matches!(path.as_os_str().as_encoded_bytes(), [drive, b':', ..] if drive.is_ascii_alphabetic())
}

/// The directory from which a server on Windows reads.
pub(in super::super) fn place(recipe: &Recipe, s: &Setting) -> String {
    let own = |directory: &str| directory.replace("{label}", &s.label);
    match (&s.into, recipe.facts.place) {
        (Some(into), _) => slashed(into),
        (None, FileLocation::Own(directory)) => own(directory),
        (None, FileLocation::Issued) if is_drive_path(&s.folder) => slashed(&s.folder),
        (None, FileLocation::Issued) => own(DIRECTORY),
    }
}

/// A path with the separator that configuration files on Windows take too.
pub(in super::super) fn slashed(path: &Path) -> String {
    path.to_string_lossy().replace('\\', "/")
}

/// Where on the Windows machine the lines after this one are typed, if the certificate is on another.
fn there(path: &Path) -> String {
    format!("# on the Windows machine, beside a copy of {}, in PowerShell as administrator:", path.shown())
}

/// The name of a copy of a directory.
fn copied(directory: &Path) -> String {
    Path::new(directory.file_name().unwrap_or_default()).shown()
}

/// The files of the certificate, once and after each renewal.
pub(in super::super) fn bring(recipe: &Recipe, s: &Setting, place: &Path, values: &Values) -> Brought {
    let typed = |text: &str, quote| values.fill(text, quote).lines().map(str::to_owned).collect::<Vec<_>>();
    let is_here = is_drive_path(&s.folder);
    let (own, form) = (slashed(place) != slashed(&s.folder), recipe.facts.form);
    let placed = Vec::new();
    if form == Form::Pem && !own {
        let what = format!("the files stay where they are: {} reads them there", recipe.name());
        let lines = typed("{folder}", Quote::PowerShell);
        return Brought { work: Work { what, act: Act::Look, lines }, again: Vec::new(), placed };
    }
    let (mut all, mut again) = (Vec::new(), Vec::new());
    if form != Form::Pem {
        // A passphrase of its own, in a file: it is never an argument.
        all.extend(match is_here {
            true => typed(
                "if (-not (Test-Path {made_secret})) { $bytes = New-Object byte[] 16; [Security.Cryptography.RandomNumberGenerator]::Create().GetBytes($bytes); [IO.File]::WriteAllText({made_secret}, -join ($bytes | ForEach-Object { $_.ToString('x2') })) }",
                Quote::PowerShell,
            ),
            false => typed(
                "(umask 077; test -s {made_secret} || od -An -N16 -tx1 /dev/urandom | tr -d ' \\n' > {made_secret})",
                Quote::Shell,
            ),
        });
        let export = format!(
            "tamga export {{label}} --as {} --output {{made}} --new-passphrase-file {{made_secret}} --yes",
            form.word()
        );
        again.extend(typed(&export, if is_here { Quote::PowerShell } else { Quote::Shell }));
    }
    // A key store that a script imports is read from where the script is.
    if form == Form::Pem || recipe.facts.place != FileLocation::Issued || s.into.is_some() {
        let files = match form {
            Form::Pem => [CERTIFICATE_FILE, KEY_FILE, ROOT_FILE].map(|f| format!("{{from}}/{f}")).to_vec(),
            form => vec![
                format!("{{from}}/{{label}}.{}", form.ending()),
                format!("{{from}}/{{label}}.{}.passphrase", form.ending()),
            ],
        };
        let source = if is_here { slashed(&s.folder) } else { format!("./{}", copied(&s.folder)) };
        // In a list, so always with quotes.
        let word = |f: &String| {
            let path = f.replace("{from}", &source).replace("{label}", &s.label).replace('/', "\\");
            format!("'{}'", Quote::Single.quoted(&path))
        };
        let files = files.iter().map(word).collect::<Vec<_>>().join(", ");
        all.extend(again.iter().cloned());
        if !is_here {
            all.push(there(&s.folder));
            again.push(there(&s.folder));
        }
        // Who may read it is settled before the key is in it, and what somebody who made it before allowed himself goes: S-1-5-18 is the system, S-1-5-32-544 its administrators, in every language.
        all.extend(typed(
            "New-Item -ItemType Directory -Force {place} | Out-Null\nicacls {place} /setowner '*S-1-5-32-544'\nicacls {place} /reset\nicacls {place} /inheritance:r /grant:r '*S-1-5-18:(OI)(CI)R' '*S-1-5-32-544:(OI)(CI)F'",
            Quote::PowerShell,
        ));
        let right = match s.owner.as_deref().unwrap_or(recipe.facts.owner) {
            "SYSTEM" => None,
            "" => Some("\"${env:USERNAME}:(OI)(CI)R\"".to_owned()),
            owner => Some(Quote::PowerShell.quoted(&format!("{owner}:(OI)(CI)R"))),
        };
        if let Some(right) = right {
            all.extend(typed(&format!("icacls {{place}} /grant {right}"), Quote::PowerShell));
        }
        let copy = typed(&format!("Copy-Item -Force {files} -Destination {{place}}"), Quote::PowerShell);
        all.extend(copy.iter().cloned());
        again.extend(copy);
    } else {
        all.extend(again.iter().cloned());
    }
    let what = format!("put the files where {} reads them", recipe.name());
    Brought { work: Work { what, act: Act::Run, lines: all }, again, placed }
}

/// The root of the clients that may connect.
pub(in super::super) fn bring_clients(recipe: &Recipe, s: &Setting, values: &Values) -> Option<Work> {
    let (_, root) = s.clients.as_ref()?;
    let form = recipe.facts.clients;
    let is_here = is_drive_path(root);
    let host = if is_here { Quote::PowerShell } else { Quote::Shell };
    let mut lines = Vec::new();
    let mut from = if is_here { slashed(root) } else { "./root.pem".to_owned() };
    if form != Form::Pem {
        let text = "tamga export {clients_label} --as pkcs12 --output {clients_made} --yes";
        lines.extend(values.fill(text, host).lines().map(str::to_owned));
        let name = format!("{CLIENTS_FILE}.{}", form.ending());
        lines.extend((!is_here).then(|| there(&s.folder)));
        from =
            if is_here { format!("{}/{name}", slashed(&s.folder)) } else { format!("./{}/{name}", copied(&s.folder)) };
    } else if !is_here {
        lines.push(there(root));
    }
    let copy = format!("Copy-Item -Force {} {{clients}}", Quote::PowerShell.quoted(&from));
    lines.extend(values.fill(&copy, Quote::PowerShell).lines().map(str::to_owned));
    let what = "install the root of the clients that may connect".into();
    Some(Work { what, act: Act::Run, lines })
}
