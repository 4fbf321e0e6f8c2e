//! Deno.

use super::act::by_hand;
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "deno",
    also: &[],
    title: "Deno 2, with its own server",
    facts: Facts { port: 8443, owner: "", passphrase: "not possible: its file is 0600", system: None, ..WEB },
    config: Config {
        path: "server.ts",
        place: Placement::Yours("in the application's directory"),
        quote: Quote::Inside,
        text: r#"// Texts, not paths.
const cert = Deno.readTextFileSync("{certificate}");
const key = Deno.readTextFileSync("{key}");
// Both families of addresses where it listens everywhere.
for (const hostname of "{all}".split(" ")) Deno.serve({ hostname, port: {port}, cert, key }, () => new Response("tide\n"));
"#,
    },
    steps: &[by_hand(
        "as a client it has a list of its own",
        "?posix export DENO_CERT={root}\n?windows $env:DENO_CERT = {root_own}",
    )],
    unit: "",
    check: "deno check server.ts",
    start: "",
    reload: "deno run --allow-net --allow-read server.ts",
    notices: false,
    proof: ("what it prints", "Listening on https://"),
    faults: &[
        KnownError {
            text: "keys may not be consistent: KeyMismatch",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "invalid peer certificate: UnknownIssuer",
            code: Some(Code::IssuerUnknown),
            why: "Deno, as a client, does not trust the root",
            remedy: "set DENO_CERT to root.pem, or DENO_TLS_CA_STORE=system",
        },
    ],
    tried: Tried::Run("Deno 2.9"),
};
