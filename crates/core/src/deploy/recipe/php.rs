//! PHP with a WebSocket.

use super::act::by_hand;
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "php",
    also: &["php-websocket"],
    title: "PHP with its own WebSocket server (wss)",
    facts: Facts { port: 8443, owner: "", passphrase: "from the environment (KEY_PASSPHRASE)", ..WEB },
    config: Config {
        path: "websocket.php",
        place: Placement::Yours("in the application's directory"),
        quote: Quote::Inside,
        text: r#"<?php
// A page over HTTPS may open wss:// only, and under a name that the certificate has.
$context = stream_context_create(["ssl" => [
    "local_cert" => "{certificate}",
    "local_pk" => "{key}",
?locked     "passphrase" => getenv("KEY_PASSPHRASE"),
?clients     "cafile" => "{clients}",
?clients     "verify_peer" => true,
!clients     "verify_peer" => false, // of the clients; the server itself is verified by them
!only13     "crypto_method" => STREAM_CRYPTO_METHOD_TLSv1_2_SERVER | STREAM_CRYPTO_METHOD_TLSv1_3_SERVER,
?only13     "crypto_method" => STREAM_CRYPTO_METHOD_TLSv1_3_SERVER,
]]);
// Both families of addresses where it listens everywhere.
$servers = [];
foreach (explode(" ", "{all}") as $a) {
    $at = str_contains($a, ":") ? "tcp://[$a]:{port}" : "tcp://$a:{port}";
    $server = stream_socket_server($at, $number, $text, STREAM_SERVER_BIND | STREAM_SERVER_LISTEN, $context);
    if (!$server) {
        fwrite(STDERR, "$text\n");
        exit(1);
    }
    $servers[] = $server;
}
echo "wss on port {port}\n";
// Each connection goes on when it has something to say: one that is silent keeps nobody else waiting. The files are read again for each.
$open = []; // number => [socket, whether TLS is up, what was read, since when]
$close = function (int $n) use (&$open) {
    fclose($open[$n][0]);
    unset($open[$n]);
};
while (true) {
    $read = array_merge($servers, array_column($open, 0));
    $write = $except = null;
    stream_select($read, $write, $except, 5);
    foreach ($open as $n => $one) {
        if (time() - $one[3] > 30) {
            $close($n);
        }
    }
    foreach ($read as $socket) {
        if (in_array($socket, $servers, true)) {
            if ($client = @stream_socket_accept($socket, 0)) {
                stream_set_blocking($client, false);
                $open[(int) $client] = [$client, false, "", time()];
            }
            continue;
        }
        $n = (int) $socket;
        if (!isset($open[$n])) {
            continue;
        }
        if (!$open[$n][1]) {
            error_clear_last();
            $done = @stream_socket_enable_crypto($socket, true);
            if ($done === false) {
                // A client that does not trust the root ends here, and so does a key that is not the certificate's.
                fwrite(STDERR, (error_get_last()["message"] ?? "the client hung up") . "\n");
                $close($n);
            } elseif ($done === true) {
                $open[$n][1] = true;
            }
            continue;
        }
        $open[$n][2] .= $some = (string) fread($socket, 8192);
        if (str_contains($open[$n][2], "\r\n\r\n")) {
            if (preg_match('/^Sec-WebSocket-Key:\s*(\S+)/mi', $open[$n][2], $key)) {
                $accept = base64_encode(sha1($key[1] . "258EAFA5-E914-47DA-95CA-C5AB0DC85B11", true));
                fwrite($socket, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: $accept\r\n\r\n");
                fwrite($socket, "\x81\x05hello");
            } else {
                fwrite($socket, "HTTP/1.1 426 Upgrade Required\r\nUpgrade: websocket\r\nContent-Length: 0\r\n\r\n");
            }
            $close($n);
        } elseif ($some === "" && feof($socket) || strlen($open[$n][2]) > 65536) {
            $close($n);
        }
    }
}
"#,
    },
    steps: &[
        by_hand("in the page: wss, the certificate's name, no bare address", "new WebSocket(\"wss://{host}:{port}/\")"),
        by_hand(
            "or put it behind a web server, which does TLS while PHP speaks ws on loopback; nginx then needs these lines",
            "proxy_http_version 1.1;\nproxy_set_header Upgrade $http_upgrade;\nproxy_set_header Connection \"upgrade\";",
        ),
    ],
    unit: "",
    check: "php -l websocket.php",
    start: "php websocket.php",
    reload: "",
    notices: false,
    proof: ("what it prints", "wss on port {port}"),
    faults: &[
        KnownError {
            text: "SSL: Unable to set private key file",
            code: Some(Code::KeyMismatch),
            why: "the key is not that of the certificate, or it is encrypted",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "Unable to set local cert chain file",
            code: None,
            why: "the file is not there or not PEM; the leaf must come first",
            remedy: "tamga show LABEL says where the files are",
        },
        KnownError {
            text: "WebSocket connection to 'wss://… failed: Error in connection establishment: net::ERR_CERT",
            code: Some(Code::IssuerUnknown),
            why: "a browser shows no warning for a WebSocket: the connection just fails",
            remedy: "tamga check https://HOST:PORT for the very host and port of the WebSocket",
        },
        KnownError {
            text: "This request has been blocked; this endpoint must be available over WSS",
            code: None,
            why: "a page over HTTPS may not open ws://",
            remedy: "write wss:// in the page",
        },
    ],
    tried: Tried::Run("PHP 8.2"),
};
