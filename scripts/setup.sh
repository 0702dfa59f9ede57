#!/usr/bin/env bash
# Sets up a bare Debian 12 for Lucid Anvil: system libraries (where it may), .venv, pinned packages.
set -euo pipefail
cd "$(dirname "$0")/.."

need=(libxcb-icccm4 libxcb-keysyms1 libxcb-cursor0 libxcb-image0 libxcb-render-util0 libxcb-shape0
      libxkbcommon-x11-0 libegl1 libgl1 libpulse0 libportaudio2 libfontconfig1 libdbus-1-3
      libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0 fonts-inter)
missing=()
if command -v dpkg-query >/dev/null; then
  for p in "${need[@]}"; do
    dpkg-query -W -f='${db:Status-Status}' "$p" 2>/dev/null | grep -q '^installed$' || missing+=("$p")
  done
fi
if ! python3 -c 'import ensurepip, venv' 2>/dev/null; then missing+=(python3-venv); fi
if [ ${#missing[@]} -gt 0 ]; then
  if [ "$(id -u)" = 0 ]; then run=(); elif sudo -n true 2>/dev/null; then run=(sudo -n); else run=(none); fi
  if [ "${run[0]:-}" = none ]; then
    echo "System libraries are missing. Please run this line, then make again:" >&2
    echo "  sudo apt-get install -y --no-install-recommends ${missing[*]}" >&2
    exit 1
  fi
  export DEBIAN_FRONTEND=noninteractive
  "${run[@]}" apt-get update -qq
  "${run[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}"
fi

python3 -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Python 3.11 or newer is needed." >&2; exit 1; }
[ -x .venv/bin/python ] || python3 -m venv .venv
.venv/bin/python -m pip install -q --disable-pip-version-check -c constraints.txt -e '.[dev]'
touch .venv/.ready
