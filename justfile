# What CI does, and parts of it. `just` lists all.

default:
    @just --list

# All that has to hold before a change lands.
check:
    .ci/run

# All tests of all crates.
test:
    cargo test --workspace --locked

# Formatting, lints and documentation.
lint:
    cargo fmt --all -- --check
    cargo clippy --workspace --all-targets --locked -- -D warnings
    RUSTDOCFLAGS="-D warnings" cargo doc --workspace --no-deps --document-private-items --locked

# Licences, duplicates and sources of dependencies. Needs cargo-deny.
deny:
    cargo deny --locked check licenses bans sources

# Writes what is made of the program anew: the reference, the schema of jobs, tables in README and CONTRIBUTING.
docs:
    NUMERANT_WRITE_DOCS=1 cargo test --workspace --quiet

# Writes what the cases say and write anew; read the difference before you commit.
cases area="":
    NUMERANT_UPDATE_CASES=1 NUMERANT_CASE={{area}} cargo test -p numerant --test program cases

# What is shipped and measured.
dist:
    cargo build --profile dist --locked

# The time that a clean build takes, crate by crate, as an HTML page.
timings:
    cargo build --release --timings --locked
