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
