//! An intermediate between two machines: asked for here, signed on the isolated one, brought back here.

use super::create::{self, Request, under};
use super::import::above;
use super::limits::{self, Wanted};
use super::{CERTIFICATE_FILE, HEAD_START, REQUEST_FILE, certificate_document, document, key_document};
use crate::ca::report::{Authority, KeyPlace};
use crate::error::{Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::cert::csr::{self, Csr};
use crate::pki::cert::extensions::NameConstraints;
use crate::pki::cert::profile::{self, Ca, Links};
use crate::pki::format::pem;
use crate::pki::key::SigningKey;
use crate::pki::key::{PrivateKey, Strength};
use crate::pki::signature::SignatureFault;
use crate::plan::ports::Entropy;
use crate::plan::step::Publication;
use crate::vocabulary::label::Label;
use crate::vocabulary::permit::Permit;
use crate::vocabulary::secret::Passphrase;
use crate::vocabulary::text::Shown;
use crate::vocabulary::timestamp::Timestamp;
use std::path::PathBuf;

/// A key that waits for its certificate, with the request that was made of it.
pub struct Waiting {
    /// The request.
    pub csr: Csr,
    /// Key and request.
    pub publication: Publication,
}

/// Makes a request for an intermediate. Limits that were named are asked for; the signer may narrow them.
pub fn ask(
    request: &Request,
    key: &PrivateKey,
    passphrase: Option<&Passphrase>,
    folder: PathBuf,
    entropy: &dyn Entropy,
) -> Result<Waiting> {
    let subject = request.subject_der(false)?;
    let constraints = match request.wanted.permit.is_empty() {
        true => None,
        false => {
            let mut permit = Permit::Only { domains: Vec::new(), blocks: Vec::new() };
            for typed in &request.wanted.permit {
                permit.extend(typed)?;
            }
            profile::name_constraints(&permit)?
        }
    };
    let links = Links::default();
    let (from, until) = (Timestamp::from_unix(0), Timestamp::from_unix(0));
    let wishes =
        Ca { subject: &subject, constraints, path_length: request.path_length, from, until, links: &links }.wishes()?;
    let der = csr::build(&subject, &wishes, key, entropy)?;
    let csr = Csr::read(&der, "the request just made")?;
    let publication = Publication {
        folder,
        folder_mode: 0o700,
        documents: vec![
            key_document(key, passphrase, entropy)?,
            document(REQUEST_FILE, pem::write(pem::REQUEST, &der), 0o644),
        ],
    };
    Ok(Waiting { csr, publication })
}

/// Refuses a request whose signature, key or hash cannot be relied on.
pub fn trustworthy(csr: &Csr, accepts_weak_key: bool) -> Result<()> {
    let objection = |code: &'static str, why: String, instead: &str| {
        Err(Error::Objection {
            code,
            what: format!("the request of {} is refused", csr.subject_words()),
            why,
            instead: instead.to_owned(),
        })
    };
    match csr.key.strength() {
        Strength::Rsa(bits) if bits < 2048 && !accepts_weak_key => {
            return objection(
                "weak-key",
                format!("its key has {bits} bits; clients refuse RSA below 2048"),
                "have a new key made; or, for a device that can do no more, --accept weak-key",
            );
        }
        Strength::Other => {
            return objection(
                "key-kind-unsupported",
                "its kind of key is not one that Tamga can judge".into(),
                "have a request made with P-256, P-384, P-521, Ed25519 or RSA",
            );
        }
        _ => {}
    }
    let weak_hash = crate::pki::signature::is_weak(&csr.algorithm.oid);
    match csr.proves_possession() {
        Ok(()) => Ok(()),
        // A request's own signature protects nothing but itself: SHA-1 there is only old.
        Err(SignatureFault::Unsupported) if weak_hash => Ok(()),
        Err(SignatureFault::Unsupported) => objection(
            "bad-signature",
            format!("its signature algorithm {} is not one that Tamga can verify", csr.algorithm.oid),
            "have the request made with SHA-256",
        ),
        Err(SignatureFault::Wrong) => objection(
            "bad-signature",
            "its signature was not made with the key inside it: it was changed, or its maker does not hold the key"
                .into(),
            "have the request made again",
        ),
    }
}

/// What an intermediate will be, before it is signed.
#[derive(Debug)]
pub struct Judged {
    /// How many intermediates may follow.
    pub path_length: Option<u8>,
    /// What was asked for; None means what the signer has.
    pub wanted: Wanted,
    /// Its end.
    pub until: Timestamp,
    /// True if its life was shortened to the signer's.
    pub shortened: bool,
}

/// Judges a request for an intermediate against the authority that is to sign it.
///
/// Errors: a bad signature or weak key; names outside the signer's limits; a path length that is used up.
pub fn judge(
    csr: &Csr,
    parent: &Authority,
    path_length: Option<u8>,
    life: crate::vocabulary::timestamp::Span,
    now: Timestamp,
    accepts_weak_key: bool,
) -> Result<Judged> {
    trustworthy(csr, accepts_weak_key)?;
    if csr.wishes.basic.is_some_and(|b| !b.ca) {
        return Err(Error::Contradiction {
            what: format!("{} does not ask to be an authority", csr.subject_words()),
            why: "its request says CA:FALSE".into(),
            instead: "sign it as a certificate: tamga sign CSR".into(),
        });
    }
    let wanted = Wanted { permit: wishes(csr.wishes.constraints.as_ref()), any: false };
    limits::of_intermediate(&wanted, parent)?;
    let asked = path_length.or(csr.wishes.basic.and_then(|b| b.path_length));
    let (until, shortened) = create::until(parent, now, now.plus(life.seconds()))?;
    Ok(Judged { path_length: limits::path_length(asked, parent)?, wanted, until, shortened })
}

fn wishes(asked: Option<&NameConstraints>) -> Vec<String> {
    match asked.map(limits::permit_of) {
        Some(Permit::Only { domains, blocks }) => {
            domains.into_iter().chain(blocks.iter().map(ToString::to_string)).collect()
        }
        _ => Vec::new(),
    }
}

/// Signs it. The file that goes back holds the certificate and everything above it, root included.
#[allow(clippy::too_many_arguments, reason = "each is its own kind of thing")]
pub fn sign(
    csr: &Csr,
    judged: &Judged,
    label: &Label,
    parent: &Authority,
    parent_key: &dyn SigningKey,
    folder: PathBuf,
    now: Timestamp,
    entropy: &dyn Entropy,
) -> Result<(Authority, Publication)> {
    let certificate = Ca {
        subject: &csr.subject,
        constraints: limits::of_intermediate(&judged.wanted, parent)?,
        path_length: judged.path_length,
        from: now.plus(HEAD_START),
        until: judged.until,
        links: &parent.links,
    }
    .under(&csr.key, &parent.certificate, parent_key, entropy)?;
    let authority = under(parent, label.clone(), certificate, folder.clone(), KeyPlace::Elsewhere);
    let documents = vec![certificate_document(CERTIFICATE_FILE, create::chain(&authority))];
    Ok((authority, Publication { folder, folder_mode: 0o755, documents }))
}

/// Takes a signed intermediate back: its key must be the one that waits. `known` are authorities of the ledger.
///
/// Errors: no certificate of that key in the file; what [`super::import::examine`] refuses is the caller's to ask.
pub fn receive(
    label: &Label,
    folder: PathBuf,
    waiting: &Csr,
    found: &[Certificate],
    known: &[Authority],
) -> Result<(Authority, Publication)> {
    let certificate = found.iter().find(|c| c.key == waiting.key).ok_or_else(|| Error::Objection {
        code: "key-mismatch",
        what: format!("no certificate in the file belongs to the key of {label}"),
        why: match found.first() {
            Some(c) => format!("it holds {}, whose key is another", c.subject_words()),
            None => "it holds no certificate".into(),
        },
        instead: format!("give the certificate that was signed from {}", folder.join(REQUEST_FILE).shown()),
    })?;
    let parent = known.iter().find(|a| certificate.signed_by(&a.certificate).is_ok());
    let mut others: Vec<Certificate> = found.to_vec();
    others.extend(known.iter().flat_map(|a| create::chain(a).cloned()));
    let authority = match parent {
        Some(parent) => under(parent, label.clone(), certificate.clone(), folder.clone(), KeyPlace::Here),
        None => Authority {
            above: above(certificate, &others),
            ..Authority::root(label.clone(), certificate.clone(), folder.clone())
        },
    };
    let documents = vec![certificate_document(CERTIFICATE_FILE, create::chain(&authority))];
    Ok((authority, Publication { folder, folder_mode: 0o700, documents }))
}
