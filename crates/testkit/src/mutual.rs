//! TLS by rustls alone: a server that asks for a client certificate, and a client that trusts one root.

use rustls::server::WebPkiClientVerifier;
use rustls::{ClientConfig, ClientConnection, RootCertStore, ServerConfig, ServerConnection, StreamOwned};
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::format::private_key::pkcs8;
use tamga_core::pki::key::PrivateKey;

/// Listens on a port of loopback for connections whose client shows a certificate under this root.
pub fn serve(chain: &[Certificate], key: &PrivateKey, clients_under: &Certificate) -> u16 {
    let mut roots = RootCertStore::empty();
    roots.add(clients_under.der().to_vec().into()).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let verifier = WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider.clone()).build().unwrap();
    let chain = chain.iter().map(|c| c.der().to_vec().into()).collect();
    let key = rustls::pki_types::PrivateKeyDer::Pkcs8(pkcs8(key).unwrap().to_vec().into());
    let config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_client_cert_verifier(verifier)
        .with_single_cert(chain, key)
        .unwrap();
    let config = Arc::new(config);
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for socket in listener.incoming().flatten() {
            let Ok(connection) = ServerConnection::new(config.clone()) else { continue };
            let mut tls = StreamOwned::new(connection, socket);
            let mut request = [0; 1024];
            if tls.read(&mut request).is_ok_and(|n| n > 0) {
                let _ = tls.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 3\r\nConnection: close\r\n\r\nok\n");
                let _ = tls.flush();
                tls.conn.send_close_notify();
                let _ = tls.flush();
                // Until the client has read it all: closing over unread bytes would reset the connection.
                while tls.read(&mut request).is_ok_and(|n| n > 0) {}
            }
        }
    });
    port
}

/// Connects to a port of loopback as a client that trusts this root alone (DER), and asks for HTTP/1.1.
pub fn visit(root: &[u8], name: &str, port: u16) -> StreamOwned<ClientConnection, TcpStream> {
    let mut roots = RootCertStore::empty();
    roots.add(root.to_vec().into()).unwrap();
    let mut config = ClientConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_root_certificates(roots)
        .with_no_client_auth();
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    let connection = ClientConnection::new(Arc::new(config), name.to_owned().try_into().unwrap()).unwrap();
    StreamOwned::new(connection, TcpStream::connect(("127.0.0.1", port)).unwrap())
}

/// Speaks TLS on a connection that stands, until the client goes away.
pub fn greet(chain: &[Certificate], key: &PrivateKey, socket: TcpStream) {
    let chain = chain.iter().map(|c| c.der().to_vec().into()).collect();
    let key = rustls::pki_types::PrivateKeyDer::Pkcs8(pkcs8(key).unwrap().to_vec().into());
    let config = ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(chain, key)
        .unwrap();
    let mut tls = StreamOwned::new(ServerConnection::new(Arc::new(config)).unwrap(), socket);
    while tls.read(&mut [0; 64]).is_ok_and(|n| n > 0) {}
}
