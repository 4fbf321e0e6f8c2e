//! Asking a service for a certificate, as a port: who speaks the protocol gets everything that it needs, and nothing of the ledger.

use crate::failure::Result;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::invitation::Given;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::csr::Csr;
use tamga_core::pki::key::PrivateKey;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::fs::Disk;
use tamga_host::ledger::Origin;
use zeroize::Zeroizing;

/// Asks a service for a certificate.
pub trait Enroller: Send + Sync {
    /// The chain for a request. `ordered` is called with the URL of the order before the service is asked to issue.
    ///
    /// Errors: [`Failure`](tamga_core::enrollment::failure::Failure), and what `ordered` returns.
    fn enroll(&self, wanted: &Wanted<'_>, ordered: &dyn Fn(&str) -> Result<()>) -> Result<Got>;

    /// When the service suggests to renew a certificate; None if it says nothing of it.
    fn suggested(
        &self,
        origin: &Origin,
        roots: &[Vec<u8>],
        certificate: &Certificate,
    ) -> Option<(Timestamp, Timestamp)>;
}

/// What came of it.
pub struct Got {
    /// The chain, leaf first.
    pub chain: Vec<Certificate>,
    /// What could not be taken away again: a sentence for each.
    pub left: Vec<String>,
}

/// What a service is asked with.
pub struct Means {
    /// The key of the account there.
    pub account: PrivateKey,
    /// The roots that the service, and what it issues, may have: DER.
    pub roots: Vec<Vec<u8>>,
    /// The key for updates of a zone, as its file says it.
    pub dns_key: Option<Zeroizing<String>>,
}

/// What a service is asked for.
pub struct Wanted<'a> {
    /// The names.
    pub names: &'a [Identifier],
    /// The request with them.
    pub csr: &'a Csr,
    /// Which service, and how control is proved.
    pub origin: &'a Origin,
    /// What it is asked with.
    pub means: &'a Means,
    /// The files of the machine: a challenge may be answered by one.
    pub disk: &'a dyn Disk,
    /// An invitation.
    pub invitation: Option<&'a Given>,
    /// The certificate that it takes the place of.
    pub replaces: Option<&'a Certificate>,
}
