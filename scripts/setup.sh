#!/usr/bin/env bash
# Installs what the demo or the tests need from Debian's packages, or says what
# is missing and how to install it. Usage: scripts/setup.sh demo|test|screenshots
set -euo pipefail

purpose=${1:?usage: scripts/setup.sh demo|test|screenshots}
declare -A needs=([postgresql]=/usr/lib/postgresql)
# No recommended packages; the game servers bring a demo of real games, the SSH server the
# second machine.
declare -A wants=(
  [minetest-server]=/usr/games/minetestserver
  [openttd]=/usr/games/openttd
  [openttd-opengfx]=/usr/share/games/openttd/baseset/opengfx
  [openssh-server]=/usr/sbin/sshd
  [vsftpd]=/usr/sbin/vsftpd
  [tmux]=/usr/bin/tmux
)
if [ "$purpose" != demo ]; then
  needs[minetest-server]=/usr/games/minetestserver
  needs[openttd]=/usr/games/openttd
  needs[openttd-opengfx]=/usr/share/games/openttd/baseset/opengfx
  needs[chromium]=/usr/bin/chromium
  needs[unzip]=/usr/bin/unzip
  needs[p7zip-full]=/usr/bin/7z
  needs[bzip2]=/bin/bzip2
  needs[openssh-server]=/usr/sbin/sshd
  needs[vsftpd]=/usr/sbin/vsftpd
  needs[tmux]=/usr/bin/tmux
  needs[sqlite3]=/usr/bin/sqlite3
  needs[python3]=/usr/bin/python3
  wants=()
fi
if [ "$purpose" = screenshots ]; then
  needs[xvfb]=/usr/bin/Xvfb
  needs[xterm]=/usr/bin/xterm
  needs[imagemagick]=/usr/bin/import
  needs[fonts-dejavu]=/usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf
  needs[fonts-noto-color-emoji]=/usr/share/fonts/truetype/noto/NotoColorEmoji.ttf
fi

# PostgreSQL runs as an account of its own and keeps shared memory there. Without it the tests cannot be trusted.
if mode=$(stat -c %a /dev/shm 2>/dev/null) && [ "$mode" != 1777 ]; then
  echo "/dev/shm has mode $mode, not 1777: PostgreSQL cannot share memory there. As root, run: chmod 1777 /dev/shm" >&2
  [ "$purpose" = demo ] || exit 1
fi

for tool in go node npm; do
  command -v "$tool" >/dev/null || { echo "Missing: $tool. Install Go 1.26 or newer and Node 20 or newer first." >&2; exit 1; }
done

missing=()
for package in "${!needs[@]}" "${!wants[@]}"; do
  path=${needs[$package]:-${wants[$package]:-}}
  if [ "$package" = postgresql ]; then
    compgen -G "$path/*/bin/postgres" >/dev/null || missing+=("$package")
  else
    [ -e "$path" ] || missing+=("$package")
  fi
done
[ ${#missing[@]} -eq 0 ] && exit 0

if [ "$(id -u)" -eq 0 ]; then
  run=()
elif sudo -n true 2>/dev/null; then
  run=(sudo -n)
else
  run=()
  required=()
  for package in "${missing[@]}"; do [ -n "${needs[$package]:-}" ] && required+=("$package"); done
  if [ ${#required[@]} -eq 0 ]; then
    echo "Going on without ${missing[*]}; to have it too: apt-get install --no-install-recommends ${missing[*]}" >&2
    exit 0
  fi
  echo "Missing: ${required[*]}. Install it as root, then try again:" >&2
  echo "  apt-get install --no-install-recommends ${missing[*]}" >&2
  exit 1
fi
command -v apt-get >/dev/null || { echo "Missing: ${missing[*]}; this is not Debian, install them by your system's means." >&2; exit 1; }

echo "Installing from Debian's packages: ${missing[*]}"
export DEBIAN_FRONTEND=noninteractive
# What is installed is run by the demo and the tests themselves: no service is to be started, an
# SSH server that the world can reach least of all (policy-rc.d, invoke-rc.d(8)).
if [ ! -e /usr/sbin/policy-rc.d ]; then
  printf '#!/bin/sh\nexit 101\n' | "${run[@]}" tee /usr/sbin/policy-rc.d >/dev/null
  "${run[@]}" chmod 755 /usr/sbin/policy-rc.d
  trap '"${run[@]}" rm -f /usr/sbin/policy-rc.d' EXIT
fi
"${run[@]}" apt-get update -qq || echo "The package lists could not be refreshed; trying with those that are there." >&2
"${run[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
