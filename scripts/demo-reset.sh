#!/usr/bin/env bash
# Forgets what was done in the demo. Only the demo's own folders are removed.
set -euo pipefail
cd "$(dirname "$0")/.."
if [ -f .demo/demo.json ] && pgrep -f "reshard demo --data .demo" >/dev/null; then
  echo "The demo is running; end it with Ctrl-C first." >&2
  exit 1
fi
rm -rf .demo "/var/tmp/reshard-demo$(pwd | tr / -)-.demo"
echo "The demo starts afresh with: make demo"
