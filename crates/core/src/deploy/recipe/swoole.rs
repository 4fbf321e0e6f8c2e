//! An asynchronous PHP server: HTTP and WebSocket in one process.

use super::act::by_hand;
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "swoole",
    also: &["openswoole", "php-async"],
    title: "An asynchronous PHP server (Swoole): HTTP and wss in one process",
    facts: Facts { port: 8443, owner: "", passphrase: "from the environment (KEY_PASSPHRASE)", ..WEB },
    config: Config {
        path: "server.php",
        place: Placement::Yours("in the application's directory"),
        quote: Quote::Inside,
        text: r#"<?php
// Pages and WebSockets come through one port: nothing is mixed, and one certificate serves both.
$server = new Swoole\WebSocket\Server("{anywhere}", {port}, SWOOLE_PROCESS, {family} | SWOOLE_SSL);
$server->set([
    "ssl_cert_file" => "{certificate}",
    "ssl_key_file" => "{key}",
?locked     "ssl_passphrase" => getenv("KEY_PASSPHRASE"),
!only13     "ssl_protocols" => SWOOLE_SSL_TLSv1_2 | SWOOLE_SSL_TLSv1_3,
?only13     "ssl_protocols" => SWOOLE_SSL_TLSv1_3,
?clients     "ssl_client_cert_file" => "{clients}",
?clients     "ssl_verify_peer" => true,
?clients     "ssl_verify_depth" => 3,
    "open_http2_protocol" => true,
]);
$server->on("start", function () {
    echo "https and wss on port {port}\n";
});
// Your own instead of these two.
$server->on("request", function ($request, $response) {
    $response->end("served over HTTPS\n");
});
$server->on("message", function ($server, $frame) {
    $server->push($frame->fd, $frame->data);
});
$server->start();
"#,
    },
    steps: &[
        by_hand("its extension must have been built with OpenSSL", "php --ri swoole | grep -i openssl"),
        by_hand("in the page: wss, the certificate's name, no bare address", "new WebSocket(\"wss://{host}:{port}/\")"),
    ],
    unit: "",
    check: "php -l server.php",
    start: "",
    // Its signal for a reload starts the workers again; the certificate is the main process's.
    reload: "php server.php",
    notices: false,
    proof: ("what it prints", "https and wss on port {port}"),
    faults: &[
        KnownError {
            text: "SSL_CTX_use_PrivateKey_file(… failed",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match, or the key cannot be read",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "Undefined constant \"SWOOLE_SSL\"",
            code: None,
            why: "the extension was built without OpenSSL",
            remedy: "install a build with OpenSSL: php --ri swoole shows it",
        },
    ],
    tried: Tried::Form("the program was read by php -l"),
};
