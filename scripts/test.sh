#!/usr/bin/env bash
# Installs what is needed, builds, and runs all tests: layout, static checks, then every test as released, under the
# address and undefined-behaviour sanitizers, and under the thread sanitizer.
#   scripts/test.sh          everything
#   scripts/test.sh quick    the tests as released, nothing else
set -euo pipefail
cd "$(dirname "$0")/.."
. scripts/packages.sh
install_packages "${build_packages[@]}" "${test_packages[@]}"

step() { printf '\n== %s (%s)\n' "$1" "$(date +%T)"; }
build_and_test() {
  step "build: $1"
  cmake --preset "$1" >/dev/null
  cmake --build --preset "$1" -- --quiet
  step "test: $1"
  ctest --preset "$1" -j "$(nproc)" --progress
}

if [ "${1:-}" = quick ]; then
  build_and_test release
  exit
fi

step "layout"
find src apps tests bench -name '*.cpp' -o -name '*.h' | xargs clang-format --dry-run --Werror

step "static checks"
cmake --preset release >/dev/null
cmake --build --preset release --target jembatan_dictionary jembatan_lab -- --quiet  # what is generated
find src apps -name '*.cpp' | xargs -P "$(nproc)" -n 4 clang-tidy -p build/release --quiet --extra-arg=-Wno-unknown-warning-option 2>/dev/null

build_and_test asan

step "fuzz"
scripts/fuzz.sh 10

build_and_test tsan
build_and_test release
