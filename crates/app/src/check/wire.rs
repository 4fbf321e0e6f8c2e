//! What of a connection anybody on the way could read, as JSON.

use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use tamga_core::check::wire::Reader;

#[derive(Serialize, JsonSchema)]
pub(super) struct WireView<'a> {
    messages: Vec<Message<'a>>,
    clear: Vec<&'static str>,
    encrypted: Vec<&'static str>,
}

#[derive(Serialize, JsonSchema)]
struct Message<'a> {
    from: &'static str,
    what: &'a str,
    octets: usize,
    details: BTreeMap<&'a str, Detail<'a>>,
}

/// A text, or several of the same kind.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
enum Detail<'a> {
    One(&'a str),
    Several(Vec<&'a str>),
}

impl<'a> WireView<'a> {
    pub(super) fn of(reader: &'a Reader) -> WireView<'a> {
        let messages = reader.messages().iter().map(|m| {
            let mut details: BTreeMap<&str, Detail<'_>> = BTreeMap::new();
            for (what, text) in &m.details {
                let text = text.as_str();
                details
                    .entry(*what)
                    .and_modify(|d| match d {
                        Detail::One(one) => *d = Detail::Several(vec![*one, text]),
                        Detail::Several(all) => all.push(text),
                    })
                    .or_insert(Detail::One(text));
            }
            Message { from: m.side.word(), what: &m.what, octets: m.octets, details }
        });
        let (clear, encrypted) = reader.summary();
        WireView { messages: messages.collect(), clear, encrypted }
    }
}
