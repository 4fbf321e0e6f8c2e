//! psql, asked to verify everything, with the person's variables and file of roots.

use super::{Observed, Visit, by_words, failed};
use crate::places::Machine;
use crate::process;
use std::path::Path;
use std::process::Command;
use std::time::Duration;
use tamga_core::check::client::printed;
use tamga_core::plan::ports::Environment;
use tamga_core::vocabulary::text::{Shown, harmless};

const LIMIT: Duration = Duration::from_secs(25);
/// What it says of a server whose certificate it took.
const TAKEN: [&str; 4] =
    ["FATAL: ", "no password supplied", "expected authentication request", "server closed the connection unexpectedly"];
/// What it says of one whose certificate it did not take, or to which it could not speak TLS.
const REFUSED: [&str; 5] = [
    "SSL error:",
    "server certificate for",
    "could not get server's host name",
    "root certificate file",
    "SSL certificate's name",
];

/// One visit. Only the verdict on the certificate counts: no password is shown, and who asks for one has been verified.
pub fn visit(program: &Path, machine: &Machine, visit: &Visit) -> Observed {
    let mut command = Command::new(program);
    let quoted = |text: &str| format!("'{}'", text.replace('\\', "\\\\").replace('\'', "\\'"));
    let mut words = vec![
        format!("host={}", quoted(&visit.host.to_string())),
        format!("hostaddr={}", visit.address.ip()),
        format!("port={}", visit.address.port()),
        "user=tamga-check dbname=tamga-check".into(),
        "sslmode=verify-full gssencmode=disable connect_timeout=10".into(),
    ];
    if machine.root().is_some() && machine.env("PGSSLROOTCERT").is_none() {
        let own = machine.home().join(".postgresql/root.crt");
        words.push(format!("sslrootcert={}", quoted(&own.shown().to_string())));
    }
    command.args(["-X", "-w", "-c", "select 1", &words.join(" ")]).env("LC_ALL", "C");
    for name in ["PGSERVICE", "PGPASSWORD", "PGSSLMODE", "PGSSLCERT", "PGSSLKEY", "PGOPTIONS"] {
        command.env_remove(name);
    }
    match process::run(command, b"", LIMIT) {
        Ok(ended) => {
            let words = harmless(&printed::psql(ended.errors.as_received()));
            by_words(&ended, words, &TAKEN, &REFUSED, LIMIT)
        }
        Err(e) => failed(format!("psql did not start: {e}")),
    }
}
