//! Servers whose key is another's: they hang up, and say nothing of it to the client.

use crate::lab;
use serde_json::Value;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use tamga_testkit::sandbox::{Sandbox, has};

/// Reads its files at each handshake, and hangs up without a word when they do not fit.
const PHP: &str = r#"
$tls = stream_context_create(["ssl" => ["local_cert" => "certificate.pem", "local_pk" => "private-key.pem"]]);
$server = stream_socket_server("tls://127.0.0.1:0", $e, $m, STREAM_SERVER_BIND | STREAM_SERVER_LISTEN, $tls);
echo explode(":", stream_socket_get_name($server, false))[1], "\n";
while (true) { @stream_socket_accept($server, 60); }
"#;

/// Reads its files at each handshake, as exporters of metrics and key-value stores do: internal_error.
const GO: &str = r#"package main
import ("crypto/tls"; "fmt"; "net"; "net/http")
func main() {
    l, _ := net.Listen("tcp", "127.0.0.1:0")
    fmt.Println(l.Addr().(*net.TCPAddr).Port)
    read := func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
        c, err := tls.LoadX509KeyPair("certificate.pem", "private-key.pem")
        return &c, err
    }
    http.Serve(tls.NewListener(l, &tls.Config{GetCertificate: read}), nil)
}
"#;

struct Served(Child, String);

impl Drop for Served {
    fn drop(&mut self) {
        // And what it started.
        let group = nix::unistd::Pid::from_raw(i32::try_from(self.0.id()).unwrap());
        let _ = nix::sys::signal::killpg(group, nix::sys::signal::Signal::SIGKILL);
        let _ = self.0.wait();
    }
}

/// Starts it in the directory of a certificate; with its port.
fn served(s: &Sandbox, mut c: Command) -> Served {
    use std::os::unix::process::CommandExt as _;
    c.current_dir(s.lab("charts")).stdout(Stdio::piped()).stderr(Stdio::null()).process_group(0);
    let mut child = c.spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    Served(child, line.trim().to_owned())
}

/// The findings of a check: codes, and the words of the first.
fn found(s: &Sandbox, server: &Served) -> (Vec<String>, String) {
    let target = format!("localhost:{}", server.1);
    let resolve = ["--resolve", "localhost=127.0.0.1", "--clients", "standard", "--anchor", "charts/root.pem"];
    let v: Value = s.json(&[&["check", &target][..], &resolve].concat()).json();
    let all = v["targets"][0]["findings"].as_array().unwrap();
    let codes = all.iter().map(|f| f["code"].as_str().unwrap().to_owned()).collect();
    (codes, all.first().map(|f| f["summary"].to_string()).unwrap_or_default())
}

/// Right key, key of another, and again: the servers read the files each time.
fn with_the_key_of_another(s: &Sandbox, server: &Served, how: &str) {
    let (key, right) = (s.lab("charts/private-key.pem"), s.lab("right.pem"));
    // PHP asks every client for a certificate, and does not insist.
    assert!(found(s, server).0.iter().all(|c| c == "client-certificate-wanted"), "{:?}", found(s, server));
    std::fs::copy(&key, &right).unwrap();
    std::fs::copy(s.lab("tides/private-key.pem"), &key).unwrap();
    let (codes, said) = found(s, server);
    assert_eq!(codes, ["key-mismatch"], "{said}");
    assert!(said.contains("is not the key of the certificate charts") && said.contains(how), "{said}");
    // Where the files that lie here fit, nobody can say more than what was seen.
    std::fs::write(s.lab("charts/certificate.pem"), "no certificate\n").unwrap();
    std::fs::copy(&right, &key).unwrap();
    let (codes, said) = found(s, server);
    assert_eq!(codes, ["handshake-refused"], "{said}");
    assert!(said.contains(how), "{said}");
}

fn two_pairs() -> Sandbox {
    let s = lab();
    s.run(&["issue", "tides.saltmarsh.test", "--label", "tides"]).expect(0);
    s
}

#[test]
fn php_hangs_up_and_the_files_say_why() {
    if !has(&["php"]) {
        return;
    }
    let s = two_pairs();
    let mut c = Command::new("php");
    c.args(["-r", PHP]);
    let server = served(&s, c);
    with_the_key_of_another(&s, &server, "it hangs up on a TLS hello");
}

#[test]
fn go_answers_with_an_error_of_its_own_and_the_files_say_why() {
    if !has(&["go"]) {
        return;
    }
    let s = two_pairs();
    std::fs::write(s.lab("server.go"), GO).unwrap();
    let built =
        s.around("go").args(["build", "-o", "server", "server.go"]).env("GOCACHE", s.lab("cache")).output().unwrap();
    assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));
    let server = served(&s, Command::new(s.lab("server")));
    with_the_key_of_another(&s, &server, "internal_error");
}
