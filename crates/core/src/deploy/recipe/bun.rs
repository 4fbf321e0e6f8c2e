//! Bun.

use super::act::look;
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "bun",
    also: &[],
    title: "Bun 1, with its own server",
    facts: Facts { port: 8443, owner: "", passphrase: "passphrase: process.env.NAME, in tls", system: None, ..WEB },
    config: Config {
        path: "server.ts",
        place: Placement::Yours("in the application's directory"),
        quote: Quote::Inside,
        text: r#"// Both families of addresses where it listens everywhere.
for (const hostname of "{all}".split(" ")) Bun.serve({
  hostname,
  port: {port},
  tls: {
    cert: Bun.file("{certificate}"),
    key: Bun.file("{key}"),
?clients     ca: Bun.file("{clients}"),
?clients     requestCert: true,
?clients     rejectUnauthorized: true,
  },
  fetch: () => new Response("tide\n"),
});
console.log("https on port {port}");
"#,
    },
    steps: &[look(
        "as a client it refuses a certificate with addresses under a root that limits addresses",
        "tamga check https://{host}:{port} --clients bun",
    )],
    unit: "",
    check: "",
    start: "",
    reload: "bun server.ts",
    notices: false,
    proof: ("what it prints", "https on port {port}"),
    faults: &[
        KnownError {
            text: "error:0b000074:X.509 certificate routines:OPENSSL_internal:KEY_VALUES_MISMATCH",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "UNSUPPORTED_CONSTRAINT_TYPE",
            code: Some(Code::ConstraintViolated),
            why: "Bun, as a client, knows no limits of addresses, and refuses a certificate with addresses under them",
            remedy: "serve it a certificate without addresses: tamga issue NAME… --label LABEL-hosts",
        },
    ],
    tried: Tried::Run("Bun 1.4"),
};
