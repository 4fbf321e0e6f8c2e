//! Certificates that are wrong on purpose, so that a lab can see what its clients say: made in memory, served, and gone.

use crate::ca::authority::HEAD_START;
use crate::ca::issue;
use crate::ca::report::Authority;
use crate::error::{Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::cert::profile::{self, Ca, Leaf, Links};
use crate::pki::key::SigningKey;
use crate::pki::key::{KeyAlgorithm, PrivateKey};
use crate::plan::ports::Entropy;
use crate::vocabulary::name::Name;
use crate::vocabulary::purpose::Purpose;
use crate::vocabulary::timestamp::{DAY, Timestamp};
use std::str::FromStr;

crate::words! {
    /// What is wrong.
    pub enum ServerFault: "fault" {
        /// It expired yesterday.
        Expired = "expired",
        /// It is valid from tomorrow on.
        NotYet = "not-yet",
        /// It is for another host.
        WrongName = "wrong-name",
        /// The intermediate between it and the root is not sent.
        NoIntermediate = "no-intermediate",
        /// It was signed by a root of the same name with another key.
        OldRoot = "old-root",
        /// It signed itself.
        SelfSigned = "self-signed",
        /// Its key is RSA with 1024 bits.
        WeakKey = "weak-key",
    }
}

impl ServerFault {
    /// What a client must see.
    pub fn seen(self) -> &'static str {
        match self {
            ServerFault::Expired => "it expired yesterday",
            ServerFault::NotYet => "it is valid from tomorrow on",
            ServerFault::WrongName => "it is for another host",
            ServerFault::NoIntermediate => "the intermediate between it and the root is not sent",
            ServerFault::OldRoot => "its root has the name of the right one and another key",
            ServerFault::SelfSigned => "it signed itself",
            ServerFault::WeakKey => "its key is RSA with 1024 bits: OpenSSL refuses it, browsers do not",
        }
    }

    /// True if the authority itself has to sign.
    pub fn needs_the_authority(self) -> bool {
        !matches!(self, ServerFault::OldRoot | ServerFault::SelfSigned)
    }
}

/// What is served.
pub struct Broken {
    /// Leaf first.
    pub chain: Vec<Certificate>,
    /// The leaf's key.
    pub key: PrivateKey,
}

/// Makes a wrong certificate for these names. The authority's key is asked for only where it has to sign.
///
/// Errors: a key that is needed was not given; no name for which the authority may sign.
pub fn make(
    fault: ServerFault,
    names: &[Name],
    authority: &Authority,
    authority_key: Option<&dyn SigningKey>,
    now: Timestamp,
    entropy: &dyn Entropy,
) -> Result<Broken> {
    let (from, until) = match fault {
        ServerFault::Expired => (now.plus(-30 * DAY), now.plus(-DAY)),
        ServerFault::NotYet => (now.plus(DAY), now.plus(90 * DAY)),
        _ => (now.plus(HEAD_START), now.plus(90 * DAY)),
    };
    let names = match fault {
        ServerFault::WrongName => vec![another(names)?],
        _ => names.to_vec(),
    };
    let key = match fault {
        ServerFault::WeakKey => PrivateKey::weak(entropy)?,
        _ => PrivateKey::generate(KeyAlgorithm::P256, entropy)?,
    };
    let links = Links::default();
    let subject = profile::leaf_subject(&names).to_der()?;
    let leaf = Leaf { names: &names, purposes: &[Purpose::Server], subject: &subject, from, until, links: &links };
    let signing = || authority_key.ok_or(Error::Crypto { doing: "signing without the authority's key" });
    let above = &authority.certificate;
    let chain = match fault {
        ServerFault::SelfSigned => vec![leaf.self_sign(&key, entropy)?],
        ServerFault::OldRoot => {
            let other_key = PrivateKey::generate(KeyAlgorithm::P256, entropy)?;
            let top = authority.top().unwrap_or(above);
            let other = Ca {
                subject: &top.subject,
                constraints: None,
                path_length: None,
                from,
                until: now.plus(100 * DAY),
                links: &links,
            }
            .self_sign(&other_key, entropy)?;
            vec![leaf.issue(key.public(), &other, &other_key, entropy)?]
        }
        ServerFault::NoIntermediate if authority.is_root() => {
            let between_key = PrivateKey::generate(KeyAlgorithm::P256, entropy)?;
            let named = crate::pki::cert::subject::Subject {
                common_name: Some("the intermediate that is not sent".into()),
                ..Default::default()
            }
            .to_der()?;
            let between = Ca { subject: &named, constraints: None, path_length: Some(0), from, until, links: &links }
                .under(between_key.public(), above, signing()?, entropy)?;
            vec![leaf.issue(key.public(), &between, &between_key, entropy)?]
        }
        _ => {
            issue::names_within(&names, authority)?;
            let signed = leaf.issue(key.public(), above, signing()?, entropy)?;
            let sent = match fault {
                ServerFault::NoIntermediate => Vec::new(),
                _ => authority.served_with(),
            };
            std::iter::once(signed).chain(sent).collect()
        }
    };
    Ok(Broken { chain, key })
}

/// A host that nobody asked for, near enough to lie within the authority's limits.
fn another(names: &[Name]) -> Result<Name> {
    let near = names.iter().find_map(|n| match n {
        Name::Dns(d) => Some(d.trim_start_matches("*.").to_owned()),
        _ => None,
    });
    Name::from_str(&format!("another.{}", near.unwrap_or_else(|| "localhost".into())))
}
