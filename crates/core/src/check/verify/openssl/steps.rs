//! What OpenSSL looks at once it has a path, step by step.

use super::cached::{self, Cached};
use super::constraints::{self, Fault};
use super::words::{IP_CONSTRAINT, NO_NAMES, NO_POLICY, POLICY};
use super::{Run, boring};
use crate::check::client::Client;
use crate::check::verify::parts::shown;
use crate::finding::Code;
use crate::pki::cert::raw::{id, seconds};
use crate::pki::key::Shape;
use crate::pki::signature::{Scheme, SignatureFault};
use crate::vocabulary::purpose::JudgedPurpose;

impl Run<'_> {
    pub(super) fn extensions(&mut self, path: &[&Cached<'_>]) {
        let purpose = self.input.purpose == Some(JudgedPurpose::Server);
        let mut plen = 0;
        for (i, c) in path.iter().enumerate() {
            // gRPC takes a trusted issuer as it is.
            let trusted = i + 1 == path.len() && (i > 0 || self.input.anchors.contains(c.certificate));
            if self.manner.client == Client::Grpc && trusted {
                break;
            }
            let words = c.certificate.subject_words();
            if c.unknown_critical {
                let unknown = c.certificate.unknown_critical.first().map(ToString::to_string).unwrap_or_default();
                self.object("UNHANDLED_CRITICAL_EXTENSION", i, unknown);
            }
            let ca = c.ca();
            if i > 0 && (ca == 0 || (i + 1 < path.len() && ca != 1)) {
                self.object("INVALID_CA", i, words.clone());
            }
            if matches!(c.certificate.key.shape(), Shape::Ec { explicit: true, .. }) && !self.manner.boring {
                self.object("EC_KEY_EXPLICIT_PARAMS", i, c.certificate.key.strength().to_string());
            }
            let is_none = self.manner.boring && i > 0 && (ca == 0 || (i + 1 < path.len() && ca != 1));
            if purpose && !c.invalid && (is_none || !c.serves_as(i > 0)) {
                self.object("INVALID_PURPOSE", i, words.clone());
            }
            if i > 1 && c.path_length.is_some_and(|most| most != -1 && plen > most) {
                self.object("PATH_LENGTH_EXCEEDED", i, words);
            }
            if i > 0 && !c.self_issued {
                plen += 1;
            }
        }
    }

    /// BoringSSL reads policies even where nobody asks for any, after everything else.
    pub(super) fn policies(&mut self, path: &[&Cached<'_>]) {
        for (i, c) in path.iter().enumerate() {
            if self.manner.client == Client::Grpc && i > 0 && i + 1 == path.len() {
                break;
            }
            let words = c.certificate.subject_words();
            if boring::has_odd_policies(c) {
                self.object(POLICY, i, words.clone());
            }
            if boring::demands_policy(c, i) && path[..i].iter().any(|c| !boring::has_policies(c)) {
                self.object(NO_POLICY, 0, words);
            }
        }
    }

    pub(super) fn strengths(&mut self, path: &[&Cached<'_>]) {
        for (i, c) in path.iter().enumerate() {
            let words = c.certificate.subject_words();
            if i > 0 && c.key_strength().is_none_or(|s| s < self.manner.strength) {
                self.object("CA_KEY_TOO_SMALL", i, words.clone());
            }
            if i + 1 < path.len() && c.hash_strength() < self.manner.strength {
                self.object("CA_MD_TOO_WEAK", i, words);
            }
        }
    }

    pub(super) fn signatures_and_dates(&mut self, path: &[&Cached<'_>]) {
        let last = path.len() - 1;
        let mut n = last;
        let mut issuer = path[last];
        let itself =
            self.manner.boring && last == 0 && issuer.self_issued && self.input.anchors.contains(issuer.certificate);
        if !self.may_be_issuer(issuer, issuer) && !self.manner.partial && !itself {
            if last == 0 {
                self.object("UNABLE_TO_VERIFY_LEAF_SIGNATURE", 0, issuer.certificate.issuer_words());
                self.dates(issuer, 0);
                return;
            }
            n -= 1;
        }
        loop {
            let subject = path[n];
            if !std::ptr::eq(subject, issuer) {
                if issuer.usage.is_some_and(|u| u & cached::CERT_SIGN == 0) {
                    self.object("KEYUSAGE_NO_CERTSIGN", n + 1, issuer.certificate.subject_words());
                }
                self.signature(subject, issuer, n);
            }
            self.dates(subject, n);
            if n == 0 {
                return;
            }
            n -= 1;
            issuer = subject;
        }
    }

    fn signature(&mut self, subject: &Cached<'_>, issuer: &Cached<'_>, depth: usize) {
        let unread = match issuer.certificate.key.shape() {
            Shape::Unreadable => true,
            Shape::Ec { explicit: true, .. } | Shape::Rsa { pss_only: true, .. } => self.manner.boring,
            _ => false,
        };
        if unread {
            self.object("UNABLE_TO_DECODE_ISSUER_PUBLIC_KEY", depth + 1, issuer.certificate.subject_words());
            return;
        }
        if self.manner.boring && !boring::verifies(subject.certificate) {
            self.object("CERT_SIGNATURE_FAILURE", depth, subject.certificate.subject_words());
            return;
        }
        if subject.certificate.raw.inner_algorithm != subject.certificate.raw.outer_algorithm {
            self.object("CERT_SIGNATURE_FAILURE", depth, subject.certificate.subject_words());
            return;
        }
        match subject.certificate.signed_by(issuer.certificate) {
            Ok(()) => {}
            Err(SignatureFault::Unsupported) => {}
            Err(SignatureFault::Wrong) => {
                let rsa = matches!(issuer.certificate.key.shape(), Shape::Rsa { .. });
                let text = match Scheme::of(&subject.certificate.algorithm) {
                    Scheme::Pss { .. } => {
                        "(35) error:02000068:rsa routines::bad signature or (35) error:0200008A:rsa routines::last octet invalid"
                    }
                    _ if rsa => {
                        "(35) error:0200008A:rsa routines::invalid padding or (35) error:0200006A:rsa routines::block type is not 01"
                    }
                    _ => "(35) error:06880006:asn1 encoding routines::EVP lib",
                };
                self.queue(text);
                self.object("CERT_SIGNATURE_FAILURE", depth, subject.certificate.subject_words());
            }
        }
    }

    fn dates(&mut self, c: &Cached<'_>, depth: usize) {
        let at = self.input.at.unix();
        let issuer = depth > 0;
        match seconds(&c.certificate.raw.not_before) {
            None => self.object("ERROR_IN_CERT_NOT_BEFORE_FIELD", depth, c.certificate.subject_words()),
            Some(t) if t > at => {
                let code = if issuer { Code::IssuerExpired } else { Code::NotYetValid };
                self.trail.object("CERT_NOT_YET_VALID", code, depth, detail(c, issuer, false));
            }
            Some(_) => {}
        }
        match seconds(&c.certificate.raw.not_after) {
            None => self.object("ERROR_IN_CERT_NOT_AFTER_FIELD", depth, c.certificate.subject_words()),
            Some(t) if t < at => {
                let code = if issuer { Code::IssuerExpired } else { Code::Expired };
                self.trail.object("CERT_HAS_EXPIRED", code, depth, detail(c, issuer, true));
            }
            Some(_) => {}
        }
    }

    pub(super) fn name_constraints(&mut self, path: &[&Cached<'_>]) {
        for i in (0..path.len()).rev() {
            let c = path[i];
            if i != 0 && c.self_issued {
                continue;
            }
            for j in (i + 1..path.len()).rev() {
                let Some(by) = &path[j].constraints else { continue };
                let mut result = constraints::check(c, by, self.manner.boring);
                if self.manner.boring {
                    let named = c.certificate.raw.extension(id::SUBJECT_ALT_NAME).is_some();
                    if result.is_ok() && i == 0 && !named && constraints::has_host_as_common_name(c) {
                        self.object(NO_NAMES, i, c.certificate.subject_words());
                        continue;
                    }
                } else if result.is_ok() && i == 0 && !c.names.iter().any(|n| n.kind == 2) {
                    result = constraints::check_common_names(c, by);
                }
                if let Err((fault, name)) = result {
                    let is_address = name.kind == 7;
                    let name = shown(&name);
                    let word = match fault {
                        Fault::Permitted => "PERMITTED_VIOLATION",
                        Fault::Excluded => "EXCLUDED_VIOLATION",
                        Fault::MinMax => "SUBTREE_MINMAX",
                        Fault::Kind if is_address => IP_CONSTRAINT,
                        Fault::Kind => "UNSUPPORTED_CONSTRAINT_TYPE",
                        Fault::Syntax => "UNSUPPORTED_NAME_SYNTAX",
                        Fault::TooMany => "UNSPECIFIED",
                    };
                    self.object(word, i, name);
                }
            }
        }
    }
}

fn detail(c: &Cached<'_>, issuer: bool, ended: bool) -> String {
    match (issuer, ended) {
        (true, _) => c.certificate.subject_words(),
        (false, true) => c.certificate.not_after.to_string(),
        (false, false) => c.certificate.not_before.to_string(),
    }
}
