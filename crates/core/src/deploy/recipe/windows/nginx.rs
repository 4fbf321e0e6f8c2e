//! nginx on Windows.

use super::super::act::{by_hand, look};
use super::super::template::Quote;
use super::super::{Config, Facts, FileLocation, Placement, Recipe, System, Tried, nginx};

const ON_LINUX: &Recipe = &nginx::RECIPE;

pub(super) const RECIPE: Recipe = Recipe {
    title: "nginx for Windows, in C:\\nginx",
    facts: Facts {
        owner: "SYSTEM",
        place: FileLocation::Own("C:/nginx/conf/tls/{label}"),
        system: Some(System::Windows),
        ..ON_LINUX.facts
    },
    config: Config {
        path: "C:/nginx/conf/{label}.conf",
        place: Placement::Whole,
        // With / in its paths: after a \ it takes the next letter for a sign of its own.
        quote: Quote::Word,
        text: ON_LINUX.config.text,
    },
    steps: &[
        by_hand(
            "?locked put the passphrase of the key into a file that only administrators read",
            "?locked notepad {secret}",
        ),
        by_hand("in C:\\nginx\\conf\\nginx.conf, at the end of its section http", "include {label}.conf;"),
        look(
            "find what else answers to these names or this port: of two servers with one name, the first wins",
            "Select-String -Path C:\\nginx\\conf\\*.conf -Pattern 'server_name', 'listen', 'ssl_certificate'",
        ),
    ],
    unit: "",
    check: "C:\\nginx\\nginx.exe -p C:\\nginx -t",
    start: "Start-Process C:\\nginx\\nginx.exe -WorkingDirectory C:\\nginx",
    reload: "C:\\nginx\\nginx.exe -p C:\\nginx -s reload",
    proof: ("C:\\nginx\\logs\\error.log", ON_LINUX.proof.1),
    tried: Tried::Form("the configuration was read by nginx, on Linux; the commands by a parser of PowerShell"),
    ..nginx::RECIPE
};
