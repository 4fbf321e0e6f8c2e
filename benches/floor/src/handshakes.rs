//! Full TLS handshakes with a server, each on a connection of its own, by rustls alone: what a check can at best be as fast as.

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore};
use std::net::TcpStream;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// In: the server's port on loopback, the root's PEM file, how many handshakes, how many at a time.
pub fn run(port: u16, root: &str, count: usize, jobs: usize) {
    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_file(root).expect("the root")).expect("a root");
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let mut config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .expect("versions")
        .with_root_certificates(roots)
        .with_no_client_auth();
    // A full handshake each time, as a check makes it.
    config.resumption = rustls::client::Resumption::disabled();
    let config = Arc::new(config);
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..jobs {
            scope.spawn(|| {
                while next.fetch_add(1, Ordering::Relaxed) < count {
                    let mut socket = TcpStream::connect(("127.0.0.1", port)).expect("a connection");
                    let name = ServerName::try_from("127.0.0.1").expect("a name");
                    let mut tls = ClientConnection::new(config.clone(), name).expect("a client");
                    while tls.is_handshaking() {
                        tls.complete_io(&mut socket).expect("a handshake");
                    }
                    tls.send_close_notify();
                    let _ = tls.write_tls(&mut socket);
                }
            });
        }
    });
}
