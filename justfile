# Short names for what is done often. Each recipe is a plain command, so none of them needs `just`.

# What must hold before anything lands
check:
    .ci/run

# All tests, quickly
test:
    cargo test --workspace

# The demo's workspace, in fencepost-demo
demo:
    cargo run --release -- demo

# What the program shows, where it changed on purpose: writes new snapshot files, and tells changed inline ones
snapshots:
    INSTA_UPDATE=always cargo test -p fencepost-cli --test it shown

# One fuzz target under the address sanitizer: just fuzz csv
fuzz TARGET SECONDS="600":
    RUSTC_BOOTSTRAP=1 cargo fuzz run {{TARGET}} -- -max_total_time={{SECONDS}}

# The races against other programs, and the trials of reliability
bench:
    python3 benches/races/run.py
    python3 benches/reliability/run.py

# Report pages in a real browser: Chromium, or what FENCEPOST_CHROMIUM names
check-report:
    cargo test -p fencepost-cli --test it browser -- --nocapture

# The documentation of all crates, as strictly as it is checked
doc:
    RUSTDOCFLAGS="-D warnings" cargo doc --workspace --no-deps --locked

# Licences and sources of dependencies (needs cargo-deny)
deny:
    cargo deny --offline check licenses bans sources
