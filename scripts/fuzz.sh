#!/usr/bin/env bash
# Fuzzes every decoder, settings format, profile, listing, query, name and archive, two targets
# at a time; a target fails as well when one input costs more than any file may.
# Usage: scripts/fuzz.sh [TIME], a minute each when left out.
set -euo pipefail
cd "$(dirname "$0")/.."
time=${1:-60s}
found() { grep -rl --include='*_test.go' '^func Fuzz' internal | xargs -n 1 dirname | sort -u | sed 's|^|./|'; }
packages=${PACKAGES:-$(found)}

one() {
  log="/tmp/reshard-fuzz-$2.log"
  if go test "$1" -run '^$' -fuzz "^$2\$" -fuzztime "$3" -fuzzminimizetime 1s -parallel 1 > "$log" 2>&1; then
    echo "ok   $2 $(grep -o 'execs: [0-9]*' "$log" | tail -1)"
  else
    echo "FAIL $2: see $log"
    return 1
  fi
}
export -f one

for package in $packages; do
  go test -list '^Fuzz' "$package" | grep '^Fuzz' | sed "s|^|$package |; s|\$| $time|"
done | xargs -P 2 -L 1 bash -c 'one "$@"' fuzz
