//! Why a service gave no certificate, for the one who asked.

use crate::error::{Diagnostic, Kind};
use crate::vocabulary::text::{cut, harmless};

/// A failure of the client's side.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{}", self.what())]
#[non_exhaustive]
pub enum Failure {
    /// Nobody answers there, or not as a service would.
    Unreached {
        /// The URL.
        url: String,
        /// Why.
        why: String,
    },
    /// Its certificate leads to no root that is trusted.
    Untrusted {
        /// The URL.
        url: String,
        /// Why.
        why: String,
    },
    /// The service refused, with its own words.
    Refused {
        /// The URL.
        url: String,
        /// The type of its problem, without its namespace.
        kind: String,
        /// Its sentence.
        detail: String,
    },
    /// Control of a name was not proved.
    NotProved {
        /// The name.
        name: String,
        /// By which challenge.
        challenge: &'static str,
        /// The service's sentence.
        detail: String,
    },
    /// No challenge of those that are offered can be answered here.
    NoChallenge {
        /// The name.
        name: String,
        /// What is offered.
        offered: Vec<String>,
        /// Why the one that was meant cannot be answered.
        why: String,
    },
    /// The service has terms, and nobody agreed to them.
    Terms {
        /// Where they are.
        terms: String,
    },
    /// It did not come to an end in time.
    Slow {
        /// What was waited for.
        awaited: String,
    },
    /// What came is not the certificate that was asked for.
    Certificate {
        /// Why.
        why: String,
    },
    /// A name that such a service does not certify.
    Name {
        /// The name.
        name: String,
    },
    /// A name server refused a record.
    Update {
        /// The server.
        server: String,
        /// Why.
        why: String,
    },
}

impl Diagnostic for Failure {
    fn kind(&self) -> Kind {
        match self {
            Failure::Unreached { .. } | Failure::Slow { .. } | Failure::Update { .. } => Kind::Surroundings,
            _ => Kind::Refused,
        }
    }

    fn code(&self) -> &'static str {
        match self {
            Failure::Unreached { .. } => "service-unreached",
            Failure::Untrusted { .. } => "issuer-unknown",
            Failure::Refused { .. } => "service-refused",
            Failure::NotProved { .. } => "name-not-proved",
            Failure::NoChallenge { .. } => "no-challenge",
            Failure::Terms { .. } => "terms-not-agreed",
            Failure::Slow { .. } => "service-slow",
            Failure::Certificate { .. } => "not-the-issued-certificate",
            Failure::Name { .. } => "name-not-enrollable",
            Failure::Update { .. } => "dns-update-refused",
        }
    }

    fn what(&self) -> String {
        match self {
            Failure::Unreached { url, .. } => format!("the enrollment service at {} was not reached", harmless(url)),
            Failure::Untrusted { url, .. } => format!("the enrollment service at {} is not trusted", harmless(url)),
            Failure::Refused { url, .. } => format!("the enrollment service at {} refused", harmless(url)),
            Failure::NotProved { name, challenge, .. } => format!("control of {name} was not proved by {challenge}"),
            Failure::NoChallenge { name, .. } => format!("control of {name} cannot be proved from here"),
            Failure::Terms { .. } => "the service has terms, and nobody has agreed to them".into(),
            Failure::Slow { awaited } => format!("{awaited} took too long"),
            Failure::Certificate { .. } => "what the service issued was not taken".into(),
            Failure::Name { name } => format!("{name} cannot be enrolled"),
            Failure::Update { server, .. } => format!("the name server {server} took no record"),
        }
    }

    fn why(&self) -> String {
        match self {
            Failure::Unreached { why, .. } | Failure::Untrusted { why, .. } | Failure::Certificate { why } => {
                why.clone()
            }
            Failure::Refused { kind, detail, .. } => format!("{} ({})", cut(&harmless(detail), 400), harmless(kind)),
            Failure::NotProved { detail, .. } => cut(&harmless(detail), 400),
            Failure::NoChallenge { offered, why, .. } => {
                let offered: Vec<String> = offered.iter().map(|o| harmless(o)).collect();
                format!("{why}; the service offers {}", offered.join(", "))
            }
            Failure::Terms { terms } => format!("they are at {}", harmless(terms)),
            Failure::Slow { .. } => "the service has not said how it ended".into(),
            Failure::Name { .. } => "control can be proved of DNS names and addresses only".into(),
            Failure::Update { why, .. } => why.clone(),
        }
    }

    fn remedy(&self) -> String {
        match self {
            Failure::Unreached { .. } => "see whether the address is right, and the service runs".into(),
            Failure::Untrusted { .. } => {
                "name its root: --anchor FILE; or take it over from that machine: tamga trust add --from URL --sha256 HEX".into()
            }
            Failure::Refused { kind, .. } if kind == "externalAccountRequired" => {
                "ask the service's administrator for an invitation, and give it with --invitation FILE".into()
            }
            Failure::Refused { kind, .. } if kind == "rateLimited" => "wait, and run the same command again".into(),
            Failure::Refused { .. } => "the reason is the service's own; its administrator can say more".into(),
            Failure::NotProved { challenge: "dns-01", .. } => {
                "see that the record reaches the name server that the service asks, then run the same command again".into()
            }
            Failure::NotProved { .. } => {
                "see that the service reaches this machine under that name, then run the same command again".into()
            }
            Failure::NoChallenge { .. } => {
                "choose one that can be answered: --challenge http-01, tls-alpn-01 or dns-01 (with --dns-update and --dns-key-file)".into()
            }
            Failure::Terms { .. } => "read them, then add --agree-to-terms".into(),
            Failure::Slow { .. } => "run the same command again: it goes on with the same order".into(),
            Failure::Certificate { .. } => "nothing was changed; tell the service's administrator".into(),
            Failure::Name { .. } => "leave it away, or issue it under an authority of your own: tamga issue".into(),
            Failure::Update { .. } => "see the key, the zone and the server's update policy, then run the same command again".into(),
        }
    }
}
