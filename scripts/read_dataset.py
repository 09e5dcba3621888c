"""Reads a whole shelf as one dataset with several engines and prints, as JSON, what each of them counts.

python3 scripts/read_dataset.py SHELF
"""

import json
import sys
from pathlib import Path

import duckdb
import polars as pl
import pyarrow.dataset as ds


def by_duckdb(data):
    query = f"""
        SELECT instrument || '@' || source || ':' || frame, count(*), count(spread), sum(spread = 0)
        FROM read_parquet('{data}/**/*.parquet', hive_partitioning = true, union_by_name = true) GROUP BY ALL
    """
    return {name: [rows, spreads, int(zeros or 0)] for name, rows, spreads, zeros in duckdb.sql(query).fetchall()}


def by_pyarrow(data):
    counts = {}
    dataset = ds.dataset(data, partitioning="hive", format="parquet")
    for batch in dataset.to_batches(columns=["instrument", "source", "frame", "time"]):
        columns = (batch.column(name).to_pylist() for name in ["instrument", "source", "frame"])
        for instrument, source, frame in zip(*columns):
            name = f"{instrument}@{source}:{frame}"
            counts[name] = counts.get(name, 0) + 1
    return counts


def by_polars(data):
    rows = pl.scan_parquet(
        f"{data}/**/*.parquet", hive_partitioning=True, missing_columns="insert", extra_columns="ignore"
    )
    counted = rows.group_by("instrument", "source", "frame").agg(pl.len()).collect()
    return {f"{i}@{s}:{f}": n for i, s, f, n in counted.iter_rows()}


def main():
    data = Path(sys.argv[1]) / "data"
    told = {"duckdb": by_duckdb(data), "pyarrow": by_pyarrow(data), "polars": by_polars(data)}
    json.dump(told, sys.stdout)


if __name__ == "__main__":
    main()
