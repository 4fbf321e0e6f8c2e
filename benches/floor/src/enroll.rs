//! Clients of an enrollment service, and the least that serving them can cost.
//!
//! `enroll clients PORT ROOT HTTP-PORT COUNT JOBS`: so many accounts are made; then each orders, proves its name by http-01, and fetches a
//! certificate, JOBS at a time. Prints seconds, the slowest of a hundred requests in milliseconds, and how many failed.
//! `enroll floor ROOT-PEM CHAIN-PEM KEY-PEM DATABASE COUNT JOBS`: the same number of handshakes, requests, signatures verified and made, and durable
//! commits, in a program that does nothing else. Prints seconds.

use base64ct::{Base64, Base64UrlUnpadded as B64, Encoding};
use ring::signature::{
    ECDSA_P256_SHA256_ASN1_SIGNING as ASN1, ECDSA_P256_SHA256_FIXED, ECDSA_P256_SHA256_FIXED_SIGNING as FIXED,
    EcdsaKeyPair, KeyPair, UnparsedPublicKey,
};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore, ServerConfig, ServerConnection, StreamOwned};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

type Anything<T> = Result<T, Box<dyn std::error::Error>>;
type Tls = StreamOwned<ClientConnection, TcpStream>;

fn key() -> EcdsaKeyPair {
    let random = ring::rand::SystemRandom::new();
    let pkcs8 = EcdsaKeyPair::generate_pkcs8(&FIXED, &random).unwrap();
    EcdsaKeyPair::from_pkcs8(&FIXED, pkcs8.as_ref(), &random).unwrap()
}

fn config(root: &str) -> Anything<Arc<ClientConfig>> {
    let mut roots = RootCertStore::empty();
    for c in CertificateDer::pem_file_iter(root)? {
        roots.add(c?)?;
    }
    Ok(Arc::new(ClientConfig::builder().with_root_certificates(roots).with_no_client_auth()))
}

fn connect(config: &Arc<ClientConfig>, port: u16) -> Anything<Tls> {
    let socket = TcpStream::connect(("127.0.0.1", port))?;
    socket.set_nodelay(true)?;
    socket.set_read_timeout(Some(Duration::from_secs(30)))?;
    Ok(StreamOwned::new(ClientConnection::new(config.clone(), ServerName::try_from("localhost")?)?, socket))
}

/// One answer: status, headers in lower case, body.
fn answer(stream: &mut impl Read, head_only: bool) -> Anything<(u16, HashMap<String, String>, Vec<u8>)> {
    let mut all = Vec::new();
    let mut piece = [0; 4096];
    let end = loop {
        if let Some(at) = all.windows(4).position(|w| w == b"\r\n\r\n") {
            break at + 4;
        }
        match stream.read(&mut piece)? {
            0 => return Err("closed".into()),
            n => all.extend(&piece[..n]),
        }
    };
    let head = String::from_utf8_lossy(&all[..end]).into_owned();
    // Of a request, which the floor reads with the same function, there is none.
    let status = head.split(' ').nth(1).and_then(|s| s.parse().ok()).unwrap_or(0);
    let headers: HashMap<String, String> = head
        .lines()
        .skip(1)
        .filter_map(|l| l.split_once(": "))
        .map(|(n, v)| (n.to_lowercase(), v.to_owned()))
        .collect();
    let length: usize = if head_only { 0 } else { headers.get("content-length").map_or(Ok(0), |l| l.parse())? };
    let mut body = all[end..].to_vec();
    while body.len() < length {
        match stream.read(&mut piece)? {
            0 => return Err("closed".into()),
            n => body.extend(&piece[..n]),
        }
    }
    Ok((status, headers, body))
}

struct Client {
    key: EcdsaKeyPair,
    kid: Option<String>,
    nonce: Option<String>,
    base: String,
    port: u16,
    times: Vec<Duration>,
}

fn jwk(key: &EcdsaKeyPair) -> (Value, String) {
    let point = key.public_key().as_ref();
    let (x, y) = (B64::encode_string(&point[1..33]), B64::encode_string(&point[33..]));
    let canonical = format!("{{\"crv\":\"P-256\",\"kty\":\"EC\",\"x\":\"{x}\",\"y\":\"{y}\"}}");
    let digest = ring::digest::digest(&ring::digest::SHA256, canonical.as_bytes());
    (json!({ "crv": "P-256", "kty": "EC", "x": x, "y": y }), B64::encode_string(digest.as_ref()))
}

fn signed(key: &EcdsaKeyPair, header: &Value, payload: &str) -> String {
    let (protected, payload) =
        (B64::encode_string(header.to_string().as_bytes()), B64::encode_string(payload.as_bytes()));
    let signature = key.sign(&ring::rand::SystemRandom::new(), format!("{protected}.{payload}").as_bytes()).unwrap();
    json!({ "protected": protected, "payload": payload, "signature": B64::encode_string(signature.as_ref()) })
        .to_string()
}

impl Client {
    fn ask(&mut self, tls: &mut Tls, text: &str, head_only: bool) -> Anything<(u16, HashMap<String, String>, Vec<u8>)> {
        let began = Instant::now();
        tls.write_all(text.as_bytes())?;
        let got = answer(tls, head_only)?;
        self.times.push(began.elapsed());
        self.nonce = got.1.get("replay-nonce").cloned();
        Ok(got)
    }

    fn post(&mut self, tls: &mut Tls, path: &str, payload: &str) -> Anything<(HashMap<String, String>, Vec<u8>)> {
        let nonce = match self.nonce.take() {
            Some(nonce) => nonce,
            None => {
                let head = format!("HEAD /new-nonce HTTP/1.1\r\nHost: localhost:{}\r\n\r\n", self.port);
                self.ask(tls, &head, true)?;
                self.nonce.take().ok_or("no nonce")?
            }
        };
        let mut header = json!({ "alg": "ES256", "nonce": nonce, "url": format!("{}{path}", self.base) });
        match &self.kid {
            Some(kid) => header["kid"] = kid.clone().into(),
            None => header["jwk"] = jwk(&self.key).0,
        }
        let body = signed(&self.key, &header, payload);
        let text = format!(
            "POST {path} HTTP/1.1\r\nHost: localhost:{}\r\nContent-Type: application/jose+json\r\nContent-Length: {}\r\n\r\n{body}",
            self.port,
            body.len()
        );
        let (status, headers, body) = self.ask(tls, &text, false)?;
        match status {
            200..300 => Ok((headers, body)),
            _ => Err(format!("{path}: {status} {}", String::from_utf8_lossy(&body)).into()),
        }
    }

    fn path(&self, url: &Value) -> String {
        url.as_str().unwrap_or_default().trim_start_matches(&self.base).to_owned()
    }

    fn enroll(
        &mut self,
        config: &Arc<ClientConfig>,
        name: &str,
        shown: &Mutex<HashMap<String, String>>,
    ) -> Anything<()> {
        let mut tls = connect(config, self.port)?;
        self.nonce = None;
        let order = json!({ "identifiers": [{ "type": "dns", "value": name }] }).to_string();
        let (headers, body) = self.post(&mut tls, "/new-order", &order)?;
        let at = self.path(&headers.get("location").cloned().into());
        let order: Value = serde_json::from_slice(&body)?;
        let authorization = self.path(&order["authorizations"][0]);
        let seen: Value = serde_json::from_slice(&self.post(&mut tls, &authorization, "")?.1)?;
        let all = seen["challenges"].as_array().ok_or("no challenges")?;
        let challenge = all.iter().find(|c| c["type"] == "http-01").ok_or("no http-01")?;
        let token = challenge["token"].as_str().ok_or("no token")?;
        let print = jwk(&self.key).1;
        shown.lock().unwrap().insert(token.to_owned(), format!("{token}.{print}"));
        self.post(&mut tls, &self.path(&challenge["url"]), "{}")?;
        loop {
            let seen: Value = serde_json::from_slice(&self.post(&mut tls, &authorization, "")?.1)?;
            match seen["status"].as_str() {
                Some("valid") => break,
                Some("pending") => std::thread::sleep(Duration::from_millis(250)),
                _ => return Err(seen.to_string().into()),
            }
        }
        let csr = json!({ "csr": B64::encode_string(&csr(name)) }).to_string();
        let done: Value = serde_json::from_slice(&self.post(&mut tls, &format!("{at}/finalize"), &csr)?.1)?;
        let certificate = self.path(&done["certificate"]);
        let (_, pem) = self.post(&mut tls, &certificate, "")?;
        if String::from_utf8_lossy(&pem).matches("BEGIN CERTIFICATE").count() != 2 {
            Err("no chain".into())
        } else {
            Ok(())
        }
    }
}

fn tlv(tag: u8, parts: &[&[u8]]) -> Vec<u8> {
    let body = parts.concat();
    let mut out = vec![tag];
    match body.len() {
        n if n < 128 => out.push(n as u8),
        n if n < 256 => out.extend([0x81, n as u8]),
        n => out.extend([0x82, (n >> 8) as u8, n as u8]),
    }
    out.extend(body);
    out
}

/// A certificate request for one name (RFC 2986).
fn csr(name: &str) -> Vec<u8> {
    let random = ring::rand::SystemRandom::new();
    let pkcs8 = EcdsaKeyPair::generate_pkcs8(&ASN1, &random).unwrap();
    let key = EcdsaKeyPair::from_pkcs8(&ASN1, pkcs8.as_ref(), &random).unwrap();
    let curve = tlv(
        0x30,
        &[&tlv(6, &[&[0x2a, 0x86, 0x48, 0xce, 0x3d, 2, 1]]), &tlv(6, &[&[0x2a, 0x86, 0x48, 0xce, 0x3d, 3, 1, 7]])],
    );
    let spki = tlv(0x30, &[&curve, &tlv(3, &[&[0], key.public_key().as_ref()])]);
    let names = tlv(0x30, &[&tlv(0x82, &[name.as_bytes()])]);
    let extension = tlv(0x30, &[&tlv(6, &[&[0x55, 0x1d, 0x11]]), &tlv(4, &[&names])]);
    let wish = tlv(6, &[&[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 9, 0x0e]]);
    let attribute = tlv(0x30, &[&wish, &tlv(0x31, &[&tlv(0x30, &[&extension])])]);
    let body = tlv(0x30, &[&[2, 1, 0], &[0x30, 0], &spki, &tlv(0xa0, &[&attribute])]);
    let signature = key.sign(&random, &body).unwrap();
    let algorithm = tlv(0x30, &[&tlv(6, &[&[0x2a, 0x86, 0x48, 0xce, 0x3d, 4, 3, 2]])]);
    tlv(0x30, &[&body, &algorithm, &tlv(3, &[&[0], signature.as_ref()])])
}

/// Does something COUNT times on JOBS threads; what failed, each once.
fn on(count: usize, jobs: usize, work: impl Fn(usize) -> Anything<()> + Sync) -> Vec<String> {
    let (next, failed) = (AtomicUsize::new(0), Mutex::new(Vec::new()));
    std::thread::scope(|s| {
        for _ in 0..jobs {
            s.spawn(|| {
                loop {
                    let n = next.fetch_add(1, Ordering::Relaxed);
                    if n >= count {
                        return;
                    }
                    if let Err(e) = work(n) {
                        failed.lock().unwrap().push(e.to_string());
                    }
                }
            });
        }
    });
    failed.into_inner().unwrap()
}

fn clients(args: &[String]) -> Anything<()> {
    let (port, root, http): (u16, &str, u16) = (args[0].parse()?, &args[1], args[2].parse()?);
    let (count, jobs): (usize, usize) = (args[3].parse()?, args[4].parse()?);
    let config = config(root)?;
    let shown: Arc<Mutex<HashMap<String, String>>> = Arc::default();
    let listener = TcpListener::bind(("127.0.0.1", http))?;
    let shows = shown.clone();
    std::thread::spawn(move || {
        for mut socket in listener.incoming().flatten() {
            let shows = shows.clone();
            std::thread::spawn(move || {
                let mut head = [0; 2048];
                let n = socket.read(&mut head).unwrap_or(0);
                let text = String::from_utf8_lossy(&head[..n]).into_owned();
                let token = text.split(' ').nth(1).and_then(|p| p.rsplit('/').next()).unwrap_or_default();
                let body = shows.lock().unwrap().get(token).cloned().unwrap_or_default();
                let _ = write!(
                    socket,
                    "HTTP/1.1 200 OK\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
                    body.len()
                );
            });
        }
    });
    let base = format!("https://localhost:{port}");
    let all: Vec<Mutex<Client>> = (0..count)
        .map(|_| Mutex::new(Client { key: key(), kid: None, nonce: None, base: base.clone(), port, times: Vec::new() }))
        .collect();
    let made = on(count, 8, |n| {
        let mut client = all[n].lock().unwrap();
        let mut tls = connect(&config, port)?;
        let (headers, _) = client.post(&mut tls, "/new-account", "{}")?;
        client.kid = headers.get("location").cloned();
        client.times.clear();
        Ok(())
    });
    if let Some(e) = made.first() {
        return Err(format!("{} accounts failed: {e}", made.len()).into());
    }
    let began = Instant::now();
    let failed = on(count, jobs, |n| all[n].lock().unwrap().enroll(&config, &format!("n{n}.localhost"), &shown));
    let seconds = began.elapsed().as_secs_f64();
    let mut times: Vec<Duration> = all.iter().flat_map(|c| c.lock().unwrap().times.clone()).collect();
    times.sort();
    let slow = times[times.len() * 99 / 100].as_secs_f64() * 1000.0;
    println!("{seconds:.3} {slow:.1} {} {}", failed.len(), times.len());
    if let Some(e) = failed.first() {
        eprintln!("{e}");
    }
    Ok(())
}

/// Requests of one enrollment with its one connection: nonce, order, authorization, challenge, authorization, finalize, certificate.
const REQUESTS: usize = 7;
/// Durable commits of one enrollment: order, challenge begun, challenge over, certificate.
const COMMITS: usize = 4;

fn floor(args: &[String]) -> Anything<()> {
    let (count, jobs): (usize, usize) = (args[4].parse()?, args[5].parse()?);
    let config = config(&args[0])?;
    let chain = CertificateDer::pem_file_iter(&args[1])?.collect::<Result<Vec<_>, _>>()?;
    let server = ServerConfig::builder()
        .with_no_client_auth()
        .with_single_cert(chain, PrivateKeyDer::from_pem_file(&args[2])?)?;
    let server = Arc::new(server);
    let db = rusqlite::Connection::open(&args[3])?;
    db.pragma_update(None, "journal_mode", "WAL")?;
    db.execute_batch("CREATE TABLE t (id INTEGER PRIMARY KEY, b BLOB); CREATE TABLE n (id BLOB PRIMARY KEY)")?;
    let db = Arc::new(Mutex::new(db));
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let port = listener.local_addr()?.port();
    let account = Arc::new(key());
    let signed_body = signed(
        &account,
        &json!({ "alg": "ES256", "nonce": "x".repeat(48), "url": "https://localhost/order/1" }),
        &"x".repeat(300),
    );
    let public = account.public_key().as_ref().to_vec();
    std::thread::spawn(move || {
        for socket in listener.incoming().flatten() {
            let (server, db, public) = (server.clone(), db.clone(), public.clone());
            std::thread::spawn(move || serve(socket, server, &db, &public));
        }
    });
    let request = format!("POST / HTTP/1.1\r\nContent-Length: {}\r\n\r\n{signed_body}", signed_body.len());
    let began = Instant::now();
    let failed = on(count, jobs, |_| {
        let mut tls = connect(&config, port)?;
        for _ in 0..REQUESTS {
            // The client signs too.
            signed(&account, &json!({ "alg": "ES256", "url": "https://localhost/order/1" }), &"x".repeat(300));
            tls.write_all(request.as_bytes())?;
            answer(&mut tls, false)?;
        }
        csr("n.localhost");
        Ok(())
    });
    println!("{:.3}", began.elapsed().as_secs_f64());
    match failed.first() {
        Some(e) => Err(format!("{} of the floor's clients failed: {e}", failed.len()).into()),
        None => Ok(()),
    }
}

fn serve(socket: TcpStream, server: Arc<ServerConfig>, db: &Mutex<rusqlite::Connection>, public: &[u8]) -> Option<()> {
    socket.set_nodelay(true).ok()?;
    let mut tls = StreamOwned::new(ServerConnection::new(server).ok()?, socket);
    for n in 0.. {
        let (_, _, body) = answer(&mut tls, false).ok()?;
        let body: Value = serde_json::from_slice(&body).ok()?;
        let (protected, payload) = (body["protected"].as_str()?, body["payload"].as_str()?);
        let signature = B64::decode_vec(body["signature"].as_str()?).ok()?;
        let message = format!("{protected}.{payload}");
        UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, public).verify(message.as_bytes(), &signature).ok()?;
        {
            let db = db.lock().ok()?;
            let mut id = [0; 12];
            ring::rand::SecureRandom::fill(&ring::rand::SystemRandom::new(), &mut id).ok()?;
            db.pragma_update(None, "synchronous", "NORMAL").ok()?;
            db.execute("INSERT INTO n VALUES (?1)", [&id[..]]).ok()?;
            db.pragma_update(None, "synchronous", "FULL").ok()?;
            if n < COMMITS {
                db.execute("INSERT INTO t (b) VALUES (?1)", [&[7; 600][..]]).ok()?;
            }
        }
        if n == COMMITS {
            use p256::ecdsa::signature::Signer;
            let key = p256::ecdsa::SigningKey::from_slice(&[7; 32]).ok()?;
            let _: p256::ecdsa::DerSignature = key.sign(&[7; 500]);
        }
        let text = Base64::encode_string(&[7; 600]);
        write!(tls, "HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n{text}", text.len()).ok()?;
    }
    None
}

pub(crate) fn run(args: &[String]) -> Anything<()> {
    match args[0].as_str() {
        "clients" => clients(&args[1..]),
        _ => floor(&args[1..]),
    }
}
