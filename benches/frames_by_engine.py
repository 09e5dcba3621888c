"""Builds one-minute bars of bids from the ticks of a shelf with a general-purpose engine, to compare times with.

python3 benches/frames_by_engine.py duckdb|polars SHELF/data OUT.parquet
"""

import sys


def by_duckdb(ticks, out):
    import duckdb

    duckdb.sql(f"""
        COPY (
            SELECT time_bucket(INTERVAL '1 minute', time) AS t,
                   arg_min(bid, time) AS open, max(bid) AS high, min(bid) AS low, arg_max(bid, time) AS close,
                   sum(bid_volume) AS bid_volume, sum(ask_volume) AS ask_volume, count(*) AS tick_count,
                   avg(ask - bid) AS spread, arg_min(ask - bid, time) AS spread_open,
                   max(ask - bid) AS spread_high, min(ask - bid) AS spread_low
            FROM read_parquet('{ticks}') GROUP BY t ORDER BY t
        ) TO '{out}' (FORMAT parquet, COMPRESSION zstd)
    """)


def by_polars(ticks, out):
    import polars as pl

    spread = pl.col("ask") - pl.col("bid")
    bars = (
        pl.scan_parquet(ticks)
        .select("time", "bid", "bid_volume", "ask_volume", spread.alias("spread"))
        .set_sorted("time")
        .group_by_dynamic("time", every="1m")
        .agg(
            pl.col("bid").first().alias("open"),
            pl.col("bid").max().alias("high"),
            pl.col("bid").min().alias("low"),
            pl.col("bid").last().alias("close"),
            pl.col("bid_volume").sum(),
            pl.col("ask_volume").sum(),
            pl.len().alias("tick_count"),
            pl.col("spread").mean().alias("spread_mean"),
            pl.col("spread").first().alias("spread_open"),
            pl.col("spread").max().alias("spread_high"),
            pl.col("spread").min().alias("spread_low"),
        )
    )
    bars.collect(engine="streaming").write_parquet(out, compression="zstd")


if __name__ == "__main__":
    engine, data, out = sys.argv[1:4]
    ticks = f"{data}/instrument=NOKSEK/source=quill/frame=ticks/*/*.parquet"
    {"duckdb": by_duckdb, "polars": by_polars}[engine](ticks, out)
