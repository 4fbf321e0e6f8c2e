//! Problem documents (RFC 7807) with the error types of RFC 8555 section 6.7 and its family: what a client's log shows.

use crate::enrollment::identifier::{Identifier, NoIdentifier};
use serde::Serialize;

/// What stands before each type.
pub const NAMESPACE: &str = "urn:ietf:params:acme:error:";

crate::words! {
    /// The type of an error. Clients act by it: some wait a day after one that is permanent, so a permanent type is for permanent reasons.
    pub enum ProblemType: "error type" {
        /// The account is unknown.
        AccountDoesNotExist = "accountDoesNotExist",
        /// The certificate was replaced already (RFC 9773).
        AlreadyReplaced = "alreadyReplaced",
        /// The certificate is revoked already.
        AlreadyRevoked = "alreadyRevoked",
        /// The certificate request is refused.
        BadCsr = "badCSR",
        /// The nonce is none of ours, or was used.
        BadNonce = "badNonce",
        /// The key is not taken.
        BadPublicKey = "badPublicKey",
        /// The reason of a revocation is not taken.
        BadRevocationReason = "badRevocationReason",
        /// The algorithm of a signature is not taken.
        BadSignatureAlgorithm = "badSignatureAlgorithm",
        /// A CAA record forbids it.
        Caa = "caa",
        /// The host could not be reached.
        Connection = "connection",
        /// A DNS query failed.
        Dns = "dns",
        /// The account must be invited.
        ExternalAccountRequired = "externalAccountRequired",
        /// What the host answered does not prove control.
        IncorrectResponse = "incorrectResponse",
        /// A contact is not a mailbox.
        InvalidContact = "invalidContact",
        /// The profile is unknown.
        InvalidProfile = "invalidProfile",
        /// The request makes no sense.
        Malformed = "malformed",
        /// The order is not ready to be finalized.
        OrderNotReady = "orderNotReady",
        /// Too much, or too soon.
        RateLimited = "rateLimited",
        /// A name that is not certified here.
        RejectedIdentifier = "rejectedIdentifier",
        /// A fault of the service.
        ServerInternal = "serverInternal",
        /// The TLS connection failed.
        Tls = "tls",
        /// The account may not do that.
        Unauthorized = "unauthorized",
        /// A contact of a kind that is not used here.
        UnsupportedContact = "unsupportedContact",
        /// A kind of name that is not certified here.
        UnsupportedIdentifier = "unsupportedIdentifier",
        /// A person must do something first.
        UserActionRequired = "userActionRequired",
    }
}

impl ProblemType {
    /// The HTTP status that goes with it where nothing else is said.
    pub fn status(self) -> u16 {
        match self {
            ProblemType::AccountDoesNotExist
            | ProblemType::BadCsr
            | ProblemType::BadNonce
            | ProblemType::BadPublicKey
            | ProblemType::BadRevocationReason
            | ProblemType::BadSignatureAlgorithm
            | ProblemType::AlreadyRevoked
            | ProblemType::Connection
            | ProblemType::Dns
            | ProblemType::InvalidContact
            | ProblemType::InvalidProfile
            | ProblemType::Malformed
            | ProblemType::RejectedIdentifier
            | ProblemType::Tls
            | ProblemType::UnsupportedContact
            | ProblemType::UnsupportedIdentifier => 400,
            ProblemType::Caa
            | ProblemType::ExternalAccountRequired
            | ProblemType::IncorrectResponse
            | ProblemType::OrderNotReady
            | ProblemType::Unauthorized
            | ProblemType::UserActionRequired => 403,
            ProblemType::AlreadyReplaced => 409,
            ProblemType::RateLimited => 429,
            ProblemType::ServerInternal => 500,
        }
    }
}

/// An error as it is answered.
///
/// ```
/// use tamga_core::enrollment::problem::{Problem, ProblemType};
///
/// let problem = Problem::new(ProblemType::RejectedIdentifier, "charts.example.org is not certified here");
/// assert_eq!(problem.status, 400);
/// let json = serde_json::to_value(&problem).expect("texts and numbers");
/// assert_eq!(json["type"], "urn:ietf:params:acme:error:rejectedIdentifier");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{detail}")]
pub struct Problem {
    /// Its type.
    pub kind: ProblemType,
    /// One sentence with the remedy: it is what a person reads in the other program's log.
    pub detail: String,
    /// The HTTP status.
    pub status: u16,
    /// The name that it is about.
    pub identifier: Option<Identifier>,
    /// One for each name, where several are wrong.
    pub subproblems: Vec<Problem>,
    /// Seconds after which it makes sense to try again.
    pub retry_after: Option<u64>,
    /// The algorithms that are taken, where the client's is not.
    pub algorithms: &'static [&'static str],
}

impl Problem {
    /// A problem with the usual status of its type.
    pub fn new(kind: ProblemType, detail: impl Into<String>) -> Problem {
        let detail = detail.into();
        let status = kind.status();
        Problem { kind, detail, status, identifier: None, subproblems: Vec::new(), retry_after: None, algorithms: &[] }
    }

    /// A request that makes no sense.
    pub fn malformed(detail: impl Into<String>) -> Problem {
        Problem::new(ProblemType::Malformed, detail)
    }

    /// With another status.
    #[must_use]
    pub fn with_status(self, status: u16) -> Problem {
        Problem { status, ..self }
    }

    /// With the name that it is about.
    #[must_use]
    pub fn about(self, identifier: Identifier) -> Problem {
        Problem { identifier: Some(identifier), ..self }
    }

    /// With the seconds after which to try again.
    #[must_use]
    pub fn retry_after(self, seconds: u64) -> Problem {
        Problem { retry_after: Some(seconds), ..self }
    }

    /// Of several problems one: itself if it is alone, else their sum with each as a part (RFC 8555 section 6.7.1).
    pub fn of_all(mut all: Vec<Problem>) -> Option<Problem> {
        if all.len() < 2 {
            return all.pop();
        }
        let first = all[0].kind;
        let kind = if all.iter().all(|p| p.kind == first) { first } else { ProblemType::Malformed };
        let details: Vec<&str> = all.iter().map(|p| p.detail.as_str()).collect();
        let detail = details.join("; ");
        Some(Problem { subproblems: all, ..Problem::new(kind, detail) })
    }
}

impl From<NoIdentifier> for Problem {
    fn from(no: NoIdentifier) -> Problem {
        match no {
            NoIdentifier::Kind(detail) => Problem::new(ProblemType::UnsupportedIdentifier, detail),
            NoIdentifier::Form(detail) => Problem::malformed(detail),
        }
    }
}

#[derive(Serialize)]
struct View<'a> {
    r#type: String,
    detail: &'a str,
    status: u16,
    #[serde(skip_serializing_if = "Option::is_none")]
    identifier: Option<&'a Identifier>,
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    subproblems: &'a [Problem],
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    algorithms: &'a [&'static str],
}

impl Serialize for Problem {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        View {
            r#type: format!("{NAMESPACE}{}", self.kind),
            detail: &self.detail,
            status: self.status,
            identifier: self.identifier.as_ref(),
            subproblems: &self.subproblems,
            algorithms: self.algorithms,
        }
        .serialize(s)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn several_are_one_with_parts() {
        let of = |kind, text: &str| Problem::new(kind, text);
        assert_eq!(Problem::of_all(Vec::new()), None);
        let one = of(ProblemType::Dns, "no answer");
        assert_eq!(Problem::of_all(vec![one.clone()]), Some(one.clone()));
        let both = Problem::of_all(vec![one.clone(), of(ProblemType::Dns, "no such name")]);
        let both = both.unwrap_or_else(|| one.clone());
        assert_eq!(
            (both.kind, both.subproblems.len(), both.detail.as_str()),
            (ProblemType::Dns, 2, "no answer; no such name")
        );
        let mixed = Problem::of_all(vec![one.clone(), of(ProblemType::Caa, "forbidden")]).map(|p| p.kind);
        assert_eq!(mixed, Some(ProblemType::Malformed));
    }
}
