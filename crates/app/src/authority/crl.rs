//! The current revocation list of an authority, signed.

use crate::env::Env;
use crate::failure::Result;
use crate::report::Answer;
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};
use tamga_core::ca::authority;
use tamga_core::ca::report::Authority;
use tamga_core::error::Error;
use tamga_core::finding::{Code, entry};
use tamga_core::pki::cert::crl::{self, Crl, ToSign};
use tamga_core::pki::format::pem;
use tamga_core::pki::key::SigningKey;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::{Span, Timestamp};
use tamga_host::entropy;
use tamga_host::ledger::{Ledger, Record, Work};
use tamga_host::repair::LIST_FILE;

/// How long a list is valid where nothing is asked for.
const LIST_LIFE: Span = Span::days(30);

/// What to sign.
#[derive(Clone, Debug)]
pub struct Request {
    /// The authority's label.
    pub label: Label,
    /// The file; None for the report. One that ends in `.crl` or `.der` is DER, any other PEM.
    pub output: Option<PathBuf>,
    /// When the next list is due.
    pub valid_for: Option<Span>,
    /// A file with the latest list that was published.
    pub previous: Option<PathBuf>,
    /// Objections that are lifted.
    pub accepted: Vec<Code>,
    /// Opens the authority's key.
    pub secret: Secret,
}

/// What was signed, or would be.
pub type Report = Answer<Done, Plan>;

/// A list that was signed.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// It.
    pub crl: Signed,
}

/// A list that was signed.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Signed {
    /// The authority's label.
    pub authority: Label,
    /// Its number (RFC 5280 §5.2.3).
    pub number: u64,
    /// How many certificates it revokes.
    pub entries: usize,
    /// When the next one is due, RFC 3339.
    pub next_update: String,
    /// The file.
    pub file: Option<String>,
    /// When the next one is due.
    #[serde(skip)]
    pub next: Timestamp,
    /// As PEM, where it was not written into a file of the caller's.
    #[serde(skip)]
    pub text: Option<String>,
}

/// A list that would be signed.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    dry_run: bool,
    /// How many certificates it would revoke.
    pub entries: usize,
}

/// Signs a list.
///
/// Errors: an authority that cannot sign; a ledger that may not know everything that was revoked; files that cannot be written.
pub fn crl(env: &Env, request: &Request) -> Result<Report> {
    if env.dry_run {
        let a = super::able(env, &request.label)?;
        let entries = env.open_to_look()?.map_or(Ok(0), |l| l.listed(&a.label).map(|l| l.entries.len()))?;
        return Ok(Answer::Planned(Plan { dry_run: true, entries }));
    }
    let (_lock, ledger) = env.open_for_change()?;
    let all = ledger.authorities()?;
    let a = authority::choose(Some(&request.label), &all, true)?;
    let key = env.authority_key(a, &request.secret)?;
    let list = List { env, ledger: &*ledger, a, key: &key, output: request.output.as_deref() };
    let life = request.valid_for.unwrap_or(LIST_LIFE);
    Ok(Answer::Done(Done { crl: list.sign(request.previous.as_deref(), life, &request.accepted)? }))
}

/// A list that is to be signed.
pub(super) struct List<'a> {
    pub(super) env: &'a Env,
    pub(super) ledger: &'a dyn Ledger,
    pub(super) a: &'a Authority,
    pub(super) key: &'a dyn SigningKey,
    pub(super) output: Option<&'a Path>,
}

impl List<'_> {
    /// Takes up what earlier lists say, uses the next number up, signs, writes, and keeps a copy beside the key.
    pub(super) fn sign(&self, previous: Option<&Path>, life: Span, accepted: &[Code]) -> Result<Signed> {
        let (env, ledger, a) = (self.env, self.ledger, self.a);
        let mut known = false;
        let mut latest = env.now;
        if let Some(file) = previous {
            let list = crl::find(&env.disk().read_named(file)?, &file.shown())?;
            ours(&list, a, file)?;
            latest = latest.max(list.this_update);
            ledger.merge_list(&a.label, list.count().unwrap_or(0), &list.entries, env.now)?;
            known = true;
        }
        // The list that is about to be replaced, and the one kept beside the key, if they are this authority's.
        let kept = a.folder.join(LIST_FILE);
        for file in self.output.into_iter().chain([kept.as_path()]) {
            let list = env.disk().read(file).ok().and_then(|b| crl::find(&b, "a list").ok());
            if let Some(list) = list.filter(|l| l.signed_by(&a.certificate).is_ok()) {
                latest = latest.max(list.this_update);
                let before = ledger.listed(&a.label)?;
                let fewer = list.entries.iter().any(|e| !before.entries.iter().any(|b| b.serial == e.serial));
                if fewer || list.count().is_some_and(|n| n > before.number) {
                    ledger.merge_list(&a.label, list.count().unwrap_or(0), &list.entries, env.now)?;
                }
                known |= Some(file) == self.output;
            }
        }
        let listed = ledger.listed(&a.label)?;
        if let Some(why) = listed.behind.as_ref().filter(|_| !known && !accepted.contains(&Code::ListMayBeBehind)) {
            return Err(Error::Objection {
                code: Code::ListMayBeBehind.word(),
                what: format!("no list is signed for {}", a.label),
                why: format!("the ledger may not know everything that was revoked: {why}"),
                instead: format!(
                    "{}; if none was ever published: --accept {}",
                    entry(Code::ListMayBeBehind).remedy,
                    Code::ListMayBeBehind.word()
                ),
            }
            .into());
        }
        self.write(life, latest)
    }

    fn write(&self, life: Span, this_update: Timestamp) -> Result<Signed> {
        let (env, ledger, a) = (self.env, self.ledger, self.a);
        // Never back behind its predecessor, whatever the clock says: clients take the later one for the newer.
        if this_update > env.now {
            env.caller.note(&format!(
                "the clock is behind the last list of {}: the new one is dated as that, {this_update}",
                a.label
            ));
        }
        // Seconds since 1970 grow whatever becomes of a ledger: a restored one never gives a number twice.
        // It is taken before what is listed is read, so that of two lists the one with the higher number lacks nothing of the other.
        let number = ledger.take_number(&a.label, this_update.unix().unsigned_abs())?;
        let listed = ledger.listed(&a.label)?;
        let next = this_update.plus(life.seconds()).min(a.certificate.not_after);
        let der = ToSign { issuer: &a.certificate, number, this_update, next_update: next, entries: &listed.entries }
            .sign(self.key, &entropy::System)?;
        let text = pem::write(pem::CRL, &der);
        let kept = a.folder.join(LIST_FILE);
        let mut written = vec![kept.clone()];
        written.extend(self.output.map(|o| std::path::absolute(o).unwrap_or_else(|_| o.to_owned())));
        let said = format!("signing a list of {} was interrupted; run tamga authority crl {} again", a.label, a.label);
        let work = Work::Replace { said, files: written.into_iter().map(Into::into).collect() };
        let id = ledger.begin(&work, &Record::Nothing, env.now)?;
        env.disk().write_whole(&kept, text.as_bytes(), 0o644)?;
        if let Some(output) = self.output {
            let wants_der = output.extension().is_some_and(|e| e == "crl" || e == "der");
            env.disk().write_whole(output, if wants_der { &der } else { text.as_bytes() }, 0o644)?;
        }
        ledger.published(&a.label, number, &listed.entries, env.now)?;
        ledger.finish(id, &work)?;
        Ok(Signed {
            authority: a.label.clone(),
            number,
            entries: listed.entries.len(),
            next_update: next.to_string(),
            file: self.output.map(Shown::shown),
            next,
            text: self.output.is_none().then(|| text.to_string()),
        })
    }
}

fn ours(list: &Crl, a: &Authority, file: &Path) -> Result<()> {
    if list.signed_by(&a.certificate).is_ok() {
        return Ok(());
    }
    Err(Error::Objection {
        code: "bad-signature",
        what: format!("{} is not a revocation list of {}", file.shown(), a.label),
        why: format!("its signature was not made with that authority's key; it names {}", list.issuer_words()),
        instead: "give the latest list that this authority signed".into(),
    }
    .into())
}
