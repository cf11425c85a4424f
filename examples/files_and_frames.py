"""The same batch as a CSV file, an Arrow table and an iterator of batches, merged into a SQLite register."""

import sqlite3
import tempfile
from pathlib import Path

import pyarrow as pa
import pyarrow.csv

import rapid_mender as rm

with tempfile.TemporaryDirectory() as name:
    folder = Path(name)
    with sqlite3.connect(folder / "register.db") as connection:
        connection.execute("CREATE TABLE trees (tag_no INTEGER PRIMARY KEY, height_m DECIMAL(4,1), surveyed_on DATE)")
    connection.close()

    frame = pa.table({"tag_no": [1, 2, 3], "height_m": [12.5, 8.0, 3.1], "surveyed_on": ["2026-04-20"] * 3})
    pyarrow.csv.write_csv(frame, folder / "survey.csv")
    job = rm.Job(store=f"sqlite:///{folder}/register.db", table="trees", key="tag_no")

    for batch in (folder / "survey.csv", frame, iter(frame.to_batches(max_chunksize=1))):
        result = rm.merge(job, batch)
        print(type(batch).__name__, {name: count for name, count in result.counts.items() if count}, result.batch)
