//! The service killed at every point where it has made something durable, and just before: no certificate is issued that the ledger does not have,
//! none is reported that is lost, and the client, run again, finishes.

use super::Service;
use super::own::Client;
use crate::lab;
use std::process::Command;
use tamga_testkit::sandbox::Sandbox;
use tamga_testkit::server::free_port;

/// Ends the process at its n-th call that makes something durable: before it (`BEFORE`) or after it. Counted from when the file `GO` is there.
const SOURCE: &str = r#"
#define _GNU_SOURCE
#include <dlfcn.h>
#include <signal.h>
#include <stdlib.h>
#include <unistd.h>
static int seen;
static int at(const char *name, int fd) {
  int (*real)(int) = dlsym(RTLD_NEXT, name);
  const char *go = getenv("TESTKIT_GO"), *n = getenv("TESTKIT_KILL_AT"), *before = getenv("TESTKIT_BEFORE");
  int mine = go && access(go, F_OK) == 0 && __sync_add_and_fetch(&seen, 1) == atoi(n);
  if (mine && before) kill(getpid(), SIGKILL);
  int out = real(fd);
  if (mine) kill(getpid(), SIGKILL);
  return out;
}
int fdatasync(int fd) { return at("fdatasync", fd); }
int fsync(int fd) { return at("fsync", fd); }
"#;

fn library(s: &Sandbox) -> String {
    let (source, library) = (s.path("kill.c"), s.path("kill.so").display().to_string());
    std::fs::write(&source, SOURCE).unwrap();
    let made =
        Command::new("cc").args(["-shared", "-fPIC", "-O1", "-o", &library]).arg(&source).arg("-ldl").status().unwrap();
    assert!(made.success(), "the C compiler");
    library
}

#[test]
fn at_every_durable_point() {
    if !cfg!(target_os = "linux") {
        eprintln!("SKIPPED: LD_PRELOAD is needed");
        return;
    }
    let s = lab();
    let library = library(&s);
    let (http, tls, port) = (free_port(), free_port(), free_port());
    let at = format!("127.0.0.1:{port}");
    // The first start makes the intermediate; what is tried is the service at work.
    Service::start_at(&s, &at, http, tls, &[]).kill();
    let go = s.path("go");
    let mut points = Vec::new();
    for before in [true, false] {
        for n in 1.. {
            assert!(n < 40, "it never comes to an end");
            let name = format!("gauge-{n}{}.saltmarsh.test", if before { "b" } else { "" });
            let resolve = format!("{name}=127.0.0.1");
            let more = ["--resolve", resolve.as_str()];
            let _ = std::fs::remove_file(&go);
            let mut kill = vec![
                ("LD_PRELOAD", library.clone()),
                ("TESTKIT_GO", go.display().to_string()),
                ("TESTKIT_KILL_AT", n.to_string()),
            ];
            kill.extend(before.then(|| ("TESTKIT_BEFORE", "1".to_owned())));
            let service = Service::start_with(&s, &at, http, tls, &more, &kill);
            // What it does by itself at its start is over.
            std::thread::sleep(std::time::Duration::from_millis(300));
            std::fs::write(&go, "").unwrap();
            let data = s.path(&format!("client-{n}-{before}")).display().to_string();
            let client = Client::with_data(&s, &service, data);
            let listen = format!("127.0.0.1:{http}");
            let first = client.asks(&[&name], &["--challenge-listen", &listen]);
            let was_killed = service.is_over();
            let reported: Vec<String> =
                service.said("issued").iter().map(|e| e["detail"].as_str().unwrap().to_owned()).collect();
            service.kill();
            if !was_killed {
                first.expect(0);
                points.push(format!("{} points {} one is durable", n - 1, if before { "before" } else { "after" }));
                break;
            }
            let again = Service::start_at(&s, &at, http, tls, &more);
            if first.code != 0 {
                client.asks(&[&name], &["--challenge-listen", &listen]).expect(0);
            }
            again.kill();
            // What was issued is in the ledger: what the client has, and what was reported.
            let pem = std::fs::read(s.lab(&name).join("certificate.pem")).unwrap();
            let der = &tamga_core::pki::format::pem::certificates(&pem)[0];
            let serial = tamga_core::pki::cert::Certificate::read(der, "it").unwrap().serial.clone();
            let known = s.json(&["list", &name]).expect(0).json();
            let serials: Vec<&str> =
                known["certificates"].as_array().unwrap().iter().map(|c| c["serial"].as_str().unwrap()).collect();
            assert!(serials.contains(&serial.as_str()), "{n}: {known}");
            for line in reported {
                assert!(serials.iter().any(|serial| line.contains(serial)), "{n}: reported and lost: {line}");
            }
            assert_eq!(serials.len(), 1, "killed at {n}, the order was gone on with: {known}");
        }
    }
    eprintln!("{}", points.join("; "));
    assert!(points.iter().all(|p| p.split(' ').next().unwrap().parse::<u32>().unwrap() >= 4), "{points:?}");
}

#[test]
fn a_client_that_is_killed_goes_on_with_its_order() {
    let s = lab();
    let service = Service::start(&s, &[]);
    let data = s.path("elsewhere").display().to_string();
    let client = Client::with_data(&s, &service, data.clone());
    let listen = format!("127.0.0.1:{}", service.http);
    let library = library(&s);
    let mut kills = 0;
    for n in 1..80 {
        let go = s.path("go");
        std::fs::write(&go, "").unwrap();
        let mut command = s.command(&[
            "--data-dir",
            &data,
            "issue",
            "charts.saltmarsh.test",
            "--from",
            &service.directory,
            "--challenge-listen",
            &listen,
            "--anchor",
        ]);
        command
            .arg(super::root(&s))
            .env("LD_PRELOAD", &library)
            .env("TESTKIT_GO", &go)
            .env("TESTKIT_KILL_AT", n.to_string());
        let ended = command.output().unwrap();
        if ended.status.success() {
            break;
        }
        let said = String::from_utf8_lossy(&ended.stderr);
        if said.contains("already exists") {
            // It was killed when everything was in place.
            break;
        }
        use std::os::unix::process::ExitStatusExt;
        assert_eq!(ended.status.signal(), Some(9), "{}", String::from_utf8_lossy(&ended.stderr));
        kills += 1;
    }
    assert!(kills >= 5, "{kills}");
    drop(client);
    // However often it was killed: one account, one certificate.
    let accounts = s.json(&["enrollment", "accounts"]).expect(0).json();
    assert_eq!(accounts["accounts"].as_array().unwrap().len(), 1, "{accounts}");
    assert_eq!(accounts["accounts"][0]["certificates"], 1, "{accounts}");
    let left = s.files("elsewhere/enrollment/waiting");
    assert!(left.is_empty(), "{left:?}");
}
