//! Kestrel, the web server of .NET.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{COMMON, Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "kestrel",
    also: &["dotnet", "aspnet"],
    title: "Kestrel, the web server of .NET 6 and later",
    facts: Facts {
        port: 8443,
        keys: COMMON,
        owner: "",
        passphrase: "Kestrel__Endpoints__Https__Certificate__Password, from the environment",
        system: None,
        ..WEB
    },
    config: Config {
        path: "appsettings.Production.json",
        place: Placement::Yours("beside the application"),
        quote: Quote::Inside,
        text: r#"{
  "Kestrel": {
    "Endpoints": {
      "Https": {
!bound         "Url": "https://*:{port}",
?bound         "Url": "https://{goaddress}:{port}",
!only13         "SslProtocols": ["Tls12", "Tls13"],
?only13         "SslProtocols": ["Tls13"],
        "Certificate": {
          "Path": "{certificate}",
          "KeyPath": "{key}"
        }
      }
    }
  }
}
"#,
    },
    steps: &[
        look(
            "an address on the command line or in a variable takes precedence over this file",
            "?posix env | grep -E 'ASPNETCORE_(URLS|HTTPS_PORTS)'\n?windows Get-ChildItem Env:ASPNETCORE_*",
        ),
        by_hand(
            "which clients may connect is decided in code: the file knows only whether a certificate is wanted",
            "options.ConfigureHttpsDefaults(https => { https.ClientCertificateMode = …; https.ClientCertificateValidation = …; });",
        ),
    ],
    unit: "",
    check: "",
    start: "",
    reload: "dotnet application.dll",
    notices: false,
    proof: ("what it prints", "Now listening on: https://"),
    faults: &[
        KnownError {
            text: "The provided key does not match the public key for this certificate",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "Unable to configure HTTPS endpoint. No server certificate was specified",
            code: None,
            why: "the file is not read: it is in another directory, or the environment has another name than Production",
            remedy: "set DOTNET_ENVIRONMENT=Production, and start it where the file lies",
        },
    ],
    tried: Tried::Form("the file was read by a JSON parser"),
};
