//! Any bytes as the archive inside a backup: nothing is unpacked outside of the directory, whatever the names say.
#![no_main]

use tamga_host::backup;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let above = tempfile::tempdir().unwrap();
    let into = above.path().join("data");
    let _ = backup::unpack_archive(bytes, &into);
    let beside = std::fs::read_dir(above.path()).unwrap().count();
    assert!(beside <= 1, "something was unpacked beside the directory");
    for entry in std::fs::read_dir(&into).into_iter().flatten().flatten() {
        let name = entry.file_name();
        assert!(name == "ledger.sqlite" || name == "authorities", "{name:?}");
    }
});
