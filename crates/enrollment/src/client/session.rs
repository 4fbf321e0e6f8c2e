//! Signed requests to one service: its directory, its nonces, and what to do when it says "later".

use super::http::{Http, Response};
use rustls::RootCertStore;
use rustls::pki_types::CertificateDer;
use serde_json::Value;
use std::str::FromStr;
use std::sync::Mutex;
use std::time::Duration;
use tamga_core::enrollment::failure::Failure;
use tamga_core::enrollment::jws::{self, Signer};
use tamga_core::enrollment::problem::NAMESPACE;
use tamga_core::pki::key::PrivateKey;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::entropy;
use tamga_host::ledger::Origin;

/// A request is sent so often where the nonce was not taken.
const NONCES: usize = 4;
/// A request is sent so often where the service says "later".
const LATER: usize = 4;
/// The longest that is waited at once.
const LONGEST: Duration = Duration::from_secs(60);

/// What a service offers (RFC 8555 section 7.1.1).
pub(super) struct Directory {
    pub(super) new_nonce: String,
    pub(super) new_account: String,
    pub(super) new_order: String,
    pub(super) renewal_info: Option<String>,
    pub(super) terms: Option<String>,
    pub(super) profiles: Vec<String>,
}

/// A service whose directory was read.
pub(super) struct Offered {
    http: Http,
    pub(super) directory: Directory,
    pub(super) roots: RootCertStore,
}

/// The same with the key of our account there.
pub(super) struct Session<'a> {
    pub(super) offered: Offered,
    pub(super) key: &'a PrivateKey,
    nonces: Mutex<Vec<String>>,
}

/// A text of a JSON object; empty if there is none.
pub(super) fn word<'a>(value: &'a Value, member: &str) -> &'a str {
    value.get(member).and_then(Value::as_str).unwrap_or_default()
}

/// A refusal in the service's own words.
pub(super) fn refused(url: &str, response: &Response) -> Failure {
    let problem = response.json().unwrap_or_default();
    let text = |member: &str| problem.get(member).and_then(Value::as_str).map(str::to_owned);
    let mut detail = text("detail").unwrap_or_else(|| format!("it answered with the status {}", response.status));
    for sub in problem.get("subproblems").and_then(Value::as_array).into_iter().flatten() {
        if let Some(more) = sub.get("detail").and_then(Value::as_str).filter(|m| !detail.contains(m)) {
            detail.push_str(&format!("; {more}"));
        }
    }
    let kind = text("type").map_or_else(String::new, |t| t.trim_start_matches(NAMESPACE).to_owned());
    Failure::Refused { url: url.to_owned(), kind, detail }
}

impl Offered {
    /// Reads the directory.
    pub(super) async fn open(origin: &Origin, trusted: &[Vec<u8>]) -> Result<Offered, Failure> {
        let mut roots = RootCertStore::empty();
        for der in trusted {
            // One that the library cannot read is one that it cannot find either.
            let _ = roots.add(CertificateDer::from(der.clone()));
        }
        let http = Http::new(origin, roots.clone())?;
        let response = http.ask("GET", &origin.from, None).await?;
        let none = |why: &str| Failure::Unreached { url: origin.from.clone(), why: why.to_owned() };
        if response.status != 200 {
            return Err(none(&format!("there is no directory (status {})", response.status)));
        }
        let found = response.json().ok_or_else(|| none("what is there is no directory (RFC 8555 section 7.1.1)"))?;
        let text = |member: &str| found.get(member).and_then(Value::as_str).map(str::to_owned);
        let needed = |member: &str| text(member).ok_or_else(|| none(&format!("its directory has no {member}")));
        let meta = found.get("meta");
        let directory = Directory {
            new_nonce: needed("newNonce")?,
            new_account: needed("newAccount")?,
            new_order: needed("newOrder")?,
            renewal_info: text("renewalInfo"),
            terms: meta.and_then(|m| m.get("termsOfService")).and_then(Value::as_str).map(str::to_owned),
            profiles: meta
                .and_then(|m| m.get("profiles"))
                .and_then(Value::as_object)
                .map(|p| p.keys().cloned().collect())
                .unwrap_or_default(),
        };
        Ok(Offered { http, directory, roots })
    }

    /// When to renew a certificate (RFC 9773).
    pub(super) async fn suggested(&self, id: &str) -> Option<(Timestamp, Timestamp)> {
        let url = format!("{}/{id}", self.directory.renewal_info.as_ref()?.trim_end_matches('/'));
        let response = self.http.ask("GET", &url, None).await.ok().filter(|r| r.status == 200)?;
        let found = response.json()?;
        let window = found.get("suggestedWindow")?;
        let at = |member: &str| window.get(member).and_then(Value::as_str).and_then(|t| Timestamp::from_str(t).ok());
        let (from, until) = (at("start")?, at("end")?);
        (from < until).then_some((from, until))
    }
}

impl Session<'_> {
    /// A session of the account that has this key.
    pub(super) fn of(offered: Offered, key: &PrivateKey) -> Session<'_> {
        Session { offered, key, nonces: Mutex::new(Vec::new()) }
    }

    fn keep(&self, response: &Response) {
        if let Some(nonce) = response.header("replay-nonce") {
            self.nonces.lock().unwrap_or_else(|e| e.into_inner()).push(nonce.to_owned());
        }
    }

    async fn nonce(&self) -> Result<String, Failure> {
        let kept = self.nonces.lock().unwrap_or_else(|e| e.into_inner()).pop();
        if let Some(nonce) = kept {
            return Ok(nonce);
        }
        let url = &self.offered.directory.new_nonce;
        let response = self.offered.http.ask("HEAD", url, None).await?;
        let nonce = response.header("replay-nonce").map(str::to_owned);
        nonce.ok_or_else(|| Failure::Unreached { url: url.clone(), why: "it gives no nonce".into() })
    }

    /// A signed request; again with another nonce where the first was not taken, and later where the service says so.
    pub(super) async fn post(&self, signer: &Signer, url: &str, payload: &[u8]) -> Result<Response, Failure> {
        let (mut nonces, mut later) = (0, 0);
        loop {
            let nonce = self.nonce().await?;
            let body = jws::sign(self.key, signer, Some(&nonce), url, payload, &entropy::System)
                .map_err(|e| Failure::Unreached { url: url.to_owned(), why: e.to_string() })?;
            let response = self.offered.http.ask("POST", url, Some(body)).await?;
            self.keep(&response);
            if response.status < 400 {
                return Ok(response);
            }
            let refusal = refused(url, &response);
            let Failure::Refused { kind, .. } = &refusal else { return Err(refusal) };
            if kind == "badNonce" && nonces < NONCES {
                nonces += 1;
                continue;
            }
            if matches!(response.status, 429 | 503) && later < LATER {
                let wait = retry_after(&response).unwrap_or(Duration::from_secs(1 << later));
                // Somebody who must wait for longer than a minute does better to come back.
                if wait <= LONGEST {
                    later += 1;
                    tokio::time::sleep(wait + jitter(wait)).await;
                    continue;
                }
            }
            return Err(refusal);
        }
    }

    /// A POST that only reads, as JSON.
    pub(super) async fn read(&self, signer: &Signer, url: &str) -> Result<(Value, Response), Failure> {
        let response = self.post(signer, url, b"").await?;
        match response.json() {
            Some(value) => Ok((value, response)),
            None => Err(Failure::Unreached { url: url.to_owned(), why: "its answer is no JSON".into() }),
        }
    }
}

/// How long a service wants to be left alone: seconds, or a date (RFC 9110 section 10.2.3).
pub(super) fn retry_after(response: &Response) -> Option<Duration> {
    let text = response.header("retry-after")?;
    if let Ok(seconds) = text.trim().parse::<u64>() {
        return Some(Duration::from_secs(seconds.min(86_400)));
    }
    let at = tamga_core::vocabulary::timestamp::Timestamp::from_http_date(text)?;
    let seconds = at.unix() - entropy::now().unix();
    Some(Duration::from_secs(u64::try_from(seconds).unwrap_or(0).min(86_400)))
}

/// A little more, so that not all come back at once.
fn jitter(of: Duration) -> Duration {
    use tamga_core::plan::ports::Entropy as _;
    let mut octet = [0];
    entropy::System.fill(&mut octet);
    of.mul_f64(f64::from(octet[0]) / 1024.0)
}
