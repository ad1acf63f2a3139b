#!/usr/bin/env bash
# Runs the benchmarks one after the other, each within a limit, and prints one table of all figures
# at the end. What takes too long is ended and named; the others go on. Usage: scripts/bench.sh [NAME ...]
set -uo pipefail
cd "$(dirname "$0")/.."
each=${EACH:-300}   # seconds for one benchmark
whole=${WHOLE:-1800} # seconds for all of them
out=$(mktemp -d)
trap 'rm -rf "$out"' EXIT
go test -c -o "$out/bench.test" ./internal/bench || exit 1
names=("$@")
[ ${#names[@]} -gt 0 ] || mapfile -t names < <("$out/bench.test" -test.list '^Benchmark' | grep ^Benchmark)
failed=()
for name in "${names[@]}"; do
  left=$((whole - SECONDS))
  if [ "$left" -le 0 ]; then failed+=("$name: not run, the $whole s for all of them are over"); continue; fi
  limit=$((each < left ? each : left))
  printf '%-28s' "$name" >&2
  begun=$SECONDS
  (cd internal/bench && "$out/bench.test" -test.run '^$' -test.bench "^$name\$" -test.benchtime 1x \
    -test.timeout "${limit}s") > "$out/$name" 2>&1
  code=$?
  printf '%4d s%s\n' $((SECONDS - begun)) "$([ $code -eq 0 ] || echo '  FAILED')" >&2
  [ $code -eq 0 ] || { failed+=("$name: $(grep -m1 -E 'panic: test timed out|Error:|FAIL' "$out/$name")"); tail -n 30 "$out/$name" >&2; }
done
echo
echo "$(git rev-parse --short HEAD 2>/dev/null || echo 'no commit'), $(date +%F), $(nproc) cores, $SECONDS s"
for name in "${names[@]}"; do grep -h '^Benchmark' "$out/$name" 2>/dev/null; done | awk '
  /ns\/op|[0-9]/ && NF > 3 {
    name = $1; sub(/^Benchmark/, "", name); sub(/-[0-9]+$/, "", name)
    for (i = 3; i + 1 <= NF; i += 2) if ($(i+1) != "ns/op") { printf "%-44s %-26s %12s\n", name, $(i+1), $i; name = "" }
  }'
[ ${#failed[@]} -eq 0 ] || { printf '\nFailed:\n'; printf '  %s\n' "${failed[@]}"; exit 1; }
