//! What a server answers before TLS.

use super::Missed;
use tamga_core::finding::Code;

/// None if TLS may begin; else why it may not.
pub(super) type Answer = std::io::Result<Option<Missed>>;

pub(super) fn other(detail: &str) -> Missed {
    Missed::new(Code::OtherProtocol, detail.to_owned())
}

pub(super) fn without_tls(detail: &str) -> Missed {
    Missed::new(Code::TlsOnPlainPort, detail.to_owned())
}
