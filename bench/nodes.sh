# To be sourced, with $build: nodes in folders of their own, the one under test alone on the first core, all else
# on the second.
work=$(mktemp -d)
trap 'kill $(jobs -p) 2>/dev/null || true; wait 2>/dev/null || true; rm -rf "$work"' EXIT
if [ "$(nproc)" -gt 1 ]; then under_test="taskset -c 0" beside="taskset -c 1"; else under_test="" beside=""; fi

# A node of its own folder.  node NAME ACCESS-PORT ACCOUNTING-PORT MANAGEMENT-PORT MORE, its plan on standard input
node() {
  mkdir -p "$work/$1/plan"
  cat > "$work/$1/node.toml" <<TOML
name = "$1"
plan_folder = "plan"
data_folder = "data"
[listen]
access = ["127.0.0.1:$2"]
accounting = ["127.0.0.1:$3"]
[management]
address = "127.0.0.1:$4"
${5-}
TOML
  { printf '[[client]]\nname = "bench"\naddress = "127.0.0.1"\nsecret = "bench-secret-of-32-characters-ok"\n'; cat; } \
    > "$work/$1/plan/plan.toml"
}
declare -A process
start() {  # start WHERE NAME
  $1 "$build/apps/jembatand" --node "$work/$2/node.toml" 2> "$work/$2/log" &
  process[$2]=$!
  for _ in $(seq 200); do grep -q 'is up' "$work/$2/log" && return; sleep 0.05; done
  cat "$work/$2/log"
  exit 1
}
stop() { kill "${process[$1]}"; wait "${process[$1]}" 2>/dev/null || true; }
drive() { $beside "$build/bench/jembatan_drive" "$@"; }
