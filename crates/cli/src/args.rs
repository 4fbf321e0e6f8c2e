//! The groups of options that several commands share.

use crate::values;
use clap::{Args, ValueEnum};
use std::path::PathBuf;
use tamga_app::secret::Secret;
use tamga_app::token::TokenRequest;
use tamga_core::pki::token::TokenUri;
use tamga_core::stores::InScope;
use tamga_core::stores::StoreId;

/// Options that mean the same everywhere.
#[derive(Args, Clone)]
pub(crate) struct Common {
    /// Where Tamga keeps its state [default: TAMGA_DATA_DIR, else the data home + tamga]
    #[arg(long, global = true, value_name = "DIR", hide = true)]
    pub(crate) data_dir: Option<PathBuf>,
    /// Where the ledger is: postgres://HOST/DATABASE or sqlite:PATH [default: TAMGA_LEDGER, else ledger.toml, else a file there]
    #[arg(long, global = true, value_name = "URL", hide = true)]
    pub(crate) ledger: Option<String>,
    /// Output format
    #[arg(long, global = true, value_enum, default_value_t = Format::Text, hide = true)]
    pub(crate) format: Format,
    /// Print only failures
    #[arg(long, short, global = true, hide = true)]
    pub(crate) quiet: bool,
    /// Print more
    #[arg(long, short, global = true, hide = true)]
    pub(crate) verbose: bool,
    /// Use colors (NO_COLOR is honored)
    #[arg(long, global = true, value_enum, default_value_t = Color::Auto, hide = true)]
    pub(crate) color: Color,
    /// Print what would be done, and do nothing
    #[arg(long, global = true, hide = true)]
    pub(crate) dry_run: bool,
    /// Answer yes to every question
    #[arg(long, global = true, hide = true)]
    pub(crate) yes: bool,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    Text,
    Json,
    // One JSON object a line, as it comes: check and serve.
    Lines,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    Auto,
    Always,
    Never,
}

/// The subject fields: all optional, none asked for.
#[derive(Args, Clone, Default)]
pub(crate) struct SubjectArgs {
    /// Common name; likewise --organization --unit --country --state --locality
    #[arg(long, value_name = "TEXT", help_heading = "Subject")]
    common_name: Option<String>,
    /// Organization
    #[arg(long, value_name = "TEXT", help_heading = "Subject", hide = true)]
    organization: Option<String>,
    /// Organizational unit
    #[arg(long, value_name = "TEXT", help_heading = "Subject", hide = true)]
    unit: Option<String>,
    /// Country, two letters
    #[arg(long, value_name = "TEXT", help_heading = "Subject", hide = true)]
    country: Option<String>,
    /// State or province
    #[arg(long, value_name = "TEXT", help_heading = "Subject", hide = true)]
    state: Option<String>,
    /// Locality
    #[arg(long, value_name = "TEXT", help_heading = "Subject", hide = true)]
    locality: Option<String>,
}

impl From<SubjectArgs> for tamga_core::pki::cert::subject::Subject {
    fn from(a: SubjectArgs) -> Self {
        Self {
            common_name: a.common_name,
            organization: a.organization,
            unit: a.unit,
            country: a.country,
            state: a.state,
            locality: a.locality,
        }
    }
}

/// Opens a secret that exists.
#[derive(Args, Clone, Default)]
pub(crate) struct SecretArgs {
    /// The passphrase of an encrypted key, or the PIN of a token, from a file's first line
    #[arg(long, value_name = "PATH", conflicts_with = "passphrase_env", help_heading = "Secrets")]
    pub(crate) passphrase_file: Option<PathBuf>,
    /// The same from an environment variable
    #[arg(long, value_name = "VAR", help_heading = "Secrets")]
    pub(crate) passphrase_env: Option<String>,
}

/// Protects a new one.
#[derive(Args, Clone, Default)]
pub(crate) struct NewSecretArgs {
    /// Encrypt the new private key; asks for a passphrase twice
    #[arg(long, help_heading = "Secrets")]
    pub(crate) encrypt_key: bool,
    /// Encrypt it with the passphrase in this file's first line
    #[arg(long, value_name = "PATH", conflicts_with = "new_passphrase_env", help_heading = "Secrets")]
    pub(crate) new_passphrase_file: Option<PathBuf>,
    /// The same from an environment variable
    #[arg(long, value_name = "VAR", help_heading = "Secrets")]
    pub(crate) new_passphrase_env: Option<String>,
}

/// Protects what holds the key of an authority.
#[derive(Args, Clone, Default)]
pub(crate) struct AuthoritySecretArgs {
    #[command(flatten)]
    pub(crate) new: NewSecretArgs,
    /// Accept a passphrase of fewer than 12 characters
    #[arg(long = "accept", value_name = "CODE", value_parser = ["weak-passphrase"], help_heading = "Secrets")]
    pub(crate) accept: Vec<String>,
}

/// A private key that stays on a token.
#[derive(Args, Clone, Default)]
pub(crate) struct TokenArgs {
    /// Keep the private key on a PKCS#11 token: its address (RFC 7512), such as 'pkcs11:token=lab;object=saltmarsh'
    #[arg(long, value_name = "URI", conflicts_with = "encrypt_key", help_heading = "Token")]
    pub(crate) key_uri: Option<TokenUri>,
    /// The library through which the token is reached
    #[arg(long, value_name = "FILE", requires = "key_uri", help_heading = "Token")]
    pub(crate) module: Option<PathBuf>,
}

impl TokenArgs {
    /// The token that was named. Its PIN is what opens a secret; where that opens the issuer's key, what protects the new one.
    pub(crate) fn named(&self, secrets: &SecretArgs, new: &NewSecretArgs) -> Option<TokenRequest> {
        let uri = self.key_uri.clone()?;
        let pin = match new.new_passphrase_file.is_some() || new.new_passphrase_env.is_some() {
            true => Secret { file: new.new_passphrase_file.clone(), variable: new.new_passphrase_env.clone() },
            false => secrets.clone().into(),
        };
        Some(TokenRequest { uri, module: self.module.clone(), pin })
    }
}

/// Machines beyond this one.
#[derive(Args, Clone, Default)]
pub(crate) struct OnArgs {
    /// On these machines instead of this one: a [[host]] of tamga.toml, ssh://[USER@]HOST[:PORT], container:NAME, or all
    #[arg(long, value_name = "HOST", value_delimiter = ',', conflicts_with_all = ["scope", "sysroot", "bundle"])]
    pub(crate) on: Vec<String>,
    /// The file with the hosts [default: tamga.toml]
    #[arg(long, value_name = "FILE", requires = "on")]
    pub(crate) lab_file: Option<PathBuf>,
}

/// Which stores.
#[derive(Args, Clone)]
pub(crate) struct StoreArgs {
    /// Whose stores
    #[arg(long, value_parser = values::word::<InScope>(), default_value_t = InScope::User)]
    pub(crate) scope: InScope,
    /// Exactly these stores, of the user or the machine
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = values::word::<StoreId>())]
    pub(crate) stores: Vec<StoreId>,
    /// A PEM bundle as a store of its own (repeatable)
    #[arg(long, value_name = "FILE")]
    pub(crate) bundle: Vec<PathBuf>,
    /// Run the steps that require root privileges through sudo, doas or pkexec
    #[arg(long)]
    pub(crate) elevate: bool,
}
