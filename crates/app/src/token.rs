//! Keys on PKCS#11 tokens: found, made, opened once a run. A PIN is tried once, since a token counts the wrong ones.

use crate::env::Env;
use crate::failure::Result;
use crate::interact::Task;
use crate::open_tokens::{Pin, held};
use crate::secret::Secret;
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::KEY_URI_FILE;
use tamga_core::ca::authority::create::AuthorityKey;
use tamga_core::ca::report::Authority;
use tamga_core::error::Error;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey, PublicKey, SigningKey};
use tamga_core::pki::token::{TokenUri, algorithm};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::text::Shown;
use tamga_host::entropy;
use tamga_host::token::{Session, TokenKey};

/// A key on a token, as it is typed.
#[derive(Clone, Debug)]
pub struct TokenRequest {
    /// Its address.
    pub uri: TokenUri,
    /// The token's module, where the address does not name it.
    pub module: Option<PathBuf>,
    /// Where the PIN comes from.
    pub pin: Secret,
}

impl TokenRequest {
    /// The address with the module that is meant, absolute.
    ///
    /// Errors: no module is named, or there is none.
    fn located(&self) -> Result<TokenUri> {
        let named = self.module.clone().or_else(|| self.uri.module.clone());
        let Some(named) = named else {
            return Err(Error::Contradiction {
                what: "the module of the token is not named".into(),
                why: "a token is reached through the library of its maker, and there is one for each kind".into(),
                instead: "name it: --module /usr/lib/softhsm/libsofthsm2.so, or wherever yours is".into(),
            }
            .into());
        };
        let module = tamga_host::token::module(&named)?;
        Ok(TokenUri { module: Some(module), ..self.uri.clone() })
    }

    /// The key of the address, made now if the token has none of that name. True if it was made.
    ///
    /// Errors: as for [`open`]; a key that another authority has; a key of another kind than the one asked for.
    pub(crate) fn find_or_make(
        &self,
        env: &Env,
        label: &Label,
        kind: Option<KeyAlgorithm>,
        known: &[Authority],
    ) -> Result<(TokenKey, bool)> {
        let mut uri = self.located()?;
        if uri.object.is_none() && uri.id.is_none() {
            uri.object = Some(label.to_string());
        }
        find_or_make(env, &uri, &self.pin, kind, known)
    }

    /// The key of the address, which belongs to one of these certificates' keys. It has proved that it signs.
    ///
    /// Errors: as for [`open`]; it does not sign.
    pub(crate) fn find(&self, env: &Env, certified: &PublicKey) -> Result<TokenKey> {
        let key = open(env, &self.located()?, &self.pin)?.find(Some(certified))?;
        key.sign(b"proof that the token can sign", &entropy::System)?;
        Ok(key)
    }
}

/// The key of a new authority, wherever it is.
pub(crate) enum Holder {
    /// In memory, to become a file.
    File(Box<PrivateKey>),
    /// On its token.
    Token(Box<TokenKey>),
}

impl Holder {
    /// It, as an authority is made with it; `protect` is for a file.
    pub(crate) fn of_authority<'a>(&'a self, protect: Option<&'a Passphrase>) -> AuthorityKey<'a> {
        match self {
            Holder::File(key) => AuthorityKey::File(key, protect),
            Holder::Token(key) => AuthorityKey::Token(&**key, key.uri()),
        }
    }

    /// Deletes it from its token: for one that was made and is not used after all.
    pub(crate) fn discard(&self, env: &Env) {
        if let Holder::Token(key) = self
            && key.delete().is_err()
        {
            let address = key.uri().portable();
            env.caller.warn(&format!("the key {address} was made, is not used, and could not be deleted again"));
        }
    }
}

/// One key signs for one authority: under two their certificates could not be held apart.
fn unused(key: &TokenKey, known: &[Authority]) -> Result<()> {
    match known.iter().find(|a| a.certificate.key == *key.public()) {
        None => Ok(()),
        Some(a) => Err(Error::LabelTaken {
            label: key.uri().portable().to_string(),
            by: format!("the key of the authority {}", a.label),
            instead: format!("use that one: --issuer {}; or give another object= to make another key", a.label),
        }
        .into()),
    }
}

/// The key of the address, made now if the token has none of that name. True if it was made. One that a run left behind which did not come
/// to its end is found again here.
fn find_or_make(
    env: &Env,
    uri: &TokenUri,
    pin: &Secret,
    kind: Option<KeyAlgorithm>,
    known: &[Authority],
) -> Result<(TokenKey, bool)> {
    let mut session = open(env, uri, pin)?;
    if !session.has_key()? {
        let kind = kind.unwrap_or(KeyAlgorithm::P256);
        let what = format!("making a key of the kind {kind} on {}", session.token.label().shown());
        let _shown = env.caller.progress(Task::One(&what));
        return Ok((session.make(kind)?, true));
    }
    let key = session.find(None)?;
    unused(&key, known)?;
    match kind {
        Some(kind) if algorithm(key.public()) != Some(kind) => Err(Error::Contradiction {
            what: format!("the key {} is not of the kind {kind}", key.uri().portable()),
            why: "it is on the token already, and is of another kind".into(),
            instead: "leave out --key-algorithm to use it, or give another object= to make one".into(),
        }
        .into()),
        _ => Ok((key, false)),
    }
}

/// The key of a successor, on the same token under the successor's label. True if it was made.
///
/// Errors: as for [`TokenRequest::find_or_make`].
pub(crate) fn beside(
    env: &Env,
    old: &Authority,
    label: &Label,
    kind: KeyAlgorithm,
    pin: &Secret,
    known: &[Authority],
) -> Result<(TokenKey, bool)> {
    let beside = TokenUri { object: Some(label.to_string()), id: None, extractable: None, ..address(env, old)? };
    find_or_make(env, &beside, pin, Some(kind), known)
}

/// The address of an authority's key, from the file in its directory.
///
/// Errors: the file is missing or holds no address.
fn address(env: &Env, a: &Authority) -> Result<TokenUri> {
    let path = a.folder.join(KEY_URI_FILE);
    let octets = match env.disk().read_named(&path) {
        Ok(octets) => octets,
        Err(tamga_host::error::Error::File { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {
            return Err(Error::KeyMissing { label: a.label.to_string(), path }.into());
        }
        Err(e) => return Err(e.into()),
    };
    let what = path.shown();
    let text = std::str::from_utf8(&octets).map_err(|_| Error::Malformed { what, why: "it is not UTF-8".into() })?;
    Ok(text.trim().parse()?)
}

/// The key of an authority that is on a token: opened once a run.
///
/// Errors: as for [`open`]; a key that is not the certificate's.
pub(crate) fn key_of(env: &Env, a: &Authority, pin: &Secret) -> Result<TokenKey> {
    if let Some(key) = held(&env.tokens.keys).get(&a.label) {
        return Ok(key.clone());
    }
    let uri = address(env, a)?;
    let key = open(env, &uri, pin)?.find(Some(&a.certificate.key))?;
    if *key.public() != a.certificate.key {
        return Err(Error::KeyMismatch { label: a.label.to_string(), path: a.folder.join(KEY_URI_FILE) }.into());
    }
    held(&env.tokens.keys).insert(a.label.clone(), key.clone());
    Ok(key)
}

/// Opens a token and logs in, with the PIN that was right before in this run, that was named, or that is asked for.
///
/// Errors: the token is not found or does not answer; the PIN is wrong, or was wrong before in this run.
fn open(env: &Env, uri: &TokenUri, pin: &Secret) -> Result<Session> {
    let module = module(uri)?;
    let mut session = Session::open(module, uri, pin.variable.as_deref())?;
    if !session.token.needs_pin {
        return Ok(session);
    }
    if session.token.has_keypad {
        env.caller.note(&format!("type the PIN at the keypad of {}", session.token.label().shown()));
        session.log_in(None)?;
        return Ok(session);
    }
    let of = (module.to_owned(), session.token.label().to_owned());
    let before = match held(&env.tokens.pins).get(&of) {
        Some(Pin::Wrong(fault)) => {
            return Err(Error::Token { uri: uri.portable().to_string(), fault: fault.clone() }.into());
        }
        Some(Pin::Right(pin)) => Some(pin.clone()),
        None => None,
    };
    let given = match before {
        Some(pin) => pin,
        None => pin_of(env, session.token.label(), pin)?,
    };
    let done = session.log_in(Some(&given));
    match &done {
        Ok(()) => held(&env.tokens.pins).insert(of, Pin::Right(given)),
        Err(Error::Token { fault, .. }) => held(&env.tokens.pins).insert(of, Pin::Wrong(fault.clone())),
        Err(_) => None,
    };
    done?;
    Ok(session)
}

fn pin_of(env: &Env, token: &str, pin: &Secret) -> Result<Passphrase> {
    if let Some(given) = pin.given(env)? {
        return Ok(given);
    }
    if !env.caller.is_present() {
        return Err(Error::PinNeeded { token: token.to_owned() }.into());
    }
    env.caller.passphrase(&format!("PIN of the token {}: ", token.shown()))
}

fn module(uri: &TokenUri) -> Result<&Path> {
    uri.module.as_deref().ok_or_else(|| {
        Error::Malformed { what: "the address of the key".into(), why: "it names no module of this machine".into() }
            .into()
    })
}

impl Env {
    /// Closes the tokens that this run has opened, except the one of an authority that goes on signing, and forgets their PINs.
    pub fn release_tokens(&self, but: &Label) {
        held(&self.tokens.keys).retain(|label, _| label == but);
        held(&self.tokens.pins).clear();
    }
}
