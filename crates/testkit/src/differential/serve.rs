//! One socket for all cases: the address that a connection came to says which case it wants. Octets are sent as they are.

use super::keys::Key;
use super::situation::{Case, Tls};
use crate::matrix::chain::Pool;
use crate::matrix::run::answer;
use rustls::crypto::CryptoProvider;
use rustls::crypto::ring::{default_provider, kx_group, sign::any_supported_type};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, UnixTime};
use rustls::server::NoServerSessionStorage;
use rustls::server::danger::{ClientCertVerified, ClientCertVerifier};
use rustls::sign::{CertifiedKey, SingleCertAndKey};
use rustls::{DigitallySignedStruct, DistinguishedName, ServerConfig, SignatureScheme};
use std::net::{IpAddr, Ipv4Addr, TcpListener};
use std::sync::{Arc, Mutex};
use tamga_core::pki::format::private_key::pkcs8;

/// Serves them; gives the port. It lives as long as the program.
pub fn serve(cases: &[Case], pool: &Pool) -> u16 {
    let made: Vec<Arc<ServerConfig>> = cases.iter().map(|c| Arc::new(config(c, pool))).collect();
    let first = cases.first().map_or(0, |c| c.number);
    let listener = TcpListener::bind((Ipv4Addr::UNSPECIFIED, 0)).unwrap();
    let port = listener.local_addr().unwrap().port();
    let made = Arc::new(made);
    let listener = Arc::new(Mutex::new(listener));
    std::thread::spawn(move || {
        loop {
            let accepted = listener.lock().unwrap().accept();
            let Ok((socket, _)) = accepted else { continue };
            let made = made.clone();
            std::thread::spawn(move || {
                let Ok(IpAddr::V4(to)) = socket.local_addr().map(|a| a.ip()) else { return };
                let number = u32::from(to).wrapping_sub(0x7f01_0000) as usize;
                if let Some(config) = number.checked_sub(first).and_then(|i| made.get(i)) {
                    answer(socket, config.clone());
                }
            });
        }
    });
    port
}

fn config(case: &Case, pool: &Pool) -> ServerConfig {
    let provider = provider(case.tls);
    let versions: &[&rustls::SupportedProtocolVersion] = match case.tls.only {
        Some(2) => &[&rustls::version::TLS12],
        Some(_) => &[&rustls::version::TLS13],
        None => rustls::ALL_VERSIONS,
    };
    let key = pool.get(case.key);
    let chain: Vec<CertificateDer<'static>> = case.chain.iter().map(|d| d.clone().into()).collect();
    let der = PrivateKeyDer::Pkcs8(pkcs8(key).unwrap().to_vec().into());
    let mut shown = match any_supported_type(&der) {
        _ if case.key == Key::Weak => tamga_host::serve::certified(&case.chain, key).unwrap(),
        Ok(signing) => CertifiedKey::new(chain, signing),
        Err(_) => CertifiedKey::new(chain, crate::matrix::run::large(key)),
    };
    if case.tls.staple {
        shown.ocsp = Some(vec![0x30, 3, 0x0a, 1, 6]);
    }
    let resolver = Arc::new(SingleCertAndKey::from(Arc::new(shown)));
    let builder = ServerConfig::builder_with_provider(provider).with_protocol_versions(versions).unwrap();
    let mut config = match case.tls {
        Tls { demands_client: false, asks_client: false, .. } => builder.with_no_client_auth(),
        tls => builder.with_client_cert_verifier(Arc::new(Wanted { needed: tls.demands_client })),
    }
    .with_cert_resolver(resolver);
    config.session_storage = Arc::new(NoServerSessionStorage {});
    config.send_tls13_tickets = 0;
    config.alpn_protocols = vec![b"http/1.1".to_vec(), b"h2".to_vec()];
    config
}

fn provider(tls: Tls) -> Arc<CryptoProvider> {
    let mut provider = default_provider();
    match tls.group {
        1 => provider.kx_groups = vec![kx_group::SECP384R1],
        2 => provider.kx_groups = vec![kx_group::X25519],
        3 => provider.kx_groups = vec![kx_group::SECP256R1],
        _ => {}
    }
    Arc::new(provider)
}

fn refused<T>() -> Result<T, rustls::Error> {
    Err(rustls::Error::General("no client certificate is accepted".into()))
}

/// Asks for a client certificate, and accepts none.
#[derive(Debug)]
struct Wanted {
    needed: bool,
}

impl ClientCertVerifier for Wanted {
    fn client_auth_mandatory(&self) -> bool {
        self.needed
    }

    fn root_hint_subjects(&self) -> &[DistinguishedName] {
        &[]
    }

    fn verify_client_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: UnixTime,
    ) -> Result<ClientCertVerified, rustls::Error> {
        refused()
    }

    fn verify_tls12_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<rustls::client::danger::HandshakeSignatureValid, rustls::Error> {
        refused()
    }

    fn verify_tls13_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<rustls::client::danger::HandshakeSignatureValid, rustls::Error> {
        refused()
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        vec![SignatureScheme::ECDSA_NISTP256_SHA256, SignatureScheme::RSA_PSS_SHA256, SignatureScheme::RSA_PKCS1_SHA256]
    }
}
