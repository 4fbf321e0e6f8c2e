//! Any bytes from either side of a connection are read as far as they can be, and what is shown of them obeys nobody.
#![no_main]

use tamga_core::check::wire::hello::{self, Server};
use tamga_core::check::wire::{Reader, Side};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let mut reader = Reader::default();
    let hello = hello::client("charts.saltmarsh.test", 0x0303, &[7; 32]);
    reader.feed(Side::Client, &hello);
    for (n, piece) in bytes.chunks(97).enumerate() {
        reader.feed(if n % 5 == 4 { Side::Client } else { Side::Server }, piece);
    }
    for message in reader.messages() {
        for (_, text) in &message.details {
            assert!(!text.chars().any(char::is_control), "{text:?}");
        }
    }
    let _ = reader.summary();
    let _ = Server::parse(bytes);
});
