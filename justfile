# What one does here all day.
check:
    cargo fmt --all --check
    cargo clippy --workspace --all-targets -- -D warnings
    cargo test --workspace

demo:
    cargo run --release -- demo

docs:
    cargo run -q -- explain --markdown > docs/findings.md

compare:
    benches/compare
