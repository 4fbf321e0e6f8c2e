//! Apache's HTTP server on Windows.

use super::super::act::{by_hand, look};
use super::super::{Config, Facts, FileLocation, Recipe, System, Tried, apache};

const ON_LINUX: &Recipe = &apache::RECIPE;

pub(super) const RECIPE: Recipe = Recipe {
    title: "Apache HTTP server 2.4 for Windows, in C:\\Apache24",
    facts: Facts {
        owner: "SYSTEM",
        place: FileLocation::Own("C:/Apache24/conf/tls/{label}"),
        passphrase: "not possible: on Windows its service cannot ask for it",
        system: Some(System::Windows),
        ..ON_LINUX.facts
    },
    config: Config { path: "C:/Apache24/conf/extra/{label}.conf", ..ON_LINUX.config },
    steps: &[
        by_hand(
            "in C:\\Apache24\\conf\\httpd.conf: the modules, and the file above",
            "LoadModule ssl_module modules/mod_ssl.so\nLoadModule http2_module modules/mod_http2.so\nLoadModule socache_shmcb_module modules/mod_socache_shmcb.so\nInclude conf/extra/{label}.conf",
        ),
        look(
            "find what else answers on this port: without a matching name, the first file that is included wins",
            "Select-String -Path 'C:\\Apache24\\conf\\httpd.conf', 'C:\\Apache24\\conf\\extra\\*.conf' -Pattern 'VirtualHost', 'ServerName', 'SSLCertificate', 'Listen'",
        ),
    ],
    unit: "",
    check: "C:\\Apache24\\bin\\httpd.exe -t",
    start: "",
    reload: "Restart-Service Apache2.4",
    proof: ("C:\\Apache24\\logs\\error.log", ON_LINUX.proof.1),
    tried: Tried::Form("the configuration was read by Apache, on Linux; the commands by a parser of PowerShell"),
    ..apache::RECIPE
};
