#!/bin/sh
# Delivers series of the demo shelf and has other programs open every file: LibreOffice the workbook, Python readers and
# checkers the workbook's parts, pages, pictures and PDF.
# Usage: scripts/opened.sh STAVEL
set -eu
stavel=$1
sh scripts/need.sh python3 soffice:libreoffice-calc-nogui
sh scripts/engines.sh
room=$(mktemp -d)
trap 'rm -rf "$room"' EXIT
"$stavel" demo --headless --dir "$room" >/dev/null
for series in NOKSEK@joined:1m NOKSEK@quill:ticks BLY.chain@quill:1m; do
    files="$room/files"
    rm -rf "$files"
    mkdir "$files"
    for ending in csv xlsx html; do
        "$stavel" --shelf "$room/shelf-headless" deliver "$series" --last 20000 --out "$files/rows.$ending" >/dev/null
    done
    "$stavel" --shelf "$room/shelf-headless" chart "$series" --out "$files/chart.svg" >/dev/null
    "$stavel" --shelf "$room/shelf-headless" chart "$series" --out "$files/chart.pdf" >/dev/null
    # Every sheet as text, dates as they are shown.
    (cd "$files" && soffice --headless -env:UserInstallation="file://$room/office" \
        --convert-to 'csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,true,false,false,false,-1' rows.xlsx >/dev/null)
    mv "$files/rows-rows.csv" "$files/rows.sheet.xlsx-csv"
    printf '%s: ' "$series"
    PYTHONPATH=target/engines python3 scripts/opened.py "$files"
done
