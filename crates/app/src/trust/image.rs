//! The same work on the file system of an image, a chroot or a container.

use crate::env::Env;
use crate::failure::Result;
use std::path::Path;
use tamga_core::error::Error;
use tamga_core::vocabulary::text::Shown;

/// The surroundings in an image, or as they are without one.
///
/// Errors: it is no system.
pub(crate) fn of(env: &Env, directory: Option<&Path>) -> Result<Env> {
    let Some(directory) = directory else { return Ok(env.clone()) };
    let root = env.disk().resolved(directory).map_err(tamga_host::error::Error::file("looking at", directory))?;
    if !env.disk().is_directory(&root.join("etc")) {
        return Err(Error::Contradiction {
            what: format!("{} is no system", directory.shown()),
            why: "there is no directory etc in it".into(),
            instead: "name the directory that holds etc and usr: --sysroot DIR".into(),
        }
        .into());
    }
    Ok(env.in_image(root))
}
