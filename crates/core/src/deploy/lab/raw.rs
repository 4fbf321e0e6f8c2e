//! The shape of `tamga.toml`, before any value is parsed: every word with its place in the file.

use serde::Deserialize;
use std::path::PathBuf;
use toml::Spanned;

/// A word with its place in the file.
pub(super) type Text = Spanned<String>;

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct File {
    pub(super) ledger: Option<Text>,
    pub(super) authority: Vec<Authority>,
    pub(super) certificate: Vec<Certificate>,
    pub(super) trust: Vec<Trust>,
    pub(super) hosts: Hosts,
    pub(super) host: Vec<Host>,
    pub(super) check: Vec<Check>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Authority {
    pub(super) label: Text,
    pub(super) issuer: Option<Text>,
    #[serde(default)]
    pub(super) permit: Vec<Text>,
    pub(super) key_algorithm: Option<Text>,
    pub(super) key_uri: Option<Text>,
    pub(super) module: Option<Text>,
    pub(super) valid_for: Option<Text>,
    #[serde(default)]
    pub(super) purpose: Vec<Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Certificate {
    pub(super) names: Vec<Text>,
    pub(super) label: Option<Text>,
    pub(super) issuer: Option<Text>,
    #[serde(rename = "for")]
    pub(super) server: Option<Text>,
    #[serde(default)]
    pub(super) purpose: Vec<Text>,
    pub(super) key_algorithm: Option<Text>,
    pub(super) valid_for: Option<Text>,
    pub(super) not_before: Option<Text>,
    pub(super) renew: Option<Text>,
    pub(super) from: Option<Text>,
    pub(super) challenge: Option<Text>,
    pub(super) challenge_dir: Option<PathBuf>,
    pub(super) challenge_listen: Option<String>,
    pub(super) dns_update: Option<Text>,
    pub(super) dns_key_file: Option<PathBuf>,
    pub(super) anchor: Option<PathBuf>,
    pub(super) invitation: Option<PathBuf>,
    pub(super) contact: Option<Text>,
    #[serde(default)]
    pub(super) agree_to_terms: bool,
    pub(super) profile: Option<String>,
    #[serde(default)]
    pub(super) place: Vec<Place>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Place {
    pub(super) certificate: Option<PathBuf>,
    pub(super) key: Option<PathBuf>,
    pub(super) root: Option<PathBuf>,
    pub(super) file: Option<PathBuf>,
    pub(super) form: Option<Text>,
    pub(super) owner: Option<String>,
    pub(super) group: Option<String>,
    pub(super) mode: Option<Text>,
    pub(super) passphrase_file: Option<PathBuf>,
    #[serde(default)]
    pub(super) through: Vec<String>,
    #[serde(default)]
    pub(super) run: Vec<String>,
    pub(super) check: Option<Text>,
    pub(super) check_at: Option<Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Trust {
    pub(super) root: Text,
    #[serde(default)]
    pub(super) stores: Vec<Text>,
    pub(super) scope: Option<Text>,
    #[serde(default)]
    pub(super) bundle: Vec<PathBuf>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Host {
    pub(super) name: Text,
    pub(super) ssh: Option<Text>,
    pub(super) ssh_config: Option<PathBuf>,
    pub(super) container: Option<Text>,
    pub(super) image: Option<PathBuf>,
    #[serde(default)]
    pub(super) local: bool,
    #[serde(default)]
    pub(super) sudo: bool,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Hosts {
    pub(super) names: Vec<Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Check {
    pub(super) target: Text,
    #[serde(default)]
    pub(super) clients: Vec<Text>,
    #[serde(default)]
    pub(super) resolve: Vec<Text>,
    #[serde(default)]
    pub(super) anchor: Vec<PathBuf>,
}
