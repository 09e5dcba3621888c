"""Proves that engines read a whole shelf as Stavel has it.

python3 scripts/engines_shelf.py STAVEL SHELF [ENGINE...]

Each engine reads the views that `stavel shelf --sql` prints, or the data files themselves, and has to find the same
rows as `stavel shelf --json`: their number, the first and the last time of every series, and the sums of its prices.
Bars of an hour that SQL makes of minutes have to be those of `stavel frames`.
"""

import datetime
import decimal
import json
import subprocess
import sys
from pathlib import Path

UTC = datetime.timezone.utc
PRICES = {"bars": ["open", "high", "low", "close", "volume", "spread"], "ticks": ["bid", "ask", "last", "volume"]}


class Shelf:
    def __init__(self, stavel, folder):
        self.stavel, self.folder = stavel, folder
        told = json.loads(self.run("--json", "shelf"))
        self.series = {s["series"]: s for i in told["instruments"] for s in i["series"]}

    def run(self, *args):
        done = subprocess.run([self.stavel, "--shelf", self.folder, *args], capture_output=True, text=True)
        if done.returncode not in (0, 3):
            raise SystemExit(f"stavel {' '.join(args)}: {done.stderr}")
        return done.stdout

    def statements(self, dialect):
        lines = [line for line in self.run("shelf", "--sql", dialect).splitlines() if not line.startswith("--")]
        return [s.strip() for s in "\n".join(lines).split(";\n") if s.strip().strip(";")]

    def expected(self):
        moment = lambda text: datetime.datetime.fromisoformat(text.replace("Z", "+00:00"))
        return {
            name: (s["rows"], moment(s["first"]), moment(s["last"])) for name, s in self.series.items()
        }


def name_of(instrument, source, frame, side):
    """The name of a series: the side stands behind the frame, where it is not the first one."""
    base, _, built = frame.partition(".")
    return f"{instrument}@{source}:{base}{'' if side == 'bid' else '.' + side}{'.' + built if built else ''}"


def totals(run):
    """Rows, ends and sums of every series, through SQL; `run` gives rows of a query."""
    found = {}
    for view, columns in PRICES.items():
        sums = ", ".join(f"sum({c}), count({c})" for c in columns)
        query = (
            f"SELECT instrument, source, frame, side, count(*), min(time), max(time), {sums} FROM {view} "
            "GROUP BY instrument, source, frame, side"
        )
        for row in run(query):
            name = name_of(*row[:4])
            values = [None if v is None else decimal.Decimal(v) for v in row[7:]]
            found[name] = (row[4], as_utc(row[5]), as_utc(row[6]), values)
    return found


def as_utc(moment):
    return moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)


def by_duckdb(shelf):
    import duckdb

    db = duckdb.connect()
    for statement in shelf.statements("duckdb"):
        db.execute(statement)
    return lambda query: db.execute(query).fetchall()


def by_datafusion(shelf):
    from datafusion import SessionContext

    context = SessionContext()
    for statement in shelf.statements("datafusion"):
        context.sql(statement).collect()

    def run(query):
        rows = []
        for batch in context.sql(query).collect():
            rows += zip(*(column.to_pylist() for column in batch.columns))
        return rows

    return run


def by_spark(shelf):
    from pyspark.sql import SparkSession

    builder = SparkSession.builder.master("local[2]").appName("shelf").config("spark.ui.enabled", "false")
    builder = builder.config("spark.ui.showConsoleProgress", "false").config("spark.sql.shuffle.partitions", "4").config("spark.driver.host", "127.0.0.1")
    session = builder.getOrCreate()
    session.sparkContext.setLogLevel("ERROR")
    for statement in shelf.statements("spark"):
        session.sql(statement)
    # Moments come as UTC, whatever the zone of this machine.
    utc = lambda v: v.astimezone(UTC) if isinstance(v, datetime.datetime) else v
    return lambda query: [tuple(utc(v) for v in row) for row in session.sql(query).collect()]


def files_of(shelf):
    """The data files of each series, as the view of DuckDB names them."""
    import re

    found = {}
    for statement in shelf.statements("duckdb"):
        for select in statement.split("SELECT ")[1:]:
            paths = re.search(r"read_parquet\(\[(.*?)\]", select)
            if paths:
                words = re.findall(r"'([^']*)' AS (instrument|source|frame|side)", select)
                name = name_of(*(value for value, _ in words))
                found.setdefault(name, []).extend(re.findall(r"'([^']+)'", paths[1]))
    return found


def by_files(shelf, read):
    """Rows and ends of every series, from its files."""
    return {name: read(paths) for name, paths in files_of(shelf).items()}


def polars_ends(paths):
    import polars as pl

    rows = pl.scan_parquet(paths, missing_columns="insert", extra_columns="ignore")
    n, first, last = rows.select(pl.len(), pl.col("time").min(), pl.col("time").max().alias("l")).collect().row(0)
    return n, as_utc(first), as_utc(last)


def pyarrow_ends(paths):
    import pyarrow.compute as pc
    import pyarrow.dataset as ds

    times = ds.dataset(paths, format="parquet").to_table(columns=["time"])["time"]
    ends = pc.min_max(times)
    return len(times), as_utc(ends["min"].as_py()), as_utc(ends["max"].as_py())


def same_hours(shelf, run, engine):
    """Bars of an hour made of minutes in SQL against those that `stavel frames` built."""
    truncated = "date_trunc('hour', time)"
    checked = 0
    for name in shelf.series:
        instrument, rest = name.split("@")
        source, frame = rest.split(":")
        hours = f"{instrument}@{source}:1h"
        if frame != "1m" or hours not in shelf.series:
            continue
        query = f"""
            WITH minutes AS (SELECT *, {truncated} AS hour FROM bars
                WHERE instrument = '{instrument}' AND source = '{source}' AND frame = '1m' AND side = 'bid'),
            edges AS (SELECT hour, min(time) AS a, max(time) AS b, max(high) AS high, min(low) AS low, count(*) AS n
                FROM minutes GROUP BY hour),
            made AS (SELECT edges.hour AS time, f.open, edges.high, edges.low, l.close FROM edges
                JOIN minutes f ON f.time = edges.a JOIN minutes l ON l.time = edges.b)
            SELECT count(*), sum(CASE WHEN made.open = built.open AND made.high = built.high AND made.low = built.low
                AND made.close = built.close THEN 1 ELSE 0 END)
            FROM made JOIN bars built ON built.time = made.time
            WHERE built.instrument = '{instrument}' AND built.source = '{source}' AND built.frame = '1h'
                AND built.side = 'bid'
        """
        joined, equal = run(query)[0]
        if joined != equal or joined != shelf.series[hours]["rows"]:
            raise SystemExit(f"{engine}: {equal} of {shelf.series[hours]['rows']} bars of {hours} are as built")
        checked += joined
    return checked


def main():
    stavel, folder, wanted = sys.argv[1], str(Path(sys.argv[2]).absolute()), sys.argv[3:]
    shelf = Shelf(stavel, folder)
    expected = shelf.expected()
    by_sql = {"duckdb": by_duckdb, "datafusion": by_datafusion, "spark": by_spark}
    by_file = {"polars": polars_ends, "pyarrow": pyarrow_ends}
    sums = None
    for engine in wanted or [*by_sql, *by_file]:
        if engine in by_file:
            found = by_files(shelf, by_file[engine])
        else:
            run = by_sql[engine](shelf)
            all_found = totals(run)
            found = {name: row[:3] for name, row in all_found.items()}
            here = {name: row[3] for name, row in all_found.items()}
            if sums is not None and here != sums:
                other = next(name for name in here if here[name] != sums.get(name))
                raise SystemExit(f"{engine}: the sums of {other} are {here[other]}, elsewhere {sums.get(other)}")
            sums = here
        wrong = [n for n in expected.keys() | found.keys() if expected.get(n) != found.get(n)]
        if wrong:
            name = wrong[0]
            raise SystemExit(f"{engine}: {name} is {found.get(name)}, the shelf says {expected.get(name)}")
        told = f"{engine}: {len(found)} series, {sum(row[0] for row in found.values())} rows as on the shelf"
        if engine in by_sql:
            told += f"; {same_hours(shelf, run, engine)} bars of an hour made in SQL are those of stavel frames"
        print(told)


if __name__ == "__main__":
    main()
