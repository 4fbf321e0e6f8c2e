//! The TLS side of a site: its certificate, which may be replaced while it runs, and whom it lets in.

use super::weak::failed;
use super::{Content, Seen, weak};
use crate::error::Result;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::server::{ClientHello, ResolvesServerCert, WebPkiClientVerifier};
use rustls::sign::CertifiedKey;
use rustls::{RootCertStore, ServerConfig};
use std::sync::{Arc, RwLock};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::key::PrivateKey;

/// The oldest protocol that is spoken.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub enum Minimum {
    /// TLS 1.2.
    #[default]
    Tls12,
    /// TLS 1.3.
    Tls13,
}

/// The certificate that is served now.
#[derive(Debug)]
pub struct Served(RwLock<Arc<CertifiedKey>>);

impl Served {
    /// Serves a chain (DER, leaf first) with its key.
    ///
    /// Errors: they cannot be served.
    pub fn of(chain: &[Vec<u8>], key: &PrivateKey) -> Result<Served> {
        Ok(Served(RwLock::new(Arc::new(certified(chain, key)?))))
    }

    /// The leaf that is served now, DER.
    pub fn leaf(&self) -> Option<Vec<u8>> {
        self.0.read().unwrap_or_else(|e| e.into_inner()).cert.first().map(|c| c.to_vec())
    }

    /// Serves another from the next handshake on. In: the chain (DER, leaf first) and its key.
    pub fn replace(&self, chain: &[Vec<u8>], key: &PrivateKey) -> Result<()> {
        let new = Arc::new(certified(chain, key)?);
        *self.0.write().unwrap_or_else(|e| e.into_inner()) = new;
        Ok(())
    }
}

impl ResolvesServerCert for Served {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.0.read().unwrap_or_else(|e| e.into_inner()).clone())
    }
}

/// A chain and its key as TLS takes them.
pub fn certified(chain: &[Vec<u8>], key: &PrivateKey) -> Result<CertifiedKey> {
    let pkcs8 = tamga_core::pki::format::private_key::pkcs8(key).map_err(|e| failed(e.to_string()))?;
    if weak::is_weak(key) {
        let chain = chain.iter().map(|der| CertificateDer::from(der.clone())).collect();
        return Ok(CertifiedKey::new(chain, Arc::new(weak::Weak::new(&pkcs8)?)));
    }
    let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(pkcs8.to_vec()));
    let chain = chain.iter().map(|der| CertificateDer::from(der.clone())).collect();
    CertifiedKey::from_der(chain, key, &rustls::crypto::ring::default_provider())
        .map_err(|e| failed(format!("this certificate and key cannot be served: {e}")))
}

/// TLS with a certificate that may be replaced, and these application protocols.
///
/// Errors: the library refuses.
pub fn config(served: Arc<Served>, protocols: &[&[u8]]) -> Result<Arc<ServerConfig>> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let mut config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| failed(e.to_string()))?
        .with_no_client_auth()
        .with_cert_resolver(served);
    config.alpn_protocols = protocols.iter().map(|p| p.to_vec()).collect();
    Ok(Arc::new(config))
}

/// What is served, and how.
pub struct Site {
    served: Arc<Served>,
    config: Arc<ServerConfig>,
    content: Content,
    seen: Option<Seen>,
}

impl Site {
    /// A site with a chain (DER, leaf first), its key and a page of HTML.
    pub fn new(chain: &[Vec<u8>], key: &PrivateKey, page: String) -> Result<Site> {
        Site::with(chain, key, Content::Page(Arc::new(RwLock::new(page))), Minimum::Tls12, &[])
    }

    /// The same with a directory, an oldest protocol, and the authorities under which clients must have a certificate (none:
    /// everybody is let in).
    pub fn with(
        chain: &[Vec<u8>],
        key: &PrivateKey,
        content: Content,
        minimum: Minimum,
        clients_under: &[Certificate],
    ) -> Result<Site> {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let versions: &[_] = match minimum {
            // Such a key signs in the way of TLS 1.2 alone.
            _ if weak::is_weak(key) => &[&rustls::version::TLS12],
            Minimum::Tls12 => rustls::DEFAULT_VERSIONS,
            Minimum::Tls13 => &[&rustls::version::TLS13],
        };
        let builder = ServerConfig::builder_with_provider(provider.clone())
            .with_protocol_versions(versions)
            .map_err(|e| failed(e.to_string()))?;
        let builder = if clients_under.is_empty() {
            builder.with_no_client_auth()
        } else {
            let mut roots = RootCertStore::empty();
            for c in clients_under {
                roots.add(c.der().to_vec().into()).map_err(|e| failed(format!("an authority of clients: {e}")))?;
            }
            let verifier = WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider).build();
            builder.with_client_cert_verifier(verifier.map_err(|e| failed(e.to_string()))?)
        };
        let served = Arc::new(Served(RwLock::new(Arc::new(certified(chain, key)?))));
        let mut config = builder.with_cert_resolver(served.clone());
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        Ok(Site { served, config: Arc::new(config), content, seen: None })
    }

    /// The same, called for every answer.
    #[must_use]
    pub fn watched(mut self, seen: Seen) -> Site {
        self.seen = Some(seen);
        self
    }

    /// The certificate that it serves, to be replaced.
    pub fn served(&self) -> Arc<Served> {
        self.served.clone()
    }

    pub(super) fn config(&self) -> Arc<ServerConfig> {
        self.config.clone()
    }

    pub(super) fn content(&self) -> &Content {
        &self.content
    }

    pub(super) fn seen(&self) -> Option<&Seen> {
        self.seen.as_ref()
    }
}
