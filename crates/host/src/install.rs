//! A server set up on this machine, or in an image: its files put in place, and everything as it was found if it does not take them.

use crate::error::{Error, Result};
use crate::fs::{self, Allowed, Dir, File};
use crate::ledger::InstalledFile;
use crate::places::Machine;
use crate::platform::Ids;
use std::path::{Path, PathBuf};
use tamga_core::error::Diagnostic as _;
use tamga_core::plan::ports::Files as _;
use tamga_core::vocabulary::text::Shown as _;
use zeroize::Zeroizing;

/// A file that is to stand where a server reads it.
#[derive(Clone)]
pub struct Wanted {
    /// Where, as programs name it.
    pub path: PathBuf,
    /// Its contents; wiped when dropped, since it may be a key.
    pub bytes: Zeroizing<Vec<u8>>,
    /// Its permission bits.
    pub mode: u32,
    /// Whose it is to be; None for root's.
    pub ids: Option<Ids>,
}

/// A file as it was found.
pub struct Stands {
    /// Its contents.
    pub bytes: Zeroizing<Vec<u8>>,
    /// Whose it is.
    pub ids: Ids,
    /// Its permission bits.
    pub mode: u32,
}

/// A configuration that is longer is none, in bytes.
const LARGEST: u64 = 16 << 20;

/// Where a server's files are changed.
#[derive(Clone, Copy)]
pub struct Service<'a> {
    /// The machine, or the image.
    pub machine: &'a Machine,
    /// The account that reads the files: it may change their directories too. None where that is root.
    pub account: Option<u32>,
}

impl Service<'_> {
    fn allowed(&self, ids: Option<Ids>) -> Allowed {
        self.account.or(ids.map(|i| i.0)).map_or(Allowed::Owner, Allowed::Account)
    }

    /// Does something at a path, with root's rights.
    fn at<T>(&self, path: &Path, work: impl FnOnce(&Path) -> Result<T>) -> Result<T> {
        let real = self.machine.real(path);
        self.machine.with_rights_for(path, || {
            self.machine.within_image(&real)?;
            work(&real)
        })
    }

    /// What stands at a path; None if nothing does.
    ///
    /// Errors: something else than a regular file is there, or it cannot be read.
    pub fn look(&self, path: &Path) -> Result<Option<Stands>> {
        self.at(path, |real| {
            match real.symlink_metadata() {
                Err(_) => return self.could_hold(real).map(|()| None),
                Ok(meta) if meta.is_symlink() => {
                    let source = std::io::Error::other("it is a link, and only files are changed");
                    return Err(Error::File { doing: "reading", path: path.to_owned(), source });
                }
                Ok(_) => {}
            }
            let dir = Dir::open(fs::parent(real), self.allowed(None))?;
            let found = dir.open_existing(real.file_name().unwrap_or_default()).and_then(|(mut file, ids, mode)| {
                let mut bytes = Zeroizing::new(Vec::new());
                std::io::Read::read_to_end(&mut std::io::Read::take(&mut file, LARGEST), &mut bytes)?;
                Ok(Stands { bytes, ids, mode })
            });
            found.map(Some).map_err(Error::file("reading", path))
        })
    }

    /// Refuses a place where nothing may be put, before anything is.
    fn could_hold(&self, real: &Path) -> Result<()> {
        let Some(above) = real.ancestors().skip(1).find(|a| a.symlink_metadata().is_ok()) else { return Ok(()) };
        // A directory that is made in another's is as safe as that one.
        let made = above != fs::parent(real);
        let allowed = if made { self.account.map_or(Allowed::Ours, Allowed::Account) } else { self.allowed(None) };
        Dir::open(above, allowed).map(drop)
    }

    /// Puts files in place, those of one owner after the other; what stood there is kept beside them.
    ///
    /// Errors: a file that cannot be written; what was done before is for [`Service::withdraw`].
    pub fn put(&self, wanted: &[Wanted]) -> Result<()> {
        for group in wanted.chunk_by(|a, b| a.ids == b.ids) {
            let Some(first) = group.first() else { continue };
            let mut files = Vec::with_capacity(group.len());
            for w in group {
                let path = self.at(&w.path, |real| Ok(real.to_owned()))?;
                files.push(File { path, bytes: w.bytes.clone(), mode: w.mode });
            }
            self.at(&first.path, |_| fs::deploy_among(&files, first.ids, self.allowed(first.ids)))?;
        }
        Ok(())
    }

    /// The server has taken the files: what was kept beside them goes.
    pub fn settle<'p>(&self, paths: impl Iterator<Item = &'p Path>) -> Result<()> {
        for path in paths {
            self.at(path, |real| fs::settle_among([real].into_iter(), self.allowed(None)))?;
        }
        Ok(())
    }

    /// Everything as it was found: the files, and the symbolic links of the directory, of which those of `before` stay. What cannot be put
    /// back or removed stops nothing: each is returned in words.
    pub fn withdraw(&self, directory: &Path, before: &[PathBuf], files: &[InstalledFile]) -> Vec<String> {
        let new: Vec<PathBuf> = links(self.machine, directory).into_iter().filter(|l| !before.contains(l)).collect();
        let of_links = new.iter().map(|link| (link.as_path(), self.remove(link)));
        let of_files = files.iter().rev().map(|f| {
            let back =
                |real: &Path| fs::withdraw([(real, f.digest.as_str(), f.existed)].into_iter(), self.allowed(None));
            (&*f.path, self.at(&f.path, back))
        });
        let failed = |(path, done): (&Path, Result<()>)| done.err().map(|e| format!("{}: {}", path.shown(), e.why()));
        of_links.chain(of_files).filter_map(failed).collect()
    }

    /// Removes a file or link; nothing if it does not exist.
    pub fn remove(&self, path: &Path) -> Result<()> {
        self.at(path, |real| fs::remove_among(real, self.allowed(None)))
    }

    /// Removes a directory, if nothing is left in it.
    pub fn remove_directory(&self, path: &Path) -> Result<()> {
        self.at(path, |real| {
            fs::remove_directory_among(real, self.allowed(None));
            Ok(())
        })
    }
}

/// The symbolic links below the directory of a service, as programs name them; none where it shares that directory with others, who make
/// links of their own.
pub fn links(machine: &Machine, directory: &Path) -> Vec<PathBuf> {
    if directory.components().count() < 3 || directory.ends_with("etc/default") {
        return Vec::new();
    }
    let (mut out, mut open, mut looked) = (Vec::new(), vec![(directory.to_owned(), 0)], 0_usize);
    while let Some((folder, depth)) = open.pop() {
        for name in machine.list(&folder) {
            looked += 1;
            if looked > MOST_NAMES {
                return out;
            }
            let path = folder.join(name);
            match machine.link(&path) {
                Some(_) => out.push(path),
                None if depth < DEEPEST && machine.real(&path).is_dir() => open.push((path, depth + 1)),
                None => {}
            }
        }
    }
    out.sort();
    out
}

/// Directories of a service's configuration are not deeper.
const DEEPEST: usize = 4;
/// They do not have more names.
const MOST_NAMES: usize = 20_000;

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, clippy::disallowed_methods, reason = "tests arrange files as they like")]

    use super::*;

    #[cfg(unix)]
    #[test]
    fn what_was_put_in_place_is_withdrawn_with_the_links_that_came_with_it() {
        let folder = tempfile::tempdir().unwrap();
        let machine = Machine::in_directory(folder.path());
        let service = Service { machine: &machine, account: None };
        let real = |p: &str| machine.real(Path::new(p));
        std::fs::create_dir_all(real("/etc/web/enabled")).unwrap();
        std::fs::write(real("/etc/web/main.conf"), "port 1\n").unwrap();
        std::os::unix::fs::symlink("../main.conf", real("/etc/web/enabled/main")).unwrap();
        let before = links(&machine, Path::new("/etc/web"));
        assert_eq!(before, [PathBuf::from("/etc/web/enabled/main")]);

        let wanted = |path: &str, text: &str| Wanted {
            path: path.into(),
            bytes: Zeroizing::new(text.into()),
            mode: 0o640,
            ids: None,
        };
        let all = [wanted("/etc/web/main.conf", "port 2\n"), wanted("/etc/web/charts/site.conf", "tide\n")];
        let files: Vec<InstalledFile> = all
            .iter()
            .map(|w| InstalledFile {
                path: w.path.clone().into(),
                digest: crate::digest::sha256(&w.bytes),
                existed: service.look(&w.path).unwrap().is_some(),
            })
            .collect();
        service.put(&all).unwrap();
        std::os::unix::fs::symlink("../charts/site.conf", real("/etc/web/enabled/site")).unwrap();
        let stands = service.look(&all[1].path).unwrap().unwrap();
        assert_eq!((stands.bytes.as_slice(), stands.mode), (&b"tide\n"[..], 0o640));

        // What cannot be undone stops nothing.
        let gone = InstalledFile { path: real("/etc/web/main.conf/x").into(), digest: String::new(), existed: true };
        std::fs::write(real("/etc/elsewhere"), "").unwrap();
        assert_eq!(service.withdraw(Path::new("/etc/web"), &before, &[files.clone(), vec![gone]].concat()).len(), 1);
        assert_eq!(std::fs::read_to_string(real("/etc/web/main.conf")).unwrap(), "port 1\n");
        assert_eq!(links(&machine, Path::new("/etc/web")), before);
        assert!(!real("/etc/web/charts/site.conf").exists());
        assert_eq!(std::fs::read_dir(real("/etc/web")).unwrap().count(), 3, "nothing is kept beside them");
        assert!(service.look(Path::new("/etc/web/enabled/main")).is_err(), "a link is no file");
        assert_eq!(links(&machine, Path::new("/etc")), [] as [PathBuf; 0], "others make links there too");
    }
}
