//! For what a recipe is filled in.

use super::system::System;
use crate::pki::key::PublicKey;
use crate::vocabulary::fingerprint::Sha256Fingerprint;
use crate::vocabulary::label::Label;
use crate::vocabulary::name::Name;
use crate::vocabulary::timestamp::Span;
use std::net::IpAddr;
use std::path::PathBuf;

/// For what a recipe is filled in.
#[derive(Clone, Debug)]
pub struct Setting {
    /// For which system the steps are written.
    pub system: System,
    /// The certificate's label.
    pub label: Label,
    /// Its names, in their order.
    pub names: Vec<Name>,
    /// Its key.
    pub key: PublicKey,
    /// The SHA-256 of the certificate.
    pub sha256: Sha256Fingerprint,
    /// How long it is valid, from its first moment to its last.
    pub life: Span,
    /// The directory with its files.
    pub folder: PathBuf,
    /// True if its private key needs a passphrase.
    pub locked: bool,
    /// The directory from which the server is to read; None: as the recipe has it.
    pub into: Option<PathBuf>,
    /// Where it listens; None: everywhere, but for a certificate of loopback names alone on loopback.
    pub address: Option<IpAddr>,
    /// The port for TLS; None: the recipe's.
    pub port: Option<u16>,
    /// The port on which plain HTTP is sent to HTTPS.
    pub redirect: Option<u16>,
    /// TLS 1.3 alone.
    pub only_13: bool,
    /// The authority whose clients alone are let in: its label, and the file of its root.
    pub clients: Option<(Label, PathBuf)>,
    /// The account that reads the key; None: the recipe's.
    pub owner: Option<String>,
    /// True if the person who types the steps is not root.
    pub raise: bool,
}
