//! The answer to tls-alpn-01 (RFC 8737): a self-signed certificate with the digest, shown to those who ask for the protocol alone.

use rustls::ServerConfig;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use tamga_app::failure::Result;
use tamga_core::enrollment::challenge::{self, ALPN};
use tamga_core::enrollment::failure::Failure;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::pki::cert::profile;
use tamga_core::pki::format::private_key;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_host::entropy;
use tokio::net::TcpListener;
use tokio_rustls::TlsAcceptor;

/// The certificates, by the name that is asked for.
#[derive(Debug, Default)]
pub(super) struct Certificates(Mutex<HashMap<String, Arc<CertifiedKey>>>);

impl Certificates {
    /// Makes one for a name.
    pub(super) fn add(&self, identifier: &Identifier, authorization: &str) -> Result<()> {
        let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy::System)?;
        let digest = challenge::alpn_extension(authorization);
        let certificate = profile::challenge(&identifier.name(), &digest, &key, entropy::now(), &entropy::System)?;
        // The library refuses to pair a key with a certificate whose critical extension it does not know: so it is given both unseen.
        let pkcs8 = private_key::pkcs8(&key)?;
        let signing = rustls::crypto::ring::sign::any_supported_type(&PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(
            pkcs8.to_vec(),
        )))
        .map_err(|e| Failure::Unreached { url: "tls-alpn-01".into(), why: e.to_string() })?;
        let certified = CertifiedKey::new(vec![CertificateDer::from(certificate.der().to_vec())], signing);
        let mut all = self.0.lock().unwrap_or_else(|e| e.into_inner());
        all.insert(challenge::server_name(identifier), Arc::new(certified));
        Ok(())
    }
}

impl ResolvesServerCert for Certificates {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let asks = hello.alpn().is_some_and(|mut all| all.any(|p| p == ALPN));
        let name = hello.server_name().filter(|_| asks)?.to_ascii_lowercase();
        self.0.lock().unwrap_or_else(|e| e.into_inner()).get(&name).cloned()
    }
}

/// Speaks the protocol, and no other.
pub(super) fn acceptor(shows: Arc<Certificates>) -> Result<TlsAcceptor> {
    let failed = |e: rustls::Error| Failure::Unreached { url: "tls-alpn-01".into(), why: e.to_string() };
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let mut config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(failed)?
        .with_no_client_auth()
        .with_cert_resolver(shows);
    config.alpn_protocols = vec![ALPN.to_vec()];
    Ok(TlsAcceptor::from(Arc::new(config)))
}

/// Takes handshakes; nothing is said afterwards.
pub(super) async fn served(listener: TcpListener, acceptor: TlsAcceptor) {
    loop {
        let Ok((socket, _)) = listener.accept().await else {
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
            continue;
        };
        let acceptor = acceptor.clone();
        tokio::spawn(async move {
            let work = async {
                if let Ok(mut stream) = acceptor.accept(socket).await {
                    use tokio::io::AsyncWriteExt;
                    let _ = stream.shutdown().await;
                }
            };
            let _ = tokio::time::timeout(std::time::Duration::from_secs(10), work).await;
        });
    }
}
