#!/usr/bin/env bash
# Fetches what the demo or the tests are built from, all at the same time: Debian's packages, npm's,
# and Go modules. Says how long each took. Usage: scripts/fetch.sh demo|test
set -euo pipefail
cd "$(dirname "$0")/.."
purpose=${1:?usage: scripts/fetch.sh demo|test}
took=$(mktemp -d)
trap 'rm -rf "$took"' EXIT
fetch() { # NAME COMMAND...
  local name=$1 begun=$SECONDS
  shift
  "$@" || { touch "$took/failed"; return 1; }
  [ $((SECONDS - begun)) -lt 2 ] || echo "$name $((SECONDS - begun)) s" > "$took/$name"
}
npm_packages() {
  [ web/node_modules/.installed -nt web/package-lock.json ] && return
  (cd web && npm ci --no-audit --no-fund --loglevel error > /dev/null) && touch web/node_modules/.installed
}
go_modules() { # of the programs; the tests' come with the tests
  go list -e -deps ./cmd/... > /dev/null
}
fetch "Debian's packages" scripts/setup.sh "$purpose" &
fetch "npm's packages" npm_packages &
fetch "Go modules" go_modules 2> >(grep -v '^go: downloading' >&2) &
wait
[ ! -e "$took/failed" ] || exit 1
if compgen -G "$took/*" > /dev/null; then
  echo "Fetched in $SECONDS s: $(cat "$took"/* | paste -sd, | sed 's/,/, /g')."
fi
