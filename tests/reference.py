"""The merge once more, row by row and value by value: slow, plain, and written without the engine.

It works on Python values that are already in the columns' types, so it shares no cast, no comparison and no
vectorised code with what it checks.
"""

from __future__ import annotations

from typing import Any

Row = dict[str, Any]


def same(a: Any, b: Any) -> bool:
    if a is None or b is None:
        return a is b
    if isinstance(a, float) and isinstance(b, float) and a != a and b != b:
        return True
    return bool(a == b)


def merge(
    table: list[Row],
    records: list[Row],
    key: list[str],
    duplicates: str = "reject",
    required: tuple[str, ...] = (),
) -> tuple[list[Row], list[tuple[str, set[str]]]]:
    """The table after a merge, and for each record its decision and the columns that an update changes."""
    after = [dict(row) for row in table]
    decided: list[tuple[str, set[str]] | None] = [None] * len(records)
    groups: dict[tuple[Any, ...], list[int]] = {}
    for place, record in enumerate(records):
        name = tuple(record[column] for column in key)
        faulty = any(column in record and record[column] is None and column not in key for column in required)
        if any(value is None for value in name):
            decided[place] = ("reject", set())
            continue
        if faulty:
            decided[place] = ("reject", set())
        groups.setdefault(name, []).append(place)
    for name, places in groups.items():
        first = records[places[0]]
        alike = [p for p in places if all(same(records[p][c], first[c]) for c in first)]
        if len(alike) == len(places):
            stands = places[-1] if duplicates == "last" else places[0]
        elif duplicates == "reject":
            for place in places:
                decided[place] = ("reject", set())
            continue
        else:
            stands = places[-1] if duplicates == "last" else places[0]
        for place in places:
            if place != stands and decided[place] is None:
                decided[place] = ("skip", set())
        if decided[stands] is None:
            decided[stands] = _one(after, records[stands], key, name, required)
    return after, [one for one in decided if one is not None]


def _one(
    after: list[Row], record: Row, key: list[str], name: tuple[Any, ...], required: tuple[str, ...]
) -> tuple[str, set[str]]:
    met = [row for row in after if all(same(row[column], value) for column, value in zip(key, name, strict=True))]
    if len(met) > 1:
        return "reject", set()
    if not met:
        if any(column not in record for column in required):
            return "reject", set()
        after.append({column: record.get(column) for column in _columns(after, record)})
        return "insert", set()
    changed = {column for column, value in record.items() if not same(met[0][column], value)}
    for column in changed:
        met[0][column] = record[column]
    return ("update" if changed else "skip"), changed


def _columns(after: list[Row], record: Row) -> list[str]:
    return list(after[0]) if after else list(record)
