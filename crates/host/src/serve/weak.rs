//! An RSA key that is too short for the TLS library: it signs in TLS 1.2 by our own key, so that a lab can see what its
//! clients say of it.

use crate::entropy;
use crate::error::{Error, Result};
use rustls::sign::{Signer, SigningKey};
use rustls::{SignatureAlgorithm, SignatureScheme};
use std::sync::Arc;
use tamga_core::pki::format::private_key::{self, Stored};
use tamga_core::pki::key::{PrivateKey, Strength};

/// The site's TLS failed.
pub(super) fn failed(said: String) -> Error {
    Error::Program { program: "the site's TLS".into(), said }
}

/// True for a key that the TLS library does not take.
pub(super) fn is_weak(key: &PrivateKey) -> bool {
    matches!(key.public().strength(), Strength::Rsa(bits) if bits < 2048)
}

/// A short RSA key.
#[derive(Clone, Debug)]
pub(super) struct Weak(Arc<PrivateKey>);

impl Weak {
    /// In: PKCS#8, DER.
    pub(super) fn new(pkcs8: &[u8]) -> Result<Weak> {
        match private_key::read(pkcs8, "the weak key") {
            Ok(Stored::Open(key)) => Ok(Weak(Arc::new(key))),
            _ => Err(failed("this key cannot be served".into())),
        }
    }
}

impl SigningKey for Weak {
    fn choose_scheme(&self, offered: &[SignatureScheme]) -> Option<Box<dyn Signer>> {
        offered.contains(&SignatureScheme::RSA_PKCS1_SHA256).then(|| Box::new(self.clone()) as Box<dyn Signer>)
    }

    fn algorithm(&self) -> SignatureAlgorithm {
        SignatureAlgorithm::RSA
    }
}

impl Signer for Weak {
    fn sign(&self, message: &[u8]) -> std::result::Result<Vec<u8>, rustls::Error> {
        self.0.sign(message, &entropy::System).map_err(|e| rustls::Error::General(e.to_string()))
    }

    fn scheme(&self) -> SignatureScheme {
        SignatureScheme::RSA_PKCS1_SHA256
    }
}
