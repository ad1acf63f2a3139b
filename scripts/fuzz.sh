#!/usr/bin/env bash
# Fuzzes every decoder, every settings format, the profile lint and archives, two targets at a
# time. Usage: scripts/fuzz.sh [TIME], a minute each when left out.
set -euo pipefail
cd "$(dirname "$0")/.."
time=${1:-60s}
for package in ${PACKAGES:-./internal/core/settings ./internal/core/fact ./internal/core/game ./internal/archive}; do
  go test -list '^Fuzz' "$package" | grep '^Fuzz' | sed "s|^|$package |"
done | xargs -P 2 -L 1 sh -c 'go test "$1" -run "^$" -fuzz "^$2\$" -fuzztime '"$time"' -fuzzminimizetime 1s -parallel 1 > "/tmp/reshard-fuzz-$2.log" 2>&1 && echo "ok   $2 $(grep -o "execs: [0-9]*" "/tmp/reshard-fuzz-$2.log" | tail -1)" || { echo "FAIL $2: see /tmp/reshard-fuzz-$2.log"; false; }' fuzz
