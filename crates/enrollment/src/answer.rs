//! What is asked of the service and what it answers, as values: no socket is needed to try it.

use std::net::IpAddr;
use tamga_core::enrollment::problem::Problem;

/// The media type of a signed request (RFC 8555 section 6.2).
pub const JOSE: &str = "application/jose+json";
/// The media type of a chain (RFC 8555 section 9.1).
pub const CHAIN: &str = "application/pem-certificate-chain";

/// A request, read whole.
#[derive(Clone, Debug)]
pub struct Asked<'a> {
    /// Its method.
    pub method: &'a str,
    /// Its path, with its query.
    pub path: &'a str,
    /// Its media type, if it names one.
    pub media_type: Option<&'a str>,
    /// Its body.
    pub body: &'a [u8],
    /// Who asks.
    pub peer: IpAddr,
}

/// An answer.
#[derive(Clone, Debug)]
pub struct Answer {
    /// The status of HTTP.
    pub status: u16,
    /// Its header fields.
    pub headers: Vec<(&'static str, String)>,
    /// Its body.
    pub body: Vec<u8>,
}

impl Answer {
    /// An answer without a body.
    pub fn empty(status: u16) -> Answer {
        Answer { status, headers: Vec::new(), body: Vec::new() }
    }

    /// A JSON object.
    pub fn json(status: u16, value: &serde_json::Value) -> Answer {
        Answer { status, headers: Vec::new(), body: value.to_string().into_bytes() }
            .with("content-type", "application/json")
    }

    /// A text of some media type.
    pub fn text(status: u16, media_type: &str, body: impl Into<Vec<u8>>) -> Answer {
        Answer { status, headers: Vec::new(), body: body.into() }.with("content-type", media_type)
    }

    /// The same with one more header field.
    #[must_use]
    pub fn with(mut self, name: &'static str, value: impl Into<String>) -> Answer {
        self.headers.push((name, value.into()));
        self
    }

    /// The first value of a header field.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(n, _)| *n == name).map(|(_, v)| v.as_str())
    }
}

impl From<Problem> for Answer {
    fn from(problem: Problem) -> Answer {
        let body = serde_json::to_vec(&problem).unwrap_or_default();
        let answer = Answer { status: problem.status, headers: Vec::new(), body }
            .with("content-type", "application/problem+json");
        match problem.retry_after {
            Some(seconds) => answer.with("retry-after", seconds.to_string()),
            None => answer,
        }
    }
}
