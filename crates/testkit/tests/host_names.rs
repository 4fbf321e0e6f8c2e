//! Which clients find a host in a certificate: one table, each row with exactly the clients that do. The rows are what the real clients did
//! (`docs/agreement.md` and the recorded chains); here they say it without a chain around the name.

#![allow(clippy::unwrap_used, reason = "tests")]

use tamga_core::check::client::Client;
use tamga_core::check::predict::covers;
use tamga_core::vocabulary::name::Name;
use tamga_testkit::matrix::chain::{Chain, Pool};
use tamga_testkit::matrix::make::{id, name, sequence, tlv};

/// The clients that were measured.
const ALL: [&str; 15] = [
    "curl", "chromium", "firefox", "node", "python", "java", "go", "gnutls", "bun", "grpc", "git", "ruby", "php",
    "deno", "psql",
];

/// Alternative names by tag, the common name, the host that is asked for, and who finds it: `!` before a list names those who do not.
type Row = (&'static [(u8, &'static [u8])], &'static str, &'static str, &'static str);

const ROWS: &[Row] = &[
    (&[(0x82, b"charts.saltmarsh.test")], "leaf", "charts.saltmarsh.test", "!"),
    (&[(0x82, b"CHARTS.Saltmarsh.Test")], "leaf", "charts.saltmarsh.test", "!"),
    (&[(0x82, b"archive.saltmarsh.test")], "leaf", "charts.saltmarsh.test", ""),
    (&[(0x82, b"*.saltmarsh.test")], "leaf", "charts.saltmarsh.test", "!"),
    (&[(0x82, b"*.saltmarsh.test")], "leaf", "b7.buoys.saltmarsh.test", ""),
    (&[(0x82, b"*.saltmarsh.test")], "leaf", "saltmarsh.test", ""),
    // A star inside a label.
    (&[(0x82, b"ch*.saltmarsh.test")], "leaf", "charts.saltmarsh.test", "node bun java ruby php"),
    // The common name counts where nothing else does, or where a program says so.
    (&[], "charts.saltmarsh.test", "charts.saltmarsh.test", "!chromium firefox go deno"),
    (&[(0x82, b"archive.saltmarsh.test")], "charts.saltmarsh.test", "charts.saltmarsh.test", ""),
    (
        &[(0x81, b"keeper@saltmarsh.test")],
        "charts.saltmarsh.test",
        "charts.saltmarsh.test",
        "!chromium firefox go deno",
    ),
    (
        &[(0x86, b"https://x.test/")],
        "charts.saltmarsh.test",
        "charts.saltmarsh.test",
        "!chromium firefox go gnutls git deno php",
    ),
    // SRVName (RFC 4985).
    (
        &[(0xa0, b"\x06\x08\x2b\x06\x01\x05\x05\x07\x08\x07\xa0\x0e\x16\x0c_https.a.test")],
        "charts.saltmarsh.test",
        "charts.saltmarsh.test",
        "!chromium firefox go gnutls git deno php",
    ),
    // Addresses.
    (&[(0x87, &[127, 0, 0, 1])], "leaf", "127.0.0.1", "!"),
    (&[(0x87, &[127, 0, 0, 2])], "leaf", "127.0.0.1", ""),
    (&[(0x82, b"127.0.0.1")], "leaf", "127.0.0.1", "ruby php psql grpc"),
    (
        &[(0x87, &[127, 0, 0, 1])],
        "charts.saltmarsh.test",
        "charts.saltmarsh.test",
        "node bun python java grpc php psql",
    ),
    // What is no host at all.
    (&[(0x82, b".saltmarsh.test")], "leaf", "charts.saltmarsh.test", ""),
    (&[(0x82, b"charts.saltmarsh.test\0.harbour.test")], "leaf", "charts.saltmarsh.test", "grpc"),
    (&[], "leaf", "charts.saltmarsh.test", ""),
];

#[test]
fn each_client_finds_a_host_by_its_own_rules() {
    let pool = Pool::new();
    let mut wrong = String::new();
    for (names, common, host, who) in ROWS {
        let mut chain = Chain::good(0);
        chain.leaf.recipe.subject = name(common);
        match names.is_empty() {
            true => chain.leaf.recipe.without(id::NAMES),
            false => {
                let all: Vec<Vec<u8>> = names.iter().map(|(tag, octets)| tlv(*tag, octets)).collect();
                chain.leaf.recipe.set(id::NAMES, false, sequence(&all));
            }
        }
        let leaf = chain.kind("a row", &pool).read.remove(0);
        let asked: Name = host.parse().unwrap();
        let found: Vec<&str> =
            ALL.into_iter().filter(|c| covers(c.parse::<Client>().unwrap(), &leaf, &asked)).collect();
        let said: Vec<&str> = who.trim_start_matches('!').split_whitespace().collect();
        let expected: Vec<&str> = ALL.into_iter().filter(|c| said.contains(c) != who.starts_with('!')).collect();
        if found != expected {
            wrong.push_str(&format!("{names:?}, {common:?} asked for as {host:?}: {found:?}, not {expected:?}\n"));
        }
    }
    assert!(wrong.is_empty(), "{wrong}");
}
