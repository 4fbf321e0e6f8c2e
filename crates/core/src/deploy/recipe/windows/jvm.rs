//! JVM applications on Windows.

use super::super::act::look;
use super::super::{Facts, FileLocation, Recipe, System, Tried, jvm};

const ON_LINUX: &Recipe = &jvm::RECIPE;

pub(super) const RECIPE: Recipe = Recipe {
    facts: Facts {
        place: FileLocation::Own("C:/Program Files/tls/{label}"),
        system: Some(System::Windows),
        ..ON_LINUX.facts
    },
    steps: &[look(
        "look for other settings: a profile's file, an argument or a variable takes precedence",
        "Get-ChildItem -Recurse -Include 'application*' | Select-String -Pattern 'server.ssl'",
    )],
    reload: "$env:KEY_STORE_PASSPHRASE = (Get-Content -Raw {secret}).Trim(); java -jar application.jar",
    tried: Tried::Form(
        "the properties are those of Linux, where they are run; the commands were read by a parser of PowerShell",
    ),
    ..jvm::RECIPE
};
