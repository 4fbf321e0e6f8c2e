//! IIS on Windows.

use super::act::by_hand;
use super::template::Quote;
use super::{COMMON, Config, Facts, KnownError, Placement, Recipe, System, Tried, WEB};
use crate::deploy::export::Form;
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "iis",
    also: &["windows-web"],
    title: "IIS on Windows, with PowerShell as administrator",
    facts: Facts {
        keys: COMMON,
        form: Form::Pkcs12,
        chain: "in the key store, with intermediates; the root goes into the machine's store of roots",
        owner: "",
        system: Some(System::Windows),
        passphrase: "asked once at the import, never stored",
        ..WEB
    },
    config: Config {
        path: "{label}.ps1",
        place: Placement::Yours("run beside the key store on the Windows machine"),
        quote: Quote::Single,
        text: r"# Run as administrator. The passphrase is asked for; it stays in memory.
$ErrorActionPreference = 'Stop'
Import-Module WebAdministration
$secret = Read-Host -AsSecureString 'Passphrase of {label}.p12'
$certificate = Import-PfxCertificate -FilePath '.\{label}.p12' -CertStoreLocation 'Cert:\LocalMachine\My' -Password $secret |
    Where-Object { $_.HasPrivateKey } | Select-Object -First 1
$site = 'Default Web Site'
# An old binding of the same name and port keeps its old certificate: it goes first.
Get-WebBinding -Name $site -Protocol https -Port {port} -HostHeader '{first}' | Remove-WebBinding
New-WebBinding -Name $site -Protocol https -Port {port} -HostHeader '{first}' -SslFlags 1
(Get-WebBinding -Name $site -Protocol https -Port {port} -HostHeader '{first}').AddSslCertificate($certificate.Thumbprint, 'My')
?redirect # Plain HTTP is sent to HTTPS by the URL Rewrite module, with status 307.
?redirect Add-WebConfigurationProperty -PSPath ('IIS:\Sites\' + $site) -Filter 'system.webServer/rewrite/rules' -Name '.' -Value @{ name = 'to-https'; stopProcessing = $true }
?redirect Set-WebConfigurationProperty -PSPath ('IIS:\Sites\' + $site) -Filter 'system.webServer/rewrite/rules/rule[@name=''to-https'']/match' -Name 'url' -Value '(.*)'
?redirect Add-WebConfigurationProperty -PSPath ('IIS:\Sites\' + $site) -Filter 'system.webServer/rewrite/rules/rule[@name=''to-https'']/conditions' -Name '.' -Value @{ input = '{HTTPS}'; pattern = 'off' }
?redirect Set-WebConfigurationProperty -PSPath ('IIS:\Sites\' + $site) -Filter 'system.webServer/rewrite/rules/rule[@name=''to-https'']/action' -Name '.' -Value @{ type = 'Redirect'; url = 'https://{first}{at}/{R:1}'; redirectType = 'Temporary' }
",
    },
    steps: &[
        by_hand(
            "copy these to the Windows machine",
            "{made}\n{made_secret} (read it there, then delete the copy)\n{root_made}",
        ),
        by_hand(
            "import the root for this machine's own programs",
            "Import-Certificate -FilePath .\\root.pem -CertStoreLocation Cert:\\LocalMachine\\Root",
        ),
    ],
    unit: "",
    check: "",
    start: "",
    reload: "powershell -ExecutionPolicy Bypass -File .\\{label}.ps1",
    notices: false,
    proof: (
        "what this prints",
        "netsh http show sslcert hostnameport={first}:{port}\nCertificate Hash … is the SHA-1 that tamga export {label} --as fingerprint prints",
    ),
    faults: &[
        KnownError {
            text: "A specified logon session does not exist",
            code: Some(Code::KeyMismatch),
            why: "the certificate was installed without its private key: a file without the key was imported",
            remedy: "import the PKCS#12 file into Cert:\\LocalMachine\\My, not the certificate alone",
        },
        KnownError {
            text: "The specified network password is not correct",
            code: None,
            why: "the passphrase is wrong, or this Windows supports only the older encryption",
            remedy: "tamga export LABEL --as pkcs12 --legacy for Windows before 10",
        },
        KnownError {
            text: "Cannot create a file when that file already exists",
            code: None,
            why: "another binding holds this name and port",
            remedy: "remove it first: netsh http delete sslcert hostnameport=HOST:443",
        },
    ],
    tried: Tried::Form("the script was read by a parser of PowerShell"),
};
