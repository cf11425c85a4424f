"""Merges into PostgreSQL and MariaDB: against the ways by hand, and how the cost grows."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

import rapid_mender as rm

from .data import COLUMNS, KEY, existing_and_batch
from .server_peers import MariaDB, PostgreSQL, Server

KINDS: dict[str, type[Server]] = {"postgresql": PostgreSQL, "mariadb": MariaDB}
_PART = 20  # of the batch that is merged row at a time one in so many is measured, and the time multiplied


def _timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def _merge(url: str, batch: pa.Table) -> rm.Result:
    result = rm.merge(rm.Job(store=url, table="trees", key=list(KEY)), batch)
    assert result.counts["reject"] == 0
    return result


def against(kind: str, existing: int, incoming: int, rounds: int, rest: float) -> dict[str, list[float]]:
    """Each way on an equal table, in turn, `rounds` times, after a `rest` in seconds."""
    table, batch = existing_and_batch(existing, incoming)
    server = KINDS[kind](table)
    part = batch.slice(0, incoming // _PART)
    ways: dict[str, Callable[[str], object]] = {
        "upsert with audit triggers": lambda url: server.upsert_with_triggers(batch),
        "set-based SQL by hand": lambda url: server.set_based_sql(batch),
        "Rapid Mender": lambda url: _merge(url, batch),
    }
    times: dict[str, list[float]] = {name: [] for name in (f"row at a time (a {_PART}th, times {_PART})", *ways)}
    states = {}
    for _ in range(rounds):
        server.reset()
        time.sleep(rest)
        times[next(iter(times))].append(_timed(lambda: server.row_at_a_time(part)) * _PART)
        for name, way in ways.items():
            url = server.reset()
            time.sleep(rest)
            times[name].append(_timed(lambda way=way, url=url: way(url)))  # type: ignore[misc]
            states[name] = server.state()
    assert all(state == states["Rapid Mender"] for state in states.values()), states
    server.drop()
    return times


def unchanged(kind: str, existing: int, incoming: int, rounds: int, rest: float) -> dict[str, list[float]]:
    """A batch in which nothing changed, against the plain upsert without history."""
    table, batch = existing_and_batch(existing, incoming, unchanged=1.0, changed=0.0)
    server = KINDS[kind](table)
    ways: dict[str, Callable[[str], object]] = {
        "plain upsert, no history": lambda url: server.plain_upsert(batch),
        "Rapid Mender, all unchanged": lambda url: _merge(url, batch),
    }
    times: dict[str, list[float]] = {name: [] for name in ways}
    for _ in range(rounds):
        for name, way in ways.items():
            url = server.reset()
            time.sleep(rest)
            times[name].append(_timed(lambda way=way, url=url: way(url)))  # type: ignore[misc]
    server.drop()
    return times


def growth(kind: str, scale: int) -> dict[str, list[tuple[float, float]]]:
    """Seconds by the size of the table, of the batch, by the share of unchanged rows, and by the columns."""
    found: dict[str, list[tuple[float, float]]] = {}

    def measured(what: str, at: float, table: pa.Table, batch: pa.Table) -> None:
        server = KINDS[kind].__new__(KINDS[kind])
        server.shape(table.schema)
        server.prepare(table)
        url = server.reset()
        found.setdefault(what, []).append((at, _timed(lambda: _merge(url, batch))))
        server.drop()

    measured("", 0, *existing_and_batch(1_000, 500))  # what is imported on first use is not to be measured
    found.clear()
    for rows in (1_000_000, 3_000_000, 10_000_000):
        measured("rows of the table", rows / scale, *existing_and_batch(rows // scale, 100_000 // scale))
    for rows in (10_000, 100_000, 1_000_000, 3_000_000):
        measured("records of the batch", rows / scale, *existing_and_batch(3_000_000 // scale, rows // scale))
    for share in (0.0, 0.5, 1.0):
        both = existing_and_batch(1_000_000 // scale, 300_000 // scale, unchanged=share, changed=1 - share)
        measured("% unchanged", share * 100, *both)
    for columns in (8, 40, 150):
        table, batch = existing_and_batch(300_000 // scale, 100_000 // scale)
        measured("columns", columns, _wider(table, columns), _wider(batch, columns))
    return found


def _wider(table: pa.Table, columns: int) -> pa.Table:
    """With more columns of numbers, which change with the girth."""
    for n in range(columns - len(COLUMNS)):
        table = table.append_column(f"more_{n}", pa.array(np.round(table["girth_cm"].to_numpy() + n, 1)))
    return table


def plot(found: dict[str, dict[str, list[tuple[float, float]]]], scale: int, path: Path) -> None:
    """One panel for each thing that grows, one line for each store."""
    import matplotlib

    matplotlib.use("Agg")
    import matplotlib.pyplot as plt

    names = list(next(iter(found.values())))
    fixed = {
        "rows of the table": f"{_short(100_000 / scale)} records",
        "records of the batch": f"{_short(3_000_000 / scale)} rows",
        "% unchanged": f"{_short(300_000 / scale)} records on {_short(1_000_000 / scale)} rows",
        "columns": f"{_short(100_000 / scale)} records on {_short(300_000 / scale)} rows",
    }
    figure, axes = plt.subplots(1, len(names), figsize=(13, 3.6), constrained_layout=True)
    marks = dict(zip(found, ("o-", "s--", "^:"), strict=False))
    for axis, name in zip(axes, names, strict=True):
        for kind, series in found.items():
            places, seconds = zip(*series[name], strict=True)
            axis.plot(places, seconds, marks[kind], label=kind)
        if name in ("rows of the table", "records of the batch"):
            axis.set_xscale("log")
        if name == "records of the batch":
            axis.set_yscale("log")
            axis.yaxis.set_major_formatter("{x:g}")
        else:
            axis.set_ylim(bottom=0)
        axis.minorticks_off()
        axis.set_xticks(places, [_short(place) for place in places])
        axis.set_title(fixed[name], fontsize=10)
        axis.set_xlabel(name)
        axis.grid(True, alpha=0.3)
    axes[0].set_ylabel("seconds")
    axes[0].legend()
    figure.savefig(path, dpi=100)
    plt.close(figure)


def _short(number: float) -> str:
    for size, letter in ((1_000_000, "M"), (1_000, "k")):
        if number >= size:
            return f"{number / size:g}{letter}"
    return f"{number:g}"


def table_of(what: dict[str, Any]) -> str:
    """The figures of `growth`, as a table in Markdown."""
    lines = ["| what | " + " | ".join(what) + " |", "| --- |" + " --- |" * len(what)]
    first = next(iter(what.values()))
    for name, series in first.items():
        for place, (at, _) in enumerate(series):
            cells = " | ".join(f"{of[name][place][1]:.2f} s" for of in what.values())
            lines.append(f"| {at:,.0f} {name} | {cells} |")
    return "\n".join(lines) + "\n"
