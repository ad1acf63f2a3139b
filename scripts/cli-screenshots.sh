#!/usr/bin/env bash
# Draws the command line's main outputs for docs/screenshots: a terminal window
# under a virtual display, on a demo of its own. Usage: scripts/cli-screenshots.sh [FOLDER]
set -euo pipefail
cd "$(dirname "$0")/.."
out=$(realpath "${1:-docs/screenshots}")
data=$(mktemp -d /tmp/reshard-shots-XXXXXX)
chmod 755 "$data"
bin/reshard demo --data "$data" > "$data/log" 2>&1 &
demo=$!
Xvfb :87 -screen 0 1280x800x24 -nolisten tcp > /dev/null 2>&1 &
display=$!
trap 'kill -INT $demo 2>/dev/null; kill $display 2>/dev/null; wait; rm -rf "$data"' EXIT
for _ in $(seq 150); do grep -q 'Ctrl-C ends' "$data/log" && break; sleep 0.2; done
export RESHARD_CONFIG=$data/client.json DISPLAY=:87 PATH=$PWD/bin:$PATH
cp "$data"/samples/*.zip "$data/"
cd "$data"

shot() { # NAME COMMAND...: one picture of what the commands print
  local name=$1; shift
  local script="PS1=; clear; "
  for c in "$@"; do script+="printf '\$ %s\\n' $(printf %q "$c"); $c; echo; "; done
  xterm -geometry 154x48+0+0 -fa 'DejaVu Sans Mono' -fs 9.5 -bg '#fbfcfa' -fg '#17211c' -b 14 +sb -e bash -c "$script sleep 60" &
  local term=$!
  sleep 4
  import -window root "$out/cli-$name.png"
  kill $term; wait $term 2>/dev/null || true
}
shot find "reshard find 'samples/home of Ada'" "reshard worlds" "reshard worlds show kettle-moraine"
shot fit "reshard fit old-glasshouse north-plot"
shot put "reshard put fen-garden north-plot --yes | tail -n 41"
shot reset "reshard reset north-plot --name spring --seed -9000000000 --yes | tail -n 41"
reshard undo 2 --yes > /dev/null
shot settings "reshard servers show ridge-camp" "reshard games"
shot undo "reshard undo 1 --yes | tail -n 24" "reshard changeovers" "reshard servers"
