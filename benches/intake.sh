#!/usr/bin/env bash
# Measures intake of a large tick file that it makes itself: wall time, processor time, peak memory, size
# on the shelf; then the same file once more (nothing new), the day-first shape, a shuffled file, 500 small
# files, and the first look at a very large file.
# Usage: benches/intake.sh [ROWS]     (10 million by default; needs GNU time)
set -euo pipefail
cd "$(dirname "$0")/.."
rows=${1:-10000000}
cargo build -q --release -p stavel
cargo build -q --release -p stavel-feed --example write_ticks
room=$(mktemp -d)
trap 'rm -rf "$room"' EXIT
stavel=target/release/stavel
write=target/release/examples/write_ticks
took() { # what, command...
    local what=$1
    shift
    local code=0
    /usr/bin/time -q -f "  whole command %e s, processor %U + %S s, peak %M kB" -o "$room/time" "$@" >"$room/out" 2>&1 || code=$?
    echo "$what"
    [ $code -eq 0 ] || { cat "$room/out"; exit 1; }
    if grep -q '"seconds"' "$room/out"; then
        awk -F'[:,]' '/"seconds"/ { s += $2; if ($2 > m) m = $2 } END { printf "  to the shelf %.2f s\n", m }' "$room/out"
    fi
    cat "$room/time"
}
"$write" "$rows" "$room/NOKSEK_y.csv"
"$write" "$rows" "$room/NOKSEK_d.csv" day-first
cat "$room/NOKSEK_y.csv" >/dev/null
echo "$rows ticks, $(stat -c %s "$room/NOKSEK_y.csv") bytes"
for round in 1 2 3; do
    rm -rf "$room/shelf"
    took "year-first, round $round" "$stavel" --shelf "$room/shelf" --json intake "$room/NOKSEK_y.csv" --source quill
done
echo "  on the shelf $(du -sb "$room/shelf/data" | cut -f1) bytes"
took "the same once more, nothing new" "$stavel" --shelf "$room/shelf" --json intake "$room/NOKSEK_y.csv" --source quill
cat "$room/NOKSEK_d.csv" >/dev/null
took "day-first" "$stavel" --shelf "$room/shelf2" --json intake "$room/NOKSEK_d.csv" --source quill
rm -f "$room/NOKSEK_d.csv"
shuf "$room/NOKSEK_y.csv" >"$room/NOKSEK_s.csv"
took "shuffled" "$stavel" --shelf "$room/shelf3" --json intake "$room/NOKSEK_s.csv" --source quill
rm -f "$room/NOKSEK_s.csv"
mkdir "$room/many"
split -l 200 -d -a 4 <(head -100000 "$room/NOKSEK_y.csv") "$room/many/part"
for f in "$room"/many/part*; do mv "$f" "$room/many/I$(basename "$f")_ticks.csv"; done
took "500 small files into 500 series" "$stavel" --shelf "$room/shelf4" --json intake "$room/many" --source quill
# As large as there is room for, up to 20 GB, of real lines.
copies=$(($(df --output=avail -B1 "$room" | tail -1) / 2 / $(stat -c %s "$room/NOKSEK_y.csv")))
for _ in $(seq $((copies > 40 ? 40 : copies))); do cat "$room/NOKSEK_y.csv"; done >"$room/NOKSEK_huge.csv"
took "first look at $(stat -c %s "$room/NOKSEK_huge.csv") bytes" "$stavel" --shelf "$room/shelf5" intake "$room/NOKSEK_huge.csv" --source quill --dry-run
