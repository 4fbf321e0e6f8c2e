# What one does here all day.
check:
    cargo fmt --all --check
    cargo clippy --workspace --all-targets -- -D warnings
    cargo test --workspace

demo:
    cargo run --release -- demo

docs:
    cargo run -q -- explain --markdown > docs/findings.md

# Writes docs/schema/ from the types that are printed as JSON.
schemas:
    TAMGA_TESTS_WRITE=1 cargo test -q -p tamga --bin tamga schema

compare:
    benches/compare

# Runs every client against every kind of chain and writes what they do.
agreement:
    #!/usr/bin/env bash
    set -euo pipefail
    cargo build -q --workspace --all-targets
    there=$(mktemp -d); trap 'rm -rf "$there"' EXIT; mkdir "$there/home" "$there/root"
    env -i PATH="/usr/bin:$PATH" HOME="$there/home" TAMGA_ROOT="$there/root" NODE_EXTRA_CA_CERTS="$there/home/extra-roots.pem" \
        "${CARGO_TARGET_DIR:-target}/debug/examples/agreement" > "$there/agreement.md"
    mv "$there/agreement.md" docs/agreement.md

# Draws chains at random and compares every client with its prediction: `just differential --seed 7 --cases 500 --shrink 5`. The last option
# reduces five differences of each client to their smallest chains.
differential *options:
    #!/usr/bin/env bash
    set -euo pipefail
    cargo build -q --workspace --example differential
    unshare --map-root-user --mount "${CARGO_TARGET_DIR:-target}/debug/examples/differential" {{options}}

# Carries out recipes with the real servers, each on a machine of its own, and writes what held into docs/servers.md: as root.
recipes:
    .ci/recipes

# Writes the transcripts of docs/cli again: read them
transcripts:
    TAMGA_TESTS_WRITE=1 cargo test -q -p tamga --test it transcripts

# Everything that is handed out, into a directory: `just release out --key KEY`. `.ci/release` tries each of them.
release out *options:
    packaging/release {{out}} {{options}}

# The documents as a site, in target/book: needs mdbook
book:
    mdbook build docs
