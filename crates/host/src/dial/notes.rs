//! What a handshake leaves behind: the chain that was sent, and whether a certificate of ours was asked for. Nobody is trusted here.

use super::{Missed, Shown};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{DigitallySignedStruct, SignatureScheme};
use std::net::SocketAddr;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use tamga_core::finding::Code;
use tamga_core::pki::cert::Certificate;

/// Takes every chain and notes it: the judgement is the core's. Nothing is ever sent over such a connection.
#[derive(Debug)]
pub(super) struct Notes {
    pub(super) chain: Mutex<Vec<Vec<u8>>>,
    pub(super) staple: AtomicBool,
    pub(super) algorithms: rustls::crypto::WebPkiSupportedAlgorithms,
}

/// A signature that is wrong ends the handshake, as in every client: that server has another key. What cannot be verified here (a kind
/// of key that is not known, one so short that the library calls every signature of it wrong, a certificate that does not parse) is
/// left to the judgement of the chain.
fn unless_wrong(
    leaf: &CertificateDer<'_>,
    verified: Result<HandshakeSignatureValid, rustls::Error>,
) -> Result<HandshakeSignatureValid, rustls::Error> {
    use rustls::CertificateError::BadSignature;
    use tamga_core::pki::key::Strength;
    let short = |c: Certificate| matches!(c.key.strength(), Strength::Rsa(bits) if bits < 2048);
    match verified {
        Err(e @ rustls::Error::InvalidCertificate(BadSignature))
            if !Certificate::read(leaf, "what the server sent").is_ok_and(short) =>
        {
            Err(e)
        }
        _ => Ok(HandshakeSignatureValid::assertion()),
    }
}

impl ServerCertVerifier for Notes {
    fn verify_server_cert(
        &self,
        leaf: &CertificateDer<'_>,
        rest: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        staple: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        self.staple.store(!staple.is_empty(), Ordering::Relaxed);
        if let Ok(mut chain) = self.chain.lock() {
            *chain = std::iter::once(leaf).chain(rest).map(|c| c.to_vec()).collect();
        }
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        leaf: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        unless_wrong(leaf, rustls::crypto::verify_tls12_signature(message, leaf, signed, &self.algorithms))
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        leaf: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        unless_wrong(leaf, rustls::crypto::verify_tls13_signature(message, leaf, signed, &self.algorithms))
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        // P-521 as well: whether the chain is good is judged elsewhere.
        self.algorithms.supported_schemes().into_iter().chain([SignatureScheme::ECDSA_NISTP521_SHA512]).collect()
    }
}

/// Notes that a certificate was asked for, and shows the one that was named, if one was.
#[derive(Debug)]
pub(super) struct Wants {
    pub(super) asked: Mutex<bool>,
    pub(super) shown: Option<Shown>,
}

impl Wants {
    /// Up to TLS 1.2 a server that lacks a client's certificate says only that something is missing: what it asked for says what.
    pub(super) fn explained(&self, missed: Missed, address: SocketAddr) -> Missed {
        let asked = self.shown.is_none() && self.asked.lock().is_ok_and(|asked| *asked);
        if !matches!(missed.code, Code::NoCommonCipher | Code::HandshakeRefused) || !asked {
            return missed;
        }
        Missed {
            detail: format!("{address}: it demands a client certificate"),
            code: Code::ClientCertificateWanted,
            ..missed
        }
    }
}

impl rustls::client::ResolvesClientCert for Wants {
    fn resolve(&self, _: &[&[u8]], _: &[SignatureScheme]) -> Option<Shown> {
        if let Ok(mut asked) = self.asked.lock() {
            *asked = true;
        }
        self.shown.clone()
    }

    fn has_certs(&self) -> bool {
        true
    }
}
