//! The server is seen to show the certificate, as its clients find it.

use super::Plan;
use crate::check::{self, Checked, Terms};
use crate::env::Env;
use crate::failure::Result;
use std::net::{IpAddr, Ipv4Addr};
use std::time::{Duration, Instant};
use tamga_core::ca::authority::ROOT_FILE;
use tamga_core::check::client::{Client, Outcome};
use tamga_core::finding::{Code, Finding, Severity};

/// How long a server has to show it.
const PATIENCE: Duration = Duration::from_secs(12);

/// What is to be seen.
pub(super) struct Proof<'a> {
    plan: &'a Plan,
    resolve: Vec<(String, IpAddr)>,
}

impl Proof<'_> {
    pub(super) fn of(plan: &Plan) -> Proof<'_> {
        // The server is on this machine, whatever its name leads to.
        let at = plan.tasks.address.filter(|a| !a.is_unspecified()).unwrap_or(IpAddr::V4(Ipv4Addr::LOCALHOST));
        Proof { plan, resolve: vec![(plan.tasks.host.to_lowercase(), at)] }
    }

    /// Waits until the server shows the certificate, and a client that trusts its root accepts it.
    ///
    /// Errors: why not.
    pub(super) fn shown(&self, env: &Env) -> std::result::Result<(), String> {
        let root = self.plan.issued.folder.join(ROOT_FILE);
        let terms = Terms {
            clients: vec![Client::Standard],
            anchors: vec![root],
            resolve: self.resolve.clone(),
            ..Terms::default()
        };
        let begun = Instant::now();
        loop {
            let why = match self.checked(env, &terms) {
                Ok(checked) => match self.fault(&checked) {
                    None => return Ok(()),
                    Some(why) => why,
                },
                Err(e) => format!("{}: {}", e.0.what(), e.0.why()),
            };
            if begun.elapsed() > PATIENCE {
                return Err(why);
            }
            std::thread::sleep(Duration::from_millis(250));
        }
    }

    /// What is wrong with what it shows; None if nothing is.
    fn fault(&self, checked: &Checked) -> Option<String> {
        // Who may connect at all is another question than what is shown.
        let counts = |f: &&Finding| {
            f.severity == Severity::Error && !(self.plan.wants_clients && f.code == Code::ClientCertificateWanted)
        };
        let target = &self.plan.tasks.target;
        if let Some(f) = checked.findings.iter().find(counts) {
            return Some(format!("{target}: {}", f.summary));
        }
        match checked.chain.first() {
            Some(leaf) if *leaf == self.plan.issued.certificate => None,
            Some(_) => Some(format!("{target} still shows another certificate")),
            None => Some(format!("{target} shows no certificate")),
        }
    }

    /// The clients that would warn all the same, and why.
    ///
    /// Errors: as for [`check::check`].
    pub(super) fn warned(&self, env: &Env) -> Result<(Vec<&'static str>, Vec<Finding>)> {
        let checked = self.checked(env, &Terms { resolve: self.resolve.clone(), ..Terms::default() })?;
        let wanted = |f: &Finding| self.plan.wants_clients && f.code == Code::ClientCertificateWanted;
        let warn = checked.rows.iter().filter(|r| matches!(r.outcome, Outcome::Warns | Outcome::Refuses));
        let only_wanted = |codes: &[&str]| {
            self.plan.wants_clients && codes.iter().all(|c| *c == Code::ClientCertificateWanted.word())
        };
        let clients = warn.filter(|r| !only_wanted(&r.findings)).map(|r| r.client.word()).collect::<Vec<_>>();
        let errors = checked.findings.into_iter().filter(|f| f.severity == Severity::Error && !wanted(f));
        Ok(match clients.is_empty() {
            true => (clients, Vec::new()),
            false => (clients, errors.collect()),
        })
    }

    fn checked(&self, env: &Env, terms: &Terms) -> Result<Checked> {
        let targets = vec![self.plan.tasks.target.clone()];
        let request = check::Request { targets, jobs: 1, observe: false, terms: terms.clone() };
        let mut all = check::check(env, &request, |checked| checked)?;
        Ok(all.remove(0))
    }
}
