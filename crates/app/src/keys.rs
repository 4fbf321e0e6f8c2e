//! Private keys in files: read, opened, and proved to belong to their certificate.

use crate::env::Env;
use crate::failure::Result;
use crate::interact::Task;
use crate::secret::Secret;
use crate::token;
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::{self, CERTIFICATE_FILE, KEY_FILE};
use tamga_core::ca::report::{Authority, Issued, KeyPlace};
use tamga_core::error::Error;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::format::pem;
use tamga_core::pki::format::private_key::{self, Stored};
use tamga_core::pki::key::SigningKey;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::vocabulary::secret::Passphrase;
use tamga_host::{entropy, fs};

impl Env {
    /// Makes a key. RSA keys take seconds, which a person sees.
    ///
    /// Errors: the system gives no random numbers.
    pub fn generate(&self, algorithm: KeyAlgorithm) -> Result<PrivateKey> {
        let is_slow = matches!(algorithm, KeyAlgorithm::Rsa2048 | KeyAlgorithm::Rsa3072 | KeyAlgorithm::Rsa4096);
        let what = format!("making an {algorithm} key");
        let _shown = is_slow.then(|| self.caller.progress(Task::One(&what)));
        Ok(PrivateKey::generate(algorithm, &entropy::System)?)
    }

    /// Opens a key; its passphrase is asked for only if it needs one. `of` is what it is the key of.
    ///
    /// Errors: the passphrase is wrong, or nobody can be asked for it.
    pub fn open_key(&self, stored: Stored, of: &str, secret: &Secret) -> Result<PrivateKey> {
        Ok(self.open_stored(stored, of, secret)?.0)
    }

    /// The same, with the passphrase that opened it, if it needed one.
    ///
    /// Errors: as for [`Env::open_key`].
    pub fn open_stored(&self, stored: Stored, of: &str, secret: &Secret) -> Result<(PrivateKey, Option<Passphrase>)> {
        match stored {
            Stored::Open(key) => Ok((key, None)),
            Stored::Locked(locked) => {
                let (key, passphrase) = secret.open(self, of, |p| locked.open(p))?;
                Ok((key, Some(passphrase)))
            }
        }
    }

    /// The key in a certificate's directory, opened and proved to be its own.
    ///
    /// Errors: it is missing, of another certificate, or cannot be opened.
    pub fn key_of(
        &self,
        label: &str,
        directory: &Path,
        certificate: &Certificate,
        secret: &Secret,
    ) -> Result<PrivateKey> {
        let stored = self.stored_key(label, &directory.join(KEY_FILE))?;
        own(self.open_key(stored, &format!("the key of {label}"), secret)?, certificate, label, directory)
    }

    /// The chain in a certificate's directory as DER, and its key.
    ///
    /// Errors: as for [`Env::key_of`]; the chain cannot be read.
    pub fn chain_and_key(&self, i: &Issued, secret: &Secret) -> Result<(Vec<Vec<u8>>, PrivateKey)> {
        let chain = pem::certificates(&self.disk().read_named(&i.folder.join(CERTIFICATE_FILE))?);
        Ok((chain, self.key_of(&i.label, &i.folder, &i.certificate, secret)?))
    }

    /// The key of an authority that can sign now, opened and proved to be its own.
    ///
    /// Errors: it is retired, its key is elsewhere, or as for [`Env::key_of`].
    pub fn authority_key(&self, a: &Authority, secret: &Secret) -> Result<Box<dyn SigningKey>> {
        authority::can_sign(a)?;
        if let KeyPlace::Token(_) = a.key {
            return Ok(Box::new(token::key_of(self, a, secret)?));
        }
        Ok(Box::new(self.key_of(&a.label, &a.folder, &a.certificate, secret)?))
    }

    /// The same, with the passphrase that opened it, if it needed one.
    ///
    /// Errors: as for [`Env::authority_key`].
    pub fn locked_authority_key(
        &self,
        a: &Authority,
        secret: &Secret,
    ) -> Result<(Box<dyn SigningKey>, Option<Passphrase>)> {
        authority::can_sign(a)?;
        if let KeyPlace::Token(_) = a.key {
            return Ok((Box::new(token::key_of(self, a, secret)?), None));
        }
        let stored = self.stored_key(&a.label, &a.folder.join(KEY_FILE))?;
        let (key, passphrase) = self.open_stored(stored, &format!("the key of {}", a.label), secret)?;
        Ok((Box::new(own(key, &a.certificate, &a.label, &a.folder)?), passphrase))
    }

    /// True if an authority's key is here and needs a passphrase.
    pub fn is_locked(&self, a: &Authority) -> bool {
        self.disk().read(&a.folder.join(KEY_FILE)).is_ok_and(|bytes| private_key::is_locked(&bytes))
    }

    /// The key in a file, perhaps locked.
    ///
    /// Errors: the file is missing or holds no key.
    pub fn stored_key(&self, label: &str, path: &Path) -> Result<Stored> {
        match self.disk().read_named(path) {
            Ok(bytes) => Ok(private_key::read(&bytes, &fs::name_of(path))?),
            Err(tamga_host::error::Error::File { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {
                Err(Error::KeyMissing { label: label.to_owned(), path: path.to_owned() }.into())
            }
            Err(e) => Err(e.into()),
        }
    }
}

/// Refuses a key that is not the certificate's.
///
/// Errors: that.
pub fn own(key: PrivateKey, certificate: &Certificate, label: &str, directory: &Path) -> Result<PrivateKey> {
    if *key.public() != certificate.key {
        return Err(Error::KeyMismatch { label: label.to_owned(), path: directory.join(KEY_FILE) }.into());
    }
    Ok(key)
}

/// Every certificate of some files.
///
/// Errors: a file without any, or with one that is malformed.
pub fn certificates(env: &Env, files: &[PathBuf]) -> Result<Vec<Certificate>> {
    read_by(env, files, Certificate::read)
}

/// The same as a server would send them: what has the shape of a certificate is one, whatever is wrong with its fields.
///
/// Errors: a file without any, or with octets of another shape.
pub fn certificates_as_sent(env: &Env, files: &[PathBuf]) -> Result<Vec<Certificate>> {
    read_by(env, files, |der, what| Certificate::read_any(der).map_or_else(|| Certificate::read(der, what), Ok))
}

fn read_by(
    env: &Env,
    files: &[PathBuf],
    read: impl Fn(&[u8], &str) -> tamga_core::error::Result<Certificate>,
) -> Result<Vec<Certificate>> {
    let mut out = Vec::new();
    for path in files {
        let bytes = env.disk().read_named(path)?;
        let what = fs::name_of(path);
        let ders = pem::certificates(&bytes);
        if ders.is_empty() {
            return Err(Error::Malformed { what, why: "it holds no certificate".into() }.into());
        }
        for der in ders {
            out.push(read(&der, &what)?);
        }
    }
    Ok(out)
}
