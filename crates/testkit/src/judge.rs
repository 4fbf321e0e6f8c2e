//! Judges that share no code with Tamga's own judgement.

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::ServerCertVerifier;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::time::Duration;

/// webpki's answer on a chain under one root.
pub fn webpki(chain: &[Vec<u8>], root: &[u8], host: &str, at_unix: u64) -> Result<(), String> {
    let mut roots = rustls::RootCertStore::empty();
    roots.add(CertificateDer::from(root.to_vec())).map_err(|e| e.to_string())?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let verifier =
        WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider).build().map_err(|e| e.to_string())?;
    let certificates: Vec<CertificateDer<'_>> = chain.iter().map(|c| CertificateDer::from(c.clone())).collect();
    let name = ServerName::try_from(host.to_owned()).map_err(|e| e.to_string())?;
    let (leaf, rest) = certificates.split_first().ok_or("no certificate")?;
    let at = UnixTime::since_unix_epoch(Duration::from_secs(at_unix));
    verifier.verify_server_cert(leaf, rest, &name, &[], at).map(|_| ()).map_err(|e| e.to_string())
}

/// curl's exit code on a host at a port of loopback, trusting one file alone.
pub fn curl(host: &str, port: u16, root: &Path) -> i32 {
    let url = if host.contains(':') { format!("https://[{host}]:{port}/") } else { format!("https://{host}:{port}/") };
    let mut c = Command::new("curl");
    c.args(["-q", "-s", "-o", "/dev/null", "--noproxy", "*", "--capath", "/nonexistent", "--cacert"]).arg(root);
    if host.parse::<std::net::IpAddr>().is_err() {
        c.args(["--resolve", &format!("{host}:{port}:127.0.0.1")]);
    }
    c.arg(url).env_remove("CURL_CA_BUNDLE").env_remove("SSL_CERT_FILE").env_remove("SSL_CERT_DIR");
    c.status().unwrap().code().unwrap_or(-1)
}

/// What an independent parser reads in a certificate.
pub struct Read {
    /// Names, each with the word of its kind: `dns:x.test`, `ip:0a000007`, `mail:a@x.test`, `uri:urn:x`.
    pub names: Vec<String>,
    /// Extended key usages: `server`, `client`, `mail`, `code`.
    pub purposes: Vec<&'static str>,
    /// Key usage bits that are set.
    pub usage: Vec<&'static str>,
    /// basicConstraints' CA.
    pub ca: bool,
    /// Days from its first to its last moment.
    pub days: i64,
    /// The key's algorithm, as its identifier.
    pub key: String,
    /// The serial number's octets.
    pub serial: Vec<u8>,
}

/// Reads a certificate with a parser that shares no code with Tamga's.
pub fn parsed(der: &[u8]) -> Read {
    use x509_parser::extensions::GeneralName;
    use x509_parser::prelude::*;
    let (rest, c) = X509Certificate::from_der(der).unwrap();
    assert!(rest.is_empty(), "bytes behind the certificate");
    let names = c.subject_alternative_name().unwrap().map(|e| {
        let one = |n: &GeneralName<'_>| match n {
            GeneralName::DNSName(d) => format!("dns:{d}"),
            GeneralName::IPAddress(a) => format!("ip:{}", tamga_core::vocabulary::text::hex(a)),
            GeneralName::RFC822Name(m) => format!("mail:{m}"),
            GeneralName::URI(u) => format!("uri:{u}"),
            other => format!("{other:?}"),
        };
        e.value.general_names.iter().map(one).collect()
    });
    let purposes = c.extended_key_usage().unwrap().map(|e| {
        let e = e.value;
        let all = [
            (e.server_auth, "server"),
            (e.client_auth, "client"),
            (e.email_protection, "mail"),
            (e.code_signing, "code"),
        ];
        all.into_iter().filter(|(set, _)| *set).map(|(_, word)| word).collect()
    });
    let usage = c.key_usage().unwrap().map(|u| {
        let u = u.value;
        let all = [
            (u.digital_signature(), "digitalSignature"),
            (u.key_encipherment(), "keyEncipherment"),
            (u.key_agreement(), "keyAgreement"),
            (u.key_cert_sign(), "keyCertSign"),
            (u.crl_sign(), "cRLSign"),
        ];
        all.into_iter().filter(|(set, _)| *set).map(|(_, word)| word).collect()
    });
    Read {
        names: names.unwrap_or_default(),
        purposes: purposes.unwrap_or_default(),
        usage: usage.unwrap_or_default(),
        ca: c.is_ca(),
        days: (c.validity().not_after.timestamp() - c.validity().not_before.timestamp()) / 86_400,
        key: c.public_key().algorithm.algorithm.to_id_string(),
        serial: c.raw_serial().to_vec(),
    }
}

/// curl's exit code with a client certificate, on localhost, trusting one file alone.
pub fn curl_as(identity: Option<&Path>, port: u16, root: &Path) -> i32 {
    let mut c = Command::new("curl");
    c.args(["-q", "-s", "-o", "/dev/null", "--noproxy", "*", "--capath", "/nonexistent", "--cacert"]).arg(root);
    if let Some(folder) = identity {
        c.arg("--cert").arg(folder.join("certificate.pem")).arg("--key").arg(folder.join("private-key.pem"));
    }
    c.arg(format!("https://localhost:{port}/"));
    c.args(["--resolve", &format!("localhost:{port}:127.0.0.1")]);
    c.env_remove("CURL_CA_BUNDLE").env_remove("SSL_CERT_FILE").env_remove("SSL_CERT_DIR");
    c.status().unwrap().code().unwrap_or(-1)
}
