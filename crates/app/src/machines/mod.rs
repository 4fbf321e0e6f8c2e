//! Machines beyond this one: named in `tamga.toml` or by their address, and opened to be worked on.

pub mod site;

use crate::env::Env;
use crate::failure::Result;
use std::path::Path;
use tamga_core::deploy::lab::file::{self, Lab};
use tamga_core::deploy::lab::host::Host;
use tamga_core::error::Error;
use tamga_core::vocabulary::text::{Shown, nearest};
use tamga_host::fs;

/// The word for a machine that nothing describes.
const UNKNOWN: &str = "host-unknown";
/// The word for every machine of the file.
const ALL: &str = "all";

/// The machines of these names, each once. The file is read only where a name is not an address.
///
/// Errors: a name that the file does not have; an address that cannot be used; a file that is not there, or has mistakes.
pub fn named(env: &Env, typed: &[String], lab_file: &Path) -> Result<Vec<Host>> {
    let mut out: Vec<Host> = Vec::new();
    let mut lab: Option<Lab> = None;
    for name in typed {
        if name.is_empty() {
            let accepted = "the names of hosts, with commas between them".into();
            return Err(Error::Word { what: "host", typed: typed.join(","), accepted }.into());
        }
        if let Some(host) = Host::of_address(name)? {
            push(&mut out, host);
            continue;
        }
        if lab.is_none() {
            lab = Some(read(env, lab_file, name)?);
        }
        let machines = lab.as_ref().map(|l| l.machines.as_slice()).unwrap_or_default();
        if name == ALL && !machines.is_empty() {
            machines.iter().for_each(|m| push(&mut out, m.clone()));
            continue;
        }
        match machines.iter().find(|m| m.name.as_str() == name) {
            Some(host) => push(&mut out, host.clone()),
            None => return Err(unknown(name, machines, lab_file).into()),
        }
    }
    Ok(out)
}

fn push(all: &mut Vec<Host>, host: Host) {
    if !all.iter().any(|h| h.address() == host.address()) {
        all.push(host);
    }
}

fn read(env: &Env, path: &Path, name: &str) -> Result<Lab> {
    let bytes = match env.disk().read_named(path) {
        Ok(bytes) => bytes,
        Err(tamga_host::error::Error::File { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {
            let instead = match name {
                ALL => "write a [[host]] for each machine into tamga.toml".to_owned(),
                _ => format!("name its address: --on ssh://root@{}; or write a [[host]] into tamga.toml", name.shown()),
            };
            return Err(Error::Objection {
                code: UNKNOWN,
                what: format!("the host {} is not known", name.shown()),
                why: format!("there is no {} here that would describe it", path.shown()),
                instead,
            }
            .into());
        }
        Err(e) => return Err(e.into()),
    };
    let what = fs::name_of(path);
    let text = String::from_utf8_lossy(&bytes);
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    Ok(file::read(&text, &what, absolute.parent().unwrap_or(Path::new("/")))?)
}

fn unknown(name: &str, machines: &[Host], path: &Path) -> Error {
    let names: Vec<&str> = machines.iter().map(|m| m.name.as_str()).collect();
    Error::Objection {
        code: UNKNOWN,
        what: format!("the host {} is not known", name.shown()),
        why: match names.is_empty() {
            true => format!("{} has no [[host]]", path.shown()),
            false => format!("{} has: {}", path.shown(), names.join(", ")),
        },
        instead: match nearest(name, names.into_iter()) {
            Some(near) => format!("did you mean {near}?"),
            None => "write a [[host]] of that name into it, or name an address: --on ssh://root@HOST".into(),
        },
    }
}
