//! Services of Windows that leave TLS to HTTP.sys: its admin console, and others.

use super::super::act::{by_hand, look};
use super::super::template::Quote;
use super::super::{Config, Facts, KnownError, Placement, Recipe, Tried};
use super::STORED;
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "admin-console",
    also: &["http-sys"],
    title: "The admin console of Windows and other services of HTTP.sys, by thumbprint",
    facts: Facts { ..STORED },
    config: Config {
        path: "{label}-http-sys.ps1",
        place: Placement::Yours("run beside the key store on the Windows machine, in PowerShell as administrator"),
        quote: Quote::Single,
        text: concat!(
            imported!(),
            r"# Which application owns the port stays as it is; only its certificate is exchanged.
?bound $endpoint = '{listen}{port}'
!bound $endpoint = '0.0.0.0:{port}'
$shown = netsh http show sslcert ipport=$endpoint | Select-String -Pattern '\{[0-9a-fA-F-]{36}\}'
if (-not $shown) { throw ('no service has a certificate at ' + $endpoint + ': netsh http show sslcert lists them') }
$application = $shown[0].Matches[0].Value
netsh http update sslcert ipport=$endpoint certhash=$($certificate.Thumbprint) appid=$application certstorename=MY
"
        ),
    },
    steps: &[
        by_hand("copy these to the Windows machine", "{made}\n{made_secret} (read it there, then delete the copy)"),
        look("find the port of the service", "netsh http show sslcert"),
        by_hand(
            "import the root for this machine's own programs",
            "Import-Certificate -FilePath .\\root.pem -CertStoreLocation Cert:\\LocalMachine\\Root",
        ),
    ],
    unit: "",
    check: "",
    start: "",
    reload: "powershell -ExecutionPolicy Bypass -File .\\{label}-http-sys.ps1",
    notices: false,
    proof: ("what netsh http show sslcert prints", "Certificate Hash … : …"),
    faults: &[
        KnownError {
            text: "SSL Certificate add failed, Error: 1312",
            code: Some(Code::KeyMismatch),
            why: "the certificate is in the machine's store without its key",
            remedy: "import the PKCS#12 file, not the certificate alone",
        },
        KnownError {
            text: "SSL Certificate update failed, Error: 1312",
            code: Some(Code::KeyMismatch),
            why: "the certificate is in the machine's store without its key",
            remedy: "import the PKCS#12 file, not the certificate alone",
        },
    ],
    tried: Tried::Form("the script was read by a parser of PowerShell"),
};
