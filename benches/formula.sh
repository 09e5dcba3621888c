#!/usr/bin/env bash
# Measures a formula of two legs over ticks that it makes itself.
# Usage: benches/formula.sh [ROWS]     (20 million of both legs together by default; needs GNU time)
set -euo pipefail
cd "$(dirname "$0")/.."
rows=${1:-20000000}
cargo build -q --release -p stavel
cargo build -q --release -p stavel-feed --example write_ticks
room=$(mktemp -d)
trap 'rm -rf "$room"' EXIT
stavel="target/release/stavel --shelf $room/shelf"
for leg in NZDSEK NOKSEK; do
    target/release/examples/write_ticks $((rows / 2)) "$room/$leg.csv"
    $stavel --json intake "$room/$leg.csv" --source quill --instrument $leg --frame ticks --clock UTC >/dev/null
    rm "$room/$leg.csv"
done
echo "$rows ticks, $(nproc) cores"
for round in 1 2 3; do
    code=0
    /usr/bin/time -q -f "%e s, processor %U + %S s, peak %M kB" -o "$room/time" \
        $stavel compose "ROUND$round" --formula 'NZDSEK / NOKSEK' --stale 10s --set decimals=5 >"$room/out" || code=$?
    # 3: done, but something wants a person.
    [ $code -eq 0 ] || [ $code -eq 3 ] || { cat "$room/out"; exit 1; }
    echo "round $round: $(cat "$room/time"); $(head -1 "$room/out")"
done
