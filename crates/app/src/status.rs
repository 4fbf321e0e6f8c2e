//! Expiry dates, trust state and open problems; changes nothing.

use crate::authority::list::KeyState;
use crate::enrolled::Enrolled;
use crate::env::Env;
use crate::failure::Result;
use crate::ledger::{Host, hosts};
use crate::report::{Listed, Member, Outcome};
use crate::trust::row::Row;
use crate::trust::stores::{bundles, ours_in};
use crate::trust::{own_leaves, root_of};
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE};
use tamga_core::ca::renew;
use tamga_core::ca::report::{Authority, Issued, KeyPlace, Standing};
use tamga_core::ca::status::{self, OnDisk};
use tamga_core::finding::{self, Code};
use tamga_core::pki::cert::Certificate as Parsed;
use tamga_core::pki::cert::crl;
use tamga_core::pki::format::private_key::{self, Stored};
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::{self, State};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::ledger::Ledger;
use tamga_host::repair::LIST_FILE;

/// Of enrolled certificates so many are listed.
const MOST_ENROLLED: usize = 15;

/// A clock that is behind the newest event by more than this was set back, or never set: seconds.
const BEHIND: i64 = 24 * 3600;

/// An authority, the state of its key, and when its next revocation list is due.
pub type AuthorityInUse = (Authority, KeyState, Option<Timestamp>);

/// The lab.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// The data directory.
    #[serde(serialize_with = "crate::report::path")]
    #[schemars(with = "String")]
    pub data_folder: PathBuf,
    /// Every authority.
    #[serde(serialize_with = "members")]
    #[schemars(with = "Vec<MemberInUse>")]
    pub authorities: Vec<AuthorityInUse>,
    /// Every certificate in use, the one that expires first first.
    pub certificates: Vec<InUse>,
    /// How many certificates clients got from the enrollment service by themselves, and use.
    pub enrolled_count: u64,
    /// Those that end first.
    pub enrolled: Vec<Enrolled>,
    /// The machines that share the ledger; empty where it is this machine's own.
    pub hosts: Vec<Host>,
    /// Each root in every place.
    pub stores: Vec<Row>,
    /// How the stores are tested.
    #[serde(serialize_with = "proved", skip_serializing_if = "Vec::is_empty")]
    #[schemars(with = "Vec<Proved>")]
    pub proved: Vec<(&'static str, &'static str)>,
    /// What a person should see to.
    pub open: Vec<Open>,
    /// The same, with the code of the finding.
    pub problems: Vec<Problem>,
    /// The time.
    #[serde(skip)]
    pub now: Timestamp,
}

impl Report {
    /// Bad if something is open.
    pub fn outcome(&self) -> Outcome {
        if self.open.is_empty() { Outcome::Good } else { Outcome::Bad }
    }

    /// True if there is nothing yet.
    pub fn is_empty(&self) -> bool {
        self.authorities.is_empty() && self.certificates.is_empty() && self.proved.is_empty()
    }

    /// Every end as a number that monitoring systems scrape (OpenMetrics).
    ///
    /// Errors: the ledger cannot be read.
    pub fn metrics(env: &Env) -> Result<String> {
        let (authorities, issued) = match env.open_to_look()? {
            Some(l) => (l.authorities()?, l.in_use()?),
            None => Default::default(),
        };
        Ok(status::metrics(&authorities, &issued, env.now))
    }
}

/// A certificate in use.
#[derive(Serialize, JsonSchema)]
pub struct InUse {
    /// What the ledger knows of it.
    #[serde(skip)]
    pub issued: Issued,
    /// What is said of it.
    #[serde(flatten)]
    pub listed: Listed,
    /// True if it should be renewed now.
    pub due: bool,
    /// What is in its file.
    #[serde(skip)]
    pub on_disk: OnDisk,
    /// What is wrong with its key.
    #[serde(skip)]
    pub key: Option<Code>,
}

/// Something that a person should see to.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Open {
    /// What it is.
    pub what: String,
    /// What to do.
    pub remedy: String,
}

/// The same, with the code of the finding where it is one.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Problem {
    code: Option<&'static str>,
    severity: &'static str,
    about: String,
    summary: String,
    remedy: String,
}

#[derive(Serialize, JsonSchema)]
struct Proved {
    store: &'static str,
    how: &'static str,
}

#[derive(Serialize, JsonSchema)]
struct MemberInUse {
    #[serde(flatten)]
    member: Member,
    /// When the next revocation list is due, RFC 3339; null if none was signed.
    crl_next_update: Option<String>,
}

fn members<S: Serializer>(all: &[AuthorityInUse], s: S) -> std::result::Result<S::Ok, S::Error> {
    s.collect_seq(all.iter().map(|(a, _, next)| MemberInUse {
        member: Member::from(a.clone()),
        crl_next_update: next.as_ref().map(ToString::to_string),
    }))
}

fn proved<S: Serializer>(all: &[(&'static str, &'static str)], s: S) -> std::result::Result<S::Ok, S::Error> {
    s.collect_seq(all.iter().map(|(store, how)| Proved { store, how }))
}

/// Looks at everything.
///
/// Errors: the ledger cannot be read.
pub fn status(env: &Env) -> Result<Report> {
    let mut look = Look { env, open: Vec::new(), problems: Vec::new() };
    let mut report = Report {
        data_folder: env.machine.data().to_owned(),
        authorities: Vec::new(),
        certificates: Vec::new(),
        enrolled_count: 0,
        enrolled: Vec::new(),
        hosts: Vec::new(),
        stores: Vec::new(),
        proved: Vec::new(),
        open: Vec::new(),
        problems: Vec::new(),
        now: env.now,
    };
    let Some(ledger) = env.open_to_look()? else { return Ok(report) };
    let (authorities, issued, waiting) = (ledger.authorities()?, ledger.live()?, ledger.all_waiting()?);
    if authorities.is_empty() && issued.is_empty() && waiting.is_empty() {
        return Ok(report);
    }
    look.clock(&*ledger)?;
    for a in &authorities {
        let key = look.authority(a);
        report.authorities.push((a.clone(), key, look.revocation_list(&*ledger, a)?));
    }
    let keyless = keyless(&*ledger)?;
    let mut live: Vec<Issued> = issued;
    live.sort_by_key(|i| i.certificate.not_after);
    for i in live {
        if i.revoked.is_none() {
            look.issuer(&i, &authorities);
        }
        report.certificates.push(look.certificate(i, &keyless));
    }
    report.enrolled_count = ledger.enrolled_count(env.now)?.0;
    for (summary, account) in ledger.enrolled_ending(MOST_ENROLLED)? {
        let one = Enrolled { account, listed: Listed { summary, now: env.now } };
        if let Some((what, remedy)) = one.is_late() {
            look.open(Some(Code::EndsSoon), &one.listed.summary.label, what, remedy);
        }
        report.enrolled.push(one);
    }
    report.hosts = hosts(&*ledger)?;
    for w in &waiting {
        let receive = if w.is_authority { "authority receive" } else { "receive" };
        look.open(
            None,
            &w.label,
            format!("{} waits for its certificate ({})", w.label, w.folder.shown()),
            format!("have its request.pem signed, then: tamga {receive} {} --certificate FILE", w.label),
        );
    }
    report.stores = look.stores(&authorities, &bundles(env, Some(&*ledger), &[])?)?;
    for a in authorities.iter().filter(|a| a.is_root() && !a.retired) {
        if seen_in(&report.stores, &a.certificate.sha256()).0.is_empty() {
            let what = format!("no store of this machine has the root {}", a.label);
            look.open(Some(Code::RootInNoStore), &a.label, what, format!("tamga trust add {}", a.label));
        }
    }
    let unfinished = ledger.unfinished()?.len();
    if unfinished > 0 {
        look.open(
            None,
            "journal",
            format!("interrupted work is in the journal: {unfinished} entries"),
            "tamga repair finishes it or takes it back",
        );
    }
    report.proved = StoreId::ALL.map(|s| (s.word(), s.proved())).to_vec();
    (report.open, report.problems) = (look.open, look.problems);
    Ok(report)
}

/// Fingerprints of certificates whose key never was here: signed for somebody else, or found alone.
pub(crate) fn keyless(ledger: &dyn Ledger) -> Result<BTreeSet<String>> {
    let mut out = BTreeSet::new();
    for kind in ["signed", "found"] {
        out.extend(ledger.of_kind(kind)?.into_iter().map(|e| e.detail));
    }
    Ok(out)
}

struct Look<'a> {
    env: &'a Env,
    open: Vec<Open>,
    problems: Vec<Problem>,
}

impl Look<'_> {
    fn open(&mut self, code: Option<Code>, about: &str, what: impl Into<String>, remedy: impl Into<String>) {
        let (what, remedy) = (what.into(), remedy.into());
        self.problems.push(Problem {
            code: code.map(Code::word),
            severity: code.map_or("warning", |c| finding::entry(c).severity.word()),
            about: about.to_owned(),
            summary: what.clone(),
            remedy: remedy.clone(),
        });
        self.open.push(Open { what, remedy });
    }

    fn clock(&mut self, ledger: &dyn Ledger) -> Result<()> {
        let now = self.env.now;
        if let Some(at) = ledger.newest_event()?.filter(|at| at.unix() - now.unix() > BEHIND) {
            let what = format!("the clock says {now}, but the ledger has an event of {at}");
            self.open(Some(Code::ClockBehind), "clock", what, finding::entry(Code::ClockBehind).remedy);
        }
        Ok(())
    }

    fn authority(&mut self, a: &Authority) -> KeyState {
        let (c, file) = (&a.certificate, a.folder.join(KEY_FILE).shown());
        let state = KeyState::of(self.env, a);
        if state == KeyState::Missing {
            self.open(
                Some(Code::KeyMissing),
                &a.label,
                format!("the key of {} is missing: it should be in {}", a.label, a.folder.shown()),
                "put it back from a backup (tamga restore), or make a successor: tamga authority rollover",
            );
        } else if a.key == KeyPlace::Here
            && let Some((code, what, _)) = of_key(self.env, &a.label, &a.folder, c)
        {
            let remedy = match code {
                Code::KeyMismatch => "put the right key back from a backup: tamga authority restore FILE".to_owned(),
                _ => format!("chmod 600 {file}; if anyone may have read it: tamga authority rollover {} NEW", a.label),
            };
            self.open(Some(code), &a.label, what, remedy);
        }
        if !a.retired && self.env.now > c.not_after {
            let remedy =
                format!("a successor: tamga authority create NEW, then tamga authority rollover {} NEW", a.label);
            self.open(None, &a.label, format!("the authority {} has expired", a.label), remedy);
        }
        state
    }

    /// The revocation list that is kept beside the authority's key: when the next one is due, and what no list says yet.
    fn revocation_list(&mut self, ledger: &dyn Ledger, a: &Authority) -> Result<Option<Timestamp>> {
        let kept = self.env.disk().read(&a.folder.join(LIST_FILE)).ok();
        let list = kept.and_then(|b| crl::find(&b, "a revocation list").ok());
        let next =
            list.filter(|l| l.signed_by(&a.certificate).is_ok()).and_then(|l| Some((l.this_update, l.next_update?)));
        let sign = format!("tamga authority crl {} --output FILE, then publish the file", a.label);
        let unpublished = ledger.listed(&a.label)?.unpublished;
        if unpublished > 0 {
            let what = match unpublished {
                1 => {
                    format!("one revocation of {} is in no signed list: clients still accept that certificate", a.label)
                }
                n => format!(
                    "{n} revocations of {} are in no signed list: clients still accept those certificates",
                    a.label
                ),
            };
            self.open(Some(Code::RevocationUnpublished), &a.label, what, sign.clone());
        }
        let Some((signed, next)) = next else { return Ok(None) };
        // The last quarter of its life is left for signing and publishing the next one.
        let quarter = next.unix().saturating_sub(signed.unix()) / 4;
        if !a.retired && unpublished == 0 && self.env.now.unix() > next.unix() - quarter {
            let how = if self.env.now > next { "expired" } else { "expires" };
            let what = format!("the revocation list of {} {how} on {}", a.label, next.date());
            self.open(Some(Code::CrlDue), &a.label, what, sign);
        }
        Ok(Some(next))
    }

    /// A certificate whose authority, or what is above it, signs no more.
    fn issuer(&mut self, i: &Issued, authorities: &[Authority]) {
        let by_label = |label: &Label| authorities.iter().find(|a| a.label == *label);
        let issuer = i.authority.as_ref().and_then(by_label);
        let above = issuer.and_then(|a| by_label(&a.root_label));
        if let Some(retired) = issuer.into_iter().chain(above).find(|a| a.retired) {
            let other = authorities.iter().find(|a| !a.retired).map_or("ANOTHER", |a| a.label.as_str());
            let what = format!("{} is in use, and its authority {} was retired", i.label, retired.label);
            let remedy = format!("tamga renew {} --issuer {other}", i.label);
            self.open(Some(Code::IssuerRetired), &i.label, what, remedy);
        }
    }

    fn certificate(&mut self, i: Issued, keyless: &BTreeSet<String>) -> InUse {
        if i.revoked.is_some() {
            // Nobody is to use it any more: what became of its files does not matter.
            let listed = Listed { summary: i.summary(), now: self.env.now };
            return InUse { issued: i, listed, due: false, on_disk: OnDisk::AsIssued, key: None };
        }
        let c = &i.certificate;
        let file = i.folder.join(CERTIFICATE_FILE);
        let on_disk = status::on_disk(c, self.env.disk().read(&file).ok().as_deref().map(Vec::as_slice));
        let (label, shown) = (&i.label, file.shown());
        let renewed = format!("tamga renew {label} puts a new pair there");
        match &on_disk {
            OnDisk::AsIssued => {}
            OnDisk::Missing => {
                let remedy = match self.env.disk().is_directory(&i.folder) {
                    true => renewed,
                    false => {
                        let names = c.name_words().join(" ");
                        format!(
                            "put the directory back; or issue a new certificate: tamga issue {names} --label NEW --into DIR"
                        )
                    }
                };
                self.open(None, label, format!("the files of {label} are not where they were put: {shown}"), remedy);
            }
            OnDisk::Other(subject) => {
                self.open(
                    None,
                    label,
                    format!("{shown} is not what was issued for {label}: it holds {subject}"),
                    renewed,
                );
            }
            OnDisk::Unreadable => self.open(None, label, format!("{shown} holds no certificate any more"), renewed),
        }
        // What was signed here for somebody else, or found by its certificate alone, never had its key here.
        let gone = on_disk == OnDisk::Missing || keyless.contains(c.sha256().as_str());
        let key = of_key(self.env, label, &i.folder, c).filter(|(code, ..)| *code != Code::KeyMissing || !gone);
        let code = key.as_ref().map(|(code, ..)| *code);
        if let Some((code, what, remedy)) = key {
            self.open(Some(code), label, what, remedy);
        }
        let is_expired = i.standing(self.env.now) == Standing::Expired;
        let due = renew::is_due(c, None, self.env.now);
        if is_expired || due {
            let (code, how) =
                if is_expired { (Code::Expired, "has expired") } else { (Code::EndsSoon, "is due for renewal") };
            self.open(Some(code), label, format!("{label} {how}"), format!("tamga renew {label}"));
        }
        let listed = Listed { summary: i.summary(), now: self.env.now };
        InUse { issued: i, listed, due, on_disk, key: code }
    }

    /// Each root in every place; and roots of ours that this data directory does not know.
    fn stores(&mut self, all: &[Authority], bundles: &[PathBuf]) -> Result<Vec<Row>> {
        let env = self.env;
        let surveys: Vec<_> =
            trust::ALL.iter().flat_map(|s| s.survey(&env.machine, bundles).into_iter().map(move |p| (*s, p))).collect();
        let mut rows = Vec::new();
        for a in all.iter().filter(|a| a.is_root() && !a.retired) {
            let root = root_of(a)?;
            rows.extend(surveys.iter().map(|(store, place)| Row::found(env.now, *store, &root, place)));
        }
        let leaves = own_leaves(env)?;
        for (store, place) in &surveys {
            for (root, _) in ours_in(place, all, &leaves).into_iter().filter(|(_, known)| !known) {
                let what = format!("{} is in {}, but this data directory does not know it", root.mark(), store.id());
                let remedy = format!("tamga trust remove {}", root.mark());
                self.open(None, &root.label, what, remedy);
            }
        }
        Ok(rows)
    }
}

/// The stores that have a root, and those that lack it, by their ids.
pub fn seen_in(rows: &[Row], sha256: &Sha256Fingerprint) -> (Vec<StoreId>, Vec<StoreId>) {
    let (mut seen, mut absent) = (Vec::new(), Vec::new());
    for r in rows.iter().filter(|r| r.sha256 == *sha256) {
        match r.state {
            State::Present => seen.push(r.store),
            State::Unavailable => {}
            _ => absent.push(r.store),
        }
    }
    seen.dedup();
    absent.dedup();
    (seen, absent)
}

/// What is wrong with the key beside a certificate.
pub(crate) fn of_key(env: &Env, label: &str, folder: &Path, certificate: &Parsed) -> Option<(Code, String, String)> {
    let file = folder.join(KEY_FILE);
    let shown = file.shown();
    let Ok(there) = env.disk().status(&file) else {
        return Some((
            Code::KeyMissing,
            format!("the key of {label} is missing: it should be {shown}"),
            format!("put it back from a backup; or a new pair: tamga renew {label}"),
        ));
    };
    let mode = there.mode;
    if mode & 0o077 != 0 {
        let what = format!("other accounts can read the key of {label}: {shown} has mode {mode:04o}");
        return Some((Code::KeyReadableByOthers, what, format!("chmod 600 {shown}")));
    }
    let (owner, ours) = (there.owner, tamga_host::platform::effective().0);
    if owner != ours && owner != 0 && ours != 0 {
        let what = format!("the key of {label} has another owner: {shown} belongs to the account {owner}");
        return Some((Code::KeyReadableByOthers, what, format!("sudo chown $(id -u) {shown}")));
    }
    let bytes = env.disk().read(&file).ok()?;
    let other = match private_key::read(&bytes, &shown) {
        Ok(Stored::Open(key)) => *key.public() != certificate.key,
        // Nobody can tell without its passphrase.
        Ok(Stored::Locked(_)) => false,
        Err(_) => true,
    };
    other.then(|| {
        let what = format!("{shown} is not the key of the certificate {label}");
        (Code::KeyMismatch, what, format!("put the right key back; or a new pair: tamga renew {label}"))
    })
}
