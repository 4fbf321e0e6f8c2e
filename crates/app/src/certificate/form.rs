//! A certificate with its key in one form, in memory.

use crate::env::Env;
use crate::failure::Result;
use crate::secret::Secret;
use tamga_core::ca::authority::{CERTIFICATE_FILE, ROOT_FILE};
use tamga_core::ca::report::Issued;
use tamga_core::deploy::export::{self, Form, Material, Settings};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::format::pem;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_host::{entropy, error};
use zeroize::Zeroizing;

/// Makes it. `secret` opens the key, `passphrase` is to open what is made.
///
/// Errors: as for [`Env::key_of`] and [`export::make`]; the chain cannot be read.
pub(crate) fn made(
    env: &Env,
    issued: &Issued,
    form: Form,
    secret: &Secret,
    passphrase: Option<&Passphrase>,
) -> Result<Zeroizing<Vec<u8>>> {
    let certificates = |name: &str| -> Result<Vec<Certificate>> {
        let file = issued.folder.join(name);
        let text = env.disk().read(&file).map_err(error::Error::file("reading", &file))?;
        let ders = pem::certificates(&text);
        Ok(ders.iter().map(|d| Certificate::read(d, name)).collect::<tamga_core::error::Result<_>>()?)
    };
    let chain = certificates(CERTIFICATE_FILE)?;
    let root = certificates(ROOT_FILE).ok().and_then(|mut r| r.pop()).filter(|r| chain.first() != Some(r));
    let key = match form.wants_key() {
        true => Some(env.key_of(&issued.label, &issued.folder, &issued.certificate, secret)?),
        false => None,
    };
    let settings = Settings { passphrase, legacy: false, now: env.now };
    let material = Material { alias: issued.label.to_string(), key, chain, root };
    Ok(export::make(form, &material, &settings, &entropy::System)?.bytes)
}
