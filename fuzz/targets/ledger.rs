//! Any text as a row of the journal, and any bytes as a ledger's file: read or refused, and only with files of its own.
#![no_main]

use std::sync::OnceLock;
use tamga_host::ledger::{
    Authorities as _, Certificates as _, Filter, Journal as _, Ledger as _, Requests as _, Sort, Sqlite, Work,
};

fn ledger() -> &'static std::sync::Mutex<(tempfile::TempDir, Sqlite)> {
    static LEDGER: OnceLock<std::sync::Mutex<(tempfile::TempDir, Sqlite)>> = OnceLock::new();
    LEDGER.get_or_init(|| {
        let folder = tempfile::tempdir().unwrap();
        let ledger = Sqlite::open(&folder.path().join("data")).unwrap();
        std::sync::Mutex::new((folder, ledger))
    })
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Ok(text) = std::str::from_utf8(bytes) {
        let own = ledger().lock().unwrap();
        match own.1.read_row(text) {
            Ok(Work::KeyLeaves { file, .. }) => assert!(file.starts_with(own.0.path())),
            Ok(Work::Publish { names, tag, .. }) => {
                assert!(tag.len() == 8 && names.iter().all(|n| !n.contains('/') && n != ".."));
            }
            _ => {}
        }
    }
    if bytes.starts_with(b"SQLite format 3") {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(Sqlite::file(folder.path()), bytes).unwrap();
        if let Ok(Some(ledger)) = Sqlite::open_existing(folder.path()) {
            let _ = ledger.damage();
            let _ = ledger.authorities();
            let _ = ledger.in_use();
            let _ = ledger.summaries(&Filter::default(), Sort::Label, None, &mut drop);
            let _ = (ledger.directories(), ledger.names(), ledger.issued("charts"));
            let _ = ledger.journal();
            let _ = ledger.all_waiting();
        }
    }
});
