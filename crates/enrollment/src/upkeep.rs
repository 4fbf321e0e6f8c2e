//! What the service does by itself while it runs: its own certificate is renewed, its lists are signed, what is over is let go.

use crate::event::{Event, What};
use crate::own;
use crate::service::Service;
use std::sync::Arc;
use std::time::Duration;
use tamga_app::authority::crl;
use tamga_app::env::Env;
use tamga_app::failure::Result;
use tamga_app::secret::Secret;
use tamga_core::ca::authority::CERTIFICATE_FILE;
use tamga_core::ca::report::Issued;
use tamga_core::pki::cert::crl as list;
use tamga_core::pki::format::pem;
use tamga_core::vocabulary::timestamp::{DAY, Span};
use tamga_host::repair::LIST_FILE;
use tamga_host::serve::Served;

/// A list counts so long.
const LIST_LIFE: Span = Span::days(7);
/// A list of the authority above is due so many seconds before its end.
const LIST_DUE: i64 = 30 * DAY;
/// What the service does by itself is looked at so often.
const LOOK_AGAIN: Duration = Duration::from_secs(5);
/// What is over is let go so often.
const SWEEP: Duration = Duration::from_secs(3600);

/// What the service does by itself.
#[derive(Clone)]
pub(crate) struct Upkeep {
    pub(crate) env: Env,
    pub(crate) service: Arc<Service>,
    pub(crate) secret: Secret,
    pub(crate) served: Arc<Served>,
    pub(crate) publishes: bool,
}

impl Upkeep {
    /// Never ends by itself.
    pub(crate) async fn run(self, own: Issued) {
        let mut own = own;
        let mut swept = std::time::Instant::now().checked_sub(SWEEP);
        loop {
            let (kept, before) = (self.clone(), own.clone());
            let sweeps = swept.is_none_or(|s| s.elapsed() >= SWEEP);
            if sweeps {
                swept = Some(std::time::Instant::now());
            }
            if let Ok(now) = tokio::task::spawn_blocking(move || kept.once(before, sweeps)).await {
                own = now;
            }
            tokio::select! {
                () = tokio::time::sleep(LOOK_AGAIN) => {}
                () = self.service.revoked(), if self.publishes => {}
            }
        }
    }

    fn tell(&self, event: What, names: Vec<String>, detail: String) {
        self.service.tell(&Event { at: self.service.now(), event, account: None, peer: None, names, detail });
    }

    fn failed(&self, doing: &str, e: &tamga_app::failure::Failure) {
        self.tell(What::Failed, Vec::new(), format!("{doing}: {}: {}", e.0.what(), e.0.why()));
    }

    fn once(&self, own: Issued, sweeps: bool) -> Issued {
        let env = self.env.at(self.service.now());
        if self.publishes
            && let Err(e) = self.list(&env)
        {
            self.failed("signing a revocation list", &e);
        }
        if sweeps {
            self.report_due(&env);
            let swept = self.service.ledger().sweep(self.service.now());
            if let Err(e) = swept {
                self.service.failed(&e);
            }
        }
        self.shown(&env, own)
    }

    /// The list of the authority above, which certificates name: its key is not opened here, so a person must sign the next one.
    fn report_due(&self, env: &Env) {
        let signing = self.service.signing();
        let Some(above) =
            signing.authority.issuer.as_ref().filter(|_| !signing.authority.certificate.crl_urls.is_empty())
        else {
            return;
        };
        let file = env.authority_directory(above).join(LIST_FILE);
        let latest = env.disk().read(&file).ok().and_then(|b| list::find(&b, "a list").ok());
        let is_good = latest.and_then(|l| l.next_update).is_some_and(|n| n > env.now.plus(LIST_DUE));
        if !is_good {
            let detail = format!(
                "the revocation list of {above} is missing or ends within 30 days: tamga authority crl {above}"
            );
            self.tell(What::Failed, Vec::new(), detail);
        }
    }

    /// Signs a list if half of the latest one's time is over, or something was revoked since.
    fn list(&self, env: &Env) -> Result<()> {
        let signing = self.service.signing();
        let a = &signing.authority;
        let latest = env.disk().read(&a.folder.join(LIST_FILE)).ok().and_then(|b| list::find(&b, "a list").ok());
        let listed = self.service.ledger().listed(&a.label)?;
        let is_fresh = latest.is_some_and(|l| {
            l.signed_by(&a.certificate).is_ok()
                && l.next_update.is_some_and(|n| n > env.now.plus(LIST_LIFE.seconds() / 2))
                && l.count() == Some(listed.number)
        });
        if is_fresh && listed.unpublished == 0 {
            return Ok(());
        }
        let request = crl::Request {
            label: a.label.clone(),
            output: None,
            valid_for: Some(LIST_LIFE),
            previous: None,
            accepted: Vec::new(),
            secret: self.secret.clone(),
        };
        if let tamga_app::report::Answer::Done(done) = crl::crl(env, &request)? {
            let list = done.crl;
            self.tell(
                What::ListSigned,
                Vec::new(),
                format!("{} of {} signed: {} revoked", list.number, list.authority, list.entries),
            );
        }
        Ok(())
    }

    /// Renews the service's own certificate when it is time, and shows a new one that lies in its directory by whatever hand.
    fn shown(&self, env: &Env, own: Issued) -> Issued {
        let mut latest = own;
        match own::renewed(env, &latest, &self.secret) {
            Ok(Some(new)) => latest = new,
            Ok(None) => {}
            Err(e) => self.failed("renewing the service's own certificate", &e),
        }
        let shown = self.served.leaf();
        let file = latest.folder.join(CERTIFICATE_FILE);
        let there = env.disk().read(&file).ok().and_then(|b| pem::certificates(&b).into_iter().next());
        if there.is_none() || there == shown {
            return latest;
        }
        let current = env.open_to_look().ok().flatten().and_then(|l| l.current(&latest.label).ok().flatten());
        let latest = current.unwrap_or(latest);
        match env.chain_and_key(&latest, &Secret::default()) {
            Ok((chain, key)) => match self.served.replace(&chain, &key) {
                Ok(()) => self.tell(
                    What::Renewed,
                    latest.certificate.name_words(),
                    format!("the service's own certificate, until {}", latest.certificate.not_after.date()),
                ),
                Err(e) => {
                    self.service.failed(&e);
                }
            },
            Err(e) => self.failed("showing the renewed certificate", &e),
        }
        latest
    }
}
