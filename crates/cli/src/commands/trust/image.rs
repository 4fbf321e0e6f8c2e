//! `--sysroot DIR`: the same work on the stores of an image, a chroot or a container's file system.

use super::{Done, Result, Session, TrustCommand, within};
use crate::args::ScopeArg;
use std::path::Path;
use tamga_core::error::Error;
use tamga_core::text::Shown;

/// Does the command on the image: the machine's stores alone, since nobody lives in it.
pub(super) fn run(session: &Session, dir: &Path, mut command: TrustCommand) -> Result<Done> {
    let root = std::fs::canonicalize(dir).map_err(tamga_host::error::Error::file("looking at", dir))?;
    if !root.join("etc").is_dir() {
        return Err(Error::Contradiction {
            what: format!("{} is no system", dir.shown()),
            why: "there is no folder etc in it".into(),
            instead: "name the folder that holds etc and usr: --sysroot DIR".into(),
        }
        .into());
    }
    let image = Session { machine: session.machine.image(root), ..session.clone() };
    if let TrustCommand::Add(args) | TrustCommand::Remove(args) | TrustCommand::Status(args) = &mut command {
        args.stores.scope = ScopeArg::Machine;
    }
    within(&image, command)
}
