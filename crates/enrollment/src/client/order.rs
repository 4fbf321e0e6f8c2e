//! From an account to a certificate (RFC 8555 section 7).

use super::prove::{self, Answers};
use super::session::{Session, refused, retry_after, word};
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::ServerCertVerifier;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use serde_json::{Map, Value, json};
use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tamga_app::enroller::Wanted;
use tamga_app::failure::Result;
use tamga_core::enrollment::base64url;
use tamga_core::enrollment::binding::Binding;
use tamga_core::enrollment::failure::Failure;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::jwk::Jwk;
use tamga_core::enrollment::jws::Signer;
use tamga_core::enrollment::renewal;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::format::pem;

/// All proofs together, and the issuing, may each take so long.
const PATIENCE: Duration = Duration::from_secs(120);
/// The first pause between two looks; it doubles.
const FIRST: Duration = Duration::from_millis(250);
/// The longest.
const SLOWEST: Duration = Duration::from_secs(5);

/// Gets the chain, leaf first.
pub(super) async fn get(
    session: &Session<'_>,
    wanted: &Wanted<'_>,
    ordered: &dyn Fn(&str) -> Result<()>,
    left: &mut Vec<String>,
) -> Result<Vec<Certificate>> {
    let account = account(session, wanted).await?;
    let (url, order) = match under_way(session, &account, wanted).await {
        Some(found) => found,
        None => ordered_now(session, &account, wanted).await?,
    };
    ordered(&url)?;
    let order = match word(&order, "status") {
        "pending" => {
            let mut answers = Answers::default();
            let proved = proofs(session, &account, wanted, &order, &mut answers).await;
            left.extend(answers.clear(wanted.disk).await);
            proved?;
            until(session, &account, &url, "the order", |s| s != "pending").await?
        }
        _ => order,
    };
    let order = match word(&order, "status") {
        "ready" => {
            let finalize = word(&order, "finalize").to_owned();
            let payload = json!({ "csr": base64url(wanted.csr.der()) }).to_string();
            let response = session.post(&account, &finalize, payload.as_bytes()).await?;
            match response.json().filter(|o| word(o, "status") == "valid") {
                Some(done) => done,
                None => {
                    until(session, &account, &url, "the certificate", |s| !matches!(s, "ready" | "processing")).await?
                }
            }
        }
        "processing" => until(session, &account, &url, "the certificate", |s| s != "processing").await?,
        _ => order,
    };
    if word(&order, "status") != "valid" {
        return Err(failed(&url, &order).into());
    }
    let place = word(&order, "certificate").to_owned();
    let response = session.post(&account, &place, b"").await?;
    let chain = pem::certificates(&response.body);
    let chain: Vec<Certificate> = chain
        .iter()
        .map(|der| Certificate::read(der, "what the service issued"))
        .collect::<std::result::Result<_, _>>()?;
    judge(session, wanted, &chain)?;
    Ok(chain)
}

/// The account of our key; it is made if there is none.
async fn account(session: &Session<'_>, wanted: &Wanted<'_>) -> std::result::Result<Signer, Failure> {
    let url = &session.offered.directory.new_account;
    let none = || Failure::Unreached { url: url.clone(), why: "the account's key cannot be used there".into() };
    let own = Jwk::of_spki(session.key.public().spki()).ok_or_else(none)?;
    let signer = Signer::Key(own.clone());
    let known = session.post(&signer, url, br#"{"onlyReturnExisting":true}"#).await;
    let response = match known {
        Ok(response) => response,
        Err(Failure::Refused { kind, .. }) if kind == "accountDoesNotExist" => {
            if let Some(terms) = session.offered.directory.terms.as_ref().filter(|_| !wanted.origin.agreed) {
                return Err(Failure::Terms { terms: terms.clone() });
            }
            let mut payload = Map::new();
            if session.offered.directory.terms.is_some() {
                payload.insert("termsOfServiceAgreed".into(), true.into());
            }
            if let Some(mailbox) = &wanted.origin.contact {
                payload.insert("contact".into(), vec![format!("mailto:{mailbox}")].into());
            }
            if let Some(i) = wanted.invitation {
                payload.insert("externalAccountBinding".into(), Binding::make(&i.key_id, &i.key, url, &own));
            }
            session.post(&signer, url, Value::Object(payload).to_string().as_bytes()).await?
        }
        Err(e) => return Err(e),
    };
    response
        .header("location")
        .map(|kid| Signer::Account(kid.to_owned()))
        .ok_or_else(|| Failure::Unreached { url: url.clone(), why: "it does not say where the account is".into() })
}

/// The order of a run that was stopped, if it can still come to something and is for the same names: the command may have been typed again
/// with others.
async fn under_way(session: &Session<'_>, account: &Signer, wanted: &Wanted<'_>) -> Option<(String, Value)> {
    let url = wanted.origin.order.clone()?;
    let (order, _) = session.read(account, &url).await.ok()?;
    let ordered = order.get("identifiers").and_then(Value::as_array)?.iter();
    let ordered: BTreeSet<Identifier> = ordered.filter_map(|i| Identifier::parse(i).ok()).collect();
    let is_same = ordered == wanted.names.iter().cloned().collect();
    (is_same && word(&order, "status") != "invalid").then_some((url, order))
}

async fn ordered_now(
    session: &Session<'_>,
    account: &Signer,
    wanted: &Wanted<'_>,
) -> std::result::Result<(String, Value), Failure> {
    let url = &session.offered.directory.new_order;
    let mut payload = Map::new();
    payload.insert("identifiers".into(), json!(wanted.names));
    if let Some(profile) = &wanted.origin.profile {
        if !session.offered.directory.profiles.contains(profile) {
            let detail = match session.offered.directory.profiles.as_slice() {
                [] => "it has no profiles".to_owned(),
                all => format!("it has the profiles {}, and not {profile}", all.join(", ")),
            };
            return Err(Failure::Refused { url: url.clone(), kind: "invalidProfile".into(), detail });
        }
        payload.insert("profile".into(), profile.clone().into());
    }
    let plain = Value::Object(payload.clone()).to_string();
    let id =
        wanted.replaces.and_then(renewal::certificate_id).filter(|_| session.offered.directory.renewal_info.is_some());
    let response = match id {
        Some(id) => {
            payload.insert("replaces".into(), id.into());
            match session.post(account, url, Value::Object(payload).to_string().as_bytes()).await {
                Ok(response) => response,
                // That it takes another's place is a courtesy, which some orders cannot show: another account, another service.
                Err(Failure::Refused { .. }) => session.post(account, url, plain.as_bytes()).await?,
                Err(e) => return Err(e),
            }
        }
        None => session.post(account, url, plain.as_bytes()).await?,
    };
    let place = response.header("location").map(str::to_owned);
    match (place, response.json()) {
        (Some(place), Some(order)) => Ok((place, order)),
        _ => Err(Failure::Unreached { url: url.clone(), why: "it does not say where the order is".into() }),
    }
}

async fn proofs(
    session: &Session<'_>,
    account: &Signer,
    wanted: &Wanted<'_>,
    order: &Value,
    answers: &mut Answers,
) -> Result<()> {
    let mut begun = Vec::new();
    for url in order.get("authorizations").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str) {
        let (authorization, _) = session.read(account, url).await?;
        if word(&authorization, "status") != "pending" {
            continue;
        }
        let challenge = prove::answer(session, wanted, &authorization, answers).await?;
        begun.push((url.to_owned(), challenge));
    }
    for (_, challenge) in &begun {
        session.post(account, &challenge.url, b"{}").await?;
    }
    for (url, challenge) in &begun {
        let what = format!("the proof for {}", challenge.name);
        let authorization = until(session, account, url, &what, |s| s != "pending").await?;
        if word(&authorization, "status") != "valid" {
            let all = authorization.get("challenges").and_then(Value::as_array).cloned().unwrap_or_default();
            let why = all.iter().find_map(|c| c.get("error")).map(|e| word(e, "detail").to_owned());
            return Err(Failure::NotProved {
                name: challenge.name.clone(),
                challenge: challenge.kind.word(),
                detail: why.unwrap_or_else(|| format!("the authorization is {}", word(&authorization, "status"))),
            }
            .into());
        }
    }
    Ok(())
}

/// Looks until a state is reached.
async fn until(
    session: &Session<'_>,
    account: &Signer,
    url: &str,
    what: &str,
    reached: impl Fn(&str) -> bool,
) -> std::result::Result<Value, Failure> {
    let began = Instant::now();
    let mut pause = FIRST;
    loop {
        let (found, response) = session.read(account, url).await?;
        if response.status >= 400 {
            return Err(refused(url, &response));
        }
        if reached(word(&found, "status")) {
            return Ok(found);
        }
        let wait = retry_after(&response).unwrap_or(pause).max(pause).min(SLOWEST.max(pause));
        if began.elapsed() + wait > PATIENCE {
            return Err(Failure::Slow { awaited: what.to_owned() });
        }
        tokio::time::sleep(wait).await;
        pause = (pause * 2).min(SLOWEST);
    }
}

fn failed(url: &str, order: &Value) -> Failure {
    let error = order.get("error").cloned().unwrap_or_default();
    let kind = word(&error, "type").trim_start_matches(tamga_core::enrollment::problem::NAMESPACE).to_owned();
    let detail = match word(&error, "detail") {
        "" => format!("the order is {}", word(order, "status")),
        some => some.to_owned(),
    };
    Failure::Refused { url: url.to_owned(), kind, detail }
}

/// What came must be for our key and exactly our names, and lead to a root that is trusted.
fn judge(session: &Session<'_>, wanted: &Wanted<'_>, chain: &[Certificate]) -> std::result::Result<(), Failure> {
    let wrong = |why: String| Failure::Certificate { why };
    let Some((leaf, above)) = chain.split_first() else { return Err(wrong("it sent no certificate".into())) };
    if leaf.key != wanted.csr.key {
        return Err(wrong("it is for another key".into()));
    }
    let names: BTreeSet<String> = leaf.name_words().iter().map(|n| n.to_lowercase()).collect();
    let asked: BTreeSet<String> = wanted.names.iter().map(ToString::to_string).collect();
    if names != asked {
        let words = |all: &BTreeSet<String>| all.iter().cloned().collect::<Vec<_>>().join(", ");
        return Err(wrong(format!("it is for {}, and {} was asked for", words(&names), words(&asked))));
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let verifier = WebPkiServerVerifier::builder_with_provider(Arc::new(session.offered.roots.clone()), provider)
        .build()
        .map_err(|e| wrong(e.to_string()))?;
    let leaf = CertificateDer::from(leaf.der().to_vec());
    let above: Vec<CertificateDer<'_>> = above.iter().map(|c| CertificateDer::from(c.der().to_vec())).collect();
    for name in wanted.names {
        let text = match name {
            // Any name that the wildcard is for.
            Identifier::Dns(n) => n.strip_prefix("*.").map_or_else(|| n.clone(), |rest| format!("any.{rest}")),
            Identifier::Ip(a) => a.to_string(),
        };
        let Ok(host) = ServerName::try_from(text) else { continue };
        verifier
            .verify_server_cert(&leaf, &above, &host, &[], UnixTime::now())
            .map_err(|e| wrong(format!("it leads to no root that is expected here: {e}")))?;
    }
    Ok(())
}
