//! Which root is meant: an authority's, a file's, one that another machine hands out.

use super::stores::ours_in;
use super::{fetched, leaf};
use crate::env::Env;
use crate::failure::Result;
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::{self, import};
use tamga_core::ca::report::Authority;
use tamga_core::error::Error;
use tamga_core::finding::Code;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::format::pem;
use tamga_core::stores::trust::{self, Goal, Root};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_host::fs;

/// Which root.
#[derive(Clone, Debug, Default)]
pub enum Which {
    /// The only authority's.
    #[default]
    Only,
    /// That of an authority's label, of a self-signed certificate's label, or in a file.
    Named(String),
    /// One that another machine hands out over plain HTTP.
    Fetched {
        /// `http://HOST:PORT`.
        url: String,
        /// Its SHA-256, read from the other machine's own screen.
        fingerprint: Option<Sha256Fingerprint>,
    },
}

impl Which {
    /// True if the network must be asked.
    pub fn is_fetched(&self) -> bool {
        matches!(self, Which::Fetched { .. })
    }

    /// The root.
    ///
    /// Errors: there is none; with the goal to add it, one from elsewhere that endangers anyone who trusts it, unless that was accepted.
    pub(super) fn root(
        &self,
        env: &Env,
        all: &[Authority],
        goal: Option<Goal>,
        bundles: &[PathBuf],
        accepted: &[Code],
    ) -> Result<Root> {
        let examined = |root: Root, known: bool| {
            if goal == Some(Goal::Add) && !known {
                examine(env, &root, accepted)?;
            }
            Ok(root)
        };
        let typed = match self {
            Which::Fetched { url, fingerprint } => {
                return examined(fetched::root(url, fingerprint.as_ref())?, false);
            }
            Which::Named(typed) => Some(typed.as_str()),
            Which::Only => None,
        };
        if let Some(typed) = typed
            && !all.iter().any(|a| a.label == typed)
            && (typed == fs::STDIN || env.disk().is_file(Path::new(typed)))
        {
            let root = of_file(env, typed)?;
            let own = leaf::own(env)?.into_iter().find(|l| l.certificate == root.certificate);
            return match own {
                Some(own) => Ok(own),
                None => {
                    let known = all.iter().any(|a| a.certificate == root.certificate);
                    examined(root, known)
                }
            };
        }
        if let Some(own) = leaf::own(env)?.into_iter().find(|l| Some(l.label.as_str()) == typed) {
            return Ok(own);
        }
        if goal == Some(Goal::Remove)
            && let Some(found) = typed.and_then(|typed| in_stores(env, all, bundles, typed))
        {
            return Ok(found);
        }
        root_of(authority::choose(typed, all, false)?)
    }
}

/// A root that is in a store under this mark, although no authority of the ledger has it.
fn in_stores(env: &Env, all: &[Authority], bundles: &[PathBuf], typed: &str) -> Option<Root> {
    if !typed.starts_with("tamga-") || all.iter().any(|a| a.label == typed) {
        return None;
    }
    let places = trust::ALL.iter().flat_map(|s| s.survey(&env.machine, bundles));
    places.flat_map(|place| ours_in(&place, all, &[])).map(|(root, _)| root).find(|root| root.mark() == typed)
}

/// What goes into stores for an authority: itself if it is a root, else the root above it.
///
/// Errors: that is not known here.
pub fn root_of(a: &Authority) -> Result<Root> {
    match a.top() {
        Some(top) => Ok(Root { label: a.root_label.clone(), certificate: top.clone() }),
        None => Err(Error::Contradiction {
            what: format!("the root above {} is not known here", a.label),
            why: "an intermediate is trusted only through its root, which did not come with it".into(),
            instead: "put the root's file into the stores: tamga trust add FILE".into(),
        }
        .into()),
    }
}

fn of_file(env: &Env, typed: &str) -> Result<Root> {
    let path = PathBuf::from(typed);
    let bytes = env.disk().read_named(&path)?;
    let malformed = |why: &str| Error::Malformed { what: fs::name_of(&path), why: why.to_owned() };
    let der = pem::certificates(&bytes).into_iter().next().ok_or_else(|| malformed("it holds no certificate"))?;
    let certificate = Certificate::read(&der, typed)?;
    // Standard input has no name: then the subject gives one.
    let stem = match path == Path::new(fs::STDIN) {
        true => certificate.subject_words().trim_start_matches("CN=").to_owned(),
        false => path.file_stem().unwrap_or_default().to_string_lossy().into_owned(),
    };
    Ok(Root { label: Label::from_text(&stem)?, certificate })
}

/// Refuses a root from elsewhere that hinders or endangers anyone who trusts it: in a store it would only look like a good one.
fn examine(env: &Env, root: &Root, accepted: &[Code]) -> Result<()> {
    if !root.certificate.is_ca() {
        return leaf::objection(&root.certificate, accepted);
    }
    let findings = import::examine(&root.certificate, &[], env.now, accepted)?;
    let open = findings.iter().find(|f| f.code == Code::Unconstrained && !accepted.contains(&f.code));
    match open {
        None => Ok(()),
        Some(f) => Err(Error::Objection {
            code: f.code.word(),
            what: format!("{} is not trusted unasked", f.about),
            why: f.summary.clone(),
            instead: "knowing this: --accept unconstrained; or make one with limits: tamga authority create LABEL"
                .into(),
        }
        .into()),
    }
}
