#!/usr/bin/env bash
# Installs what is needed, builds, and runs all tests: layout, every test under the address and undefined-behaviour
# sanitizers, static checks, fuzz targets, what has threads under the thread sanitizer, and as released what
# optimisation can change.
#   scripts/test.sh          everything
#   scripts/test.sh quick    every test in an unoptimised build, nothing else
set -euo pipefail
cd "$(dirname "$0")/.."
. scripts/packages.sh
install_packages "${build_packages[@]}" "${test_packages[@]}"

begun=$SECONDS
step() { printf '\n== %s (after %d min %02d s)\n' "$1" $(((SECONDS - begun) / 60)) $(((SECONDS - begun) % 60)); }
build() {
  step "build: $1"
  cmake --preset "$1" >/dev/null
  cmake --build --preset "$1" -- --quiet
}
run_tests() {
  step "test: $1"
  ctest --preset "$1" -j "$(($(nproc) * 2))" --progress
}

# The black-box tests, as they are built already, against the programs of another build.
#   run_against BUILD [ctest's options to choose some]
run_against() {
  step "test: the programs of $1"
  JEMBATAN_PROGRAMS="$PWD/build/$1/apps" ctest --preset asan -L blackbox -j "$(($(nproc) * 2))" --progress "${@:2}"
}

if [ "${1:-}" = quick ]; then
  build debug
  run_tests debug
  exit
fi

step "layout"
find src apps tests bench fuzz -name '*.cpp' -o -name '*.h' | xargs clang-format --dry-run --Werror

build asan
run_tests asan

step "static checks"
python3 - build/asan <<'PY' | xargs -P "$(nproc)" -n 1 clang-tidy -p build/asan --quiet --extra-arg=-Wno-unknown-warning-option 2>/dev/null
import json, os, sys
files = {os.path.relpath(entry["file"]) for entry in json.load(open(sys.argv[1] + "/compile_commands.json"))}
checked = sorted(file for file in files if file.removeprefix(sys.argv[1] + "/").startswith(("src/", "apps/")))
assert len(checked) > 20, checked
print(*checked, sep="\n")
PY

step "fuzz"
scripts/fuzz.sh 10 1  # by one seed: the same code has the same verdict

build tsan
# Without those that ask one node one thing after the other: the address sanitizer's run has them.
run_against tsan -E '^(Docs/|Hands\.|Causes\.|Usage\.|Decode\.|Import\.|Dictionary\.|PlanCheck\.|DryRehearsal\.|ClientAdd\.|Start\.)'

build released
run_against released -R '^(Chain|UnderLoad|Reload|Stop|Start|TwoHomes|Accounting|Golden|DecidingChain|ManagementTest)\.'
run_tests released
step "done"
