//! Servers on Windows: paths with drives, access lists, services, PowerShell.

/// Imports the key store into the machine's store; `$certificate` is the certificate with the key.
macro_rules! imported {
    () => {
        r"# The passphrase is asked for; it stays in memory.
$ErrorActionPreference = 'Stop'
$secret = Read-Host -AsSecureString 'Passphrase of {label}.p12'
$certificate = Import-PfxCertificate -FilePath '.\{label}.p12' -CertStoreLocation 'Cert:\LocalMachine\My' -Password $secret |
    Where-Object { $_.HasPrivateKey } | Select-Object -First 1
$certificate.FriendlyName = '{label}'
"
    };
}

/// The same with a provider of the older kind, as services want it that look for a key made for key exchange; `$account` may then read the key.
macro_rules! imported_by_provider {
    () => {
        r"# The passphrase is asked for; it stays in memory. In Windows PowerShell 5.1: later ones have no keys of this kind.
$ErrorActionPreference = 'Stop'
$secret = Read-Host -AsSecureString 'Passphrase of {label}.p12'
$flags = [Security.Cryptography.X509Certificates.X509KeyStorageFlags]'MachineKeySet, PersistKeySet'
$file = (Resolve-Path '.\{label}.p12').Path
$certificate = New-Object Security.Cryptography.X509Certificates.X509Certificate2 -ArgumentList $file, $secret, $flags
$container = $certificate.PrivateKey.CspKeyContainerInfo
if ($container.KeyNumber -ne 'Exchange') { throw 'the key is not made for key exchange (AT_KEYEXCHANGE)' }
$certificate.FriendlyName = '{label}'
$store = New-Object Security.Cryptography.X509Certificates.X509Store -ArgumentList 'My', 'LocalMachine'
$store.Open('ReadWrite')
$store.Add($certificate)
$store.Close()
$key = Join-Path $env:ProgramData ('Microsoft\Crypto\RSA\MachineKeys\' + $container.UniqueKeyContainerName)
icacls $key /grant ($account + ':R')
if ($LASTEXITCODE -ne 0) { throw 'the account may not read the key' }
"
    };
}

mod apache;
mod bring;
mod http_sys;
mod jvm;
mod nginx;
mod node;
mod remote_desktop;
mod sqlserver;
mod winrm;

use super::{COMMON, Facts, Recipe, System, WEB};
use crate::deploy::export::Form;

pub use bring::is_drive_path;
pub(super) use bring::{bring, bring_clients, place, slashed};

pub(super) const REMOTE_DESKTOP: Recipe = remote_desktop::RECIPE;
pub(super) const ADMIN_CONSOLE: Recipe = http_sys::RECIPE;
pub(super) const WINRM: Recipe = winrm::RECIPE;

/// What a service wants that finds its certificate in the store of the machine, by its thumbprint.
const STORED: Facts = Facts {
    keys: COMMON,
    form: Form::Pkcs12,
    chain: "in the key store of the machine, with intermediates",
    owner: "",
    passphrase: "asked for once at the import, never stored",
    system: Some(System::Windows),
    ..WEB
};

/// What servers that are known on Linux too want on Windows.
pub(super) const VARIANTS: &[&Recipe] =
    &[&nginx::RECIPE, &apache::RECIPE, &node::RECIPE, &jvm::RECIPE, &sqlserver::RECIPE];
