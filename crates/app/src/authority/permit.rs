//! The same authority with more names, swapped in the stores.

use crate::env::{Change, Env};
use crate::failure::Result;
use crate::report::{Answer, Member, Outcome};
use crate::secret::Secret;
use crate::trust::row::{self, Row};
use crate::trust::stores::bundles;
use crate::trust::swap;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::{self, permit};
use tamga_core::ca::report::Authority;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::permit::Permit;
use tamga_host::entropy;
use tamga_host::ledger::WorkKind;
use tamga_host::ledger::{Record, Work};

/// What to permit.
#[derive(Clone, Debug)]
pub struct Request {
    /// The authority's label.
    pub label: Label,
    /// Domains, names, addresses or blocks.
    pub names: Vec<String>,
    /// Bundles that the root was put into, absolute.
    pub bundles: Vec<PathBuf>,
    /// Opens its key and its issuer's.
    pub secret: Secret,
}

/// What was done, or would be.
pub type Report = Answer<Done, Plan>;

/// An authority that may certify the names.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// It alone.
    pub authorities: [Member; 1],
    /// Where it was swapped.
    #[serde(rename = "stores")]
    pub rows: Vec<Row>,
    /// It.
    #[serde(skip)]
    pub authority: Authority,
    /// False if it could certify all of these before.
    #[serde(skip)]
    pub is_changed: bool,
}

impl Done {
    /// The outcome.
    pub fn outcome(&self) -> Outcome {
        row::outcome(&self.rows)
    }
}

/// What would be done.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    authorities: [(); 0],
    stores: [(); 0],
    dry_run: bool,
    /// The authority's label.
    #[serde(skip)]
    pub label: Label,
    /// What it would permit; None if it permits all of these already.
    #[serde(skip)]
    pub wider: Option<Permit>,
}

/// Lets an authority certify more names: reissued with the same key, and swapped in the stores.
///
/// Errors: limits that Tamga cannot carry over; an authority that cannot sign. What fails in a store is in its row.
pub fn permit(env: &Env, request: &Request) -> Result<Report> {
    fn parent_of<'a>(a: &Authority, all: &'a [Authority]) -> Option<&'a Authority> {
        all.iter().find(|p| Some(&p.label) == a.issuer.as_ref())
    }
    if env.dry_run {
        let all = env.authorities()?;
        let a = authority::choose(Some(&request.label), &all, true)?;
        let wider = permit::wider(a, &request.names, parent_of(a, &all))?;
        return Ok(Answer::Planned(Plan { authorities: [], stores: [], dry_run: true, label: a.label.clone(), wider }));
    }
    let (_lock, ledger) = env.open_for_change()?;
    let all = ledger.authorities()?;
    let a = authority::choose(Some(&request.label), &all, true)?;
    let parent = parent_of(a, &all);
    let done = |authority: Authority, rows, is_changed| {
        Ok(Answer::Done(Done { authorities: [authority.clone().into()], rows, authority, is_changed }))
    };
    let Some(wider) = permit::wider(a, &request.names, parent)? else {
        return done(a.clone(), Vec::new(), false);
    };
    let key = env.authority_key(a, &request.secret)?;
    let parent_key = parent.map(|p| env.authority_key(p, &request.secret)).transpose()?;
    let certificate = permit::reissue(a, &wider, &key, parent.zip(parent_key.as_deref()), &entropy::System)?;
    let mut earlier = a.earlier.clone();
    earlier.push(a.certificate.clone());
    let new = Authority { certificate, earlier, ..a.clone() };
    let publication = permit::publication(&new);
    let work = Work::Swap { label: new.label.clone() };
    let change = Change {
        what: WorkKind::Reissue,
        label: &new.label,
        sha256: new.certificate.sha256(),
        publication: &publication,
        answers: false,
        record: Record::Reissued(&new),
    };
    let begun = env.publish_with(&*ledger, &change, &[&work])?;
    let rows = swap(env, &*ledger, &new, &bundles(env, Some(&*ledger), &request.bundles)?)?;
    for id in begun {
        ledger.finish(id, &work)?;
    }
    done(new, rows, true)
}
