//! tls-alpn-01 (RFC 8737): a handshake whose certificate carries the proof.

use super::{Task, addresses, connect, problem};
use crate::settings::Look;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, SignatureScheme};
use std::sync::Arc;
use tamga_core::enrollment::challenge::{self, ALPN, EXTENSION};
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::object::Outcome;
use tamga_core::enrollment::problem::{Problem, ProblemType};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::extensions::GeneralName;
use tamga_core::vocabulary::name;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

/// Takes every certificate: what it proves is in it, and is looked at afterwards. RFC 8737 section 3 wants it self-signed, and nothing of its
/// dates or its key.
#[derive(Debug)]
struct Any;

impl ServerCertVerifier for Any {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        Ok(HandshakeSignatureValid::assertion())
    }

    fn verify_tls13_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        Ok(HandshakeSignatureValid::assertion())
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        rustls::crypto::ring::default_provider().signature_verification_algorithms.supported_schemes()
    }
}

fn config(alpn: &[&[u8]]) -> Option<Arc<ClientConfig>> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let mut config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .ok()?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(Any))
        .with_no_client_auth();
    config.alpn_protocols = alpn.iter().map(|p| p.to_vec()).collect();
    Some(Arc::new(config))
}

async fn handshake(stream: TcpStream, server_name: &str, alpn: &[&[u8]]) -> Result<TlsStream<TcpStream>, Box<Problem>> {
    let failed = |why: String| problem(ProblemType::Tls, format!("the TLS handshake with {server_name} failed: {why}"));
    let config = config(alpn).ok_or_else(|| failed("this service cannot speak TLS".into()))?;
    let name = ServerName::try_from(server_name.to_owned()).map_err(|_| failed("it is no server name".into()))?;
    TlsConnector::from(config).connect(name, stream).await.map_err(|e| {
        let refused = e.to_string().contains("NoApplicationProtocol");
        failed(match refused {
            true => "its server does not know the protocol acme-tls/1, or has no answer in place".into(),
            false => tamga_core::vocabulary::text::cut(&tamga_core::vocabulary::text::harmless(&e.to_string()), 120),
        })
    })
}

/// A connection over TLS to a host that a redirect led to: the certificate that it has is what it is about to replace.
pub(super) async fn any(stream: TcpStream, host: &str) -> Result<TlsStream<TcpStream>, Box<Problem>> {
    handshake(stream, host.trim_matches(['[', ']']), &[b"http/1.1"]).await
}

pub(super) async fn look(look: &Look, task: &Task) -> Outcome {
    let name = task.identifier.to_string();
    let found = addresses(look, &task.identifier, look.tls_port).await?;
    let stream = connect(&name, &found).await?;
    let stream = handshake(stream, &challenge::server_name(&task.identifier), &[ALPN]).await?;
    let (_, session) = stream.get_ref();
    if session.alpn_protocol() != Some(ALPN) {
        return Err(problem(ProblemType::Tls, format!("{name} did not choose the protocol acme-tls/1")));
    }
    let leaf = session.peer_certificates().and_then(|c| c.first()).and_then(|c| Certificate::read_any(c));
    let wrong = |why: &str| {
        problem(ProblemType::IncorrectResponse, format!("the certificate that {name} showed proves nothing: {why}"))
    };
    let leaf = leaf.ok_or_else(|| wrong("it does not parse"))?;
    judge(&leaf, task).map_err(wrong)
}

/// RFC 8737 section 3: exactly the one name, and the digest in a critical extension.
fn judge(leaf: &Certificate, task: &Task) -> Result<(), &'static str> {
    let is_it = |found: &GeneralName| match (found, &task.identifier) {
        (GeneralName::Dns(text), Identifier::Dns(name)) => text.eq_ignore_ascii_case(name),
        (GeneralName::Ip(octets), Identifier::Ip(a)) => name::ip(octets) == Some(*a),
        _ => false,
    };
    match leaf.names.as_deref() {
        Some([one]) if is_it(one) => {}
        _ => {
            return Err(
                "it names something else than this one name: the server shows another certificate than that for the challenge",
            );
        }
    }
    let mut found = leaf.extensions.iter().filter(|e| e.extn_id.to_string() == EXTENSION);
    let (Some(extension), None) = (found.next(), found.next()) else {
        return Err("the extension acmeIdentifier is missing");
    };
    if !extension.critical {
        return Err("the extension acmeIdentifier is not critical");
    }
    if extension.extn_value.as_bytes() != challenge::alpn_extension(&task.authorization) {
        return Err("the extension acmeIdentifier has another digest: it is that of another challenge or account");
    }
    Ok(())
}
