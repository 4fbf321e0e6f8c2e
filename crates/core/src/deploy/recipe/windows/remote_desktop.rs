//! Remote desktop of Windows.

use super::super::act::{by_hand, look};
use super::super::template::Quote;
use super::super::{Config, Facts, KnownError, Placement, RSA_ONLY, Recipe, Tried};
use super::STORED;
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "remote-desktop",
    also: &["rdp"],
    title: "Remote desktop of Windows, by thumbprint",
    facts: Facts {
        port: 3389,
        scheme: "",
        keys: RSA_ONLY,
        // It speaks its own protocol first.
        probe: "mstsc /v:{host}",
        ..STORED
    },
    config: Config {
        path: "{label}-remote-desktop.ps1",
        place: Placement::Yours(
            "run beside the key store on the Windows machine, in Windows PowerShell as administrator",
        ),
        quote: Quote::Single,
        text: concat!(
            "# S-1-5-20 is the account NETWORK SERVICE in every language.\n$account = '*S-1-5-20'\n",
            imported_by_provider!(),
            r#"$listener = Get-CimInstance -Namespace root/cimv2/TerminalServices -ClassName Win32_TSGeneralSetting -Filter "TerminalName='RDP-Tcp'"
Set-CimInstance -InputObject $listener -Property @{ SSLCertificateSHA1Hash = $certificate.Thumbprint }
"#
        ),
    },
    steps: &[
        by_hand("copy these to the Windows machine", "{made}\n{made_secret} (read it there, then delete the copy)"),
        by_hand("install the root on the machines from which people connect", "tamga share"),
        look(
            "the thumbprint must be that of the certificate",
            "(Get-CimInstance -Namespace root/cimv2/TerminalServices -ClassName Win32_TSGeneralSetting).SSLCertificateSHA1Hash",
        ),
    ],
    unit: "",
    check: "",
    start: "",
    reload: "powershell -ExecutionPolicy Bypass -File .\\{label}-remote-desktop.ps1",
    notices: false,
    proof: ("what the step above prints", "the SHA-1 thumbprint that tamga export {label} --as fingerprint prints"),
    faults: &[
        KnownError {
            text: "The terminal server listener … certificate … has been replaced",
            code: None,
            why: "the certificate that was chosen has no key that the service may read, and Windows made one of its own",
            remedy: "run the script again: it grants the right",
        },
        KnownError {
            text: "The identity of the remote computer cannot be verified",
            code: Some(Code::IssuerUnknown),
            why: "the client does not trust the root, or connects by a name that is not in the certificate",
            remedy: "install the root on the client, and connect by a name of the certificate",
        },
    ],
    tried: Tried::Form("the script was read by a parser of PowerShell"),
};
