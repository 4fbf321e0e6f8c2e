//! Clients whose library knows no limits of addresses: Bun, and gRPC's core.

use crate::lab;
use serde_json::Value;
use tamga_testkit::sandbox::{Sandbox, brought};
use tamga_testkit::site::Site;

fn targets(v: &Value, basis: &str) -> Vec<(String, String, Option<String>)> {
    let word = |c: &Value, k: &str| c[k].as_str().map(str::to_owned);
    let all = v["targets"][0]["clients"].as_array().unwrap().iter().filter(|c| c["basis"] == basis);
    all.map(|c| (word(c, "client").unwrap(), word(c, "verdict").unwrap(), word(c, "code"))).collect()
}

/// A check with the root in the files that variables name, and the programs of these directories in front.
fn check(s: &Sandbox, target: &str, observe: bool, more: &[(&str, String)]) -> Value {
    let mut words = vec!["check", target, "--clients", "bun,grpc,curl", "--format", "json"];
    if observe {
        words.push("--observe");
    }
    let root = s.lab("charts/root.pem").display().to_string();
    let mut c = s.command(&words);
    c.env("SSL_CERT_FILE", &root).env("GRPC_DEFAULT_SSL_ROOTS_FILE_PATH", &root);
    c.envs(more.iter().map(|(k, v)| (k, v)));
    serde_json::from_slice(&c.output().unwrap().stdout).unwrap()
}

#[test]
fn addresses_under_limits_are_refused_and_the_remedy_helps() {
    let s = lab();
    let site = Site::start(&s, &["charts"]);
    let v = check(&s, &format!("localhost:{}", site.port), false, &[]);
    let refused = |c: &str, code: &str| (c.to_owned(), "refuses".to_owned(), Some(code.to_owned()));
    let curl = ("curl".to_owned(), "accepts".to_owned(), None);
    let bun = refused("bun", "UNSPECIFIED");
    let grpc = refused("grpc", "unsupported name constraint type");
    assert_eq!(targets(&v, "predicted"), [bun, grpc, curl]);
    let found = v["targets"][0]["findings"].as_array().unwrap();
    let found: Vec<&Value> = found.iter().filter(|f| f["code"] == "ip-constraint-unsupported").collect();
    assert_eq!(found.len(), 1, "{v}");
    let remedy = found[0]["remedy"].as_str().unwrap();
    let command = remedy.split_once(": tamga ").unwrap().1;
    // What it says is what helps.
    s.run(&command.split(' ').collect::<Vec<_>>()).expect(0);
    let label = command.rsplit(' ').next().unwrap();
    let site = Site::start(&s, &[label]);
    let v = check(&s, &format!("localhost:{}", site.port), false, &[]);
    assert!(targets(&v, "predicted").iter().all(|t| t.1 == "accepts"), "{v}");
}

#[test]
fn setup_says_so_once() {
    let s = crate::sandbox().without_clients();
    let first = s.json(&["setup", "charts.saltmarsh.test", "--into", "tls"]).expect(0).json();
    let found = first["findings"].as_array().unwrap().iter().find(|f| f["code"] == "ip-constraint-unsupported");
    let found = found.unwrap_or_else(|| panic!("{first}"));
    assert_eq!(found["severity"], "note");
    assert!(
        found["remedy"].as_str().unwrap().contains("tamga issue charts.saltmarsh.test localhost --label"),
        "{found}"
    );
    let again = s.json(&["setup", "charts.saltmarsh.test"]).expect(0).json();
    assert!(!again.to_string().contains("ip-constraint-unsupported"), "{again}");
}

#[test]
fn the_real_clients_say_what_is_foreseen() {
    let Some(folders) = brought() else { return };
    let s = lab();
    let mut path = folders;
    path.push(":");
    path.push(std::env::var_os("PATH").unwrap());
    let path = [("PATH", path.into_string().unwrap())];
    s.run(&["issue", "localhost", "charts.saltmarsh.test", "--label", "hosts"]).expect(0);
    s.run(&["issue", "archive.saltmarsh.test", "--label", "archive"]).expect(0);
    for (label, accepted) in [("charts", 1), ("hosts", 3), ("archive", 0)] {
        let site = Site::start(&s, &[label]);
        let v = check(&s, &format!("localhost:{}", site.port), true, &path);
        let observed = targets(&v, "observed");
        assert_eq!(observed, targets(&v, "predicted"), "{label}: {v}");
        assert_eq!(observed.iter().filter(|t| t.1 == "accepts").count(), accepted, "{label}");
    }
}

/// Deno knows no store of the system's unless a variable says so, and of private roots what another adds.
#[test]
fn deno_is_foreseen_with_each_of_its_variables() {
    let Some(folders) = brought() else { return };
    if !std::env::split_paths(&folders).any(|f| f.join("deno").exists()) {
        assert!(std::env::var_os("TAMGA_TESTS_COMPLETE").is_none(), "deno must be installed here");
        eprintln!("SKIPPED: deno not installed");
        return;
    }
    let mut s = lab();
    for folder in std::env::split_paths(&folders) {
        s.find_first(&folder);
    }
    let site = Site::start(&s, &["charts"]);
    let root = s.lab("charts/root.pem").display().to_string();
    std::fs::create_dir_all(s.path("root/etc/ssl/certs")).unwrap();
    std::fs::copy(&root, s.path("root/etc/ssl/certs/ca-certificates.crt")).unwrap();
    let rows = |variables: &[(&str, &str)], target: &str| -> Vec<Value> {
        let mut c = s.command(&["check", target, "--clients", "deno", "--observe", "--format", "json"]);
        c.envs(variables.iter().copied());
        let v: Value = serde_json::from_slice(&c.output().unwrap().stdout).unwrap();
        let rows = v["targets"][0]["clients"].as_array().unwrap();
        rows.iter().map(|r| serde_json::json!([r["verdict"], r["code"]])).collect()
    };
    let good = format!("localhost:{}", site.port);
    let accepted = [serde_json::json!(["accepts", null]), serde_json::json!(["accepts", null])];
    for variable in ["DENO_CERT", "NODE_EXTRA_CA_CERTS"] {
        assert_eq!(rows(&[(variable, &root)], &good), accepted, "{variable}");
    }
    let unknown = serde_json::json!(["refuses", "UnknownIssuer"]);
    assert_eq!(rows(&[], &good), [unknown.clone(), unknown]);
    let other = serde_json::json!(["refuses", "certificate not valid for name"]);
    let elsewhere = format!("127.0.0.2:{}", site.port);
    let seen = rows(&[("DENO_CERT", &root)], &elsewhere);
    assert!(seen.is_empty() || seen == [other.clone(), other], "{seen:?}");
}

/// A server of BoringSSL agrees to the key exchange that browsers offer first.
#[test]
fn the_hybrid_key_exchange_is_agreed_upon_with_a_real_server() {
    use std::io::BufRead;
    let Some(folders) = brought() else { return };
    let s = lab();
    let script = "const s = Bun.serve({ port: 0, hostname: '127.0.0.1', tls: { cert: Bun.file('charts/certificate.pem'), \
                  key: Bun.file('charts/private-key.pem') }, fetch() { return new Response('') } }); console.log(s.port)";
    std::fs::write(s.lab("server.js"), script).unwrap();
    let program = std::env::split_paths(&folders).map(|f| f.join("bun")).find(|p| p.exists()).unwrap();
    let mut c = std::process::Command::new(program);
    c.args(["run", "server.js"]).current_dir(s.lab("")).stdout(std::process::Stdio::piped());
    let mut server = c.spawn().unwrap();
    let mut line = String::new();
    std::io::BufReader::new(server.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let target = format!("localhost:{}", line.trim());
    let words =
        ["check", &target, "--resolve", "localhost=127.0.0.1", "--clients", "standard", "--anchor", "charts/root.pem"];
    let v = s.json(&words).json();
    server.kill().unwrap();
    server.wait().unwrap();
    assert_eq!(v["targets"][0]["connections"][0]["key_exchange"], "X25519MLKEM768", "{v}");
}
