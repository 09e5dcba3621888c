#!/usr/bin/env bash
# Measures deliveries of ticks that it makes itself, each proved, and beside them what engines write unproved, where
# scripts/engines_all.sh has put some.
# Usage: benches/deliver.sh [ROWS]     (10 million by default; needs GNU time and openssl)
set -euo pipefail
cd "$(dirname "$0")/.."
rows=${1:-10000000}
cargo build -q --release -p stavel
cargo build -q --release -p stavel-feed --example write_ticks
room=$(mktemp -d)
trap 'rm -rf "$room"' EXIT
stavel="target/release/stavel --shelf $room/shelf"
target/release/examples/write_ticks "$rows" "$room/NOKSEK.csv"
$stavel --json intake "$room/NOKSEK.csv" --source quill --instrument NOKSEK --frame ticks --clock UTC >/dev/null
rm "$room/NOKSEK.csv"
echo "$rows ticks, $(nproc) cores"
for format in csv json ndjson json-columns parquet dataset; do
    for round in 1 2 3; do
        rm -rf "$room/out"
        /usr/bin/time -q -f "%e s, processor %U + %S s, peak %M kB" -o "$room/time" \
            $stavel deliver NOKSEK@quill:ticks --format $format --out "$room/out/" >/dev/null
        echo "$format, round $round: $(cat "$room/time")"
    done
    if [ $format = csv ]; then
        /usr/bin/time -f "SHA-256 of it alone, by openssl: %e s" openssl dgst -sha256 "$room"/out/*.csv >/dev/null
    fi
done
python=target/engines-venv/bin/python
if [ -x $python ]; then
    $python - "$room" <<'PY'
import glob, sys, time
import duckdb, polars as pl
room = sys.argv[1]
files = glob.glob(f"{room}/shelf/data/**/*.parquet", recursive=True)
rows = f"SELECT time, bid, ask, bid_volume, ask_volume FROM read_parquet({files!r})"
ways = {
    "duckdb, csv": lambda: duckdb.sql(f"COPY ({rows}) TO '{room}/e' (FORMAT csv, HEADER)"),
    "polars, csv": lambda: pl.scan_parquet(files).sink_csv(f"{room}/e"),
    "duckdb, ndjson": lambda: duckdb.sql(f"COPY ({rows}) TO '{room}/e' (FORMAT json)"),
    "polars, ndjson": lambda: pl.scan_parquet(files).sink_ndjson(f"{room}/e"),
}
for name, write in ways.items():
    taken = []
    for _ in range(3):
        start = time.time()
        write()
        taken.append(time.time() - start)
    print(f"{name}, neither hashed nor read back: {min(taken):.2f} s, the best of three")
PY
fi
