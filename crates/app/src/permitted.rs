//! What the limits of an authority permit, as JSON has it.

use schemars::JsonSchema;
use serde::Serialize;
use tamga_core::pki::cert::extensions::{GeneralName, NameConstraints};

/// One permitted subtree.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Permitted {
    /// `dns`, `ip`, `email`, `uri`, `directory` or `other`.
    kind: &'static str,
    value: String,
}

impl Permitted {
    pub(crate) fn of(name: &GeneralName) -> Permitted {
        let kind = match name {
            GeneralName::Dns(_) => "dns",
            GeneralName::Ip(_) => "ip",
            GeneralName::Mail(_) => "email",
            GeneralName::Uri(_) => "uri",
            GeneralName::Directory(_) => "directory",
            GeneralName::Other => "other",
        };
        Permitted { kind, value: name.words() }
    }
}

/// The permitted hosts, each once: what is permitted of mail and URIs follows them.
pub(crate) fn hosts(limits: &NameConstraints) -> Vec<String> {
    let is_host = |g: &&GeneralName| matches!(g, GeneralName::Dns(_) | GeneralName::Ip(_));
    let mut out: Vec<String> = Vec::new();
    for words in limits.permitted.iter().filter(is_host).map(GeneralName::words) {
        if !out.contains(&words) {
            out.push(words);
        }
    }
    out
}
