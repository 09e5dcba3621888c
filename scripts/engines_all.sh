#!/bin/sh
# Has every engine read the demo shelf and compares what each finds: DuckDB, DataFusion, Spark (in local mode), Polars and
# PyArrow, in a virtual environment of their own. Wants Python 3 with venv, and Java 17 for Spark.
# Usage: scripts/engines_all.sh STAVEL
set -eu
stavel=$1
room=target/engines-venv
sh scripts/need.sh python3
if [ ! -e "$room/ready" ]; then
    python3 -m venv "$room" 2>/dev/null || { sh scripts/need.sh python3.0:python3-venv; python3 -m venv "$room"; }
    "$room/bin/pip" install --quiet --disable-pip-version-check \
        "duckdb==1.4.*" "polars>=1.20" "pyarrow>=20" "datafusion>=50" "pyspark==3.5.*"
    touch "$room/ready"
fi
engines="duckdb datafusion polars pyarrow"
if command -v java >/dev/null 2>&1; then
    engines="duckdb datafusion spark polars pyarrow"
else
    echo "There is no Java, so Spark is left out; install a Java 17 to have it read the shelf too."
fi
demo=$(mktemp -d)
trap 'rm -rf "$demo"' EXIT
"$stavel" demo --headless --dir "$demo" >/dev/null
# shellcheck disable=SC2086
"$room/bin/python" scripts/engines_shelf.py "$stavel" "$demo/shelf-headless" $engines
