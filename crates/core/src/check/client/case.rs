//! What is judged, what a rule looks at, and what it finds: the values between the judge and its rules.

use crate::check::client::Policy;
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::cert::crl::Crl;
use crate::pki::chain::revocation::Revocation;
use crate::vocabulary::fingerprint::Sha256Fingerprint;
use crate::vocabulary::name::Name;
use crate::vocabulary::purpose::JudgedPurpose;
use crate::vocabulary::timestamp::Timestamp;

/// What is judged. Time is part of the input.
#[derive(Clone, Copy, Debug)]
pub struct Input<'a> {
    /// What the server sent, leaf first.
    pub served: &'a [Certificate],
    /// Further intermediates that the client may know.
    pub extra: &'a [Certificate],
    /// The roots that the client trusts.
    pub anchors: &'a [Certificate],
    /// SHA-256 fingerprints that the client distrusts.
    pub distrusted: &'a [Sha256Fingerprint],
    /// SHA-256 of the public keys that it distrusts, whatever certificate they are in.
    pub distrusted_keys: &'a [Sha256Fingerprint],
    /// The host asked for; None leaves names out.
    pub name: Option<&'a Name>,
    /// The purpose; None leaves it out.
    pub purpose: Option<JudgedPurpose>,
    /// Judged as of then.
    pub at: Timestamp,
    /// Revocation lists that are at hand.
    pub lists: &'a [Crl],
    /// How much they count.
    pub revocation: Revocation,
    /// What is known of the connection beside the certificates.
    pub spoken: Spoken<'a>,
}

/// What a connection showed beside the certificates. Empty where there is none, as with files.
#[derive(Clone, Copy, Debug, Default)]
pub struct Spoken<'a> {
    /// What stood among the certificates and has not the shape of one: its place in what was served, and its octets.
    pub junk: &'a [(usize, Vec<u8>)],
    /// The server's signature is not that of the key in its certificate.
    pub key_mismatch: bool,
    /// The server ends the connection without a client certificate.
    pub demands_client: bool,
    /// TLS 1.2 was spoken, not 1.3.
    pub is_tls12: bool,
    /// The cipher suite of a server with which ours could not go on.
    pub suite: Option<u16>,
    /// Keys were exchanged on P-521.
    pub is_p521: bool,
    /// A response was stapled whose status says that its sender may not ask (RFC 6960 §4.2.1, `unauthorized`).
    pub staple_refuses: bool,
}

impl Input<'_> {
    /// The octets of everything that was served, in order, readable or not.
    pub fn served_octets(&self) -> Vec<&[u8]> {
        let mut out: Vec<&[u8]> = self.served.iter().map(Certificate::der).collect();
        for (place, octets) in self.spoken.junk {
            out.insert((*place).min(out.len()), octets);
        }
        out
    }

    /// The length of what was served, as the handshake message that holds it (RFC 8446 §4.4.2).
    pub fn served_length(&self) -> usize {
        self.served_octets().iter().map(|der| der.len() + 5).sum::<usize>() + 4
    }
}

/// One thing wrong with a chain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChainFault {
    /// Which kind.
    pub code: Code,
    /// Where in the path: 0 is the leaf.
    pub depth: usize,
    /// A detail for a person, such as the name that lies outside; may be empty.
    pub detail: String,
    /// True if it is about the anchor.
    pub anchor: bool,
}

impl ChainFault {
    /// One that is not about the anchor.
    pub fn new(code: Code, depth: usize, detail: impl Into<String>) -> ChainFault {
        ChainFault { code, depth, detail: detail.into(), anchor: false }
    }
}

/// What a rule looks at.
pub struct Case<'a> {
    /// Leaf first; if `anchored`, the anchor last.
    pub path: &'a [Certificate],
    /// True if the path reached an anchor.
    pub anchored: bool,
    /// The rest of the input.
    pub input: &'a Input<'a>,
    /// Whose rules.
    pub policy: &'a Policy,
}

impl Case<'_> {
    /// Everything that issued: with its depth, and whether it is the anchor.
    pub(super) fn issuers(&self) -> impl Iterator<Item = (usize, &Certificate, bool)> {
        let last = self.path.len() - 1;
        self.path.iter().enumerate().skip(1).map(move |(i, c)| (i, c, self.anchored && i == last))
    }

    /// What may have signed a list in an issuer's name: everything at hand, above and beside the path.
    pub(super) fn list_signers(&self) -> Vec<&Certificate> {
        let input = self.input;
        self.path.iter().chain(input.served).chain(input.extra).chain(input.anchors).collect()
    }
}
