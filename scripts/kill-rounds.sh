#!/usr/bin/env bash
# Kills a node of a chain (edge, hub, home) with SIGKILL at random moments under load, starts it again, and looks at
# the end whether each accounting record that was sent is at each hop, once.
#   scripts/kill-rounds.sh [ROUNDS] [SEED] [BUILD-FOLDER]
# Exit code 1: something is missing or double.
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
exec python3 "$here/scripts/kill_rounds.py" "${1:-200}" "${2:-1}" "${3:-$here/build/release}/apps/jembatand"
