//! What Tamga decides: names, keys, certificates, chains, clients, stores, findings.
//!
//! Nothing in this crate prints, tells the time, draws randomness, reads the environment or touches a
//! file, a process or a socket. What it needs of the world comes in through [`plan::ports`] and arguments;
//! what it wants done goes out as [`plan::step::Step`]s. See `ARCHITECTURE.md`.
//!
//! # A chain, judged as Chromium would
//!
//! Time and randomness are arguments, so a test can be of any day and repeat itself to the byte.
//!
//! ```
//! use tamga_core::ca::authority::create;
//! use tamga_core::pki::chain::revocation::Revocation;
//! use tamga_core::check::client::case::Input;
//! use tamga_core::check::client::{Client, Outcome};
//! use tamga_core::check::predict::predict;
//! use tamga_core::finding::Code;
//! use tamga_core::ca::issue::{self, Holder, Signer};
//! use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
//! use tamga_core::vocabulary::label::Label;
//! use tamga_core::vocabulary::timestamp::Timestamp;
//! use tamga_core::vocabulary::name::Name;
//! use tamga_core::plan::ports::Entropy;
//! use tamga_core::vocabulary::purpose::JudgedPurpose;
//!
//! /// Randomness from the operating system.
//! struct System(ring::rand::SystemRandom);
//!
//! impl Entropy for System {
//!     fn fill(&self, into: &mut [u8]) {
//!         ring::rand::SecureRandom::fill(&self.0, into).expect("the operating system has randomness");
//!     }
//! }
//!
//! let entropy = System(ring::rand::SystemRandom::new());
//! let now = "2026-11-24".parse::<Timestamp>()?;
//!
//! // A root that may certify test names only.
//! let root_key = PrivateKey::generate(KeyAlgorithm::P256, &entropy)?;
//! let wanted = create::Request::plain("saltmarsh".parse::<Label>()?);
//! let root = create::root(&wanted, &root_key, "saltmarsh".into(), now, &entropy)?.authority;
//!
//! // A certificate for one host.
//! let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy)?;
//! let host = "charts.saltmarsh.test".parse::<Name>()?;
//! let wanted = issue::Request::server(vec![host.clone()], host.label()?, "charts".into());
//! let signer = Signer::Authority(&root, &root_key);
//! let leaf = issue::make(&wanted, &Holder::Key(&key, None), &signer, b"", now, &entropy)?.certificate;
//!
//! // What a visitor's Chromium makes of it, with the root in its store.
//! let served = [leaf];
//! let anchors = [root.certificate];
//! let asked = |name, anchors| Input {
//!     served: &served,
//!     extra: &[],
//!     anchors,
//!     distrusted: &[],
//!     distrusted_keys: &[],
//!     name: Some(name),
//!     purpose: Some(JudgedPurpose::Server),
//!     at: now,
//!     lists: &[],
//!     revocation: Revocation::IfKnown,
//!     spoken: Default::default(),
//! };
//! assert_eq!(predict(Client::Chromium, &asked(&host, &anchors)).outcome, Outcome::Accepts);
//!
//! // Under another name it warns; without the root too, and it says so in its own words.
//! let other = "archive.saltmarsh.test".parse::<Name>()?;
//! let verdict = predict(Client::Chromium, &asked(&other, &anchors));
//! assert_eq!(verdict.judgement.faults[0].code, Code::NameNotCovered);
//! let verdict = predict(Client::Chromium, &asked(&host, &[]));
//! assert_eq!(verdict.code.as_deref(), Some("net::ERR_CERT_AUTHORITY_INVALID"));
//! # Ok::<(), tamga_core::error::Error>(())
//! ```

pub mod ca;
pub mod check;
pub mod deploy;
pub mod enrollment;
pub mod error;
pub mod finding;
pub mod pki;
pub mod plan;
#[doc(hidden)]
pub mod sample;
pub mod stores;
pub mod vocabulary;

#[cfg(test)]
mod test_entropy;
