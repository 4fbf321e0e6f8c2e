//! GnuTLS, by wget: it knows no option that leads a name to an address, so it is led by a proxy of a few lines.

use super::{Observed, Visit, failed};
use crate::places::Machine;
use crate::process;
use std::io::{Read, Write};
use std::net::{Ipv4Addr, Shutdown, SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::process::Command;
use std::time::Duration;
use tamga_core::check::client::gnutls;
use tamga_core::stores::trust::system;
use tamga_core::vocabulary::text::Shown;

/// One visit. Only the verdict on the certificate counts: what the server says afterwards does not.
pub fn visit(program: &Path, machine: &Machine, visit: &Visit) -> Observed {
    let way = match Way::to(visit.address) {
        Ok(way) => way,
        Err(e) => return failed(format!("no way for wget: {e}")),
    };
    let mut command = Command::new(program);
    command.args(["--no-verbose", "--tries=1", "--timeout=15", "--max-redirect=0", "--no-hsts", "--output-document"]);
    command.arg(if cfg!(windows) { "NUL" } else { "/dev/null" });
    // A switch that looks away is reported by the prediction: here the stores are asked.
    command.args(["-e", "check_certificate=on", "-e", "use_proxy=on", "-e", "no_proxy="]);
    command.arg("-e").arg(format!("https_proxy=http://127.0.0.1:{}/", way.port));
    if machine.root().is_some() {
        // Under another root its own defaults are not this machine's. An empty directory leaves the system's away.
        command.arg(format!("--ca-directory={}", way.empty.path().shown()));
        let bundle = machine.real(&system::bundle(machine));
        if gnutls::settings(machine).file.is_none() && std::fs::metadata(&bundle).is_ok_and(|m| m.len() > 0) {
            command.arg(format!("--ca-certificate={}", bundle.shown()));
        }
    }
    command.arg(visit.url()).env("LC_ALL", "C");
    for name in ["no_proxy", "NO_PROXY", "https_proxy", "HTTPS_PROXY", "all_proxy"] {
        command.env_remove(name);
    }
    let ended = match process::run(command, b"", Duration::from_secs(25)) {
        Ok(ended) => ended,
        Err(e) => return failed(format!("wget did not start: {e}")),
    };
    let raw = tamga_core::vocabulary::text::harmless(ended.errors.as_received().trim());
    let of_tls = ended.errors.as_received().contains("GnuTLS: ");
    match ended.code {
        // 5: the certificate; 4 with a word of GnuTLS: the handshake itself.
        Some(5) => Observed::refuses(gnutls::said(ended.errors.as_received()), raw),
        Some(4) if of_tls => Observed::refuses(gnutls::said(ended.errors.as_received()), raw),
        Some(0 | 6 | 8) => Observed::accepts(raw),
        Some(n) => failed(format!("wget ended with {n}: {raw}")),
        None => failed("wget did not end within 25 seconds"),
    }
}

/// A proxy on loopback that leads every name to one address; it ends with its last connection.
struct Way {
    port: u16,
    empty: crate::scratch::Scratch,
}

impl Way {
    fn to(address: SocketAddr) -> std::io::Result<Way> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?;
        let port = listener.local_addr()?.port();
        let empty = crate::scratch::directory("tamga-visit-")?;
        std::thread::spawn(move || {
            if let Ok((near, _)) = listener.accept() {
                let _ = lead(near, address);
            }
        });
        Ok(Way { port, empty })
    }
}

impl Drop for Way {
    fn drop(&mut self) {
        // Nobody came: the one who waits is let go.
        let _ = TcpStream::connect((Ipv4Addr::LOCALHOST, self.port));
    }
}

/// RFC 9110 §9.3.6, for one connection.
fn lead(mut near: TcpStream, address: SocketAddr) -> std::io::Result<()> {
    near.set_read_timeout(Some(Duration::from_secs(20)))?;
    let mut head = Vec::new();
    let mut byte = [0];
    while !head.ends_with(b"\r\n\r\n") && head.len() < 8_192 {
        near.read_exact(&mut byte)?;
        head.push(byte[0]);
    }
    let mut far = TcpStream::connect_timeout(&address, Duration::from_secs(15))?;
    near.write_all(b"HTTP/1.1 200 Connection established\r\n\r\n")?;
    let (mut back_from, mut back_to) = (far.try_clone()?, near.try_clone()?);
    std::thread::spawn(move || {
        let _ = std::io::copy(&mut back_from, &mut back_to);
        let _ = back_to.shutdown(Shutdown::Write);
    });
    let _ = std::io::copy(&mut near, &mut far);
    far.shutdown(Shutdown::Write)
}
