#!/bin/sh
# Puts the engines for Python that the tests read a shelf with into target/engines, once.
set -eu
to=target/engines
if [ ! -e "$to/ready" ]; then
    sh scripts/need.sh python3 pip3:python3-pip
    python3 -m pip install --quiet --disable-pip-version-check --target "$to" "duckdb==1.4.*" "pyarrow>=20" "polars>=1.20"
    touch "$to/ready"
fi
