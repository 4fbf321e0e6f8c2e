//! Findings: everything that is or may go wrong, each with a stable code, a severity, a cause and a remedy.
//!
//! The rows are in one file per subject; [`entry`] finds one by its code.

mod chain;
mod connection;
mod issuing;
mod names;
mod page;
mod trust;
mod validity;

use crate::vocabulary::client_id::Client;

crate::words! {
    /// How much a finding weighs.
    #[derive(PartialOrd, Ord)]
    pub enum Severity: "severity" {
        /// Worth knowing.
        Note = "note",
        /// Will hurt somebody or soon.
        Warning = "warning",
        /// Somebody is warned or refused now.
        Error = "error",
    }
}

macro_rules! codes {
    ($($variant:ident $word:literal,)*) => {
        $crate::words! {
            /// Every kind of finding that Tamga can make so far.
            #[derive(PartialOrd, Ord, Hash)]
            pub enum Code: "finding" { $(#[doc = $word] $variant = $word,)* }
        }
    };
}

codes! {
    IssuerUnknown "issuer-unknown",
    SelfSignedLeaf "self-signed-leaf",
    NotTheIssuedCertificate "not-the-issued-certificate",
    OlderRootTrusted "older-root-trusted",
    ExceptionRemembered "exception-remembered",
    VerificationOff "verification-off",
    TrustOverridden "trust-overridden",
    NameNotCovered "name-not-covered",
    AddressAsDnsName "address-as-dns-name",
    NameNotJudged "name-not-judged",
    PublicName "public-name",
    Expired "expired",
    NotYetValid "not-yet-valid",
    EndsSoon "ends-soon",
    OutlivesIssuer "outlives-issuer",
    IssuerExpired "issuer-expired",
    PurposeMissing "purpose-missing",
    KeyUsageMissing "key-usage-missing",
    CaAsLeaf "ca-as-leaf",
    WeakSignature "weak-signature",
    WeakKey "weak-key",
    KeyKindUnsupported "key-kind-unsupported",
    BadSignature "bad-signature",
    Malformed "malformed",
    CriticalExtensionUnknown "critical-extension-unknown",
    ChainIncomplete "chain-incomplete",
    ChainMisordered "chain-misordered",
    RootServed "root-served",
    IntermediateNotACa "intermediate-not-a-ca",
    PathTooLong "path-too-long",
    ConstraintViolated "constraint-violated",
    IpConstraintUnsupported "ip-constraint-unsupported",
    KeyMissing "key-missing",
    KeyMismatch "key-mismatch",
    KeyReadableByOthers "key-readable-by-others",
    KeyUnreadableByService "key-unreadable-by-service",
    KeyAsksPassphrase "key-asks-passphrase",
    WeakPassphrase "weak-passphrase",
    PassphraseFileReadable "passphrase-file-readable",
    ClockBehind "clock-behind",
    UnresolvedName "unresolved-name",
    RefusedConnection "refused-connection",
    SilentConnection "silent-connection",
    PlainHttpOnTlsPort "plain-http-on-tls-port",
    TlsOnPlainPort "tls-on-plain-port",
    OtherProtocol "other-protocol",
    HandshakeRefused "handshake-refused",
    TlsTooOld "tls-too-old",
    NoCommonCipher "no-common-cipher",
    ClientCertificateWanted "client-certificate-wanted",
    RenewedNotDeployed "renewed-not-deployed",
    RedirectMissing "redirect-missing",
    RedirectLoop "redirect-loop",
    RedirectElsewhere "redirect-elsewhere",
    RedirectRemembered "redirect-remembered",
    PlainHttpOpen "plain-http-open",
    MixedContent "mixed-content",
    InsecureForm "insecure-form",
    SubresourceRefused "subresource-refused",
    HstsRemembered "hsts-remembered",
    Revoked "revoked",
    RevocationUnknown "revocation-unknown",
    StapleMissing "staple-missing",
    ReusedSerial "reused-serial",
    ValidityTooLong "validity-too-long",
    NamesMissing "names-missing",
    CommonNameUnlisted "common-name-unlisted",
    LiveDuplicate "live-duplicate",
    Unconstrained "unconstrained",
    NotHonoured "not-honoured",
    ListMayBeBehind "list-may-be-behind",
    CrlDue "crl-due",
    RevocationUnpublished "revocation-unpublished",
    IssuerRetired "issuer-retired",
    RootInNoStore "root-in-no-store",
    BudgetExhausted "budget-exhausted",
    PredictionDiffers "prediction-differs",
}

/// A code at length, as `tamga explain` tells it.
#[derive(Clone, Copy, Debug)]
pub struct Entry {
    /// Which.
    pub code: Code,
    /// How much it weighs where no client refuses because of it.
    pub severity: Severity,
    /// One line.
    pub summary: &'static str,
    /// What it means for a visitor.
    pub meaning: &'static str,
    /// How it usually comes about.
    pub cause: &'static str,
    /// How to fix it with Tamga.
    pub remedy: &'static str,
    /// How to fix it by hand.
    pub by_hand: &'static str,
}

/// The row of a code.
///
/// ```
/// use tamga_core::finding::{Code, Severity, entry};
///
/// assert_eq!(entry(Code::Expired).severity, Severity::Error);
/// ```
pub fn entry(code: Code) -> &'static Entry {
    // The test below proves that every code has a row; the first row only stands for the type.
    entries().find(|e| e.code == code).unwrap_or(&trust::ROWS[0])
}

/// Every row, by subject.
pub fn entries() -> impl Iterator<Item = &'static Entry> {
    [trust::ROWS, names::ROWS, validity::ROWS, chain::ROWS, connection::ROWS, page::ROWS, issuing::ROWS]
        .into_iter()
        .flatten()
}

/// One finding about one thing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// Which kind.
    pub code: Code,
    /// How much it weighs here.
    pub severity: Severity,
    /// What it is about: a name, a certificate, a variable.
    pub about: String,
    /// One line that says what is wrong here.
    pub summary: String,
    /// The one step that fixes it here.
    pub remedy: String,
    /// The clients that refuse because of it.
    pub clients: Vec<Client>,
}

impl Finding {
    /// A finding with the table's summary and remedy.
    pub fn new(code: Code, about: impl Into<String>) -> Finding {
        let e = entry(code);
        Finding {
            code,
            severity: e.severity,
            about: about.into(),
            summary: e.summary.to_owned(),
            remedy: e.remedy.to_owned(),
            clients: Vec::new(),
        }
    }

    /// The same with another summary.
    #[must_use]
    pub fn with_summary(mut self, summary: impl Into<String>) -> Finding {
        self.summary = summary.into();
        self
    }

    /// The same as a mere note.
    #[must_use]
    pub fn as_note(mut self) -> Finding {
        self.severity = Severity::Note;
        self
    }

    /// The same with another remedy.
    #[must_use]
    pub fn with_remedy(mut self, remedy: impl Into<String>) -> Finding {
        self.remedy = remedy.into();
        self
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::str::FromStr;

    #[test]
    fn every_code_has_exactly_one_row_and_comes_back_from_its_word() {
        for code in Code::ALL {
            assert_eq!(entries().filter(|e| e.code == code).count(), 1, "{}", code.word());
            assert_eq!(Code::from_str(code.word()).unwrap(), code);
            let e = entry(code);
            for text in [e.summary, e.meaning, e.cause, e.remedy, e.by_hand] {
                assert!(text.len() > 12, "{} has an empty text", code.word());
            }
            assert!(e.summary.len() < 110, "{}: a summary is one line", code.word());
        }
        assert_eq!(entries().count(), Code::ALL.len());
    }
}
