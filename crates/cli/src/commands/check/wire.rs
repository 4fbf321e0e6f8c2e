//! What of a connection anybody on the way could read: `--wire`.

use crate::words::human;
use tamga_core::check::wire::{Reader, Side};

/// Lists longer than this are shown by their length.
const MOST: usize = 4;

pub(super) fn words(reader: &Reader) -> String {
    if reader.messages().is_empty() {
        return format!("\n{} no message of TLS was exchanged\n", human::dim("on the wire"));
    }
    let mut text = format!("\n{}\n", human::strong("on the wire, as anybody on the way reads it"));
    for m in reader.messages() {
        let side = match m.side {
            Side::Client => "Tamga →",
            Side::Server => "→ Tamga",
        };
        text.push_str(&format!("  {} {}, {} octets\n", human::dim(side), human::strong(&m.what), m.octets));
        for (what, said) in &m.details {
            text.push_str(&format!("            {} {}\n", human::dim(what), short(said)));
        }
    }
    let (clear, hidden) = reader.summary();
    if !clear.is_empty() {
        let listed = |all: &[&str]| all.iter().map(|one| format!("  {one}\n")).collect::<String>();
        text.push_str(&format!("{}\n{}", human::care("in the clear, to everybody on the way"), listed(&clear)));
        text.push_str(&format!("{}\n{}", human::good("encrypted"), listed(&hidden)));
    }
    text
}

/// A list in one line.
fn short(text: &str) -> String {
    let all: Vec<&str> = text.split(", ").collect();
    match all.len() {
        0..=MOST => text.to_owned(),
        n => format!("{} and {} more", all[..2].join(", "), n - 2),
    }
}
