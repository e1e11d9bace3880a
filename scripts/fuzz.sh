#!/usr/bin/env bash
# scripts/fuzz.sh [SECONDS [SEED]]: runs each fuzz target on its seeds for some seconds (default 10). With a SEED the
# tries come in the same order each time. What is found stays in build/fuzz/found.
set -euo pipefail
cd "$(dirname "$0")/.."
. scripts/packages.sh
install_packages "${build_packages[@]}" clang libclang-rt-14-dev
cmake --preset fuzz >/dev/null
cmake --build --preset fuzz -- --quiet
mkdir -p build/fuzz/found
for seeds in fuzz/seeds/*/; do
  name=$(basename "$seeds")
  mkdir -p "build/fuzz/corpus/$name"
  printf '%s: ' "$name"
  "build/fuzz/fuzz/fuzz_$name" -max_total_time="${1:-10}" -seed="${2:-0}" -timeout=10 -rss_limit_mb=1024 -max_len=8192 -artifact_prefix=build/fuzz/found/ \
    -print_final_stats=1 "build/fuzz/corpus/$name" "$seeds" 2>"build/fuzz/$name.log" || { tail -n 30 "build/fuzz/$name.log"; exit 1; }
  awk '/number_of_executed_units/ {n=$2} /average_exec_per_sec/ {r=$2} /peak_rss_mb/ {m=$2}
    END {printf "%s runs, %s a second, no finding, %s MiB at most\n", n, r, m}' "build/fuzz/$name.log"
done
