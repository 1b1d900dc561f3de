"""What general engines read of an export: rows and hauls of each table, and the mean of a figure, by DuckDB and by pandas, as JSON."""

import json
import sys

import duckdb
import pandas

lake = sys.argv[1]
told = {}
for table in ["samples", "figures", "findings", "health"]:
    files = f"read_parquet('{lake}/{table}/*/*/*.parquet', hive_partitioning = true)"
    rows, hauls, models = duckdb.sql(
        f"SELECT count(*), count(DISTINCT haul), count(DISTINCT model) FROM {files}"
    ).fetchall()[0]
    frame = pandas.read_parquet(f"{lake}/{table}")
    told[table] = {
        "duckdb": [rows, hauls, models],
        "pandas": [len(frame), int(frame["haul"].nunique()), int(frame["model"].nunique())],
    }
figures = f"read_parquet('{lake}/figures/*/*/*.parquet', hive_partitioning = true)"
mean = duckdb.sql(f"SELECT avg(value) FROM {figures} WHERE figure = 'sustained' AND unit = 'B/s'").fetchall()[0][0]
frame = pandas.read_parquet(f"{lake}/figures")
told["sustained"] = {"duckdb": mean, "pandas": float(frame[frame["figure"] == "sustained"]["value"].mean())}
print(json.dumps(told))
