#!/usr/bin/env bash
# Changes one operator of the core at a time, in a copy of the last commit, and sees whether the unit tests, the
# simulations or the golden decisions notice. Prints each change that nobody noticed, and the share of those
# that were.
#   scripts/mutate.sh [SAMPLE] [SEED]
# Not part of the tests: a change takes about half a minute on two cores.
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
sample=${1:-20}
seed=${2:-1}
work=$here/build/mutate
tree=$work/tree

cmake --preset debug -S "$here" >/dev/null
cmake --build "$here/build/debug" --target jembatan_blackbox_tests >/dev/null
if [ -e "$tree/.git" ]; then
  git -C "$tree" fetch -q origin && git -C "$tree" reset -q --hard FETCH_HEAD
else
  mkdir -p "$work" && git clone -q "$here" "$tree"
fi
targets=(jembatan_core_tests jembatan_sim_tests jembatan)
(cd "$tree" && cmake --preset debug >/dev/null && cmake --build build/debug --target "${targets[@]}" >/dev/null)

# Every place with its change: FILE LINE COLUMN LENGTH NEW, in an order that the seed gives.
python3 - "$tree" "$seed" > "$work/places" <<'PYTHON'
import pathlib, random, re, sys

tree, seed = pathlib.Path(sys.argv[1]), int(sys.argv[2])
folders = "wire document dictionary condition identity plan decide forward accounting engine journal".split()
changes = {" == ": " != ", " != ": " == ", " < ": " <= ", " <= ": " < ", " > ": " >= ", " >= ": " > ",
           " && ": " || ", " || ": " && ", " + ": " - ", " - ": " + ", "return true": "return false",
           "return false": "return true", "if (!": "if (", "++": "--"}
pattern = re.compile("|".join(re.escape(text) for text in sorted(changes, key=len, reverse=True)))
places = []
for folder in folders:
    for file in sorted((tree / "src" / folder).glob("*.cpp")):
        for number, line in enumerate(file.read_text().split("\n"), 1):
            plain = re.sub(r'R?"(\\.|[^"\\])*"', lambda m: "_" * len(m.group()), line)
            plain = re.sub(r"//.*", lambda m: "_" * len(m.group()), plain)
            if plain.lstrip().startswith(("#", "template")) or "operator" in plain:
                continue
            for found in pattern.finditer(plain):
                places.append((file.relative_to(tree), number, found.start(), len(found.group()), changes[found.group()]))
random.Random(seed).shuffle(places)
for place in places:
    print(*place, sep="\t")
PYTHON

noticed=0
tried=0
skipped=0
while [ "$tried" -lt "$sample" ] && IFS=$'\t' read -r file line column length new <&3; do
  python3 - "$tree/$file" "$line" "$column" "$length" "$new" <<'PYTHON'
import sys
path, line, column, length, new = sys.argv[1], *map(int, sys.argv[2:5]), sys.argv[5]
lines = open(path).read().split("\n")
text = lines[line - 1]
lines[line - 1] = text[:column] + new + text[column + length:]
open(path, "w").write("\n".join(lines))
PYTHON
  change=$(git -C "$tree" diff -U0 | grep '^+ ' | sed 's/^+ */  /')
  if (cd "$tree" && timeout 300 cmake --build build/debug --target "${targets[@]}") > "$work/built" 2>&1; then
    tried=$((tried + 1))
    if (cd "$tree" && timeout 120 build/debug/tests/jembatan_core_tests --gtest_brief=1 &&
        timeout 60 build/debug/tests/jembatan_sim_tests --gtest_brief=1 &&
        JEMBATAN_PROGRAMS=$tree/build/debug/apps timeout 60 "$here/build/debug/tests/jembatan_blackbox_tests" \
          --gtest_brief=1 --gtest_filter='Golden.*') > "$work/tested" 2>&1; then
      printf 'unnoticed  %s:%s\n%s\n' "$file" "$line" "$change"
    else
      noticed=$((noticed + 1))
    fi
  else
    skipped=$((skipped + 1))  # the compiler noticed
  fi
  git -C "$tree" checkout -q -- src
done 3< "$work/places"
printf '%d of %d changes noticed (%d %%); %d more did not compile; seed %d\n' \
  "$noticed" "$tried" $((noticed * 100 / (tried > 0 ? tried : 1))) "$skipped" "$seed"
