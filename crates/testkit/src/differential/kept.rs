//! A run that is kept: the cases and what the clients did, to be judged again without them.

use super::observe::{Observed, Said};
use super::situation::{Case, Tls};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::path::Path;
use tamga_core::check::client::{Client, Outcome};
use tamga_core::vocabulary::text::hex;
use tamga_core::vocabulary::timestamp::Timestamp;

/// What is needed to judge a case again.
pub struct Kept {
    /// When it was observed.
    pub at: Timestamp,
    /// The cases; of their keys nothing is kept.
    pub cases: Vec<Case>,
    /// What the clients did.
    pub observed: Observed,
}

fn octets(value: &Value) -> Vec<u8> {
    let text = value.as_str().unwrap();
    (0..text.len() / 2).map(|i| u8::from_str_radix(&text[2 * i..2 * i + 2], 16).unwrap()).collect()
}

impl Kept {
    /// Writes it.
    pub fn write(&self, file: &Path) {
        let cases: Vec<Value> = self
            .cases
            .iter()
            .map(|c| {
                let refused = self.observed.refused.iter().filter(|r| r.0 == c.number).map(|r| r.1);
                let said: serde_json::Map<String, Value> = self
                    .observed
                    .said
                    .iter()
                    .filter_map(|(client, all)| {
                        let (outcome, code) = all.get(&c.number)?;
                        Some((client.word().to_owned(), json!([outcome.word(), code])))
                    })
                    .collect();
                json!({
                    "number": c.number, "odd": c.odd, "host": c.host,
                    "chain": c.chain.iter().map(|d| hex(d)).collect::<Vec<_>>(),
                    "anchors": c.anchors.iter().map(|d| hex(d)).collect::<Vec<_>>(),
                    "refused": refused.collect::<Vec<_>>(),
                    "tls": [c.tls.only, c.tls.demands_client, c.tls.asks_client, c.tls.staple, c.tls.group],
                    "said": said, "fits": c.fits,
                })
            })
            .collect();
        let mut clients: Vec<&str> = self.observed.said.keys().map(|c| c.word()).collect();
        clients.sort_unstable();
        // One line a case, so that a change of one is a change of one line.
        let cases: Vec<String> = cases.iter().map(Value::to_string).collect();
        let (at, clients) = (self.at.unix(), json!(clients));
        let text = format!("{{\"at\":{at},\"clients\":{clients},\"cases\":[\n{}\n]}}\n", cases.join(",\n"));
        std::fs::write(file, text).unwrap();
    }

    /// Reads it.
    pub fn read(file: &Path) -> Kept {
        Kept::parse(&std::fs::read(file).unwrap())
    }

    /// Reads what [`Kept::write`] wrote.
    pub fn parse(text: &[u8]) -> Kept {
        let all: Value = serde_json::from_slice(text).unwrap();
        let known = super::odd::all();
        let mut observed = Observed::default();
        for word in all["clients"].as_array().unwrap() {
            observed.said.insert(word.as_str().unwrap().parse().unwrap(), HashMap::new());
        }
        let cases = all["cases"].as_array().unwrap().iter();
        let cases = cases
            .map(|c| {
                let number = usize::try_from(c["number"].as_u64().unwrap()).unwrap();
                for (client, said) in c["said"].as_object().unwrap() {
                    let outcome: Outcome = said[0].as_str().unwrap().parse().unwrap();
                    let said: Said = (outcome, said[1].as_str().map(str::to_owned));
                    let client: Client = client.parse().unwrap();
                    observed.said.entry(client).or_default().insert(number, said);
                }
                let refused = c["refused"].as_array().unwrap().iter();
                observed.refused.extend(refused.map(|i| (number, usize::try_from(i.as_u64().unwrap()).unwrap())));
                let word = |v: &Value| {
                    known.iter().find(|k| v.as_str() == Some(k.0)).map_or("an oddity of another version", |k| k.0)
                };
                let tls = &c["tls"];
                Case {
                    fits: c["fits"].as_bool().unwrap_or(true),
                    number,
                    odd: c["odd"].as_array().unwrap().iter().map(word).collect(),
                    host: c["host"].as_str().unwrap().to_owned(),
                    chain: c["chain"].as_array().unwrap().iter().map(octets).collect(),
                    key: super::keys::Key::P256(0),
                    form: super::keys::Form::Usual,
                    anchors: c["anchors"].as_array().unwrap().iter().map(octets).collect(),
                    tls: Tls {
                        only: tls[0].as_u64().map(|n| u8::try_from(n).unwrap()),
                        demands_client: tls[1].as_bool().unwrap(),
                        asks_client: tls[2].as_bool().unwrap(),
                        staple: tls[3].as_bool().unwrap(),
                        group: u8::try_from(tls[4].as_u64().unwrap()).unwrap(),
                    },
                }
            })
            .collect();
        Kept { at: Timestamp::from_unix(all["at"].as_i64().unwrap()), cases, observed }
    }
}
