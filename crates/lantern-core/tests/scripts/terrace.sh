#!/usr/bin/env bash
# -----------------------------------------------------------------
# start.sh - starts the greenhouse at the terrace.
# Oro wrote most of it; ask before you touch the restart loop.
# -----------------------------------------------------------------
set -euo pipefail
IFS=$'\n\t'

readonly HERE="$(cd "$(dirname "${BASH_SOURCE[0]}")" && pwd)"
PORT=4710
SEATS=${SEATS:-24}
NAME="Halcyon \"Terrace\" & friends"
LATTICE='1.8.0'
LOG="logs/start-$(date +%F).log"
MEMORY=2048
declare -a EXTRA=(--quiet --seed 7)
export LANG=C.UTF-8 TZ="UTC"

usage() {
  cat <<-USAGE
	usage: $0 [--port N] [--seats N]
	  -p, --port N    another port
	  --seats N       how many
	USAGE
  exit 2
}

while [ $# -gt 0 ]; do
  case "$1" in
    -p|--port) PORT="$2"; shift 2 ;;
    --seats) SEATS="$2"; shift 2 ;;
    -h|--help) usage ;;
    *) echo "what is $1?" >&2; usage ;;
  esac
done

if [[ ! -d server ]]; then
  echo "no server here" >&2; exit 1
elif [ -f maintenance ] && ! grep -q '^open$' maintenance; then
  echo 'closed for the day'; exit 0
fi

mkdir -p logs worlds/orbit-garden
[ -e logs/latest.log ] && mv logs/latest.log "logs/$(date +%s).log" || true

for old in logs/*.log; do
  [ "$(wc -c < "$old")" -gt 1000000 ] && gzip -f "$old"
done

# --- bring the catalogue up to date -------------------------------
if command -v fetch-build >/dev/null 2>&1; then
  fetch-build --to "$HERE" --quiet || echo "no update today"
fi

function free_port() { ! ss -ltn "sport = :$1" | grep -q LISTEN; }

attempt=0
until [ "$attempt" -ge 3 ]; do
  attempt=$((attempt + 1))
  free_port "$PORT" || { echo "port $PORT is taken"; sleep 5; continue; }
  nice -n 5 sh server/halcyon \
    --lattice "$LATTICE" \
    --seed "7081" \
    "$@" \
    2>&1 | tee -a "$LOG"
  code=${PIPESTATUS[0]}
  echo "ended with $code at $(date)" >> "$LOG"
  if (( code == 0 )); then break; fi
  sleep "$(( attempt * 10 ))"
done
exit 0
