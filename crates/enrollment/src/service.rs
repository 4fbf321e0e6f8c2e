//! The service: one request in, one answer out. It holds no socket and starts no thread; who looks at challenges takes their numbers from a
//! queue.

use crate::answer::{Asked, JOSE};
use crate::event::{Event, Seen, What};
use crate::metrics::Metrics;
use crate::nonce;
use crate::seal::Secret;
use crate::settings::Settings;
use std::sync::{Arc, Mutex, MutexGuard, RwLock};
use tamga_core::ca::report::Authority;
use tamga_core::enrollment::jwk::Jwk;
use tamga_core::enrollment::jws::{Request, Signer};
use tamga_core::enrollment::object::Account;
use tamga_core::enrollment::problem::{Problem, ProblemType};
use tamga_core::enrollment::state::AccountState;
use tamga_core::pki::key::SigningKey;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::ledger::Ledger;
use tokio::sync::mpsc::UnboundedSender;

/// Who signs: an intermediate with its key.
pub struct Signing {
    /// The intermediate.
    pub authority: Authority,
    /// Its key.
    pub key: Box<dyn SigningKey>,
}

/// The service.
pub struct Service {
    pub(crate) settings: Settings,
    pub(crate) secret: Secret,
    pub(crate) metrics: Metrics,
    ledger: Mutex<Box<dyn Ledger>>,
    signing: RwLock<Arc<Signing>>,
    seen: Seen,
    clock: fn() -> Timestamp,
    challenges: UnboundedSender<i64>,
    revoked: tokio::sync::Notify,
}

/// What a service is made of.
pub struct Parts {
    /// How it is set up.
    pub settings: Settings,
    /// Its secret.
    pub secret: Secret,
    /// The ledger.
    pub ledger: Box<dyn Ledger>,
    /// Who signs.
    pub signing: Signing,
    /// Its log.
    pub seen: Seen,
    /// The present moment.
    pub clock: fn() -> Timestamp,
    /// Takes the numbers of challenges that are to be looked at.
    pub challenges: UnboundedSender<i64>,
}

/// The result of one endpoint.
pub(crate) type Result<T> = std::result::Result<T, Box<Problem>>;

/// A problem, boxed: most answers are none.
pub(crate) fn refuse<T>(kind: ProblemType, detail: impl Into<String>) -> Result<T> {
    Err(Box::new(Problem::new(kind, detail)))
}

/// A request of an account.
pub(crate) struct FromAccount {
    pub(crate) account: Account,
    pub(crate) request: Request,
}

impl Service {
    /// A service of its parts.
    pub fn new(parts: Parts) -> Service {
        Service {
            settings: parts.settings,
            secret: parts.secret,
            metrics: Metrics::default(),
            ledger: Mutex::new(parts.ledger),
            signing: RwLock::new(Arc::new(parts.signing)),
            seen: parts.seen,
            clock: parts.clock,
            challenges: parts.challenges,
            revoked: tokio::sync::Notify::new(),
        }
    }

    /// How it is set up.
    pub fn settings(&self) -> &Settings {
        &self.settings
    }

    /// The present moment.
    pub fn now(&self) -> Timestamp {
        (self.clock)()
    }

    /// Who signs now.
    pub fn signing(&self) -> Arc<Signing> {
        self.signing.read().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// The ledger, for as long as what is returned lives.
    pub fn ledger(&self) -> MutexGuard<'_, Box<dyn Ledger>> {
        self.ledger.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Resolves when something was revoked: a list with it is due.
    pub async fn revoked(&self) {
        self.revoked.notified().await;
    }

    pub(crate) fn tell_revoked(&self) {
        self.revoked.notify_one();
    }

    pub(crate) fn look_at(&self, challenge: i64) {
        // The other end is gone only when the service is ending.
        let _ = self.challenges.send(challenge);
    }

    /// Logs and counts a decision.
    pub fn tell(&self, event: &Event) {
        self.metrics.decided(event.event);
        (self.seen)(event);
    }

    /// Of a failure of the ledger: it is logged whole, and the client learns that it is not its fault.
    pub fn failed(&self, e: &dyn std::fmt::Display) -> Box<Problem> {
        let detail = e.to_string();
        self.tell(&Event { at: self.now(), event: What::Failed, account: None, peer: None, names: Vec::new(), detail });
        Box::new(Problem::new(ProblemType::ServerInternal, "the service could not record this; its log says why"))
    }

    /// A URL of the service, by its path.
    pub fn url(&self, path: &str) -> String {
        format!("{}{path}", self.settings.base)
    }

    /// The signed request in a body, whose signature and nonce are still to be looked at.
    pub(crate) fn parsed(&self, asked: &Asked<'_>) -> Result<Request> {
        let essence = asked.media_type.map(|m| m.split(';').next().unwrap_or_default().trim().to_ascii_lowercase());
        if essence.as_deref() != Some(JOSE) {
            let detail = format!("the media type of a signed request is {JOSE}");
            return Err(Box::new(Problem::malformed(detail).with_status(415)));
        }
        let request = Request::parse(asked.body).map_err(Box::new)?;
        let here = self.url(asked.path);
        if request.url != here {
            return refuse(
                ProblemType::Unauthorized,
                format!(
                    "the request was signed for another URL than {here}: if a proxy is before the service, give its address with --url"
                ),
            );
        }
        Ok(request)
    }

    /// Takes the nonce of a request whose signature is right.
    pub(crate) fn fresh(&self, request: &Request) -> Result<()> {
        let now = self.now();
        let refused = "the nonce was used, or is too old: the next one is in this answer";
        let Some(id) = request.nonce.as_deref().and_then(|n| nonce::id(&self.secret, n, now)) else {
            return refuse(ProblemType::BadNonce, refused);
        };
        match self.ledger().take_nonce(&id, now) {
            Ok(true) => Ok(()),
            Ok(false) => refuse(ProblemType::BadNonce, refused),
            Err(e) => Err(self.failed(&e)),
        }
    }

    /// A request of a key by itself: signature and nonce are right.
    pub(crate) fn by_key(&self, asked: &Asked<'_>) -> Result<(Jwk, Request)> {
        let request = self.parsed(asked)?;
        let Signer::Key(key) = request.signer.clone() else {
            return Err(Box::new(Problem::malformed("this request is signed by a key (jwk), not by an account (kid)")));
        };
        request.verify(&key).map_err(Box::new)?;
        self.fresh(&request)?;
        Ok((key, request))
    }

    /// The account behind a URL.
    pub(crate) fn account_at(&self, url: &str) -> Result<Account> {
        let number = url.strip_prefix(&self.url("/account/")).and_then(number);
        let found = match number {
            Some(id) => self.ledger().account(id).map_err(|e| self.failed(&e))?,
            None => None,
        };
        found.map_or_else(
            || refuse(ProblemType::AccountDoesNotExist, "there is no such account here: register again"),
            Ok,
        )
    }

    /// A request of an account that is in use: signature and nonce are right.
    pub(crate) fn by_account(&self, asked: &Asked<'_>) -> Result<FromAccount> {
        let request = self.parsed(asked)?;
        self.checked_account(request)
    }

    pub(crate) fn checked_account(&self, request: Request) -> Result<FromAccount> {
        let Signer::Account(url) = &request.signer else {
            return Err(Box::new(Problem::malformed("this request is signed by an account (kid), not by a key (jwk)")));
        };
        let account = self.account_at(url)?;
        request.verify(&account.key).map_err(Box::new)?;
        self.fresh(&request)?;
        if account.state != AccountState::Valid {
            return Err(Box::new(ended(&account)));
        }
        Ok(FromAccount { account, request })
    }
}

/// That an account is not in use any more.
pub(crate) fn ended(account: &Account) -> Problem {
    let detail = match account.state {
        AccountState::Revoked => "the administrator of this service has blocked the account",
        _ => "the account was deactivated: register again with another key",
    };
    Problem::new(ProblemType::Unauthorized, detail).with_status(401)
}

/// A number as our URLs have it: in one form only.
pub(crate) fn number(text: &str) -> Option<i64> {
    text.parse().ok().filter(|n: &i64| *n > 0 && n.to_string() == text)
}
