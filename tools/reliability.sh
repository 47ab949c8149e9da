#!/usr/bin/env bash
# The campaign behind docs/reliability.md: faults, kills, failures of the power, runs side by side, hostile input.
# Takes about half an hour; with FUZZ=SECONDS each target of fuzz/ runs for so long as well (cargo install cargo-fuzz).
set -euo pipefail
cd "$(dirname "$0")/.."

figures() { grep -E "figures:|test result|panicked|FAILED" || true; }

echo "== faults, kills, cuts of the power"
cargo test --release --locked -p numerant-engine --test library faults -- --nocapture 2>&1 | figures

echo "== side by side, kills, signals"
NUMERANT_ROUNDS="${ROUNDS:-1000}" cargo test --release --locked -p numerant --test program -- trust 2>&1 | figures

echo "== files and texts that are a little wrong"
for seed in 1 2 3; do
    NUMERANT_MUTATIONS="${MUTATIONS:-1500}" NUMERANT_SEED=$seed \
        cargo test --release --locked -p numerant-engine --test library mutations -- --nocapture 2>&1 | figures
done

if [ -n "${FUZZ:-}" ]; then
    cd fuzz
    ./seeds.sh
    for target in $(cargo fuzz list); do
        echo "== $target"
        cargo fuzz run -s none "$target" -- -max_total_time="$FUZZ" -timeout=20 -rss_limit_mb=2000 2>&1 | grep -E "^Done|SUMMARY|panicked|ERROR" || true
    done
fi
