//! Any bytes as a browser's policies file or list of profiles: read, changed or refused; what is there of others stays.
#![no_main]

#[path = "memory.rs"]
#[allow(dead_code)]
mod memory;

use std::path::Path;
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::{self, Goal};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let files = [
        "/etc/firefox/policies/policies.json",
        "/etc/chromium/policies/managed/lab.json",
        "/home/operator/.mozilla/firefox/profiles.ini",
        "/home/operator/.mozilla/firefox/a.lab/cert9.db",
        "/home/operator/.mozilla/firefox/a.lab/cert_override.txt",
        "/home/operator/.config/chromium/Default/Preferences",
    ];
    let files = files.iter().map(|f| (Path::new(f).to_owned(), bytes.to_vec())).collect();
    let look = memory::Machine { files, answer: Vec::new() };
    for id in [StoreId::FirefoxPolicy, StoreId::ChromiumPolicy, StoreId::Firefox, StoreId::Chromium] {
        for store in trust::by_id(id) {
            for place in store.survey(&look, &[]) {
                for goal in [Goal::Add, Goal::Remove] {
                    let plan = store.change(goal, memory::root(), &place, &look);
                    if let Some(text) = memory::written(&plan, Path::new("/etc/firefox/policies/policies.json")) {
                        assert!(serde_json::from_slice::<serde_json::Value>(&text).is_ok());
                    }
                }
            }
        }
    }
    let _ = trust::firefox::profiles(&look);
    let _ = trust::settings::findings(&look, &[memory::root().certificate.clone()]);
});
