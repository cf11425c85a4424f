"""What keeping versions costs a merge, against a plain merge of the same batch into a table without them."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from functools import partial
from typing import Any

import pyarrow as pa

import rapid_mender as rm

from .capture import _TYPES, _connected
from .data import COLUMNS, KEY, existing_and_batch
from .past import database, ratios_of, timed

Rows = list[tuple[str, list[float], str]]
_BEGINS = (date(2020, 1, 1), date(2021, 1, 1), date(2022, 1, 1))


def _filled(url: str, run: Callable[[str], Any], kind: str, table: pa.Table) -> None:
    """A plain table, and one with three versions of each row, of which the last is the plain one."""
    text, number, real, day = _TYPES[kind][:4]
    types = (f"{text} NOT NULL", f"{number} NOT NULL", f"{text} NOT NULL", real, real, text, text, day)
    columns = ", ".join(f"{name} {one}" for name, one in zip(COLUMNS, types, strict=True))
    key = ", ".join(KEY)
    run(f"CREATE TABLE plain ({columns}, PRIMARY KEY ({key}))")
    run(f"CREATE TABLE kept ({columns}, valid_from {day} NOT NULL, valid_to {day}, PRIMARY KEY ({key}, valid_from))")
    rm.merge(rm.Job(store=url, table="plain", key=list(KEY), history=False), table)
    for at, begin in enumerate(_BEGINS):
        end = _BEGINS[at + 1] if at + 1 < len(_BEGINS) else None
        version = table.append_column("valid_from", pa.repeat(pa.scalar(begin), table.num_rows))
        version = version.append_column("valid_to", pa.repeat(pa.scalar(end, pa.date32()), table.num_rows))
        if end is not None:
            girth = pa.compute.add(version["girth_cm"], at - 10)
            version = version.set_column(version.column_names.index("girth_cm"), "girth_cm", girth)
        rm.merge(rm.Job(store=url, table="kept", key=[*KEY, "valid_from"], history=False), version)
    if kind == "sqlite":  # elsewhere an index on the end costs updates more than it saves in look-ups
        run(f"CREATE INDEX kept_in_force ON kept ({key}) WHERE valid_to IS NULL")
    else:
        for name in ("plain", "kept"):
            run(f"ANALYZE {'TABLE ' if kind == 'mariadb' else ''}{name}")


def versions(kind: str, existing: int, incoming: int, rounds: int) -> Rows:
    table, batch = existing_and_batch(existing, incoming)
    seen = batch.append_column("seen_on", pa.repeat(pa.scalar(date(2026, 6, 1)), batch.num_rows))
    late = batch.append_column("seen_on", pa.repeat(pa.scalar(date(2021, 7, 1)), batch.num_rows))
    spans = {"from": "valid_from", "to": "valid_to", "effective": "seen_on", "late": "insert"}
    with database(kind) as url:
        run, close = _connected(kind, url)
        _filled(url, run, kind, table)
        plain = rm.Job(store=url, table="plain", key=list(KEY))
        kept = rm.Job(
            store=url, table="kept", key=list(KEY), versions=rm.Versions(**spans),
            columns={"girth_cm": rm.ColumnOptions(version=True)},
        )  # fmt: skip
        ways: dict[str, tuple[rm.Job, pa.Table]] = {
            "a plain merge": (plain, batch),
            "into three versions a key": (kept, seen),
            "all records late": (kept, late),
        }
        times: dict[str, list[float]] = {name: [] for name in ways}
        for _ in range(rounds):
            for name, (job, records) in ways.items():
                done: list[rm.Result] = []
                times[name].append(
                    timed(partial(lambda job, records, done: done.append(rm.merge(job, records)), job, records, done))
                )
                assert done[0].counts["reject"] == 0, done[0].reasons
                rm.undo(url, done[0].batch)
        close()
    base = times["a plain merge"]
    return [(name, series, "1" if series is base else ratios_of(base, series)) for name, series in times.items()]


def parts(scale: int, rounds: int) -> dict[str, tuple[str, Callable[[], Rows]]]:
    """The measurements, by the names under which they are kept."""
    kinds = {"sqlite": "SQLite", "postgresql": "PostgreSQL", "mariadb": "MariaDB"}
    title = "{}: a merge into a table that keeps versions"
    return {
        f"{kind}-versions": (title.format(name), partial(versions, kind, 1_000_000 // scale, 300_000 // scale, rounds))
        for kind, name in kinds.items()
    }
