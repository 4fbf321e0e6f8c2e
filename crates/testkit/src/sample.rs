//! Certificates for tests, also such as Tamga would never issue: made by the core's builder with its checks left away.

use std::path::Path;
use std::str::FromStr;
use tamga_core::ca::authority::create::{self, Request};
use tamga_core::ca::authority::{KEY_FILE, read_key};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::profile::{self, Leaf, Links};
use tamga_core::pki::format::pem;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::entropy::{System, now};
use tamga_host::serve::{Running, Site, start};

/// A root with its key.
pub struct Root {
    /// The root.
    pub certificate: Certificate,
    /// Its key.
    pub key: PrivateKey,
}

/// A leaf with its key.
pub struct Identity {
    /// The leaf.
    pub certificate: Certificate,
    /// Its key.
    pub key: PrivateKey,
}

/// A fresh root called like an authority of that label.
pub fn root(label: &str) -> Root {
    let key = PrivateKey::generate(KeyAlgorithm::P256, &System).unwrap();
    let request = Request::plain(Label::from_str(label).unwrap());
    let made = create::root(&request, &key, "x".into(), now(), &System).unwrap();
    Root { certificate: made.authority.certificate, key }
}

/// The root in an authority's directory.
pub fn authority(folder: &Path) -> Root {
    let certificate = certificate(&folder.join("certificate.pem"));
    let key = read_key(&std::fs::read(folder.join(KEY_FILE)).unwrap(), "key").unwrap();
    Root { certificate, key }
}

/// The first certificate of a file.
pub fn certificate(file: &Path) -> Certificate {
    let der = pem::certificates(&std::fs::read(file).unwrap()).remove(0);
    Certificate::read(&der, "sample").unwrap()
}

/// A leaf for these names, valid from and until so many seconds from now; no check of any constraint.
pub fn leaf(root: &Root, names: &[&str], purposes: &[Purpose], from: i64, until: i64, kind: KeyAlgorithm) -> Identity {
    let names: Vec<Name> = names.iter().map(|n| Name::from_str(n).unwrap()).collect();
    let subject = profile::leaf_subject(&names).to_der().unwrap();
    let links = Links::default();
    let key = PrivateKey::generate(kind, &System).unwrap();
    let moment = |seconds: i64| -> Timestamp { now().plus(seconds) };
    let (from, until) = (moment(from), moment(until));
    let leaf = Leaf { names: &names, purposes, subject: &subject, from, until, links: &links };
    let certificate = leaf.issue(key.public(), &root.certificate, &root.key, &System).unwrap();
    Identity { certificate, key }
}

/// A server on loopback that shows these certificates.
pub fn serve(identity: &Identity, rest: &[&Certificate]) -> Running {
    let chain: Vec<Vec<u8>> =
        std::iter::once(&identity.certificate).chain(rest.iter().copied()).map(|c| c.der().to_vec()).collect();
    start(Site::new(&chain, &identity.key, "<title>sample</title>".into()).unwrap()).unwrap()
}

/// An RSA key of 1024 bits, which nobody should use: PKCS#8 PEM.
pub fn weak_key() -> String {
    use rsa::pkcs8::EncodePrivateKey;
    let key = rsa::PrivateKey::new_unchecked(&mut Random, 1024).unwrap();
    tamga_core::pki::format::pem::write("PRIVATE KEY", key.to_pkcs8_der().unwrap().as_bytes()).to_string()
}

struct Random;

impl rand_core::TryRng for Random {
    type Error = std::convert::Infallible;

    fn try_next_u32(&mut self) -> Result<u32, Self::Error> {
        let mut b = [0; 4];
        self.try_fill_bytes(&mut b).map(|()| u32::from_le_bytes(b))
    }

    fn try_next_u64(&mut self) -> Result<u64, Self::Error> {
        let mut b = [0; 8];
        self.try_fill_bytes(&mut b).map(|()| u64::from_le_bytes(b))
    }

    fn try_fill_bytes(&mut self, into: &mut [u8]) -> Result<(), Self::Error> {
        tamga_core::plan::ports::Entropy::fill(&System, into);
        Ok(())
    }
}

impl rand_core::TryCryptoRng for Random {}
