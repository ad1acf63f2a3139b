#!/usr/bin/env bash
# Runs a command with its temporary files kept in memory, where there is room for them: what
# the tests test does not depend on the disk, and it is synced thousands of times. Where there
# is no room the disk does. Usage: scripts/in-memory.sh COMMAND ...
set -euo pipefail
enough=$((8 * 1024 * 1024)) # KiB
free=$(df -k --output=avail /dev/shm 2>/dev/null | tail -1) || free=0
[ "${free:-0}" -ge "$enough" ] || exec "$@"
TMPDIR=$(mktemp -d /dev/shm/reshard-XXXXXX)
export TMPDIR
trap 'rm -rf "$TMPDIR"' EXIT
chmod 755 "$TMPDIR" # PostgreSQL runs as a user of its own
"$@"
