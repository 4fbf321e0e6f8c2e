//! Microsoft SQL Server on Windows.

use super::super::act::{by_hand, look};
use super::super::template::Quote;
use super::super::{Config, Facts, KnownError, Placement, RSA_ONLY, Recipe, Tried};
use super::STORED;
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "sqlserver",
    also: &[],
    title: "SQL Server on Windows, by thumbprint",
    facts: Facts { port: 1433, scheme: "", keys: RSA_ONLY, ..STORED },
    config: Config {
        path: "{label}-sqlserver.ps1",
        place: Placement::Yours(
            "run beside the key store on the Windows machine, in Windows PowerShell as administrator",
        ),
        quote: Quote::Single,
        text: concat!(
            "# The instance; for a named one its service is MSSQL$NAME.\n$instance = 'MSSQLSERVER'\n$service = 'MSSQLSERVER'\n$account = 'NT SERVICE\\' + $service\n",
            imported_by_provider!(),
            r"# The instance reads the thumbprint in small letters.
$id = (Get-ItemProperty 'HKLM:\SOFTWARE\Microsoft\Microsoft SQL Server\Instance Names\SQL').$instance
$network = 'HKLM:\SOFTWARE\Microsoft\Microsoft SQL Server\' + $id + '\MSSQLServer\SuperSocketNetLib'
Set-ItemProperty -Path $network -Name Certificate -Value $certificate.Thumbprint.ToLowerInvariant()
Set-ItemProperty -Path $network -Name ForceEncryption -Value 1
?otherport Set-ItemProperty -Path ($network + '\Tcp\IPAll') -Name TcpPort -Value '{port}'
Restart-Service $service -Force
"
        ),
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
        by_hand(
            "clients compare the name: they must connect to a name of the certificate, and its common name must be the first of them",
            "sqlcmd -S {host},{port} -N -E",
        ),
        look(
            "remove TrustServerCertificate from clients: it accepts any certificate",
            "Get-ChildItem -Recurse -Include '*.config', 'appsettings*.json' | Select-String -Pattern 'TrustServerCertificate'",
        ),
    ],
    unit: "",
    check: "",
    start: "",
    reload: "powershell -ExecutionPolicy Bypass -File .\\{label}-sqlserver.ps1",
    notices: false,
    proof: (
        "the instance's log, ERRORLOG",
        "The certificate [Cert Hash(sha1) \"…\"] was successfully loaded for encryption.",
    ),
    faults: &[
        KnownError {
            text: "Unable to load user-specified certificate",
            code: Some(Code::KeyUnreadableByService),
            why: "the account of the service may not read the key, the key is not RSA, or it is not made for key exchange",
            remedy: "run the script again: it grants the right and says what is wrong with the key",
        },
        KnownError {
            text: "Unable to initialize SSL encryption because a valid certificate could not be found",
            code: None,
            why: "no certificate in the machine's store has the thumbprint in the registry, or its key is missing",
            remedy: "compare the registry's value with what tamga export LABEL --as fingerprint prints as SHA-1",
        },
    ],
    tried: Tried::Form("the script was read by a parser of PowerShell"),
};
