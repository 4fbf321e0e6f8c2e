//! Recipes for Windows: what they write is read by the servers' own parsers, what is typed by one of PowerShell.

use crate::sandbox;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use tamga_testkit::sandbox::{Sandbox, brought, has};
use tamga_testkit::server::free_port;

const PARSER: &str = r#"
import json, sys
import tree_sitter_powershell as grammar
from tree_sitter import Language, Parser
parser = Parser(Language(grammar.language()))
texts = json.load(sys.stdin)
print(json.dumps([t for t in texts if parser.parse(t.encode()).root_node.has_error]))
"#;

/// Of these texts, those that are not PowerShell. None where no parser is here.
fn not_powershell(texts: &[String]) -> Option<Vec<String>> {
    let folders = brought()?;
    let python = std::env::split_paths(&folders).map(|f| f.join("python3")).find(|p| p.is_file())?;
    let mut child =
        Command::new(python).args(["-c", PARSER]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(serde_json::to_string(texts).unwrap().as_bytes()).unwrap();
    let out = child.wait_with_output().unwrap();
    assert!(out.status.success(), "the parser of PowerShell could not be run");
    Some(serde_json::from_slice(&out.stdout).unwrap())
}

/// The lab with certificates whose names, labels and directories want quoting.
fn quoted() -> Sandbox {
    let s = sandbox();
    for label in ["saltmarsh", "crew"] {
        s.run(&["authority", "create", label]).expect(0);
    }
    for (label, kind) in [("ec", "p256"), ("rsa", "rsa2048")] {
        let words =
            ["issue", "charts.saltmarsh.test", "*.buoys.saltmarsh.test", "--issuer", "saltmarsh", "--label", label];
        let folder = format!("the lab's {label}");
        s.run(&[&words[..], &["--key-algorithm", kind, "--valid-for", "13d", "--into", &folder]].concat()).expect(0);
    }
    s
}

#[test]
fn what_is_typed_on_windows_is_powershell() {
    let s = quoted();
    let all = s.json(&["recipe"]).expect(0).json();
    let (mut texts, mut recipes) = (Vec::<String>::new(), 0);
    for recipe in all["recipes"].as_array().unwrap() {
        let server = recipe["server"].as_str().unwrap();
        let takes_p256 = recipe["key_algorithms"].as_array().unwrap().iter().any(|k| k == "p256");
        let label = if takes_p256 { "ec" } else { "rsa" };
        for more in [
            &[][..],
            &["--redirect", "--client-authority", "crew"],
            &["--into", "D:/the lab's/tls", "--owner", "NT SERVICE\\Tide's"],
        ] {
            let ran = s.json(&[&["recipe", server, label, "--system", "windows"], more].concat());
            // It is for Linux alone, or would not notice an option.
            if ran.code == 2 {
                continue;
            }
            recipes += 1;
            let v = ran.expect(0).json()["recipe"].clone();
            let works = v["files"].as_array().unwrap().iter().chain(v["steps"].as_array().unwrap());
            let is_typed = |w: &&serde_json::Value| {
                let (action, what) = (w["action"].as_str().unwrap(), w["what"].as_str().unwrap());
                ["run", "look"].contains(&action) && !what.starts_with("success looks like")
            };
            let typed = works.filter(is_typed);
            let lines = typed.flat_map(|w| w["lines"].as_array().unwrap()).chain(v["renewal"].as_array().unwrap());
            texts.extend(lines.map(|l| l.as_str().unwrap().to_owned()));
            if v["path"].as_str().unwrap().ends_with(".ps1") {
                texts.push(v["content"].as_str().unwrap().to_owned());
            }
        }
    }
    assert!(recipes > 30, "{recipes}");
    // What is typed here, where Tamga is, and what is only looked at.
    texts.retain(|t| !["(umask", "tamga ", "/", "'/"].iter().any(|begin| t.starts_with(begin)));
    // The parser takes no text of comments alone.
    texts.retain(|t| t.lines().any(|l| !l.starts_with('#')));
    texts.sort_unstable();
    texts.dedup();
    assert!(texts.len() > 60, "{texts:#?}");
    for word in ["sudo", "systemctl", "install -", "/etc/", "/var/", "$(cat", "||", "grep", "export "] {
        assert!(!texts.iter().any(|t| t.contains(word)), "{word}: {texts:#?}");
    }
    let broken = ["Copy-Item 'the lab's own' -Force", "if ($a { throw 'b' }"].map(str::to_owned);
    let Some(found) = not_powershell(&[&texts[..], &broken].concat()) else { return };
    assert_eq!(found, broken, "only what was broken on purpose is");
}

/// A configuration for Windows with the paths of this machine in it.
fn written(s: &Sandbox, server: &str, more: &[&str]) -> (PathBuf, String) {
    let ports = [free_port(), free_port()].map(|p| p.to_string());
    let redirect = format!("--redirect={}", ports[1]);
    let words =
        ["recipe", server, "ec", "--system", "windows", "--port", &ports[0], &redirect, "--address", "127.0.0.1"];
    let json = s.json(&[&words[..], &["--into", "C:/the lab's"], more].concat()).expect(0).json()["recipe"].clone();
    let here = s.lab("here");
    if !here.exists() {
        std::fs::create_dir(&here).unwrap();
        for file in ["certificate.pem", "private-key.pem", "root.pem"] {
            std::fs::copy(s.lab("the lab's ec").join(file), here.join(file)).unwrap();
        }
        std::fs::copy(here.join("root.pem"), here.join("clients.pem")).unwrap();
    }
    let content = json["content"].as_str().unwrap();
    assert!(content.contains("C:/the lab's/certificate.pem"), "{content}");
    (here.clone(), content.replace("C:/the lab's", here.to_str().unwrap()))
}

#[track_caller]
fn reads(program: &str, words: &[&str], text: &str) {
    let out = Command::new(program).args(words).output().unwrap();
    let said = format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
    assert!(out.status.success(), "{said}\n{text}");
}

const VARIANTS: [&[&str]; 2] = [&[], &["--tls-minimum", "1.3", "--client-authority", "crew"]];

#[test]
fn nginx_reads_what_is_written_for_windows() {
    if !has(&["nginx"]) {
        return;
    }
    let s = quoted();
    for more in VARIANTS {
        let (here, content) = written(&s, "nginx", more);
        let log = here.join("error.log").display().to_string();
        let text = format!(
            "pid {0}/pid;\nerror_log {log};\nevents {{}}\nhttp {{\naccess_log off;\nclient_body_temp_path {0}/t;\n{content}\n}}\n",
            here.display()
        );
        std::fs::write(here.join("nginx.conf"), &text).unwrap();
        let file = here.join("nginx.conf").display().to_string();
        reads("nginx", &["-t", "-q", "-e", &log, "-c", &file], &text);
    }
}

#[test]
fn apache_reads_what_is_written_for_windows() {
    let modules = Path::new("/usr/lib/apache2/modules");
    if !has(&["apache2", "/usr/lib/apache2/modules/mod_ssl.so"]) {
        return;
    }
    let s = quoted();
    for more in VARIANTS {
        let (here, content) = written(&s, "apache", more);
        let content = content.replace("C:/Apache24/htdocs", here.to_str().unwrap());
        let loaded: String = ["mpm_event", "authz_core", "alias", "ssl", "http2", "socache_shmcb"]
            .iter()
            .map(|m| format!("LoadModule {m}_module {}/mod_{m}.so\n", modules.display()))
            .collect();
        let text = format!(
            "ServerName a.test\nServerRoot {0}\nErrorLog {0}/error.log\nPidFile {0}/pid\n{loaded}{content}",
            here.display()
        );
        std::fs::write(here.join("httpd.conf"), &text).unwrap();
        let file = here.join("httpd.conf").display().to_string();
        reads("apache2", &["-t", "-f", &file], &text);
    }
}

#[test]
fn node_reads_what_is_written_for_windows_and_takes_a_renewed_pair_by_itself() {
    if !has(&["node"]) {
        return;
    }
    let s = quoted();
    for more in VARIANTS {
        let (here, content) = written(&s, "node", more);
        let file = here.join("server.mjs");
        std::fs::write(&file, &content).unwrap();
        reads("node", &["--check", &file.display().to_string()], &content);
    }
    let (here, content) = written(&s, "node", &[]);
    assert!(content.contains("interval: 5000"), "{content}");
    let file = here.join("server.mjs");
    std::fs::write(&file, content.replace("interval: 5000", "interval: 50")).unwrap();
    let log = std::fs::File::create(here.join("log")).unwrap();
    let mut child = Command::new("node")
        .arg(&file)
        .stdout(log.try_clone().unwrap())
        .stderr(log)
        .current_dir(&here)
        .spawn()
        .unwrap();
    let says = |part: &str| {
        (0..100).any(|_| {
            std::thread::sleep(std::time::Duration::from_millis(100));
            std::fs::read_to_string(here.join("log")).unwrap().contains(part)
        })
    };
    let listens = says("https on port");
    // One file before the other: it goes on with the old pair until both are there.
    s.run(&["renew", "ec"]).expect(0);
    let copy = |name: &str| std::fs::copy(s.lab("the lab's ec").join(name), here.join(name)).unwrap();
    copy("certificate.pem");
    let waits = says("not yet:");
    copy("private-key.pem");
    let reads = says("certificate read again");
    let lives = child.try_wait().unwrap().is_none();
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(listens && waits && reads && lives, "{listens} {waits} {reads} {lives}");
}

#[test]
fn a_system_that_a_recipe_does_not_know_is_refused() {
    let s = quoted();
    let ran = s.run(&["recipe", "redis", "ec", "--system", "windows"]).expect(2);
    assert!(ran.err.contains("no recipe for redis on Windows") && ran.err.contains("recipe general"), "{}", ran.err);
    let ran = s.run(&["recipe", "iis", "ec", "--system", "linux"]).expect(2);
    assert!(ran.err.contains("no recipe for iis on Linux"), "{}", ran.err);
    assert!(s.run(&["recipe", "iis", "ec"]).expect(0).out.contains("Import-PfxCertificate"));
    assert!(s.run(&["recipe", "nginx", "ec"]).expect(0).out.contains("/etc/nginx"));
    let ran = s.run(&["recipe", "nginx", "ec", "--system", "windows", "--install", "--dry-run"]).expect(2);
    assert!(ran.err.contains("cannot be set up by --install"), "{}", ran.err);
}
