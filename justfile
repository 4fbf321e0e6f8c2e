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

# Carries out recipes with the real servers, each on a machine of its own, and prints what held: as root.
recipes:
    #!/usr/bin/env bash
    set -euo pipefail
    table=$(mktemp); trap 'rm -f "$table"' EXIT
    export TAMGA_TESTS_RECIPES=$table
    cargo nextest run --workspace --no-fail-fast -E 'test(/carried::/)' || failed=1
    awk -F'\t' '{ seen[$1, $2] = 1; servers[$1] = 1 } END {
        n = split("start silent clients redirect success-line wrong-pair renewal", judgements, " ")
        printf "%-12s", "server"; for (j = 1; j <= n; j++) printf "%-14s", judgements[j]; print ""
        for (s in servers) { line = sprintf("%-12s", s)
            for (j = 1; j <= n; j++) line = line sprintf("%-14s", (s, judgements[j]) in seen ? "yes" : "-")
            print line | "sort" } }' "$table"
    exit ${failed:-0}

# Writes the transcripts of docs/cli again: read them
transcripts:
    TAMGA_TESTS_WRITE=1 cargo test -q -p tamga --test it transcripts
