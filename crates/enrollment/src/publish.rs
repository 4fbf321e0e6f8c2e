//! What belongs to certificates and must be reachable without trusting anybody: the root, issuing certificates, revocation lists, and answers
//! about one certificate (OCSP). Over plain HTTP, since who asks does not trust us yet.

use crate::answer::{Answer, Asked};
use crate::service::{Service, Signing};
use base64ct::{Base64, Encoding};
use std::path::Path;
use std::sync::Arc;
use tamga_app::env::Env;
use tamga_core::ca::authority::HEAD_START;
use tamga_core::ca::report::Authority;
use tamga_core::pki::cert::crl;
use tamga_core::pki::ocsp::{Refusal, Request, Responder, Standing};
use tamga_host::entropy;
use tamga_host::repair::LIST_FILE;
use tamga_host::share::Document;

/// The media type of a question (RFC 6960 appendix A.1).
const QUESTION: &str = "application/ocsp-request";
/// The media type of an answer.
const ANSWER: &str = "application/ocsp-response";
/// An answer counts for so many seconds.
const COUNTS: i64 = 12 * 3600;

/// What is published.
pub struct Published {
    /// The service: its ledger is asked.
    pub service: Arc<Service>,
    /// Earlier issuing authorities of this service whose certificates may still be asked for.
    pub earlier: Vec<Signing>,
    /// The root in its forms, and a page about it.
    pub root: Vec<Document>,
    /// The root and what is between it and the issuing authority.
    pub issuers: Vec<Authority>,
    /// Where the lists are.
    pub env: Env,
}

impl Published {
    /// Answers a request.
    pub fn answer(&self, asked: &Asked<'_>) -> Answer {
        let path = asked.path.split('?').next().unwrap_or_default();
        let answer = match (asked.method, path) {
            ("POST", "/ocsp" | "/ocsp/") => self.ocsp(asked),
            ("POST", _) => {
                Answer::text(405, "text/plain", "only /ocsp takes questions by POST\n").with("allow", "GET, HEAD")
            }
            ("GET" | "HEAD", _) => self.read(path),
            _ => Answer::text(405, "text/plain", "this can only be read\n").with("allow", "GET, HEAD"),
        };
        answer.with("x-content-type-options", "nosniff")
    }

    fn read(&self, path: &str) -> Answer {
        if let Some(document) = self.root.iter().find(|d| d.path == path) {
            let answer = Answer::text(200, document.kind, document.bytes.clone());
            return match &document.keep_as {
                Some(name) => answer.with("content-disposition", format!("attachment; filename=\"{name}\"")),
                None => answer,
            };
        }
        let file = |directory: &str, ending: &str| path.strip_prefix(directory).and_then(|f| f.strip_suffix(ending));
        if let Some(a) = file("/issuer/", ".crt").and_then(|label| self.authority(label)) {
            return Answer::text(200, "application/pkix-cert", a.certificate.der());
        }
        if let Some(a) = file("/crl/", ".crl").and_then(|label| self.authority(label)) {
            return match self.list(&a.folder.join(LIST_FILE)) {
                Some(der) => Answer::text(200, "application/pkix-crl", der).with("cache-control", "max-age=60"),
                None => Answer::text(404, "text/plain", "this authority has signed no revocation list yet\n"),
            };
        }
        if let Some(text) = path.strip_prefix("/ocsp/") {
            return match from_path(text) {
                Some(der) => self.status(&der).with("cache-control", "max-age=300"),
                None => Answer::text(200, ANSWER, Refusal::Malformed.to_der()),
            };
        }
        Answer::text(404, "text/plain", "there is nothing here\n")
    }

    fn authority(&self, label: &str) -> Option<Authority> {
        let own = self.service.signing();
        let all = std::iter::once(&own.authority).chain(self.earlier.iter().map(|s| &s.authority)).chain(&self.issuers);
        all.into_iter().find(|a| a.label.as_str() == label).cloned()
    }

    fn list(&self, file: &Path) -> Option<Vec<u8>> {
        let bytes = self.env.disk().read(file).ok()?;
        crl::find(&bytes, "a list").ok().map(|c| c.der().to_vec())
    }

    fn ocsp(&self, asked: &Asked<'_>) -> Answer {
        let essence = asked.media_type.map(|m| m.split(';').next().unwrap_or_default().trim());
        match essence {
            Some(QUESTION) => self.status(asked.body),
            _ => Answer::text(415, "text/plain", format!("a question has the media type {QUESTION}\n")),
        }
    }

    fn status(&self, der: &[u8]) -> Answer {
        let written = |der: Vec<u8>| Answer::text(200, ANSWER, der);
        let Ok(request) = Request::read(der) else { return written(Refusal::Malformed.to_der()) };
        let own = self.service.signing();
        let meant = std::iter::once(&*own)
            .chain(&self.earlier)
            .find(|s| request.asked.iter().all(|id| id.is_of(&s.authority.certificate)));
        let Some(signing) = meant else { return written(Refusal::Unauthorized.to_der()) };
        let mut answers = Vec::new();
        for id in &request.asked {
            let Ok(found) = self.service.ledger().by_number(&id.serial) else {
                return written(Refusal::TryLater.to_der());
            };
            let of = found.into_iter().find(|i| i.authority.as_ref() == Some(&signing.authority.label));
            // Of what was never issued nothing is said: a forged certificate is not good, and a new one may be on its way.
            let Some(issued) = of else { return written(Refusal::Unauthorized.to_der()) };
            let standing = match issued.revoked {
                Some(r) => Standing::Revoked { at: r.at, reason: r.reason },
                None => Standing::Good,
            };
            answers.push((id.clone(), standing));
        }
        let now = self.service.now();
        let responder = Responder {
            certificate: &signing.authority.certificate,
            key: &*signing.key,
            is_delegated: false,
            this_update: now.plus(HEAD_START),
            next_update: now.plus(COUNTS),
        };
        match responder.answer(&answers, request.nonce.as_deref(), &entropy::System) {
            Ok(der) => written(der),
            Err(e) => {
                self.service.failed(&e);
                written(Refusal::Internal.to_der())
            }
        }
    }
}

/// A question in a path (RFC 6960 appendix A.1): base64 whose characters may be written as `%2B`.
fn from_path(text: &str) -> Option<Vec<u8>> {
    let mut plain = String::with_capacity(text.len());
    let mut octets = text.bytes();
    while let Some(o) = octets.next() {
        match o {
            b'%' => {
                let pair = [octets.next()?, octets.next()?];
                let value = u8::from_str_radix(std::str::from_utf8(&pair).ok()?, 16).ok()?;
                plain.push(char::from(value));
            }
            other => plain.push(char::from(other)),
        }
    }
    // Some leave the padding away.
    while !plain.len().is_multiple_of(4) {
        plain.push('=');
    }
    Base64::decode_vec(&plain).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_question_in_a_path_is_read_however_it_is_escaped() {
        assert_eq!(from_path("%2B%2f%2B%3D"), None);
        assert_eq!(from_path("AQID"), Some(vec![1, 2, 3]));
        assert_eq!(from_path("%2b/8%3D"), Some(vec![0xfb, 0xff]));
        assert_eq!(from_path("+/8"), Some(vec![0xfb, 0xff]));
        for wrong in ["%", "%2", "%zz", "*"] {
            assert_eq!(from_path(wrong), None, "{wrong}");
        }
    }
}
