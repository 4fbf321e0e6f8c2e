//! `tamga authority crl LABEL --output FILE`: the current revocation list, signed.

use crate::args::SecretArgs;
use crate::commands::issue::accepted;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use std::path::{Path, PathBuf};
use tamga_core::authority;
use tamga_core::cert::crl::{self, Crl, ToSign};
use tamga_core::error::Error;
use tamga_core::finding::{Code, entry};
use tamga_core::form::pem;
use tamga_core::key::PrivateKey;
use tamga_core::moment::{Moment, Span};
use tamga_core::report::Authority;
use tamga_core::text::Shown;
use tamga_host::ledger::{Ledger, Listed, Record, Work};
use tamga_host::repair::LIST_FILE;
use tamga_host::{entropy, fs};

/// How long a list counts where nothing is said.
const LIST_LIFE: Span = Span::days(30);

#[derive(clap::Args)]
#[command(
    after_help = "Example: tamga authority crl saltmarsh --output saltmarsh.crl\nA FILE that ends in .crl or .der is DER, as RFC 5280 wants it behind a URL; any other is PEM."
)]
pub(crate) struct CrlArgs {
    /// Which
    label: String,
    /// The file; - is standard output
    #[arg(long, value_name = "FILE")]
    output: PathBuf,
    /// When the next list is due: m h d w y [default: 30d]
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<String>,
    /// The latest list that was published: what it revokes stays revoked
    #[arg(long, value_name = "FILE")]
    previous: Option<PathBuf>,
    /// Lift exactly this objection
    #[arg(long, value_name = "CODE")]
    accept: Vec<String>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(super) fn run(session: &Session, args: &CrlArgs) -> Result<Done> {
    let life = args.valid_for.as_deref().map_or(Ok(LIST_LIFE), Span::parse)?;
    let accepted = accepted(&args.accept)?;
    if session.common.dry_run {
        let all = session.authorities()?;
        let a = authority::choose(Some(&args.label), &all, true)?;
        authority::can_sign(a)?;
        let n = session.open_to_look()?.map_or(Ok(0), |l| l.listed(&a.label).map(|l| l.entries.len()))?;
        let text = format!("would sign a list with {} into {}\n", count(n), args.output.shown());
        return Ok(Done::good(text, json!({"dry_run": true, "entries": n})));
    }
    let (_lock, ledger) = session.open_for_change()?;
    let all = ledger.authorities()?;
    let a = authority::choose(Some(&args.label), &all, true)?;
    let key = session.authority_key(a, &args.secrets)?;
    let signed = sign(session, &ledger, a, &key, &args.output, args.previous.as_deref(), life, &accepted)?;
    Ok(done(a, &args.output, &signed))
}

/// A list that was signed.
pub(super) struct Signed {
    pub(super) number: u64,
    pub(super) entries: usize,
    pub(super) next: Moment,
    text: Option<String>,
}

/// Takes up what earlier lists say, uses the next number up, signs, writes, and keeps a copy beside the key.
#[allow(clippy::too_many_arguments, reason = "each is its own kind of thing")]
pub(super) fn sign(
    session: &Session,
    ledger: &Ledger,
    a: &Authority,
    key: &PrivateKey,
    output: &Path,
    previous: Option<&Path>,
    life: Span,
    accepted: &[Code],
) -> Result<Signed> {
    let mut known = false;
    let mut latest = session.now;
    if let Some(file) = previous {
        let bytes = fs::read_named(file)?;
        let list = crl::find(&bytes, &file.shown())?;
        ours(&list, a, file)?;
        latest = latest.max(list.this_update);
        ledger.merge_list(&a.label, list.count().unwrap_or(0), &list.entries, session.now)?;
        known = true;
    }
    // The list that is about to be replaced, and the one kept beside the key, if they are this authority's.
    for file in [output.to_owned(), a.folder.join(LIST_FILE)] {
        let list = fs::read_regular(&file).ok().and_then(|b| crl::find(&b, "a list").ok());
        if let Some(list) = list.filter(|l| l.signed_by(&a.certificate).is_ok()) {
            latest = latest.max(list.this_update);
            let before = ledger.listed(&a.label)?;
            let fewer = list.entries.iter().any(|e| !before.entries.iter().any(|b| b.serial == e.serial));
            if fewer || list.count().is_some_and(|n| n > before.number) {
                ledger.merge_list(&a.label, list.count().unwrap_or(0), &list.entries, session.now)?;
            }
            known |= file == *output;
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
    signed(session, ledger, a, key, output, life, &listed, latest)
}

#[allow(clippy::too_many_arguments, reason = "one step of `sign`, split off for reading")]
fn signed(
    session: &Session,
    ledger: &Ledger,
    a: &Authority,
    key: &PrivateKey,
    output: &Path,
    life: Span,
    listed: &Listed,
    this_update: Moment,
) -> Result<Signed> {
    // Never back behind its predecessor, whatever the clock says: clients take the later one for the newer.
    if this_update > session.now {
        human::aside(
            &session.common,
            &format!("the clock is behind the last list of {}: the new one is dated as that, {this_update}", a.label),
        );
    }
    // Seconds since 1970 grow whatever becomes of a ledger: a restored one never gives a number twice.
    let number = (listed.number + 1).max(this_update.unix().unsigned_abs());
    ledger.take_number(&a.label, number)?;
    let next = this_update.plus(life.seconds()).min(a.certificate.not_after);
    let der = ToSign { issuer: &a.certificate, number, this_update, next_update: next, entries: &listed.entries }
        .sign(key, &entropy::System)?;
    let text = pem::write(pem::CRL, &der);
    let wants_der = output.extension().is_some_and(|e| e == "crl" || e == "der");
    let to_screen = output == Path::new("-");
    let kept = a.folder.join(LIST_FILE);
    let mut written = vec![kept.clone()];
    if !to_screen {
        written.push(std::path::absolute(output).unwrap_or_else(|_| output.to_owned()));
    }
    let said = format!("signing a list of {} was interrupted; run tamga authority crl {} again", a.label, a.label);
    let work = Work::Replace { said, files: written.into_iter().map(Into::into).collect() };
    let id = ledger.begin(&work, &Record::Nothing, session.now)?;
    fs::write_whole(&kept, text.as_bytes(), 0o644)?;
    if !to_screen {
        fs::write_whole(output, if wants_der { &der } else { text.as_bytes() }, 0o644)?;
    }
    ledger.published(&a.label, number, listed.entries.len(), session.now)?;
    ledger.finish(id, &work)?;
    let text = to_screen.then(|| text.to_string());
    Ok(Signed { number, entries: listed.entries.len(), next, text })
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

fn done(a: &Authority, output: &Path, signed: &Signed) -> Done {
    let text = match &signed.text {
        Some(pem) => pem.clone(),
        None => format!(
            "{} list {} of {} with {}, due again on {}\nin     {}\nnext   give it to the servers and clients that are told to look at it; most never do: tamga explain revoked\n",
            human::good("signed"),
            signed.number,
            human::strong(&a.label),
            count(signed.entries),
            signed.next.date(),
            output.shown()
        ),
    };
    let file = if signed.text.is_some() { json!(null) } else { json!(output) };
    Done::good(
        text,
        json!({"crl": {"authority": a.label, "number": signed.number, "entries": signed.entries,
            "next_update": signed.next.to_string(), "file": file}}),
    )
}

/// So many entries, in words.
pub(super) fn count(entries: usize) -> String {
    if entries == 1 { "1 entry".into() } else { format!("{entries} entries") }
}
