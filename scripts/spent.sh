#!/usr/bin/env bash
# Shows where a build's time went: the steps of its last run that took longest, and the sums by folder.
#   scripts/spent.sh [PRESET]     of build/PRESET (debug unless said otherwise)
set -euo pipefail
cd "$(dirname "$0")/.."
log="build/${1:-debug}/.ninja_log"
[ -f "$log" ] || { echo "no build in build/${1:-debug}: cmake --preset ${1:-debug} && cmake --build --preset ${1:-debug}" >&2; exit 2; }
awk -F'\t' 'NR > 1 {took[$4] = ($2 - $1) / 1000}
  END {
    for (step in took) {
      printf "%7.1f s  %s\n", took[step], step | "sort -rn | head -n 15"
      folder = step
      if (match(step, /[A-Za-z_]+\.dir/)) folder = substr(step, RSTART, RLENGTH - 4); else folder = "linking and others"
      sum[folder] += took[step]
      all += took[step]
    }
    close("sort -rn | head -n 15")
    print "by target:"
    for (folder in sum) printf "%7.1f s  %s\n", sum[folder], folder | "sort -rn"
    close("sort -rn")
    printf "%7.1f s  all steps, one after the other\n", all
  }' "$log"
