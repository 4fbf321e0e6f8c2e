//! Authorities: which is meant, how one is made ([`create`]), how its limits grow ([`permit`]), how an intermediate comes
//! about between two machines ([`request`]), how one made elsewhere is taken in ([`import`]), how one follows another
//! ([`rollover`]).

pub mod create;
pub mod import;
pub mod limits;
pub mod permit;
pub mod request;
pub mod rollover;

use crate::ca::report::{Authority, Issued, KeyPlace};
use crate::error::{Error, Result};
use crate::pki::format::{pem, private_key};
use crate::pki::key::PrivateKey;
use crate::pki::token::TokenUri;
use crate::plan::ports::Entropy;
use crate::plan::step::Document;
use crate::vocabulary::label::Label;
use crate::vocabulary::secret::Passphrase;
use crate::vocabulary::text::Shown;
use std::path::Path;
use zeroize::Zeroizing;

/// Everything begins an hour ago, for clocks that are late.
pub const HEAD_START: i64 = -3_600;
/// The key's file in an authority's or certificate's directory.
pub const KEY_FILE: &str = "private-key.pem";
/// The file with the address of a key that is on a token, instead of the key's own.
pub const KEY_URI_FILE: &str = "private-key.uri";
/// The certificate's file.
pub const CERTIFICATE_FILE: &str = "certificate.pem";
/// The root's file in a certificate's directory.
pub const ROOT_FILE: &str = "root.pem";
/// The request's file while a key waits for its certificate.
pub const REQUEST_FILE: &str = "request.pem";

/// Checks that a label is free among authorities, certificates and waiting requests, which share one space.
pub fn free(label: &Label, authorities: &[Authority], issued: Option<&Issued>, waiting: Option<&Path>) -> Result<()> {
    let taken = |by: String| Error::LabelTaken {
        label: label.to_string(),
        by,
        instead: match issued {
            Some(_) => format!(
                "to replace it: tamga renew {label}; to add a name: tamga renew {label} --add NAME; for another one: --label TEXT"
            ),
            None => "choose another: --label TEXT (or another LABEL for an authority)".into(),
        },
    };
    if authorities.iter().any(|a| a.label == label.as_str()) {
        return Err(taken("an authority".into()));
    }
    if let Some(place) = waiting {
        return Err(taken(format!("a key that waits for its certificate in {}", place.shown())));
    }
    match issued {
        Some(Issued { folder, host: Some(host), .. }) => {
            Err(taken(format!("the certificate in {}, on the machine {}", folder.shown(), host.shown())))
        }
        Some(i) => Err(taken(format!("the certificate in {}", i.folder.shown()))),
        None => Ok(()),
    }
}

/// The authority meant: the one named, or the only one there is. `signing`: only those that can still sign count as
/// the only one; else only roots do.
///
/// ```
/// use tamga_core::ca::authority::choose;
/// use tamga_core::sample::root;
///
/// let all = [root()?.0];
/// assert_eq!(choose(None, &all, true)?.label, "saltmarsh", "the only one need not be named");
/// assert!(choose(Some("harbour"), &all, true).is_err());
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn choose<'a>(named: Option<&str>, all: &'a [Authority], signing: bool) -> Result<&'a Authority> {
    if let Some(label) = named {
        return all.iter().find(|a| a.label == label).ok_or_else(|| Error::LabelUnknown {
            label: label.to_owned(),
            sought: "authority",
            known: all.iter().map(|a| a.label.to_string()).collect(),
        });
    }
    let counts = |a: &&Authority| if signing { a.may_sign() } else { a.is_root() && !a.retired };
    let meant: Vec<&Authority> = all.iter().filter(counts).collect();
    match meant.as_slice() {
        [] => Err(Error::NoAuthority),
        [only] => Ok(only),
        several => Err(Error::ManyAuthorities { labels: several.iter().map(|a| a.label.to_string()).collect() }),
    }
}

/// Says why an authority cannot sign now, if it cannot: its key is elsewhere, gone, or it is retired.
pub fn can_sign(a: &Authority) -> Result<()> {
    let away = |place: String, instead: String| Err(Error::KeyAway { label: a.label.to_string(), place, instead });
    match &a.key {
        _ if a.retired => Err(Error::Contradiction {
            what: format!("{} is retired", a.label),
            why: "it signs no more".into(),
            instead: "issue under another: --issuer LABEL, see tamga authority list".into(),
        }),
        KeyPlace::Here | KeyPlace::Token(_) => Ok(()),
        KeyPlace::Offline(place) => away(
            format!("it was put into {}", place.shown()),
            format!("bring it back: tamga authority online {}", place.shown()),
        ),
        KeyPlace::Elsewhere => away(
            "it stayed on the machine that asked for its certificate".into(),
            "run the same command on that machine".into(),
        ),
        KeyPlace::Discarded => away(
            "it was deleted, and can sign nothing anymore".into(),
            "issue under another authority: --issuer LABEL".into(),
        ),
    }
}

/// Says why the key of an authority cannot be read from its file, if it cannot: as [`can_sign`], or it is on a token.
pub fn has_key_file(a: &Authority) -> Result<()> {
    can_sign(a)?;
    match &a.key {
        KeyPlace::Token(uri) => Err(Error::Contradiction {
            what: format!("the private key of {} is not in a file", a.label),
            why: format!("it is on {}, and stays there", uri.portable()),
            instead: "take the token out and lock it away; its PIN is changed with its own tools".into(),
        }),
        _ => Ok(()),
    }
}

/// A file from text; the text's buffer becomes the file's and is wiped with it.
pub(crate) fn document(name: &'static str, mut text: Zeroizing<String>, mode: u32) -> Document {
    let bytes = Zeroizing::new(std::mem::take(&mut *text).into_bytes());
    Document { name, bytes, mode, secret: false }
}

/// The file of a private key, encrypted where there is a passphrase.
pub fn key_document(key: &PrivateKey, passphrase: Option<&Passphrase>, entropy: &dyn Entropy) -> Result<Document> {
    let file = document(KEY_FILE, private_key::write(key, passphrase, entropy)?, 0o600);
    Ok(Document { secret: passphrase.is_none(), ..file })
}

/// The file with the address of a key on a token: one line, with the module of this machine.
pub fn key_uri_document(uri: &TokenUri) -> Document {
    document(KEY_URI_FILE, Zeroizing::new(format!("{uri}\n")), 0o600)
}

/// The file of certificates, one after the other.
pub fn certificate_document<'a>(
    name: &'static str,
    all: impl IntoIterator<Item = &'a crate::pki::cert::Certificate>,
) -> Document {
    let mut text = String::new();
    for c in all {
        text.push_str(&pem::write(pem::CERTIFICATE, c.der()));
    }
    document(name, Zeroizing::new(text), 0o644)
}

/// Reads an unencrypted private key.
pub fn read_key(bytes: &[u8], what: &str) -> Result<PrivateKey> {
    private_key::read(bytes, what)?.open(None)
}
