//! Node.js on Windows.

use super::super::act::by_hand;
use super::super::{Facts, Recipe, System, Tried, node};

const ON_LINUX: &Recipe = &node::RECIPE;

pub(super) const RECIPE: Recipe = Recipe {
    facts: Facts { system: Some(System::Windows), ..ON_LINUX.facts },
    steps: &[by_hand(
        "Node.js programs that connect to it read neither the system's nor the browser's store",
        "$env:NODE_EXTRA_CA_CERTS = {root_own}",
    )],
    // No signal of another program reaches it on Windows.
    reload: "# nothing: it looks at the files every five seconds",
    tried: Tried::Form("the program was read by node --check; the commands by a parser of PowerShell"),
    ..node::RECIPE
};
