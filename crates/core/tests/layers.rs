//! Within the core a lower layer never uses a higher one.

#![allow(clippy::unwrap_used, reason = "tests")]

use std::path::Path;

/// From the ground up.
const LAYERS: [&str; 47] = [
    "text",
    "secret",
    "error",
    "timestamp",
    "label",
    "name",
    "purpose",
    "reason",
    "hosts",
    "permit",
    "client_id",
    "nss",
    "native",
    "step",
    "perform",
    "ports",
    "access",
    "key",
    "signature",
    "form",
    "cert",
    "report",
    "finding",
    "redirect",
    "wire",
    "chain",
    "trust",
    "identity",
    "client",
    "assess",
    "authority",
    "issue",
    "list_file",
    "request",
    "sign",
    "receive",
    "renew",
    "pairs",
    "difference",
    "status",
    "schedule",
    "archive",
    "export",
    "recipe",
    "fault",
    "apply",
    "lib",
];

#[test]
#[allow(clippy::disallowed_methods, reason = "this test reads the sources")]
fn no_layer_uses_a_higher_one() {
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut read = 0;
    let mut folders = vec![source.clone()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            let inside = path.strip_prefix(&source).unwrap();
            let module =
                inside.components().next().unwrap().as_os_str().to_str().unwrap().trim_end_matches(".rs").to_owned();
            if module == "test_entropy" {
                continue;
            }
            let at = LAYERS.iter().position(|l| *l == module).unwrap_or_else(|| panic!("{module} has no layer"));
            let text = std::fs::read_to_string(&path).unwrap();
            let code = text.split("#[cfg(test)]").next().unwrap();
            for (n, _) in code.match_indices("crate::") {
                let used: String =
                    code[n + 7..].chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect();
                let comment = code[..n].rsplit('\n').next().is_some_and(|l| l.trim_start().starts_with("//"));
                if let Some(below) = LAYERS.iter().position(|l| *l == used).filter(|_| !comment) {
                    read += 1;
                    assert!(below <= at, "{} uses crate::{used}, which lies above it", inside.to_string_lossy());
                }
            }
        }
    }
    assert!(read > 80, "only {read} uses were read");
}
