//! Everything that is the same for every target of a check.

use super::kept::{self, Kept};
use crate::certificate::current;
use crate::env::Env;
use crate::failure::Result;
use crate::keys::certificates_as_sent as certificates;
use crate::machines::site::Site;
use crate::secret::Secret;
use std::net::IpAddr;
use std::path::Path;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, OnceLock};
use tamga_core::ca::authority::CERTIFICATE_FILE;
use tamga_core::ca::report::{Authority, Issued};
use tamga_core::check::assess::{self, Answer, Question};
use tamga_core::check::client::Client;
use tamga_core::check::client::case::Spoken;
use tamga_core::check::client::trusted;
use tamga_core::check::client::view::TrustView;
use tamga_core::deploy::access::Account;
use tamga_core::deploy::lab::host::Host;
use tamga_core::error::Error;
use tamga_core::finding::{Code, Finding};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::crl::{self, Crl};
use tamga_core::pki::chain::revocation::Revocation;
use tamga_core::plan::ports::Look;
use tamga_core::stores::InScope;
use tamga_core::stores::trust::exceptions::{self, Exception};
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::JudgedPurpose;
use tamga_core::vocabulary::text::Shown as _;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::dial::Shown;
use tamga_host::ledger::Ledger;
use tamga_host::{access, clients};

/// How to judge.
#[derive(Clone, Debug)]
pub struct Terms {
    /// The clients whose rules count; empty for the standard's and those installed here.
    pub clients: Vec<Client>,
    /// Only clients whose usual store is in this scope count; the standard always does.
    pub scope: InScope,
    /// Files with the only roots that are trusted; empty for what each client trusts.
    pub anchors: Vec<PathBuf>,
    /// Files with further intermediates.
    pub intermediates: Vec<PathBuf>,
    /// Files with revocation lists, PEM or DER.
    pub lists: Vec<PathBuf>,
    /// How much these count.
    pub revocation: Revocation,
    /// For files: the names that a visitor would type.
    pub names: Vec<Name>,
    /// As of this time; None for now.
    pub at: Option<Timestamp>,
    /// What the certificate is used for; None for anything.
    pub purpose: Option<JudgedPurpose>,
    /// Addresses at which names are reached, in lower case.
    pub resolve: Vec<(String, IpAddr)>,
    /// The label of a certificate that is shown to servers that ask.
    pub client_certificate: Option<String>,
    /// Keep what anybody on the way could read.
    pub wire: bool,
    /// For files: an account that must be able to read the key.
    pub account: Option<String>,
    /// Opens the key of the client certificate.
    pub secret: Secret,
}

impl Default for Terms {
    fn default() -> Terms {
        Terms {
            clients: Vec::new(),
            scope: InScope::Both,
            anchors: Vec::new(),
            intermediates: Vec::new(),
            lists: Vec::new(),
            revocation: Revocation::IfKnown,
            names: Vec::new(),
            at: None,
            purpose: Some(JudgedPurpose::Server),
            resolve: Vec::new(),
            client_certificate: None,
            wire: false,
            account: None,
            secret: Secret::default(),
        }
    }
}

/// Everything that is the same for every target.
pub(super) struct Around<'a> {
    /// The machine whose clients are meant.
    look: &'a (dyn Look + Sync),
    /// Its name, where it is another.
    pub(super) on: Option<String>,
    pub(super) clients: Vec<Client>,
    /// Read when the first asks for them: connections are made meanwhile.
    views: OnceLock<Views>,
    /// Clients of a protocol of their own that nobody asked for by name: they count where it is spoken.
    apart: Vec<Client>,
    /// The only roots that are trusted, and their files; empty for what each client trusts.
    anchors: Vec<Certificate>,
    anchor_files: Vec<PathBuf>,
    authorities: Vec<Authority>,
    /// Asked for what a target needs, never read whole.
    ledger: Mutex<Option<Box<dyn Ledger>>>,
    extra: Vec<Certificate>,
    pub(super) names: Vec<Name>,
    at: Timestamp,
    lists: Vec<Crl>,
    revocation: Revocation,
    purpose: Option<JudgedPurpose>,
    pub(super) resolve: Vec<(String, IpAddr)>,
    pub(super) account: Option<Account>,
    pub(super) wire: bool,
    pub(super) shown: Option<Shown>,
    pub(super) exceptions: Vec<Exception>,
    raise: &'static str,
    answered: Kept<Arc<Answer>>,
    certificates: Kept<Certificate>,
}

/// Each client with what it trusts.
type Views = Vec<(Client, TrustView)>;

impl<'a> Around<'a> {
    /// Looks at this machine and reads the files.
    ///
    /// Errors: a file cannot be read, or is no certificate.
    pub(super) fn new(env: &'a Env, terms: &Terms) -> Result<Around<'a>> {
        let has = |c: Client| c == Client::Standard || clients::is_installed(c, &env.machine);
        Around::of(env, terms, &env.machine, has)
    }

    /// The same of another machine: its clients, and what they trust there.
    ///
    /// Errors: a file cannot be read, or is no certificate; a client whose store is not the machine's.
    pub(super) fn at(env: &Env, terms: &Terms, host: &Host, site: &'a Site) -> Result<Around<'a>> {
        let terms = Terms { scope: InScope::Machine, ..terms.clone() };
        if let Some(client) = terms.clients.iter().find(|c| !terms.scope.has_client(**c)) {
            return Err(Error::Contradiction {
                what: format!("{client} is not judged on another machine"),
                why: "what it trusts is a person's, or named by a variable".into(),
                instead: "leave it out of --clients, or run tamga check there".into(),
            }
            .into());
        }
        let around = Around::of(env, &terms, site.look(), |c| site.has_client(c))?;
        Ok(Around { on: Some(host.name.to_string()), ..around })
    }

    fn of(env: &Env, terms: &Terms, look: &'a (dyn Look + Sync), has: impl Fn(Client) -> bool) -> Result<Around<'a>> {
        let clients: Vec<Client> = match terms.clients.is_empty() {
            true => Client::ALL.into_iter().filter(|c| has(*c)).collect(),
            false => terms.clients.clone(),
        };
        let clients: Vec<Client> = clients.into_iter().filter(|c| terms.scope.has_client(*c)).collect();
        let is_apart = |c: &Client| c.is_of_one_protocol() && !terms.clients.contains(c);
        let ledger = env.open_to_look_if_reachable()?;
        let authorities = ledger.as_ref().map(|l| l.authorities()).transpose()?.unwrap_or_default();
        let list = |f: &PathBuf| -> Result<Crl> { Ok(crl::find(&env.disk().read_named(f)?, &f.shown())?) };
        Ok(Around {
            look,
            on: None,
            lists: terms.lists.iter().map(list).collect::<Result<_>>()?,
            revocation: terms.revocation,
            views: OnceLock::new(),
            apart: clients.iter().copied().filter(is_apart).collect(),
            clients,
            anchors: certificates(env, &terms.anchors)?,
            anchor_files: terms.anchors.clone(),
            authorities,
            ledger: Mutex::new(ledger),
            extra: certificates(env, &terms.intermediates)?,
            names: terms.names.clone(),
            at: terms.at.unwrap_or(env.now),
            purpose: terms.purpose,
            resolve: terms.resolve.clone(),
            wire: terms.wire,
            account: terms.account.as_deref().map(|typed| account(env, typed)).transpose()?,
            shown: terms.client_certificate.as_deref().map(|l| shown(env, l, &terms.secret)).transpose()?,
            exceptions: exceptions::all(look),
            raise: env.raise(),
            answered: Kept::default(),
            certificates: Kept::default(),
        })
    }

    /// What clients do with a chain. `spoken`: what a server's connection showed besides; None for files. `of_database`: PostgreSQL's
    /// protocol is spoken there.
    ///
    /// Errors: the ledger cannot be read.
    pub(super) fn ask(
        &self,
        served: &[Certificate],
        names: &[Name],
        spoken: Option<Spoken<'_>>,
        of_database: bool,
    ) -> Result<Arc<Answer>> {
        let asked = kept::asked(served, names, spoken.as_ref(), of_database);
        self.answered.or(asked, || self.judge(served, names, spoken, of_database).map(Arc::new))
    }

    /// Each client with what it trusts; read once, however many ask.
    pub(super) fn views(&self) -> &[(Client, TrustView)] {
        let given = |c: &Client| (*c, TrustView::given(self.anchors.clone(), self.anchor_files.clone()));
        self.views.get_or_init(|| match self.anchor_files.is_empty() {
            true => trusted::by_each(&self.clients, self.look),
            false => self.clients.iter().map(given).collect(),
        })
    }

    /// Reads a certificate as forgivingly as clients do; None for what has not the shape of one.
    pub(super) fn certificate(&self, der: &[u8]) -> Option<Certificate> {
        self.certificates.or(kept::digest(der), || Certificate::read_any(der).ok_or(())).ok()
    }

    fn judge(
        &self,
        served: &[Certificate],
        names: &[Name],
        spoken: Option<Spoken<'_>>,
        of_database: bool,
    ) -> Result<Answer> {
        let counts = |c: &Client| of_database || !self.apart.contains(c);
        let views: Vec<(Client, &TrustView)> =
            self.views().iter().filter(|(c, _)| counts(c)).map(|(c, v)| (*c, v)).collect();
        Ok(assess::assess(&Question {
            served,
            extra: &self.extra,
            names,
            purpose: self.purpose,
            at: self.at,
            lists: &self.lists,
            revocation: self.revocation,
            views: &views,
            authorities: &self.authorities,
            issued: &self.known(served, names)?,
            // Asked for only where another certificate is shown.
            keyless: &|issued| self.is_keyless(issued).unwrap_or(false),
            live: spoken.is_some(),
            spoken: spoken.unwrap_or_default(),
            anchored: !self.anchor_files.is_empty(),
            raise: self.raise,
            on: self.on.as_deref(),
        }))
    }

    /// What the ledger knows of these certificates, and of others for these names, oldest first.
    fn known(&self, served: &[Certificate], names: &[Name]) -> Result<Vec<Issued>> {
        let ledger = self.ledger.lock().unwrap_or_else(|e| e.into_inner());
        let Some(ledger) = ledger.as_ref() else { return Ok(Vec::new()) };
        let mut out: Vec<Issued> = Vec::new();
        for name in names {
            let name = name.to_string();
            let wildcard = name.split_once('.').map(|(_, rest)| format!("*.{rest}"));
            for spelled in std::iter::once(name).chain(wildcard) {
                out.extend(ledger.naming(&spelled)?);
            }
        }
        for certificate in served {
            out.extend(ledger.by_fingerprint(&certificate.sha256())?);
        }
        out.sort_by_key(|i| i.certificate.not_before);
        out.dedup_by(|a, b| a.certificate == b.certificate);
        Ok(out)
    }

    /// The key of a certificate for this host that lies in its directory and is another's.
    ///
    /// Errors: the ledger cannot be read.
    pub(super) fn wrong_key(&self, env: &Env, host: &Name) -> Result<Option<Finding>> {
        let known = self.known(&[], std::slice::from_ref(host))?;
        let wrong = known.iter().filter(|i| i.is_live()).find_map(|i| {
            let (code, what, remedy) = crate::status::of_key(env, &i.label, &i.folder, &i.certificate)?;
            (code == Code::KeyMismatch)
                .then(|| Finding::new(code, i.label.to_string()).with_summary(what).with_remedy(remedy))
        });
        Ok(wrong)
    }

    /// The certificate of the ledger that is meant to be in this file: the one of its directory, or the same one elsewhere.
    ///
    /// Errors: the ledger cannot be read.
    pub(super) fn issued_in(&self, file: &Path, chain: &[Certificate]) -> Result<Option<Issued>> {
        let ledger = self.ledger.lock().unwrap_or_else(|e| e.into_inner());
        let Some(ledger) = ledger.as_ref() else { return Ok(None) };
        let whole = std::path::absolute(file).unwrap_or_else(|_| file.to_owned());
        if whole.file_name().is_some_and(|n| n == CERTIFICATE_FILE)
            && let Some(directory) = whole.parent()
            && let Some(issued) = ledger.live_in(directory)?
        {
            return Ok(Some(issued));
        }
        match chain.first() {
            Some(leaf) => Ok(ledger.by_fingerprint(&leaf.sha256())?),
            None => Ok(None),
        }
    }

    /// True for a certificate whose key never was here: signed for somebody else, or found alone.
    ///
    /// Errors: the ledger cannot be read.
    pub(super) fn is_keyless(&self, issued: &Issued) -> Result<bool> {
        let ledger = self.ledger.lock().unwrap_or_else(|e| e.into_inner());
        let keyless = ledger.as_deref().map(crate::status::keyless).transpose()?;
        Ok(keyless.is_some_and(|all| all.contains(issued.certificate.sha256().as_str())))
    }

    /// The current certificate of a label.
    ///
    /// Errors: the ledger cannot be read.
    pub(super) fn current(&self, label: &str) -> Result<Option<Issued>> {
        let ledger = self.ledger.lock().unwrap_or_else(|e| e.into_inner());
        Ok(ledger.as_ref().map(|l| l.current(label)).transpose()?.flatten())
    }
}

fn shown(env: &Env, label: &str, secret: &Secret) -> Result<Shown> {
    let (chain, key) = env.chain_and_key(&current(env, label)?, secret)?;
    Ok(Arc::new(tamga_host::serve::certified(&chain, &key)?))
}

fn account(env: &Env, typed: &str) -> Result<Account> {
    access::account(&env.machine, typed).ok_or_else(|| {
        let accepted = "the name or number of an account".into();
        Error::Word { what: "account", typed: typed.to_owned(), accepted }.into()
    })
}
