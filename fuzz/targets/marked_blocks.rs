//! Any text as a hosts file or a bundle: our block goes in, is seen, and comes out; every byte of others stays.
#![no_main]

#[path = "memory.rs"]
#[allow(dead_code)]
mod memory;

use std::path::{Path, PathBuf};
use tamga_core::deploy::hosts::{self, Wanted};
use tamga_core::plan::ports::Files;
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::{self, Goal};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let wanted = [Wanted::parse("charts.saltmarsh.test").unwrap()];
    if let Ok(plan) = hosts::add(bytes, &wanted) {
        let again = hosts::add(&plan.text, &wanted).expect("what we wrote reads");
        assert_eq!(again.text, plan.text, "twice changes nothing");
        if let Ok(back) = hosts::remove(&plan.text, &[]) {
            assert!(!back.has_block);
        }
    }
    let _ = hosts::status(bytes, &wanted);
    let file = PathBuf::from("/lab/roots.pem");
    let machine = |text: &[u8]| memory::Machine { files: [(file.clone(), text.to_vec())].into(), answer: Vec::new() };
    let store = trust::by_id(StoreId::Bundle).next().unwrap();
    let look = machine(bytes);
    for place in store.survey(&look, &[file.clone()]) {
        let plan = store.change(Goal::Add, memory::root(), &place, &look);
        let Some(with) = memory::written(&plan, &file) else { continue };
        assert!(with.starts_with(bytes), "what others wrote stays");
        let look = machine(&with);
        for place in store.survey(&look, &[file.clone()]) {
            let plan = store.change(Goal::Remove, memory::root(), &place, &look);
            if let (Some(back), true) =
                (memory::written(&plan, &file), std::str::from_utf8(bytes).is_ok_and(|t| !t.contains("begin tamga-")))
            {
                assert!(back.starts_with(bytes) && back.len() <= bytes.len() + 1);
            }
        }
    }
    let _ = look.exists(Path::new("/"));
});
