//! A certificate to be signed elsewhere: a key that waits here, and the request made of it.

use crate::ca::authority::{REQUEST_FILE, document, key_document};
use crate::ca::issue::ignoring;
use crate::error::Result;
use crate::pki::cert::csr::{self, Csr};
use crate::pki::cert::profile::{self, Leaf, Links};
use crate::pki::format::pem;
use crate::pki::key::PrivateKey;
use crate::plan::ports::Entropy;
use crate::plan::step::{Document, Publication};
use crate::vocabulary::name::Name;
use crate::vocabulary::purpose::Purpose;
use crate::vocabulary::secret::Passphrase;
use crate::vocabulary::timestamp::Timestamp;
use std::path::PathBuf;

/// What is asked for.
pub struct Wanted {
    /// The names.
    pub names: Vec<Name>,
    /// The purposes.
    pub purposes: Vec<Purpose>,
    /// The subject's name, DER; None means the first name.
    pub subject: Option<Vec<u8>>,
    /// The directory for key and request.
    pub folder: PathBuf,
}

/// The request, and the files of key and request. `ignore` is what the directory's `.gitignore` holds already.
pub fn make(
    wanted: &Wanted,
    key: &PrivateKey,
    passphrase: Option<&Passphrase>,
    ignore: &[u8],
    entropy: &dyn Entropy,
) -> Result<(Csr, Publication)> {
    let subject = match &wanted.subject {
        Some(der) => der.clone(),
        None => profile::leaf_subject(&wanted.names).to_der()?,
    };
    let (names, purposes, links) = (&wanted.names, &wanted.purposes, Links::default());
    let (from, until) = (Timestamp::from_unix(0), Timestamp::from_unix(0));
    let leaf = Leaf { names, purposes, subject: &subject, from, until, links: &links };
    let der = csr::build(&subject, &leaf.wishes(key.public())?, key, entropy)?;
    let publication = Publication {
        folder: wanted.folder.clone(),
        folder_mode: 0o755,
        documents: vec![
            Document { name: ".gitignore", bytes: ignoring(ignore), mode: 0o644, secret: false },
            key_document(key, passphrase, entropy)?,
            document(REQUEST_FILE, pem::write(pem::REQUEST, &der), 0o644),
        ],
    };
    Ok((Csr::read(&der, "the request just made")?, publication))
}
