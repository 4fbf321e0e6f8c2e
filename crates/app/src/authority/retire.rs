//! The end of an authority: its last list, out of the stores; its records stay.

use super::crl::List;
use crate::env::Env;
use crate::failure::Result;
use crate::report::{self, Answer, Member, Outcome};
use crate::secret::Secret;
use crate::trust::remove_everywhere;
use crate::trust::row::{self, Row};
use crate::trust::stores::bundles;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::{self, KEY_FILE};
use tamga_core::ca::report::{Authority, KeyPlace};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::timestamp::{DAY, Span, Timestamp};
use tamga_host::ledger::{Filter, Ledger, Record, Sort, Work};
use tamga_host::repair::LIST_FILE;

/// What to retire.
#[derive(Clone, Debug)]
pub struct Request {
    /// The authority's label.
    pub label: Label,
    /// Delete its private key.
    pub discard_key: bool,
    /// Where to write its last list as well.
    pub output: Option<PathBuf>,
    /// Bundles that the root was put into, absolute.
    pub bundles: Vec<PathBuf>,
    /// Opens its key.
    pub secret: Secret,
    /// True if the caller has confirmed it already: it is not asked for.
    pub is_confirmed: bool,
}

/// What was done, or would be.
pub type Report = Answer<Done, Plan>;

/// An authority that was retired.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// It alone.
    pub authorities: [Member; 1],
    /// Where its root was taken out.
    #[serde(rename = "stores")]
    pub rows: Vec<Row>,
    /// Its last list; None if its key was not at hand.
    pub list: Option<LastList>,
    /// Labels of certificates that are still valid under it.
    pub live: Vec<String>,
    /// It.
    #[serde(skip)]
    pub authority: Authority,
    /// True if it was retired before.
    #[serde(skip)]
    pub was_retired: bool,
}

impl Done {
    /// The outcome.
    pub fn outcome(&self) -> Outcome {
        row::outcome(&self.rows)
    }
}

/// The last list of an authority.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct LastList {
    /// Its number.
    pub number: u64,
    /// How many certificates it revokes.
    pub entries: usize,
    /// The file.
    #[serde(serialize_with = "report::path")]
    #[schemars(with = "String")]
    pub file: PathBuf,
    /// How long it is valid.
    #[serde(skip)]
    pub until: Timestamp,
}

/// An authority that would be retired.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    authorities: [(); 0],
    stores: [(); 0],
    dry_run: bool,
    /// Its label.
    #[serde(skip)]
    pub label: Label,
}

/// Retires an authority.
///
/// Errors: there is none of this label; a key that cannot be opened; files that cannot be written. What fails in a store is in its
/// row.
pub fn retire(env: &Env, request: &Request) -> Result<Report> {
    if env.dry_run {
        let all = env.authorities()?;
        let label = authority::choose(Some(&request.label), &all, true)?.label.clone();
        return Ok(Answer::Planned(Plan { authorities: [], stores: [], dry_run: true, label: label.clone() }));
    }
    if !request.is_confirmed {
        let all = env.authorities()?;
        let a = authority::choose(Some(&request.label), &all, true)?;
        let discards = request.discard_key && a.key == KeyPlace::Here;
        if !a.retired || discards {
            let key = if discards { " and delete its private key" } else { "" };
            env.confirm_irrevocable(
                &format!("retiring {}", a.label),
                &format!("retire {}{key}? it can never sign again", a.label),
            )?;
        }
    }
    let (_lock, ledger) = env.open_for_change()?;
    let all = ledger.authorities()?;
    let a = authority::choose(Some(&request.label), &all, true)?;
    let was_retired = a.retired;
    let filter = Filter { ending: Some((env.now, Timestamp::LAST)), ..Filter::default() };
    let live = ledger.filtered(&filter, Sort::Ends)?;
    let live = live
        .into_iter()
        .filter(|i| i.authority.as_deref() == Some(&a.label.to_string()))
        .map(|i| i.label.to_string())
        .collect();
    let list = if was_retired { None } else { last_list(env, &*ledger, a, request)? };
    let rows = if a.is_root() {
        remove_everywhere(env, &*ledger, a, &bundles(env, Some(&*ledger), &request.bundles)?)?
    } else {
        Vec::new()
    };
    if !was_retired {
        ledger.retire(&a.label, env.now)?;
    }
    let mut key = a.key.clone();
    if request.discard_key && a.key == KeyPlace::Here {
        let file = a.folder.join(KEY_FILE);
        let work = Work::KeyLeaves { label: a.label.clone(), file: file.clone().into(), into: None };
        let id = ledger.begin(&work, &Record::Nothing, env.now)?;
        ledger.set_key_place(&a.label, &KeyPlace::Discarded, "key-discarded", env.now)?;
        env.disk().remove(&file)?;
        ledger.finish(id, &work)?;
        key = KeyPlace::Discarded;
    }
    let authority = Authority { retired: true, key, ..a.clone() };
    Ok(Answer::Done(Done { authorities: [authority.clone().into()], rows, list, live, authority, was_retired }))
}

/// The last list, if the key is at hand; it is valid until the authority's own end.
fn last_list(env: &Env, ledger: &dyn Ledger, a: &Authority, request: &Request) -> Result<Option<LastList>> {
    if authority::can_sign(a).is_err() {
        return Ok(None);
    }
    let key = env.authority_key(a, &request.secret)?;
    let file = request.output.clone().unwrap_or_else(|| a.folder.join(LIST_FILE));
    let left = (a.certificate.not_after.unix() - env.now.unix()).max(DAY);
    let list = List { env, ledger, a, key: &key, output: Some(&file) };
    let signed = list.sign(None, Span::seconds_of(left), &[])?;
    Ok(Some(LastList { number: signed.number, entries: signed.entries, until: signed.next, file }))
}
