#!/bin/sh
# Puts what the tests read a shelf and open delivered files with into target/engines, once.
set -eu
to=target/engines
if [ ! -e "$to/ready-4" ]; then
    sh scripts/need.sh python3 pip3:python3-pip
    python3 -m pip install --quiet --upgrade --disable-pip-version-check --target "$to" "duckdb==1.4.*" "pyarrow>=20" "polars>=1.20" \
        "openpyxl>=3.1" "html5lib>=1.1" "pikepdf>=9" "schemathesis>=4" "websockets>=13"
    touch "$to/ready-4"
fi
