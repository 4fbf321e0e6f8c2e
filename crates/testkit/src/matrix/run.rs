//! One run: serve every kind, predict, observe, compare.

use super::chain::{Kind, Pool};
use super::stores;
use rustls::crypto::ring::{default_provider, sign::any_supported_type};
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::sign::{CertifiedKey, Signer, SigningKey, SingleCertAndKey};
use rustls::{ServerConfig, SignatureAlgorithm, SignatureScheme};
use std::net::{Ipv4Addr, SocketAddr, TcpListener};
use std::path::Path;
use std::sync::Arc;
use tamga_core::check::client::case::Input;
use tamga_core::check::client::{Client, Outcome, agrees};
use tamga_core::check::client::{trusted, view};
use tamga_core::check::predict::predict_without;
use tamga_core::pki::format::private_key::pkcs8;
use tamga_core::pki::key::PrivateKey;
use tamga_core::vocabulary::purpose::JudgedPurpose;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::clients::{self, Visit};
use tamga_host::entropy::{System, now};
use tamga_host::places::Machine;

/// What a client does: the outcome, and its own words.
pub type Said = (Outcome, Option<String>);

/// One cell.
pub struct Cell {
    /// Whose.
    pub client: Client,
    /// By the rules.
    pub predicted: Said,
    /// By the client.
    pub observed: Said,
    /// Everything that it printed.
    pub raw: String,
}

impl Cell {
    /// True if the client did what the rules say.
    pub fn agrees(&self) -> bool {
        let (expected, seen) = (self.predicted.1.as_deref(), self.observed.1.as_deref());
        self.predicted.0 == self.observed.0 && agrees(expected, seen)
    }
}

/// All of it.
pub struct Matrix {
    /// The kinds.
    pub kinds: Vec<Kind>,
    /// The clients.
    pub clients: Vec<Client>,
    /// A row for each kind, a cell for each client.
    pub cells: Vec<Vec<Cell>>,
    /// What each client trusted.
    pub views: Vec<view::TrustView>,
    /// When.
    pub at: Timestamp,
}

/// What is foreseen of a kind; `without` leaves one of the client's objections out.
pub fn predicted(
    client: Client,
    kind: &Kind,
    view: &view::TrustView,
    at: Timestamp,
    without: Option<&'static str>,
) -> Said {
    let input = Input {
        served: &kind.read,
        extra: &[],
        anchors: &view.anchors,
        distrusted: &view.distrusted,
        distrusted_keys: &view.distrusted_keys,
        name: Some(&kind.host),
        purpose: Some(JudgedPurpose::Server),
        at,
        lists: &[],
        revocation: Default::default(),
        spoken: Default::default(),
    };
    let verdict = predict_without(client, &input, without);
    (verdict.outcome, verdict.code)
}

/// Those that a package of the system brings.
pub const CLIENTS: [Client; 12] = [
    Client::Curl,
    Client::Chromium,
    Client::Firefox,
    Client::Node,
    Client::Python,
    Client::Java,
    Client::Go,
    Client::Gnutls,
    Client::Git,
    Client::Ruby,
    Client::Php,
    Client::Psql,
];

/// Runs it on a machine whose home and root are empty directories.
pub fn run(machine: &Machine, home: &Path, root: &Path, kinds: Vec<Kind>, pool: &Pool) -> Matrix {
    let ports: Vec<u16> = kinds.iter().map(|k| serve(k, pool)).collect();
    stores::fill(machine, home, root, &kinds, &ports);
    let visits: Vec<Visit> = kinds
        .iter()
        .zip(&ports)
        .map(|(k, p)| Visit {
            host: k.host.clone(),
            address: SocketAddr::from((Ipv4Addr::LOCALHOST, *p)),
            page: None,
            of_database: false,
        })
        .collect();
    let at = now();
    let seen = clients::observe_all(&CLIENTS, machine, &visits, |_, _| {});
    let clients: Vec<Client> = seen.iter().map(|s| s.0).collect();
    let views: Vec<view::TrustView> = clients.iter().map(|c| trusted::by(*c, machine)).collect();
    let cells = kinds
        .iter()
        .enumerate()
        .map(|(i, kind)| {
            let cell = |((client, seen), view): (&(Client, Vec<clients::Observed>), &view::TrustView)| Cell {
                client: *client,
                predicted: predicted(*client, kind, view, at, None),
                observed: (seen[i].outcome, seen[i].code.clone()),
                raw: seen[i].raw.clone(),
            };
            seen.iter().zip(&views).map(cell).collect()
        })
        .collect();
    Matrix { kinds, clients, cells, views, at }
}

/// A server for one kind, whatever its certificate is like; gives its port. It lives as long as the program.
fn serve(kind: &Kind, pool: &Pool) -> u16 {
    listen(&kind.chain, kind.key, pool)
}

/// The same for any chain.
pub fn listen(ders: &[Vec<u8>], which: super::chain::Key, pool: &Pool) -> u16 {
    let key = pool.get(which);
    let chain: Vec<CertificateDer<'static>> = ders.iter().map(|d| d.clone().into()).collect();
    let pkcs8_der = PrivateKeyDer::Pkcs8(pkcs8(key).unwrap().to_vec().into());
    let weak = which == super::chain::Key::Weak;
    let shown = match any_supported_type(&pkcs8_der) {
        Ok(signing) if !weak => CertifiedKey::new(chain, signing),
        // What ring does not sign with, by the core: P-521; the weak key by the host, in its own way.
        _ if weak => tamga_host::serve::certified(ders, key).unwrap(),
        _ => CertifiedKey::new(chain, large(key)),
    };
    let versions: &[_] = if weak { &[&rustls::version::TLS12] } else { rustls::DEFAULT_VERSIONS };
    let mut config = ServerConfig::builder_with_provider(Arc::new(default_provider()))
        .with_protocol_versions(versions)
        .unwrap()
        .with_no_client_auth()
        .with_cert_resolver(Arc::new(SingleCertAndKey::from(Arc::new(shown))));
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    let config = Arc::new(config);
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for socket in listener.incoming().flatten() {
            let config = config.clone();
            std::thread::spawn(move || answer(socket, config));
        }
    });
    port
}

/// Does a handshake and sends one short page.
pub(crate) fn answer(mut socket: std::net::TcpStream, config: Arc<ServerConfig>) {
    use std::io::{Read, Write};
    let _ = socket.set_read_timeout(Some(std::time::Duration::from_secs(20)));
    let _ = socket.set_nodelay(true);
    // Who asks for TLS as PostgreSQL's clients do gets it (SSLRequest, PostgreSQL's protocol §55.7).
    let mut first = [0; 8];
    if socket.peek(&mut first).is_ok_and(|n| n == 8) && first == [0, 0, 0, 8, 4, 0xd2, 0x16, 0x2f] {
        let _ = socket.read_exact(&mut first);
        let _ = socket.write_all(b"S");
    }
    let Ok(mut tls) = rustls::ServerConnection::new(config) else { return };
    let mut stream = rustls::Stream::new(&mut tls, &mut socket);
    let mut head = [0; 4096];
    if stream.read(&mut head).is_ok_and(|n| n > 0) {
        let page = "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 2\r\nConnection: close\r\n\r\nok";
        let _ = stream.write_all(page.as_bytes());
    }
    tls.send_close_notify();
    let _ = tls.complete_io(&mut socket);
}

fn copy(key: &PrivateKey) -> PrivateKey {
    tamga_core::ca::authority::read_key(
        tamga_core::pki::format::pem::write("PRIVATE KEY", &pkcs8(key).unwrap()).as_bytes(),
        "key",
    )
    .unwrap()
}

/// What signs in a TLS server with a key that ring does not sign with.
pub fn large(key: &PrivateKey) -> Arc<dyn SigningKey> {
    Arc::new(Large(Arc::new(copy(key))))
}

/// P-521 for a TLS server: ECDSA with SHA-512.
#[derive(Debug)]
struct Large(Arc<PrivateKey>);

impl SigningKey for Large {
    fn choose_scheme(&self, offered: &[SignatureScheme]) -> Option<Box<dyn Signer>> {
        let ours = offered.contains(&SignatureScheme::ECDSA_NISTP521_SHA512);
        ours.then(|| Box::new(Large(self.0.clone())) as Box<dyn Signer>)
    }

    fn algorithm(&self) -> SignatureAlgorithm {
        SignatureAlgorithm::ECDSA
    }
}

impl Signer for Large {
    fn sign(&self, message: &[u8]) -> Result<Vec<u8>, rustls::Error> {
        self.0.sign(message, &System).map_err(|_| rustls::Error::General("signing".into()))
    }

    fn scheme(&self) -> SignatureScheme {
        SignatureScheme::ECDSA_NISTP521_SHA512
    }
}
