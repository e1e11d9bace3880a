#!/usr/bin/env bash
# Installs what is needed, builds, starts the demo chain on loopback and shows a whole example: a sign-in, three kinds
# of refusal, accounting at every hop.
#   scripts/demo.sh          takes the chain down at the end
#   scripts/demo.sh --keep   leaves it up, to go on by hand
set -euo pipefail
cd "$(dirname "$0")/.."
case "${1:-}" in
  "" | --keep) ;;
  *) sed -n '2,5s/^# \{0,1\}//p' "$0" >&2; exit 2 ;;
esac
. scripts/packages.sh
install_packages "${build_packages[@]}"
echo "building (the first time takes some minutes)"
cmake --preset demo >/dev/null
cmake --build --preset demo -- --quiet
export PATH="$PWD/build/demo/apps:$PATH"

if [ -t 1 ]; then bold=$'\033[1m' plain=$'\033[0m'; else bold='' plain=''; fi
title() { printf '\n%s%s%s\n' "$bold" "$1" "$plain"; }
# Shows a command, runs it, and holds it to its exit code: 0 accepted, 1 refused, 3 no answer.
expect() {
  local wanted=$1 got=0
  shift
  printf '$ %s\n' "$*"
  "$@" || got=$?
  [ "$got" -eq "$wanted" ] || { echo "demo: exit code $got instead of $wanted" >&2; exit 1; }
}
width=500  # where nobody looks, lines stay whole
[ ! -t 1 ] || width=$(tput cols || echo 100)
# The newest line with the text in the log of a node (or of one of several, as in "reef-*"), without its time; waits.
log_line() {
  local line
  for _ in $(seq 100); do
    line=$(cd "$lab" && grep -HF -- "$2" $1/log | tail -n 1) && [ -n "$line" ] && break
    sleep 0.1
  done
  printf '  %-7s ' "${line%%/*}"
  fold -s -w $((width - 10)) <<< "${line#* }" | sed '2,$s/^/          /'
}

title "The chain: ship edge → harbour hub → Reef Line's two home servers, four processes on this machine"
expect 0 jembatan lab up --fresh
lab=$(jembatan lab status --json | sed -n 's/.*"folder": "\(.*\)\/edge".*/\1/p')
[ "${1:-}" = --keep ] || trap 'jembatan lab down >/dev/null' EXIT

title "1. Sari of the crew signs in on deck: accepted, VLAN 30"
expect 0 jembatan ask access --lab edge --user sari@reef.example --password laut-biru-7 NAS-Port-Type=Wireless-802-11
echo "What each hop says:"
for node in edge hub; do log_line "$node" "sari@reef.example: accepted"; done
log_line "reef-*" "sari@reef.example: accepted"

title "2. A wrong password: refused by the home server, which says why"
expect 1 jembatan ask access --lab edge --user tamu@reef.example --password ombak-4
echo "What each hop says:"
for node in edge hub; do log_line "$node" "tamu@reef.example: rejected"; done
log_line "reef-*" "tamu@reef.example: rejected"

title "3. A realm that nobody knows: refused by the hub"
expect 1 jembatan ask access --lab edge --user orang@nowhere.example --password x
echo "What each hop says:"
for node in edge hub; do log_line "$node" "orang@nowhere.example: rejected"; done

title "4. A wrong shared secret: silence for the device, a reason in the log"
expect 3 jembatan ask access --lab edge --secret not-the-secret --user sari@reef.example --password laut-biru-7 --tries 1 --wait 500ms
echo "What the edge says:"
log_line edge "wrong-signature"

title "5. Accounting: Start, Interim-Update, Stop"
session="demo-$(date +%s)"
expect 0 jembatan ask accounting --lab edge --status Start --session-id "$session" --user sari@reef.example
for update in "Interim-Update 600 48000000" "Stop 1260 103500000"; do
  read -r status seconds octets <<< "$update"
  expect 0 jembatan ask accounting --lab edge --status "$status" --session-id "$session" --user sari@reef.example \
    "Acct-Session-Time=$seconds" "Acct-Input-Octets=$octets"
done
for node in edge hub reef-1; do
  title "   the records at $node"
  for _ in $(seq 100); do
    [ "$(jembatan accounting search --lab "$node" --session-id "$session" --json 2>&1 | grep -c '"status"')" -ge 3 ] && break
    sleep 0.1
  done
  expect 0 jembatan accounting search --lab "$node" --session-id "$session"
done
title "   the session at reef-1"
expect 0 jembatan session list --lab reef-1 --ended --session-id "$session"

title "How to go on"
if [ "${1:-}" = --keep ]; then
  cat <<TEXT
The chain is up. Take the programs into your path, and try:
  export PATH="$PWD/build/demo/apps:\$PATH"
  jembatan follow --lab hub                 # what the hub does, live; in a second terminal:
  jembatan ask access --lab edge --user budi --password dermaga-2
  jembatan node status --lab hub
  jembatan lab down
TEXT
else
  echo "scripts/demo.sh --keep leaves the chain up; README.md goes on from there."
fi
