//! Recipes: what a server wants of a certificate, and every step from the issued files to the padlock.
//!
//! Each server is one file with one table: facts, the text of its configuration, the steps that people forget, and the
//! error texts by which it complains. [`write()`] fills one in for a certificate.

mod act;
mod bring;
mod explain;
mod setting;
mod system;
mod tasks;
mod template;
mod written;

mod apache;
mod bun;
mod caddy;
mod deno;
mod device;
mod docker;
mod dovecot;
mod etcd;
mod freeradius;
mod gateway;
mod general;
mod go;
mod grpc;
mod gunicorn;
mod haproxy;
mod iis;
mod influxdb;
mod jvm;
mod kestrel;
mod key_database;
mod kubernetes;
mod lighttpd;
mod mongodb;
mod mosquitto;
mod mysql;
mod nats;
mod nginx;
mod node;
mod openldap;
mod php;
mod postfix;
mod postgresql;
mod prometheus;
mod prosody;
mod puma;
mod python;
mod rabbitmq;
mod redis;
mod rust;
mod spring;
mod sqlserver;
mod squid;
mod stunnel;
mod swoole;
mod tomcat;
mod uvicorn;
mod vite;
mod vsftpd;
mod webpack;
mod webtransport;
mod windows;

pub use act::{Act, Placement, Step, Work};
pub use bring::{Placed, PlacedContent};
pub use explain::{Known, known, succeeded};
pub use setting::Setting;
pub use system::System;
pub use tasks::{Tasks, at_end, is_of, program, service_directory, without};
pub use windows::is_drive_path;
pub use written::{Written, write};

use crate::ca::authority::HEAD_START;
use crate::ca::issue::LEAF_LIFE;
use crate::ca::renew;
use crate::deploy::export::Form;
use crate::error::{Error, Result};
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::key::KeyAlgorithm;
use crate::vocabulary::purpose::Purpose;
use crate::vocabulary::timestamp::Span;
use template::Quote;

/// The recipe for a server that has none of its own.
pub const GENERAL: &Recipe = &general::RECIPE;

/// Every recipe, by kind and name.
pub const ALL: &[&Recipe] = &[
    &nginx::RECIPE,
    &apache::RECIPE,
    &haproxy::RECIPE,
    &lighttpd::RECIPE,
    &stunnel::RECIPE,
    &caddy::RECIPE,
    &squid::RECIPE,
    &iis::RECIPE,
    &windows::REMOTE_DESKTOP,
    &windows::WINRM,
    &windows::ADMIN_CONSOLE,
    &tomcat::RECIPE,
    &jvm::RECIPE,
    &spring::RECIPE,
    &kestrel::RECIPE,
    &node::RECIPE,
    &deno::RECIPE,
    &bun::RECIPE,
    &python::RECIPE,
    &gunicorn::RECIPE,
    &uvicorn::RECIPE,
    &puma::RECIPE,
    &go::RECIPE,
    &rust::RECIPE,
    &php::RECIPE,
    &swoole::RECIPE,
    &grpc::RECIPE,
    &webtransport::RECIPE,
    &vite::RECIPE,
    &webpack::RECIPE,
    &postgresql::RECIPE,
    &mysql::RECIPE,
    &sqlserver::RECIPE,
    &redis::RECIPE,
    &mongodb::RECIPE,
    &rabbitmq::RECIPE,
    &mosquitto::RECIPE,
    &nats::RECIPE,
    &etcd::RECIPE,
    &prometheus::RECIPE,
    &influxdb::RECIPE,
    &docker::REGISTRY,
    &docker::DAEMON,
    &kubernetes::RECIPE,
    &postfix::RECIPE,
    &dovecot::RECIPE,
    &vsftpd::RECIPE,
    &prosody::RECIPE,
    &openldap::RECIPE,
    &freeradius::RECIPE,
    &gateway::RECIPE,
    &device::RECIPE,
    &key_database::RECIPE,
    GENERAL,
];

/// A server's recipe.
#[derive(Debug)]
pub struct Recipe {
    /// The word by which it is asked for.
    pub id: &'static str,
    /// Other words for it.
    pub also: &'static [&'static str],
    /// What it is for, in one line.
    pub title: &'static str,
    /// What it wants of a certificate.
    pub facts: Facts,
    /// Its configuration.
    pub config: Config,
    /// What has to be done besides, in order.
    pub steps: &'static [Step],
    /// Its unit of systemd; empty where it is no service, or its steps need a person.
    pub unit: &'static str,
    /// The server's own check of its configuration; empty where it has none.
    pub check: &'static str,
    /// How it is started with this configuration for the first time; empty where that is as after a renewal.
    pub start: &'static str,
    /// How it takes up renewed files; empty where it reads them for each connection.
    pub reload: &'static str,
    /// True if its own check or its reload refuses a key that is not the certificate's, and it goes on with the old pair.
    pub notices: bool,
    /// Where it tells that all is well, and in which words.
    pub proof: (&'static str, &'static str),
    /// How it complains.
    pub faults: &'static [KnownError],
    /// Whether somebody saw it work.
    pub tried: Tried,
}

/// What a server wants.
#[derive(Debug)]
pub struct Facts {
    /// The port on which it speaks TLS.
    pub port: u16,
    /// How `tamga check` names it; empty: by host and port.
    pub scheme: &'static str,
    /// The kinds of key that it takes, the best first.
    pub keys: &'static [KeyAlgorithm],
    /// The purposes of its certificate.
    pub purposes: &'static [Purpose],
    /// The form of its files.
    pub form: Form,
    /// In which order it wants the chain.
    pub chain: &'static str,
    /// The account that reads the key.
    pub owner: &'static str,
    /// The mode of the key's file.
    pub mode: u32,
    /// Where it reads.
    pub place: FileLocation,
    /// The form of the file with the root of its clients.
    pub clients: Form,
    /// What it does with a key that needs a passphrase.
    pub passphrase: &'static str,
    /// How long its certificate may be valid; None where that is as for others.
    pub longest: Option<Span>,
    /// For which system its steps are written; None where they are the same for all.
    pub system: Option<System>,
    /// How a client of its own kind is tried; empty where `tamga check` is one.
    pub probe: &'static str,
}

/// Where a server reads its files.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FileLocation {
    /// Where Tamga put them: it reads them as root, or as the account that starts it.
    Issued,
    /// In a directory of its own, as an account that must not read other people's directories.
    Own(&'static str),
}

/// A configuration file.
#[derive(Debug)]
pub struct Config {
    /// The file, as a template.
    pub path: &'static str,
    /// Where in it the text goes.
    pub place: Placement,
    /// How values are quoted in it.
    pub quote: Quote,
    /// Its text, as a template.
    pub text: &'static str,
}

/// An error text and what it means.
#[derive(Debug)]
pub struct KnownError {
    /// What the server writes; `…` stands for anything.
    pub text: &'static str,
    /// The finding that it comes to, where there is one.
    pub code: Option<Code>,
    /// Why.
    pub why: &'static str,
    /// What to do.
    pub remedy: &'static str,
}

/// Whether a recipe was seen to work.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tried {
    /// By our tests, with this server.
    Run(&'static str),
    /// Only the form of its file was checked, in this way.
    Form(&'static str),
}

impl Tried {
    /// In words.
    pub fn words(self) -> String {
        match self {
            Tried::Run(with) => format!("run by our tests with the real server: {with}"),
            Tried::Form(how) => format!("not run by us; {how}"),
        }
    }
}

/// Server certificates only.
const SERVER: &[Purpose] = &[Purpose::Server];
/// A server that is a client of its likes.
const BOTH: &[Purpose] = &[Purpose::Server, Purpose::Client];
/// What OpenSSL takes.
const OPENSSL: &[KeyAlgorithm] = &[
    KeyAlgorithm::P256,
    KeyAlgorithm::P384,
    KeyAlgorithm::Rsa2048,
    KeyAlgorithm::Rsa3072,
    KeyAlgorithm::Rsa4096,
    KeyAlgorithm::Ed25519,
    KeyAlgorithm::P521,
];
/// What Java and Windows take.
const COMMON: &[KeyAlgorithm] =
    &[KeyAlgorithm::P256, KeyAlgorithm::P384, KeyAlgorithm::Rsa2048, KeyAlgorithm::Rsa3072, KeyAlgorithm::Rsa4096];
/// RSA alone.
const RSA_ONLY: &[KeyAlgorithm] = &[KeyAlgorithm::Rsa3072, KeyAlgorithm::Rsa2048, KeyAlgorithm::Rsa4096];
/// The chain as most servers want it.
const LEAF_FIRST: &str = "leaf first, then intermediates, never the root";

/// What most web servers want.
const WEB: Facts = Facts {
    port: 443,
    scheme: "https",
    keys: OPENSSL,
    purposes: SERVER,
    form: Form::Pem,
    chain: LEAF_FIRST,
    owner: "root",
    mode: 0o600,
    place: FileLocation::Issued,
    clients: Form::Pem,
    passphrase: "",
    longest: None,
    system: Some(System::Linux),
    probe: "",
};

/// A recipe by one of its words.
///
/// Errors: there is none for it.
///
/// ```
/// use tamga_core::deploy::recipe::find;
///
/// assert_eq!(find("nginx")?.id, "nginx");
/// assert!(find("ngnix").is_err());
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn find(typed: &str) -> Result<&'static Recipe> {
    let lower = typed.to_lowercase();
    ALL.iter().copied().find(|r| r.id == lower || r.also.contains(&lower.as_str())).ok_or_else(|| Error::Word {
        what: "server",
        typed: typed.to_owned(),
        accepted: ALL.iter().map(|r| r.id).collect::<Vec<_>>().join(" "),
    })
}

impl Recipe {
    /// What it is called in a sentence.
    pub fn name(&self) -> &'static str {
        if self.id == GENERAL.id { "the server" } else { self.id }
    }

    /// How long a certificate for it is to be valid: the span that is wished for, if clients take that.
    ///
    /// Errors: they do not.
    pub fn life(&self, wished: Option<Span>) -> Result<Span> {
        // It begins before it is made.
        let whole = |s: Span| Span::seconds_of(s.seconds() - HEAD_START);
        let life = wished.unwrap_or_else(|| match self.facts.longest {
            Some(longest) => Span::days(longest.whole_days() - 1),
            None => LEAF_LIFE,
        });
        self.takes_life(whole(life)).map(|()| life)
    }

    /// Errors: its clients refuse a certificate that lasts so long, from its first moment to its last.
    pub fn takes_life(&self, whole: Span) -> Result<()> {
        match self.facts.longest.filter(|l| whole > *l) {
            None => Ok(()),
            Some(longest) => Err(Error::Objection {
                code: Code::ValidityTooLong.word(),
                what: format!("clients of {} refuse a certificate of more than {} days", self.id, longest.whole_days()),
                why: format!(
                    "from its first moment to its last this one has {} days and {} hours",
                    whole.whole_days(),
                    (whole.seconds() - Span::days(whole.whole_days()).seconds()) / 3600
                ),
                instead: format!("make one that they take: tamga issue NAME… --for {}", self.id),
            }),
        }
    }

    /// True if it can use a certificate as it is.
    pub fn suits(&self, certificate: &Certificate) -> bool {
        self.facts.keys.contains(&renew::algorithm_of(certificate)) && self.takes_life(certificate.life()).is_ok()
    }

    /// The kind of key to make for it: the one that is wished for, if it takes that.
    ///
    /// Errors: it does not.
    pub fn key(&self, wished: Option<KeyAlgorithm>) -> Result<KeyAlgorithm> {
        match wished {
            Some(k) if !self.facts.keys.contains(&k) => Err(Error::Objection {
                code: Code::KeyKindUnsupported.word(),
                what: format!("{} cannot use a key of the kind {}", self.id, k.word()),
                why: format!("it takes {}", written::kinds(self)),
                instead: "leave --key-algorithm away".into(),
            }),
            Some(k) => Ok(k),
            None => Ok(self.facts.keys.first().copied().unwrap_or(KeyAlgorithm::P256)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_word_finds_one_recipe_and_every_recipe_is_whole() {
        for r in ALL {
            for word in r.also.iter().chain([&r.id]) {
                assert_eq!(find(word).unwrap().id, r.id);
                assert_eq!(ALL.iter().filter(|o| o.id == *word || o.also.contains(word)).count(), 1, "{word}");
            }
            for (what, text) in [
                ("title", r.title),
                ("chain", r.facts.chain),
                ("passphrase", r.facts.passphrase),
                ("config", r.config.text),
                ("start", if r.start.is_empty() { r.reload } else { r.start }),
                ("where", r.proof.0),
                ("proof", r.proof.1),
            ] {
                assert!(text.len() > 5, "{} has no {what}", r.id);
            }
            assert!(!r.faults.is_empty() && !r.facts.keys.is_empty(), "{}", r.id);
            for f in r.faults {
                assert!(f.text.len() > 8 && f.why.len() > 10 && f.remedy.len() > 8, "{}: {}", r.id, f.text);
            }
        }
        assert!(find("abacus").is_err());
    }
}
