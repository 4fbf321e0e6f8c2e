//! Remote management of Windows over HTTPS.

use super::super::act::{by_hand, look};
use super::super::template::Quote;
use super::super::{Config, Facts, KnownError, Placement, Recipe, Tried};
use super::STORED;

pub(super) const RECIPE: Recipe = Recipe {
    id: "winrm",
    also: &["windows-remote-management"],
    title: "Remote management of Windows (WinRM) over HTTPS, by thumbprint",
    facts: Facts { port: 5986, ..STORED },
    config: Config {
        path: "{label}-winrm.ps1",
        place: Placement::Yours("run beside the key store on the Windows machine, in PowerShell as administrator"),
        quote: Quote::Single,
        text: concat!(
            imported!(),
            r"# An old listener keeps its old certificate: it goes first.
Get-ChildItem WSMan:\localhost\Listener | Where-Object { $_.Keys -contains 'Transport=HTTPS' } | Remove-Item -Recurse
?bound New-Item WSMan:\localhost\Listener -Transport HTTPS -Address 'IP:{address}' -Port {port} -HostName '{first}' -CertificateThumbPrint $certificate.Thumbprint -Force
!bound New-Item WSMan:\localhost\Listener -Transport HTTPS -Address * -Port {port} -HostName '{first}' -CertificateThumbPrint $certificate.Thumbprint -Force
"
        ),
    },
    steps: &[
        by_hand("copy these to the Windows machine", "{made}\n{made_secret} (read it there, then delete the copy)"),
        by_hand(
            "let it through the firewall, if others are to reach it",
            "New-NetFirewallRule -DisplayName 'WinRM over HTTPS' -Direction Inbound -Protocol TCP -LocalPort {port} -Action Allow",
        ),
        look(
            "connect from a machine that trusts the root, by a name of the certificate",
            "Test-WSMan -ComputerName {host} -UseSSL",
        ),
    ],
    unit: "",
    check: "",
    start: "",
    reload: "powershell -ExecutionPolicy Bypass -File .\\{label}-winrm.ps1",
    notices: false,
    proof: ("winrm enumerate winrm/config/listener", "CertificateThumbprint = …"),
    faults: &[
        KnownError {
            text: "Cannot create a WinRM listener on HTTPS because this machine does not have an appropriate certificate",
            code: None,
            why: "the certificate has no name of this machine, has no key here, or is not for servers",
            remedy: "tamga issue NAME --for winrm, with the name of the machine",
        },
        KnownError {
            text: "The SSL certificate contains a common name (CN) that does not match the hostname",
            code: None,
            why: "the client connects by another name than the certificate has",
            remedy: "tamga renew LABEL --add NAME",
        },
    ],
    tried: Tried::Form("the script was read by a parser of PowerShell"),
};
