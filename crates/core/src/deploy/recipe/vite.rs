//! A front-end development server.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "vite",
    also: &["front-end", "dev-server"],
    title: "A front-end development server (Vite)",
    facts: Facts { port: 5173, owner: "", passphrase: "from the environment (KEY_PASSPHRASE)", system: None, ..WEB },
    config: Config {
        path: "vite.https.mjs",
        place: Placement::Yours("beside your vite.config"),
        quote: Quote::Inside,
        text: r#"import { readFileSync } from "node:fs";

export const server = {
  host: "{anywhere}",
  port: {port},
  strictPort: true,
  allowedHosts: ["{first}"],
  https: {
    cert: readFileSync("{certificate}"),
    key: readFileSync("{key}"),
?locked     passphrase: process.env.KEY_PASSPHRASE,
?clients     ca: readFileSync("{clients}"),
?clients     requestCert: true,
    minVersion: "TLSv{minimum}",
  },
  // The page's own WebSocket must use a name that the certificate has.
  hmr: { protocol: "wss", host: "{first}", clientPort: {port} },
};
"#,
    },
    steps: &[
        by_hand(
            "add two lines to your configuration, and keep the rest",
            "import { server } from \"./vite.https.mjs\";\nexport default defineConfig({ server, /* your other settings */ });",
        ),
        look("keep the files out of version control", "git check-ignore {key}"),
        by_hand(
            "other front-end servers use the same two files",
            "next dev --experimental-https --experimental-https-key {key} --experimental-https-cert {certificate}",
        ),
    ],
    unit: "",
    check: "node --check vite.https.mjs",
    start: "",
    reload: "npx vite",
    notices: false,
    proof: ("what it prints", "Local: … https://{first}:{port}/"),
    faults: &[
        KnownError {
            text: "Blocked request. This host",
            code: None,
            why: "the development server answers only for the hosts in its configuration",
            remedy: "server.allowedHosts must have the name",
        },
        KnownError {
            text: "[vite] failed to connect to websocket",
            code: Some(Code::NameNotCovered),
            why: "the page's WebSocket uses a host or port that the certificate does not cover",
            remedy: "server.hmr.host must be a name of the certificate, protocol wss",
        },
        KnownError {
            text: "http proxy error … self-signed certificate",
            code: Some(Code::IssuerUnknown),
            why: "its proxy, a Node.js client, does not trust the root of the server behind it",
            remedy: "NODE_EXTRA_CA_CERTS=…/root.pem; never secure: false",
        },
    ],
    tried: Tried::Run("Vite 8"),
};
