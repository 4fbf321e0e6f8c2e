//! The service from outside: cases from the standards' text in Python, with another library's signatures; and what no client sends.

use super::{Service, python, root};
use crate::lab;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::time::{Duration, Instant};

#[test]
fn the_cases_of_the_standards() {
    let s = lab();
    let Some(mut cases) = python(&s) else { return };
    let service = Service::start(&s, &[]);
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/enrollment/blackbox.py");
    cases.arg(source).arg(&service.directory).arg(root(&s)).arg(service.http.to_string());
    let got = cases.output().unwrap();
    let said = String::from_utf8_lossy(&got.stdout);
    eprintln!("{said}");
    assert!(got.status.success(), "{said}{}", String::from_utf8_lossy(&got.stderr));
    assert!(service.said("failed").is_empty(), "{:?}", service.said("failed"));
}

/// The memory of the service, in MiB.
fn memory(service: &Service) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{}/status", service.child.id())).unwrap_or_default();
    let line = status.lines().find(|l| l.starts_with("VmRSS")).unwrap_or("VmRSS: 0 kB");
    line.split_whitespace().nth(1).and_then(|n| n.parse::<u64>().ok()).unwrap_or(0) / 1024
}

#[test]
fn silent_and_endless_connections_hold_nobody_up() {
    let s = lab();
    let service = Service::start(&s, &["--publish-listen", "127.0.0.1:0"]);
    let mut silent = Vec::new();
    for port in [service.port, service.published.as_ref().unwrap().rsplit(':').next().unwrap().parse().unwrap()] {
        for n in 0..130 {
            let mut socket = TcpStream::connect(("127.0.0.1", port)).unwrap();
            if n % 3 == 0 {
                let _ = socket.write_all(b"GET /root.pem HTTP/1.1\r\nX: ");
            }
            silent.push(socket);
        }
    }
    let began = Instant::now();
    let got = s.around("curl").args(["-sS", "--cacert"]).arg(root(&s)).arg(&service.directory).output().unwrap();
    assert!(got.status.success() && began.elapsed() < Duration::from_secs(5), "{got:?}");
    let root_of = format!("{}/root.pem", service.published.as_ref().unwrap());
    let got = s.around("curl").args(["-sS", &root_of]).output().unwrap();
    assert!(String::from_utf8_lossy(&got.stdout).contains("BEGIN CERTIFICATE"), "{got:?}");
    // Each is let go after a while.
    std::thread::sleep(Duration::from_secs(12));
    let mut open = 0;
    for mut socket in silent {
        socket.set_read_timeout(Some(Duration::from_millis(50))).unwrap();
        open += usize::from(
            matches!(socket.read(&mut [0; 512]), Err(e) if matches!(e.kind(), std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut)),
        );
    }
    assert_eq!(open, 0);
    assert!(memory(&service) < 150, "{} MiB", memory(&service));
}
