//! Rust.

use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;
use crate::pki::key::KeyAlgorithm;

pub(super) const RECIPE: Recipe = Recipe {
    id: "rust",
    also: &["rustls", "axum"],
    title: "Rust, with rustls 0.23",
    facts: Facts {
        port: 8443,
        keys: &[
            KeyAlgorithm::P256,
            KeyAlgorithm::P384,
            KeyAlgorithm::Ed25519,
            KeyAlgorithm::Rsa2048,
            KeyAlgorithm::Rsa3072,
            KeyAlgorithm::Rsa4096,
        ],
        owner: "",
        passphrase: "not possible: rustls reads unencrypted keys only, so the file is 0600",
        ..WEB
    },
    config: Config {
        path: "src/main.rs",
        place: Placement::Yours("with rustls = \"0.23\" in Cargo.toml"),
        quote: Quote::Inside,
        text: r#"use rustls::pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject};
use rustls::{ServerConfig, ServerConnection, StreamOwned};
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::{error::Error, sync::Arc, time::Duration};

fn config() -> Result<Arc<ServerConfig>, Box<dyn Error>> {
    let chain = CertificateDer::pem_file_iter("{certificate}")?.collect::<Result<Vec<_>, _>>()?;
    let key = PrivateKeyDer::from_pem_file("{key}")?;
?clients     let mut roots = rustls::RootCertStore::empty();
?clients     for root in CertificateDer::pem_file_iter("{clients}")? {
?clients         roots.add(root?)?;
?clients     }
?clients     let clients = rustls::server::WebPkiClientVerifier::builder(Arc::new(roots)).build()?;
!only13     let builder = ServerConfig::builder();
?only13     let builder = ServerConfig::builder_with_protocol_versions(&[&rustls::version::TLS13]);
?clients     let config = builder.with_client_cert_verifier(clients).with_single_cert(chain, key)?;
!clients     let config = builder.with_no_client_auth().with_single_cert(chain, key)?;
    Ok(Arc::new(config))
}

fn main() -> Result<(), Box<dyn Error>> {
    let listener = TcpListener::bind("{listen6}{port}")?;
    println!("https on port {port}");
    config()?;
    for socket in listener.incoming() {
        // Each connection in a thread of its own: one that is silent, or breaks off, is no other's concern.
        std::thread::spawn(move || {
            if let Err(e) = serve(socket) {
                eprintln!("{e}");
            }
        });
    }
    Ok(())
}

fn serve(socket: std::io::Result<TcpStream>) -> Result<(), Box<dyn Error>> {
    let socket = socket?;
    socket.set_read_timeout(Some(Duration::from_secs(30)))?;
    // Read for every connection: a renewed certificate is served without a restart.
    let mut tls = StreamOwned::new(ServerConnection::new(config()?)?, socket);
    let _ = tls.read(&mut [0; 4096])?;
    tls.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 18\r\n\r\nserved over HTTPS\n")?;
    tls.conn.send_close_notify();
    tls.flush()?;
    Ok(())
}
"#,
    },
    steps: &[],
    unit: "",
    check: "cargo check",
    start: "cargo run",
    reload: "",
    notices: false,
    proof: ("what it prints", "https on port {port}"),
    faults: &[
        KnownError {
            text: "InconsistentKeys(KeyMismatch)",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "invalid peer certificate: UnknownIssuer",
            code: Some(Code::IssuerUnknown),
            why: "a Rust client does not trust the root",
            remedy: "give it the root, or let it use the system's store (rustls-native-certs, rustls-platform-verifier)",
        },
        KnownError {
            text: "CaUsedAsEndEntity",
            code: Some(Code::CaAsLeaf),
            why: "the server sends a CA certificate instead of a server certificate",
            remedy: "tamga issue NAME",
        },
        KnownError {
            text: "received fatal alert: UnknownCA",
            code: Some(Code::IssuerUnknown),
            why: "the client refused: it does not trust the root",
            remedy: "tamga check https://HOST:PORT says which client and why",
        },
    ],
    tried: Tried::Form("the program was read by rustfmt"),
};
