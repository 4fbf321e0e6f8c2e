//! What issuing one certificate, many, and renewing share: who signs, and how a certificate comes into its files and the ledger.

use crate::env::{Change, Env};
use crate::failure::Result;
use std::path::Path;
use tamga_core::ca::issue::{self, Holder, Made, Request};
use tamga_core::ca::report::{Authority, Issued, Life};
use tamga_core::finding::Finding;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::key::{PrivateKey, SigningKey};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_host::entropy;
use tamga_host::ledger::WorkKind;
use tamga_host::ledger::{Ledger, Record};

/// Who signs, with the key at hand.
pub enum Signer {
    /// An authority of the ledger.
    Authority(Box<Authority>, Box<dyn SigningKey>),
    /// A root for this alone; it is recorded, its key is not kept.
    SingleUse(Box<Authority>, Box<dyn SigningKey>),
    /// Nobody: the certificate signs itself.
    Itself,
}

impl Signer {
    /// The authority; None if the certificate signs itself.
    pub fn authority(&self) -> Option<&Authority> {
        match self {
            Signer::Authority(a, _) | Signer::SingleUse(a, _) => Some(a),
            Signer::Itself => None,
        }
    }

    /// The root that was made for this alone.
    pub fn single_use_root(&self) -> Option<&Authority> {
        match self {
            Signer::SingleUse(a, _) => Some(a),
            _ => None,
        }
    }

    fn sign(
        &self,
        env: &Env,
        request: &Request,
        key: &PrivateKey,
        protect: Option<&Passphrase>,
    ) -> tamga_core::error::Result<Made> {
        let signer = match self {
            Signer::Authority(a, k) | Signer::SingleUse(a, k) => issue::Signer::Authority(a, &**k),
            Signer::Itself => issue::Signer::Itself(key),
        };
        let ignore = env.disk().read_to_replace(&request.folder.join(".gitignore")).unwrap_or_default();
        issue::make(request, &Holder::Key(key, protect), &signer, &ignore, env.now, &entropy::System)
    }

    /// Signs a request with a new key of this kind.
    pub(super) fn sign_with_new_key(
        &self,
        env: &Env,
        request: &Request,
        algorithm: tamga_core::pki::key::KeyAlgorithm,
        protect: Option<&Passphrase>,
    ) -> tamga_core::error::Result<Made> {
        self.sign(env, request, &PrivateKey::generate(algorithm, &entropy::System)?, protect)
    }

    /// What the ledger will know of a certificate.
    pub(super) fn recorded(&self, request: &Request, certificate: Certificate) -> Issued {
        Issued {
            label: request.label.clone(),
            certificate,
            authority: self.authority().map(|a| a.label.clone()),
            folder: request.folder.clone(),
            life: Life::Live,
            host: None,
            revoked: None,
        }
    }
}

/// What the ledger will know of a certificate that somebody else issued.
pub(crate) fn recorded_elsewhere(label: &Label, certificate: Certificate, folder: &Path) -> Issued {
    Issued {
        label: label.clone(),
        certificate,
        authority: None,
        folder: folder.to_owned(),
        life: Life::Live,
        host: None,
        revoked: None,
    }
}

/// Makes a certificate, puts its files in place and records it. The ledger is locked.
pub(crate) fn make(
    env: &Env,
    ledger: &dyn Ledger,
    request: &Request,
    (key, protect): (&PrivateKey, Option<&Passphrase>),
    signer: &Signer,
    kind: &str,
) -> Result<(Issued, Vec<Finding>)> {
    let made = signer.sign(env, request, key, protect)?;
    let issued = signer.recorded(request, made.certificate);
    let change = Change {
        what: WorkKind::Certificate,
        label: &issued.label,
        sha256: issued.certificate.sha256(),
        publication: &made.publication,
        answers: false,
        record: Record::Certificate { issued: &issued, kind, root: signer.single_use_root() },
    };
    env.publish(ledger, &change)?;
    Ok((issued, made.findings))
}
