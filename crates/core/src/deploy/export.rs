//! A certificate, with or without its key, in the form that a server or a device wants. What is made is read back and
//! compared before it is given out.

use crate::deploy::archive;
use crate::error::{Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::format::container;
use crate::pki::format::contents::{Contents, Named};
use crate::pki::format::fingerprint::{self, Spelling};
use crate::pki::format::{jks, mobileconfig, pem, pkcs7, pkcs12, private_key, secret_yaml};
use crate::pki::key::PrivateKey;
use crate::plan::ports::Entropy;
use crate::vocabulary::secret::Passphrase;
use crate::vocabulary::timestamp::Timestamp;
use base64ct::{Base64, Encoding};
use zeroize::Zeroizing;

crate::words! {
    /// A form.
    pub enum Form: "form" {
        /// The certificates as PEM, leaf first; of a file with a key alone, the key.
        Pem = "pem",
        /// Key, leaf and intermediates in one PEM file.
        CombinedPem = "combined-pem",
        /// The first certificate as DER.
        Der = "der",
        /// The private key as PKCS#8 DER.
        Pkcs8 = "pkcs8",
        /// A key store or trust store (RFC 7292).
        Pkcs12 = "pkcs12" | "p12" | "pfx",
        /// Certificates in a PKCS#7 message.
        Pkcs7 = "pkcs7",
        /// Java's older key store or trust store.
        Jks = "jks",
        /// A profile with a root, for phones and tablets.
        MobileConfig = "mobileconfig",
        /// A secret of the kind `kubernetes.io/tls`.
        KubernetesSecret = "kubernetes-secret",
        /// The first certificate as one line of base64.
        Base64 = "base64",
        /// Fingerprints in every spelling.
        Fingerprint = "fingerprint" | "thumbprint",
        /// Everything for a machine without Tamga, with a note on what to put where: a tar archive.
        Archive = "archive",
    }
}

impl Form {
    /// What it is for, in one line.
    pub fn title(self) -> &'static str {
        match self {
            Form::Pem => "certificates as text, leaf first",
            Form::CombinedPem => "key and certificates in one text file (HAProxy, MongoDB)",
            Form::Der => "one certificate, binary (Windows, phones, Java programs)",
            Form::Pkcs8 => "the private key alone, binary (Java programs)",
            Form::Pkcs12 => "key store or trust store (Windows, IIS, Java, phones, devices)",
            Form::Pkcs7 => "certificates without a key (Windows, device consoles)",
            Form::Jks => "Java's older key store or trust store",
            Form::MobileConfig => "a root for phones and tablets",
            Form::KubernetesSecret => "chain and key as a secret of the kind kubernetes.io/tls",
            Form::Base64 => "one certificate in one line (consoles, variables)",
            Form::Fingerprint => "its fingerprints in every spelling",
            Form::Archive => "all of it with an install note, for a machine without Tamga",
        }
    }

    /// The ending of a file of that form.
    pub fn ending(self) -> &'static str {
        match self {
            Form::Pem => "pem",
            Form::CombinedPem => "combined.pem",
            Form::Der => "cer",
            Form::Pkcs8 => "pk8",
            Form::Pkcs12 => "p12",
            Form::Pkcs7 => "p7b",
            Form::Jks => "jks",
            Form::MobileConfig => "mobileconfig",
            Form::KubernetesSecret => "yaml",
            Form::Base64 | Form::Fingerprint => "txt",
            Form::Archive => "tar",
        }
    }

    /// True if it carries the private key of what has one.
    pub fn wants_key(self) -> bool {
        matches!(
            self,
            Form::CombinedPem | Form::Pkcs8 | Form::Pkcs12 | Form::Jks | Form::KubernetesSecret | Form::Archive
        )
    }

    /// True if it is nothing without a private key.
    pub fn needs_key(self) -> bool {
        matches!(self, Form::CombinedPem | Form::Pkcs8 | Form::KubernetesSecret)
    }

    /// True if it is a text that is read where it is printed.
    pub fn is_a_line(self) -> bool {
        matches!(self, Form::Base64 | Form::Fingerprint)
    }

    /// True if it is a key store, whose programs expect a passphrase.
    pub fn is_store(self) -> bool {
        matches!(self, Form::Pkcs12 | Form::Jks)
    }

    /// True if a passphrase can protect it.
    pub fn takes_passphrase(self) -> bool {
        matches!(self, Form::CombinedPem | Form::Pkcs8 | Form::Pkcs12 | Form::Jks | Form::Archive)
    }
}

/// What is to be put into a form.
pub struct Material {
    /// What it is called: an alias, a title.
    pub alias: String,
    /// The private key.
    pub key: Option<PrivateKey>,
    /// Leaf first, then what signed it; or roots.
    pub chain: Vec<Certificate>,
    /// The root above it.
    pub root: Option<Certificate>,
}

/// How.
pub struct Settings<'a> {
    /// What protects the key.
    pub passphrase: Option<&'a Passphrase>,
    /// Older algorithms.
    pub legacy: bool,
    /// Now.
    pub now: Timestamp,
}

/// What was made.
pub struct Made {
    /// The file.
    pub bytes: Zeroizing<Vec<u8>>,
    /// True if a private key is in it.
    pub has_key: bool,
    /// What a person should know of it.
    pub remarks: Vec<&'static str>,
    /// The spellings, for [`Form::Fingerprint`].
    pub spellings: Vec<Spelling>,
}

/// Takes what a file holds as what is to be exported: the key's own certificate first, then what signed it.
///
/// Errors: several keys; no certificate is the key's; a certificate that is malformed.
pub fn arranged(found: Contents, named: &str, what: &str) -> Result<Material> {
    let alias = found.keys.iter().find_map(|k| k.alias.clone()).or_else(|| {
        let of_one = found.certificates.len() == 1;
        found.certificates.first().and_then(|c| c.alias.clone()).filter(|_| of_one)
    });
    let mut all: Vec<Certificate> =
        found.certificates.iter().map(|c| Certificate::read(&c.thing, what)).collect::<Result<_>>()?;
    let mut keys = found.keys;
    let key = keys.pop().map(|k| k.thing);
    if !keys.is_empty() {
        return Err(Error::Objection {
            code: "form-refused",
            what: format!("{what} holds several private keys"),
            why: "one file in another form takes one".into(),
            instead: "name a file with one of them".into(),
        });
    }
    let alias = alias.unwrap_or_else(|| named.to_owned());
    let leaf = match &key {
        Some(key) if !all.is_empty() => Some(
            all.iter()
                .position(|c| c.key == *key.public())
                .ok_or_else(|| Error::KeyMismatch { label: named.to_owned(), path: what.into() })?,
        ),
        None if all.iter().any(|c| !c.is_ca()) => all.iter().position(|c| !c.is_ca()),
        _ => None,
    };
    let Some(leaf) = leaf else { return Ok(Material { alias, key, chain: all, root: None }) };
    let mut chain = vec![all.swap_remove(leaf)];
    // Each is used once: two that signed each other are no endless chain.
    while let Some(last) = chain.last().filter(|c| !c.is_self_signed()) {
        let Some(next) = all.iter().position(|c| last.signed_by(c).is_ok()) else { break };
        chain.push(all.swap_remove(next));
    }
    let root = if chain.len() > 1 { chain.pop_if(|c| c.is_self_signed()) } else { None };
    Ok(Material { alias, key, chain, root })
}

/// Certificates as one text, in their order.
fn text(all: &[Certificate]) -> String {
    all.iter().map(|c| pem::write(pem::CERTIFICATE, c.der()).to_string()).collect()
}

/// Refuses a form that what is at hand cannot fill.
fn possible(form: Form, m: &Material, settings: &Settings<'_>) -> Result<()> {
    let key = m.key.as_ref().filter(|_| form.wants_key());
    if form.needs_key() && key.is_none() {
        return Err(refused(form, "there is no private key", "name one: --key-file FILE; or another form"));
    }
    if !matches!(form, Form::Pkcs8 | Form::Pem) && m.chain.is_empty() && m.root.is_none() {
        return Err(refused(form, "there is no certificate", "name a file that holds one"));
    }
    if settings.passphrase.is_some() && (key.is_none() || !form.takes_passphrase()) {
        let why = "there is nothing in it that a passphrase could protect";
        return Err(refused(form, why, "leave the passphrase away"));
    }
    Ok(())
}

/// Makes the file, and reads it back.
///
/// Errors: the form needs a key, a root or a passphrase that is not there; what was written does not read back.
pub fn make(form: Form, m: &Material, settings: &Settings<'_>, entropy: &dyn Entropy) -> Result<Made> {
    possible(form, m, settings)?;
    let key = m.key.as_ref().filter(|_| form.wants_key());
    let first = m.chain.first().or(m.root.as_ref());
    let ders: Vec<Vec<u8>> = m.chain.iter().map(|c| c.der().to_vec()).collect();
    let (mut remarks, mut spellings) = (Vec::new(), Vec::new());
    if key.is_some() && settings.passphrase.is_none() {
        remarks.push(match form {
            Form::KubernetesSecret => "base64 is no protection: anyone who has this file has the private key",
            _ => "it has no passphrase: anyone who has this file has the private key",
        });
    }
    let bytes = match (form, key) {
        (Form::Pem, _) => match (&m.key, m.chain.is_empty()) {
            (Some(key), true) => {
                remarks.push("it has no passphrase: anyone who has this file has the private key");
                Zeroizing::new(private_key::write(key, None, entropy)?.as_bytes().to_vec())
            }
            _ => Zeroizing::new(text(&m.chain).into_bytes()),
        },
        (Form::CombinedPem, Some(key)) => {
            let mut out = Zeroizing::new(private_key::write(key, settings.passphrase, entropy)?.as_bytes().to_vec());
            out.extend_from_slice(text(&m.chain).as_bytes());
            out
        }
        (Form::Pkcs8, Some(key)) => match settings.passphrase {
            None => private_key::pkcs8(key)?,
            Some(_) => {
                let text = private_key::write(key, settings.passphrase, entropy)?;
                pem::read(text.as_bytes()).0.pop().map(|b| b.der).ok_or(Error::Crypto { doing: "encrypting a key" })?
            }
        },
        (Form::KubernetesSecret, Some(key)) => {
            let open = private_key::write(key, None, entropy)?;
            let root = m.root.as_ref().map(|r| pem::write(pem::CERTIFICATE, r.der()));
            let root = root.as_ref().map(|r| r.as_str());
            Zeroizing::new(secret_yaml::write(&m.alias, &text(&m.chain), &open, root).as_bytes().to_vec())
        }
        (Form::Pkcs12, Some(key)) => {
            if settings.legacy {
                remarks.push("it is protected by triple DES and SHA-1: weaker, for programs that know nothing newer");
            }
            let nothing = Passphrase::new(Zeroizing::new(Vec::new()));
            let passphrase = settings.passphrase.unwrap_or(&nothing);
            pkcs12::write_identity(&m.alias, key, &ders, passphrase, settings.legacy, entropy)?
        }
        (Form::Pkcs12, None) => {
            remarks.push("a trust store: it opens with any passphrase and with none, for there is no key in it");
            pkcs12::write_trust(&trusted(m)?)
        }
        (Form::Jks, Some(key)) => {
            remarks.push("a JKS store protects its key weakly; every JVM since Java 8 reads pkcs12 as well");
            let passphrase = settings.passphrase.ok_or_else(|| {
                refused(form, "Java opens no key store without a passphrase", "give one: --encrypt-key asks for it")
            })?;
            jks::write_identity(&m.alias, key, &ders, passphrase, settings.now, entropy)?
        }
        (Form::Jks, None) => {
            remarks.push("a trust store: its passphrase is changeit, which is no secret, for there is no key in it");
            let usual = Passphrase::new(Zeroizing::new(jks::USUAL.as_bytes().to_vec()));
            jks::write_trust(&trusted(m)?, &usual, settings.now)?
        }
        (Form::Pkcs7, _) => {
            let above = m.root.iter().map(|r| r.der().to_vec());
            Zeroizing::new(pkcs7::write(&ders.iter().cloned().chain(above).collect::<Vec<_>>()))
        }
        (Form::MobileConfig, _) => {
            remarks.push(
                "on the device it must be installed and then switched on: Settings, General, About, Certificate Trust",
            );
            Zeroizing::new(mobileconfig::write(&m.alias, &trusted(m)?).into_bytes())
        }
        (Form::Archive, key) => {
            let key = key.map(|k| private_key::write(k, settings.passphrase, entropy)).transpose()?;
            archive::write(&m.alias, &m.chain, m.root.as_ref(), key.as_ref().map(|k| k.as_str()), settings.now)?
        }
        (Form::Der, _) => Zeroizing::new(first.map(|c| c.der().to_vec()).unwrap_or_default()),
        (Form::Base64, _) => {
            let line = first.map(|c| Base64::encode_string(c.der())).unwrap_or_default();
            Zeroizing::new(format!("{line}\n").into_bytes())
        }
        (Form::Fingerprint, _) => {
            spellings = first.map(|c| fingerprint::spellings(c.der(), c.key.spki())).unwrap_or_default();
            let lines = spellings.iter().map(|s| format!("{:20} {}  ({})\n", s.what, s.value, s.wanted_by));
            Zeroizing::new(lines.collect::<String>().into_bytes())
        }
        (Form::CombinedPem | Form::Pkcs8 | Form::KubernetesSecret, None) => {
            return Err(refused(form, "there is no private key", "name one: --key-file FILE"));
        }
    };
    let has_key = key.is_some() || form == Form::Pem && m.chain.is_empty();
    let made = Made { bytes, has_key, remarks, spellings };
    if !matches!(form, Form::Fingerprint | Form::Archive) {
        proved(form, m, settings, &made)?;
    }
    Ok(made)
}

fn refused(form: Form, why: &str, instead: &str) -> Error {
    Error::Objection {
        code: "form-refused",
        what: format!("no {} can be made", form.word()),
        why: why.into(),
        instead: instead.into(),
    }
}

/// The roots of a trust store or profile: the root above a certificate, or what was named if those are roots.
fn trusted(m: &Material) -> Result<Vec<Named<Vec<u8>>>> {
    let roots: Vec<&Certificate> = match &m.root {
        Some(root) => vec![root],
        None => m.chain.iter().collect(),
    };
    if let Some(leaf) = roots.iter().find(|c| !c.is_ca() && !c.is_self_signed()) {
        return Err(Error::Objection {
            code: "form-refused",
            what: format!("{} is no root", leaf.subject_words()),
            why: "clients trust roots; what a root signed is trusted through it".into(),
            instead: "name the authority or its certificate; or for a key store the private key: --key-file FILE"
                .into(),
        });
    }
    let several = roots.len() > 1;
    let alias = |i: usize| if several { format!("{}-{}", m.alias, i + 1) } else { m.alias.clone() };
    Ok(roots.iter().enumerate().map(|(i, c)| Named { alias: Some(alias(i)), thing: c.der().to_vec() }).collect())
}

/// Reads what was made and compares it with what it was made of.
fn proved(form: Form, m: &Material, settings: &Settings<'_>, made: &Made) -> Result<()> {
    let failed = || Error::Crypto { doing: "reading back what was written" };
    let bare;
    let bytes: &[u8] = match form {
        Form::Base64 => {
            bare = std::str::from_utf8(&made.bytes).ok().and_then(pem::bare).ok_or_else(failed)?;
            &bare
        }
        _ => &made.bytes,
    };
    let usual = Passphrase::new(Zeroizing::new(jks::USUAL.as_bytes().to_vec()));
    let passphrase = match (form, made.has_key) {
        (Form::Jks, false) => Some(&usual),
        _ => settings.passphrase,
    };
    let found = container::open(bytes, passphrase, "what was written")?;
    let same_key = match (&m.key, found.keys.first()) {
        (Some(key), Some(found)) => made.has_key && found.thing.public() == key.public(),
        (_, None) => !made.has_key,
        (None, Some(_)) => false,
    };
    let first = m.chain.first().or(m.root.as_ref()).map(|c| vec![c.der().to_vec()]).unwrap_or_default();
    let chain: Vec<Vec<u8>> = m.chain.iter().map(|c| c.der().to_vec()).collect();
    let expected = match form {
        Form::Pkcs8 => Vec::new(),
        Form::Der | Form::Base64 => first,
        Form::MobileConfig => trusted(m)?.into_iter().map(|r| r.thing).collect(),
        Form::Pkcs12 | Form::Jks if !made.has_key => trusted(m)?.into_iter().map(|r| r.thing).collect(),
        Form::Pkcs7 => chain.into_iter().chain(m.root.iter().map(|r| r.der().to_vec())).collect(),
        _ => chain,
    };
    let got: Vec<Vec<u8>> = found.certificates.into_iter().map(|c| c.thing).collect();
    if same_key && got == expected { Ok(()) } else { Err(failed()) }
}
