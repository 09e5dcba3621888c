#!/usr/bin/env bash
# Measures frames of a large tick file that it makes itself: to one minute, of both sides, to all frames, and the same again
# with nothing new; ten years of minutes to all frames; then the same minutes by general-purpose engines from the same Parquet files, on as many cores.
# Usage: benches/frames.sh [ROWS]     (50 million by default; needs GNU time and the engines of scripts/engines.sh)
set -euo pipefail
cd "$(dirname "$0")/.."
rows=${1:-50000000}
cargo build -q --release -p stavel
cargo build -q --release -p stavel-feed --example write_ticks
sh scripts/engines.sh
room=$(mktemp -d)
trap 'rm -rf "$room"' EXIT
stavel="target/release/stavel --shelf $room/shelf"
target/release/examples/write_ticks "$rows" "$room/NOKSEK.csv"
$stavel --json intake "$room/NOKSEK.csv" --source quill --instrument NOKSEK --frame ticks --clock UTC >/dev/null
rm "$room/NOKSEK.csv"
took() { # what, command...
    local what=$1
    shift
    local code=0
    /usr/bin/time -q -f "%e s, processor %U + %S s, peak %M kB" -o "$room/time" "$@" >"$room/out" 2>&1 || code=$?
    # 3: done, but something wants a person.
    [ $code -eq 0 ] || [ $code -eq 3 ] || { cat "$room/out"; exit 1; }
    echo "$what: $(cat "$room/time")"
}
cat "$room"/shelf/data/*/*/*/*/*.parquet >/dev/null
echo "$rows ticks, $(nproc) cores"
for round in 1 2 3; do
    took "to 1m, round $round" $stavel frames NOKSEK@quill:ticks 1m
    # Bars that are there would be taken over: they are taken off, so that all of them are built.
    $stavel shelf --remove NOKSEK@quill:1m >/dev/null
done
took "to 1m of both sides" $stavel frames NOKSEK@quill:ticks 1m --side both
took "to 9 frames" $stavel frames NOKSEK@quill:ticks 5m 15m 30m 1h 4h 9h 1d 1w 1mo
took "the same again, nothing new" $stavel frames NOKSEK@quill:ticks 5m 15m 30m 1h 4h 9h 1d 1w 1mo
python3 benches/write_minutes.py "$room/minutes.csv"
$stavel --json intake "$room/minutes.csv" --source tarn --instrument NOKSEK --clock UTC >/dev/null
rm "$room/minutes.csv"
for round in 1 2 3; do
    took "10 years of minutes to 8 frames, round $round" $stavel frames NOKSEK@tarn:1m 5m 15m 30m 1h 4h 1d 1w 1mo
    for frame in 5m 15m 30m 1h 4h 1d 1w 1mo; do $stavel shelf --remove "NOKSEK@tarn:$frame.built" >/dev/null; done
done
for engine in duckdb polars; do
    for round in 1 2; do
        took "$engine to 1m, round $round" env PYTHONPATH=target/engines python3 benches/frames_by_engine.py "$engine" "$room/shelf/data" "$room/engine.parquet"
    done
done
