//! Which private key belongs to which certificate and request.

use crate::env::Env;
use crate::failure::Result;
use crate::report::Outcome;
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::path::{Path, PathBuf};
use tamga_core::ca::pairs::{self, Found, Group, Reach};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::text::Shown;
use tamga_host::fs::{self, Disk, Kind};

/// Upper bound on the size of a file found by looking, in bytes: nothing of the kind is larger.
const LARGEST: u64 = 4 << 20;
/// Upper bound on the depth of a directory that is looked into.
const DEEPEST: usize = 6;

/// Where to look.
#[derive(Clone, Debug)]
pub struct Request {
    /// Files and directories.
    pub paths: Vec<PathBuf>,
    /// Opens encrypted keys.
    pub secret: Secret,
}

/// What belongs together.
pub struct Report {
    /// Everything that was found, with its file, and whether that was named itself.
    pub found: Vec<Found>,
    /// The file of each, and whether it was named itself.
    pub files: Vec<(PathBuf, bool)>,
    /// What has the same public key, as indexes of `found`.
    pub groups: Vec<Group>,
    /// Files in which nothing of the kind could be read.
    pub unreadable: Vec<PathBuf>,
}

#[derive(Serialize, JsonSchema)]
struct GroupView {
    public_sha256: Sha256Fingerprint,
    key: String,
    pair: bool,
    private_keys: Vec<String>,
    certificates: Vec<CertificateView>,
    requests: Vec<String>,
}

#[derive(Serialize, JsonSchema)]
struct CertificateView {
    path: String,
    subject: String,
    sha256: Sha256Fingerprint,
    chain: &'static str,
}

impl Report {
    /// True if nothing but authorities' certificates, without a key here, is in a group: it only completes chains.
    pub fn is_above(&self, g: &Group) -> bool {
        let is_ca = |i: &usize| matches!(&self.found[*i], Found::Certificate(c) if c.is_ca());
        g.keys.is_empty() && g.requests.is_empty() && g.certificates.iter().all(is_ca)
    }

    /// The groups as they are reported: pairs first, then what stands alone.
    pub fn ordered(&self) -> impl Iterator<Item = &Group> {
        let pairs = self.groups.iter().filter(|g| g.is_pair());
        pairs.chain(self.groups.iter().filter(|g| !g.is_pair() && !self.is_above(g)))
    }

    /// The file of a thing that was found.
    pub fn path(&self, index: usize) -> String {
        self.files[index].0.shown()
    }

    /// The files of encrypted keys that could not be opened.
    pub fn locked(&self) -> Vec<String> {
        let locked = self.found.iter().enumerate().filter(|(_, f)| matches!(f, Found::LockedKey));
        locked.map(|(i, _)| self.path(i)).collect()
    }

    /// True if some private key belongs to a certificate or request.
    pub fn has_pair(&self) -> bool {
        self.groups.iter().any(Group::is_pair)
    }

    /// Bad if there is no pair at all, or a file that was named belongs to none.
    pub fn outcome(&self) -> Outcome {
        let others = |i: &usize| matches!(&self.found[*i], Found::Certificate(c) if c.is_ca());
        let alone = |g: &Group| {
            let all = g.keys.iter().chain(&g.certificates).chain(&g.requests);
            !g.is_pair() && all.into_iter().any(|i| self.files[*i].1 && !others(i))
        };
        if !self.has_pair() || self.groups.iter().any(alone) { Outcome::Bad } else { Outcome::Good }
    }

    fn view(&self, g: &Group) -> GroupView {
        let paths = |all: &[usize]| all.iter().map(|i| self.path(*i)).collect();
        let certificates = g.certificates.iter().filter_map(|i| match &self.found[*i] {
            Found::Certificate(c) => Some(CertificateView {
                path: self.path(*i),
                subject: c.subject_words(),
                sha256: c.sha256(),
                chain: match pairs::reach(c, &self.found) {
                    Reach::Itself => "self-signed",
                    Reach::Root => "complete",
                    Reach::Missing => "incomplete",
                },
            }),
            _ => None,
        });
        GroupView {
            public_sha256: g.key.fingerprint(),
            key: g.strength.to_string(),
            pair: g.is_pair(),
            private_keys: paths(&g.keys),
            certificates: certificates.collect(),
            requests: paths(&g.requests),
        }
    }
}

#[derive(Serialize, JsonSchema)]
struct ReportView {
    groups: Vec<GroupView>,
    locked: Vec<String>,
}

crate::report::schema_as!(Report => ReportView);

impl Serialize for Report {
    fn serialize<S: Serializer>(&self, s: S) -> std::result::Result<S::Ok, S::Error> {
        ReportView { groups: self.ordered().map(|g| self.view(g)).collect(), locked: self.locked() }.serialize(s)
    }
}

/// Looks for keys, certificates and requests, and matches them.
///
/// Errors: a file that was named cannot be read.
pub fn pairs(env: &Env, request: &Request) -> Result<Report> {
    let passphrase = request.secret.given(env)?;
    let mut files = Vec::new();
    for path in &request.paths {
        if path == Path::new(fs::STDIN) {
            files.push((path.clone(), true));
            continue;
        }
        let there = env.disk().status(path).map_err(tamga_host::error::Error::file("reading", path))?;
        match there.kind == Kind::Directory {
            true => walk(env.disk(), path, 0, &mut files),
            false => files.push((path.clone(), true)),
        }
    }
    let (mut places, mut found): (Vec<(PathBuf, bool)>, Vec<Found>) = Default::default();
    let mut unreadable = Vec::new();
    for (path, named) in files {
        let read = if named { Ok(env.disk().read_named(&path)?) } else { env.disk().read(&path) };
        let bytes = match read {
            Ok(bytes) => bytes,
            Err(_) => {
                unreadable.push(path);
                continue;
            }
        };
        let here = pairs::look(&bytes, passphrase.as_ref());
        if here.is_empty() && named {
            unreadable.push(path.clone());
        }
        for f in here {
            places.push((path.clone(), named));
            found.push(f);
        }
    }
    let groups = pairs::group(&found);
    Ok(Report { found, files: places, groups, unreadable })
}

fn walk(disk: &dyn Disk, directory: &Path, depth: usize, out: &mut Vec<(PathBuf, bool)>) {
    if depth > DEEPEST {
        return;
    }
    for name in disk.list(directory).unwrap_or_default() {
        let path = directory.join(name);
        // Links are not followed into directories: they may lead round in a circle.
        let Ok(entry) = disk.entry(&path) else { continue };
        if entry.kind == Kind::Directory {
            walk(disk, &path, depth + 1, out);
        } else if disk.status(&path).is_ok_and(|s| s.kind == Kind::File && s.length <= LARGEST) {
            out.push((path, false));
        }
    }
}
