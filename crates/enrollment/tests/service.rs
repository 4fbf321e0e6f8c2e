//! The service as one function: whatever is sent to it, and in whatever order a client asks, it answers by the protocol's states.

#![allow(clippy::unwrap_used, clippy::panic, clippy::disallowed_methods, reason = "tests")]

use proptest::prelude::*;
use serde_json::{Value, json};
use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tamga_core::ca::request::{Wanted, make};
use tamga_core::enrollment::base64url;
use tamga_core::enrollment::jwk::Jwk;
use tamga_core::enrollment::jws::{Signer, sign};
use tamga_core::enrollment::problem::{Problem, ProblemType};
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::sample::{self, Foreseeable};
use tamga_core::vocabulary::permit::Permit;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::timestamp::{Span, Timestamp};
use tamga_enrollment::answer::{Answer, Asked};
use tamga_enrollment::seal::Secret;
use tamga_enrollment::service::{Parts, Service, Signing};
use tamga_enrollment::settings::{Look, Settings};
use tamga_host::entropy;
use tamga_host::ledger::Sqlite;

const BASE: &str = "https://enroll.saltmarsh.test";
const NAMES: [&str; 3] = ["charts.saltmarsh.test", "archive.saltmarsh.test", "*.buoys.saltmarsh.test"];

thread_local! {
    /// The service's clock, in seconds after the sample's present: one for each test.
    static CLOCK: Cell<i64> = const { Cell::new(0) };
}

fn clock() -> Timestamp {
    sample::NOW.plus(CLOCK.get())
}

fn service() -> Service {
    static NUMBER: AtomicUsize = AtomicUsize::new(0);
    let name = format!("service-{}", NUMBER.fetch_add(1, Ordering::Relaxed));
    let (authority, key) = sample::root().unwrap();
    let (challenges, queue) = tokio::sync::mpsc::unbounded_channel();
    // Nobody looks at challenges here: their outcome is said by the test.
    std::mem::forget(queue);
    Service::new(Parts {
        settings: Settings {
            base: BASE.into(),
            host: "enroll.saltmarsh.test".into(),
            allow: Some(Permit::Only { domains: vec!["saltmarsh.test".into()], blocks: Vec::new() }),
            life: Span::days(90),
            by_invitation: false,
            look: Look {
                known: BTreeMap::new(),
                dns: None,
                networks: Vec::new(),
                http_port: 80,
                tls_port: 443,
                own: Vec::new(),
            },
        },
        secret: Secret::of(&[7; 32]).unwrap(),
        ledger: Box::new(Sqlite::in_memory(&name, std::path::Path::new("/nowhere")).unwrap()),
        signing: Signing { authority, key: Box::new(key) },
        seen: Arc::new(|_| {}),
        clock,
        challenges,
    })
}

fn ask(service: &Service, method: &str, path: &str, media_type: Option<&str>, body: &[u8]) -> Answer {
    service.answer(&Asked { method, path, media_type, body, peer: [127, 0, 0, 1].into() })
}

/// A client with a key of its own.
struct Client<'a> {
    service: &'a Service,
    key: PrivateKey,
    kid: Option<String>,
}

impl<'a> Client<'a> {
    fn new(service: &'a Service) -> Client<'a> {
        let key = PrivateKey::generate(KeyAlgorithm::Ed25519, &entropy::System).unwrap();
        Client { service, key, kid: None }
    }

    fn body(&self, path: &str, payload: &[u8]) -> Vec<u8> {
        let nonce = ask(self.service, "HEAD", "/new-nonce", None, b"");
        let signer = match &self.kid {
            Some(kid) => Signer::Account(kid.clone()),
            None => Signer::Key(Jwk::of_spki(self.key.public().spki()).unwrap()),
        };
        sign(&self.key, &signer, nonce.header("replay-nonce"), &format!("{BASE}{path}"), payload, &Foreseeable).unwrap()
    }

    fn post(&self, path: &str, payload: &Value) -> Answer {
        let text = if payload.is_null() { Vec::new() } else { payload.to_string().into_bytes() };
        ask(self.service, "POST", path, Some("application/jose+json"), &self.body(path, &text))
    }

    fn registered(service: &'a Service) -> Client<'a> {
        let mut client = Client::new(service);
        let made = client.post("/new-account", &json!({}));
        assert_eq!(made.status, 201);
        client.kid = made.header("location").map(str::to_owned);
        client
    }
}

fn path(url: &str) -> String {
    url.strip_prefix(BASE).unwrap().to_owned()
}

fn read(answer: &Answer) -> Value {
    serde_json::from_slice(&answer.body).unwrap_or_default()
}

fn csr(names: &[&str]) -> String {
    let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy::System).unwrap();
    let names = names.iter().map(|n| n.parse().unwrap()).collect();
    let wanted = Wanted { names, purposes: vec![Purpose::Server], subject: None, folder: "x".into() };
    base64url(make(&wanted, &key, None, b"", &entropy::System).unwrap().0.der())
}

/// What a client does next.
#[derive(Clone, Debug)]
enum Act {
    Order { who: usize, names: Vec<usize> },
    Answer { who: usize, order: usize, name: usize },
    Outcome { order: usize, name: usize, good: bool },
    Finalize { who: usize, order: usize, right: bool },
    GiveUp { who: usize, order: usize, name: usize },
    Wait { hours: i64 },
}

fn act() -> impl Strategy<Value = Act> {
    let (who, order, name) = (0..2_usize, 0..5_usize, 0..3_usize);
    prop_oneof![
        3 => (who.clone(), proptest::sample::subsequence(vec![0, 1, 2], 1..=3)).prop_map(|(who, names)| Act::Order { who, names }),
        4 => (who.clone(), order.clone(), name.clone()).prop_map(|(who, order, name)| Act::Answer { who, order, name }),
        5 => (order.clone(), name.clone(), proptest::bool::weighted(0.8)).prop_map(|(order, name, good)| Act::Outcome { order, name, good }),
        4 => (who.clone(), order.clone(), proptest::bool::weighted(0.8)).prop_map(|(who, order, right)| Act::Finalize { who, order, right }),
        1 => (who, order, name).prop_map(|(who, order, name)| Act::GiveUp { who, order, name }),
        1 => (0..30_i64).prop_map(|hours| Act::Wait { hours }),
    ]
}

/// How far an order has come: never back.
fn rank(status: &str) -> u8 {
    match status {
        "pending" => 0,
        "ready" => 1,
        "processing" => 2,
        "valid" | "invalid" => 3,
        other => panic!("no state: {other}"),
    }
}

struct Ordered {
    who: usize,
    at: String,
    names: Vec<usize>,
    status: String,
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(if cfg!(debug_assertions) { 60 } else { 600 }))]

    /// Two clients, any acts in any order: states only go forward, nobody touches another's, and nothing is issued for a name that the same account
    /// has not proved.
    #[test]
    fn the_states_follow_from_what_was_proved(acts in proptest::collection::vec(act(), 1..40)) {
        let service = service();
        CLOCK.set(0);
        let clients = [Client::registered(&service), Client::registered(&service)];
        let mut orders: Vec<Ordered> = Vec::new();
        // Whose proof of which name, and since when; what was given up or failed counts no more.
        let mut proved: BTreeSet<(usize, usize)> = BTreeSet::new();
        let mut issued = 0;
        for act in acts {
            match act {
                Act::Order { who, names } => {
                    let ids: Vec<Value> = names.iter().map(|n| json!({ "type": "dns", "value": NAMES[*n] })).collect();
                    let made = clients[who].post("/new-order", &json!({ "identifiers": ids }));
                    prop_assert!(made.status == 201 || made.status == 429, "{}", String::from_utf8_lossy(&made.body));
                    if made.status == 201 {
                        let at = path(made.header("location").unwrap());
                        orders.push(Ordered { who, at, names, status: read(&made)["status"].as_str().unwrap().to_owned() });
                    }
                }
                Act::Answer { who, order, name } => {
                    let Some(o) = orders.get(order) else { continue };
                    let Some(url) = authorization(&clients[o.who], o, name) else { continue };
                    let seen = clients[who].post(&url, &Value::Null);
                    prop_assert_eq!(seen.status == 200, who == o.who);
                    if let Some(challenge) = read(&seen)["challenges"].as_array().and_then(|c| c.first()) {
                        let answered = clients[who].post(&path(challenge["url"].as_str().unwrap()), &json!({}));
                        prop_assert!(answered.status < 500);
                    }
                }
                Act::Outcome { order, name, good } => {
                    let Some(o) = orders.get(order) else { continue };
                    let waiting = service.ledger().unfinished_challenges().unwrap();
                    for id in waiting {
                        let (challenge, of) = service.ledger().challenge(id).unwrap().unwrap();
                        let is_meant = o.names.get(name).is_some_and(|n| of.identifier.to_string() == NAMES[*n]);
                        let mine = of.account == i64::try_from(o.who + 1).unwrap();
                        if !is_meant || !mine {
                            continue;
                        }
                        let outcome = if good { Ok(()) } else { Err(Box::new(Problem::new(ProblemType::Dns, "no"))) };
                        let still = of.state.at(of.expires, clock()) == tamga_core::enrollment::state::AuthorizationState::Pending;
                        service.ledger().end_challenge(id, challenge.kind, &outcome, clock()).unwrap();
                        if good && still {
                            proved.insert((o.who, o.names[name]));
                        }
                    }
                }
                Act::Finalize { who, order, right } => {
                    let Some(o) = orders.get(order) else { continue };
                    let names: Vec<&str> = o.names.iter().map(|n| NAMES[*n]).collect();
                    let wrong = ["gauge-7.saltmarsh.test"];
                    let request = json!({ "csr": csr(if right { &names } else { &wrong }) });
                    let done = clients[who].post(&format!("{}/finalize", o.at), &request);
                    prop_assert!(done.status < 500);
                    if done.status == 200 {
                        prop_assert!(right && who == o.who);
                        prop_assert_eq!(o.status.as_str(), "ready");
                        for n in &o.names {
                            prop_assert!(proved.contains(&(o.who, *n)), "{} was not proved", NAMES[*n]);
                        }
                        issued += 1;
                    }
                }
                Act::GiveUp { who, order, name } => {
                    let Some(o) = orders.get(order) else { continue };
                    let Some(url) = authorization(&clients[o.who], o, name) else { continue };
                    let done = clients[who].post(&url, &json!({ "status": "deactivated" }));
                    prop_assert_eq!(done.status == 200, who == o.who);
                }
                Act::Wait { hours } => {
                    CLOCK.set(CLOCK.get() + hours * 3600);
                }
            }
            let mut valid = 0;
            for o in &mut orders {
                let seen = clients[o.who].post(&o.at, &Value::Null);
                prop_assert_eq!(seen.status, 200);
                let status = read(&seen)["status"].as_str().unwrap().to_owned();
                let forward = rank(&status) > rank(&o.status) || status == o.status;
                prop_assert!(forward, "{} from {} to {status}", o.at, o.status);
                prop_assert_eq!(read(&seen)["certificate"].is_string(), status == "valid");
                valid += usize::from(status == "valid");
                o.status = status;
                let stranger = clients[1 - o.who].post(&o.at, &Value::Null);
                prop_assert_eq!(stranger.status, 403);
            }
            prop_assert_eq!(valid, issued);
        }
    }

    /// Any octets at any address, and requests that were right but for a few octets.
    #[test]
    fn whatever_is_sent_is_answered(
        method in prop_oneof![Just("GET"), Just("POST"), Just("HEAD"), Just("PUT"), "[A-Z]{1,8}".prop_map(|m| &*Box::leak(m.into_boxed_str()))],
        at in 0..14_usize,
        odd in "(/[a-z0-9%.?=-]{0,12}){0,4}",
        media in prop_oneof![Just(Some("application/jose+json")), Just(Some("application/json")), Just(None)],
        body in proptest::collection::vec(any::<u8>(), 0..400),
        flips in proptest::collection::vec((any::<usize>(), any::<u8>()), 1..4),
        nested in 0..3000_usize,
    ) {
        let service = service();
        let paths = ["/directory", "/new-nonce", "/new-account", "/account/1", "/account/1/orders", "/key-change", "/new-order", "/order/1",
            "/order/1/finalize", "/authorization/1", "/challenge/1", "/certificate/1", "/revoke-certificate", "/renewal-info/AAAA.AAAA"];
        let answer = ask(&service, method, paths[at], media, &body);
        prop_assert!(answer.status < 500, "{} {}: {}", method, paths[at], answer.status);
        prop_assert!(ask(&service, method, &odd, media, &body).status < 500);
        let client = Client::registered(&service);
        let mut right = client.body(paths[at], br#"{"identifiers":[{"type":"dns","value":"charts.saltmarsh.test"}]}"#);
        for (where_, what) in flips {
            let at = where_ % right.len();
            right[at] ^= what;
        }
        prop_assert!(ask(&service, "POST", paths[at], Some("application/jose+json"), &right).status < 500);
        // Right in everything but what it says.
        let deep = format!("{}{}", "[".repeat(nested), "]".repeat(nested));
        let payloads = [deep.as_bytes(), &body];
        for payload in payloads {
            let signed = client.body(paths[at], payload);
            let answer = ask(&service, "POST", paths[at], Some("application/jose+json"), &signed);
            prop_assert!(answer.status < 500, "{}: {}", paths[at], answer.status);
        }
    }
}

fn authorization(client: &Client<'_>, o: &Ordered, name: usize) -> Option<String> {
    let order = read(&client.post(&o.at, &Value::Null));
    order["authorizations"].as_array()?.get(name).map(|u| path(u.as_str().unwrap()))
}

#[test]
fn ten_thousand_accounts_are_no_burden() {
    let service = service();
    CLOCK.set(0);
    let many = if cfg!(debug_assertions) { 300 } else { 10_000 };
    let mut last = None;
    for _ in 0..many {
        last = Some(Client::registered(&service));
    }
    let last = last.unwrap();
    let order = last.post("/new-order", &json!({ "identifiers": [{ "type": "dns", "value": NAMES[0] }] }));
    assert_eq!(order.status, 201);
    assert_eq!(tamga_host::ledger::Accounts::accounts(&**service.ledger()).unwrap().len(), many);
}
