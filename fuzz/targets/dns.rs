//! Any octets as the answer of a server of names: the first says which type was asked for, the rest follows our own question.
#![no_main]

use tamga_core::enrollment::dns::question::question;
use tamga_core::enrollment::dns::{RecordType, answer, name};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((first, rest)) = bytes.split_first() else { return };
    let kind = RecordType::ALL[usize::from(*first) % RecordType::ALL.len()];
    let Some(mut message) = question(7, "charts.saltmarsh.test", kind) else { return };
    message.truncate(message.len() - 11);
    message[2..4].copy_from_slice(&[0x81, 0x80]);
    message[6..12].copy_from_slice(&[0, 4, 0, 2, 0, 0]);
    message.extend(rest);
    let _ = answer::read(&message, 7, "charts.saltmarsh.test", kind);
    let _ = answer::read(rest, 7, "charts.saltmarsh.test", kind);
    let _ = answer::code(rest, 7);
    if let Some((text, next)) = name::read(rest, usize::from(*first)) {
        assert!(next <= rest.len() && text.len() <= 1024);
    }
});
