//! A front-end development server.

use super::template::Quote;
use super::{Config, Facts, KnownError, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "vite",
    also: &["front-end", "dev-server"],
    title: "A front-end development server (Vite)",
    facts: Facts { port: 5173, owner: "", passphrase: "from the environment (KEY_PASSPHRASE)", ..WEB },
    config: Config {
        path: "vite.https.mjs, beside the vite.config that you have",
        quote: Quote::Inside,
        text: r#"import { readFileSync } from "node:fs";

export const server = {
  host: "{address}",
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
        (
            "add two lines to the configuration that you have; everything else in it stays",
            "import { server } from \"./vite.https.mjs\";\nexport default defineConfig({ server, /* what is there already */ });",
        ),
        ("the files stay out of the project: they must not be committed", "git check-ignore {key} || true"),
        (
            "another front-end server takes the same two files",
            "webpack: devServer.server = { type: \"https\", options: { cert: \"{certificate}\", key: \"{key}\" } }\nnext dev --experimental-https --experimental-https-key {key} --experimental-https-cert {certificate}",
        ),
    ],
    check: "node --check vite.https.mjs",
    reload: "npx vite",
    proof: ("what it prints", "Local: https://{first}:{port}/"),
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
            why: "the page's WebSocket uses a host or port for which the certificate does not stand",
            remedy: "server.hmr.host must be a name of the certificate, protocol wss",
        },
        KnownError {
            text: "http proxy error … self-signed certificate",
            code: Some(Code::IssuerUnknown),
            why: "its proxy, a client in Node.js, does not trust the root of what stands behind it",
            remedy: "NODE_EXTRA_CA_CERTS=…/root.pem; never secure: false",
        },
    ],
    tried: Tried::Form("the configuration was read by node --check"),
};
