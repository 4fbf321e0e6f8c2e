//! The development server of webpack.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "webpack",
    also: &["webpack-dev-server"],
    title: "The development server of webpack 5",
    facts: Facts { port: 8080, owner: "", passphrase: "from the environment (KEY_PASSPHRASE)", system: None, ..WEB },
    config: Config {
        path: "webpack.https.mjs",
        place: Placement::Yours("beside your webpack.config"),
        quote: Quote::Inside,
        text: r#"import { readFileSync } from "node:fs";

export const devServer = {
  host: "{anywhere}",
  port: {port},
  allowedHosts: ["{first}"],
  server: {
    type: "https",
    options: {
      cert: readFileSync("{certificate}"),
      key: readFileSync("{key}"),
?locked       passphrase: process.env.KEY_PASSPHRASE,
?clients       ca: readFileSync("{clients}"),
?clients       requestCert: true,
?clients       rejectUnauthorized: true,
      minVersion: "TLSv{minimum}",
    },
  },
  // The page's own WebSocket must use a name that the certificate has.
  client: { webSocketURL: { protocol: "wss", hostname: "{first}", port: {port} } },
};
"#,
    },
    steps: &[
        by_hand(
            "add two lines to your configuration, and keep the rest",
            "import { devServer } from \"./webpack.https.mjs\";\nexport default { devServer, /* your other settings */ };",
        ),
        look("keep the files out of version control", "git check-ignore {key}"),
    ],
    unit: "",
    check: "node --check webpack.https.mjs",
    start: "",
    reload: "npx webpack serve",
    notices: false,
    proof: ("what it prints", "Loopback: https://"),
    faults: &[
        KnownError {
            text: "Invalid Host/Origin header",
            code: None,
            why: "the development server answers only for the hosts in its configuration",
            remedy: "devServer.allowedHosts must have the name",
        },
        KnownError {
            text: "WebSocket connection to 'wss://… failed",
            code: Some(Code::NameNotCovered),
            why: "the page's WebSocket uses a host or port that the certificate does not cover",
            remedy: "devServer.client.webSocketURL.hostname must be a name of the certificate",
        },
        KnownError {
            text: "[HPM] Error occurred while proxying … self-signed certificate",
            code: Some(Code::IssuerUnknown),
            why: "its proxy, a Node.js client, does not trust the root of the server behind it",
            remedy: "NODE_EXTRA_CA_CERTS=…/root.pem; never secure: false",
        },
    ],
    tried: Tried::Run("webpack 5 with webpack-dev-server 5"),
};
