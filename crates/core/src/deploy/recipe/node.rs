//! Node.js.

use super::act::by_hand;
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "node",
    also: &["nodejs", "express"],
    title: "Node.js 18 and later",
    facts: Facts { port: 8443, owner: "", passphrase: "from the environment (KEY_PASSPHRASE)", ..WEB },
    config: Config {
        path: "server.mjs",
        place: Placement::Yours("in the application's directory"),
        quote: Quote::Inside,
        text: r#"?posix import { readFileSync, writeFileSync } from "node:fs";
?windows import { readFileSync, watchFile } from "node:fs";
import { createServer } from "node:https";
?redirect import { createServer as createPlain } from "node:http";

const identity = () => ({
  cert: readFileSync("{certificate}"),
  key: readFileSync("{key}"),
?locked   passphrase: process.env.KEY_PASSPHRASE,
?clients   ca: readFileSync("{clients}"),
?clients   requestCert: true,
?clients   rejectUnauthorized: true,
  minVersion: "TLSv{minimum}",
});
// An application of Express or the like stands here instead of this function.
const application = (request, response) => response.end("served over HTTPS\n");
// Both families of addresses where it listens everywhere.
const hosts = (process.env.HOST ?? "{all}").split(" ");
const servers = hosts.map(() => createServer(identity(), application));
?posix // After a renewal: kill -HUP; open connections stay.
?posix writeFileSync("server.pid", String(process.pid));
?posix process.on("SIGHUP", () => {
?posix   for (const server of servers) server.setSecureContext(identity());
?posix   console.log("certificate read again");
?posix });
?windows // After a renewal both files are new, one before the other; open connections stay.
?windows for (const file of ["{certificate}", "{key}"]) {
?windows   watchFile(file, { interval: 5000 }, () => {
?windows     try {
?windows       for (const server of servers) server.setSecureContext(identity());
?windows       console.log("certificate read again");
?windows     } catch (error) {
?windows       console.error(`not yet: ${error.message}`);
?windows     }
?windows   });
?windows }
servers.forEach((server, n) => server.listen({ port: {port}, host: hosts[n] }, () => console.log("https on port {port}")));
?redirect const toHttps = (request, response) => {
?redirect   const name = (request.headers.host ?? "{first}").replace(/:\d+$/, "");
?redirect   response.writeHead(307, { location: `https://${name}{at}${request.url}` }).end();
?redirect };
?redirect for (const host of hosts) createPlain(toHttps).listen({ port: {plain}, host });
"#,
    },
    steps: &[by_hand(
        "Node.js programs that connect to it read neither the system's nor the browser's store",
        "export NODE_EXTRA_CA_CERTS={root}",
    )],
    unit: "",
    check: "node --check server.mjs",
    start: "node server.mjs",
    reload: "kill -HUP \"$(cat server.pid)\"",
    notices: false,
    proof: ("what it prints", "https on port {port}\ncertificate read again"),
    faults: &[
        KnownError {
            text: "ERR_OSSL_X509_KEY_VALUES_MISMATCH",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "ERR_OSSL_PEM_NO_START_LINE",
            code: None,
            why: "a path was given where the file's content is expected, or the file is not PEM",
            remedy: "readFileSync(path), not the path; tamga show FILE says what it is",
        },
        KnownError {
            text: "UNABLE_TO_VERIFY_LEAF_SIGNATURE",
            code: Some(Code::IssuerUnknown),
            why: "a Node.js client does not trust the root, or the server sends no intermediate",
            remedy: "NODE_EXTRA_CA_CERTS=…/root.pem, and serve certificate.pem whole",
        },
        KnownError {
            text: "UNABLE_TO_GET_ISSUER_CERT_LOCALLY",
            code: Some(Code::IssuerUnknown),
            why: "a Node.js client does not trust the root",
            remedy: "NODE_EXTRA_CA_CERTS=…/root.pem, or start it with: tamga run -- node …",
        },
        KnownError {
            text: "SELF_SIGNED_CERT_IN_CHAIN",
            code: Some(Code::IssuerUnknown),
            why: "a Node.js client does not trust the root",
            remedy: "NODE_EXTRA_CA_CERTS=…/root.pem; never NODE_TLS_REJECT_UNAUTHORIZED=0",
        },
        KnownError {
            text: "DEPTH_ZERO_SELF_SIGNED_CERT",
            code: Some(Code::SelfSignedLeaf),
            why: "the server sends a self-signed certificate that this client does not trust",
            remedy: "tamga issue NAME under an authority, and trust its root",
        },
        KnownError {
            text: "listen EACCES: permission denied",
            code: None,
            why: "ports below 1024 need rights",
            remedy: "take a port above 1023",
        },
        KnownError {
            text: "listen EADDRINUSE",
            code: None,
            why: "another program holds the port",
            remedy: "ss -ltnp shows which",
        },
    ],
    tried: Tried::Run("Node.js 18 and 20"),
};
