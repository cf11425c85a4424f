"""The merge once more, row by row and value by value: slow, plain, and written without the engine.

It works on Python values that are already in the columns' types, so it shares no cast, no comparison and no
vectorised code with what it checks.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

Row = dict[str, Any]
Predicate = Callable[[Row, Row | None, set[str]], bool | None]
"""Of a record, the row that it meets, and the columns that would change; None is unknown."""


@dataclass
class Options:
    """What a job says, where it is not the default."""

    duplicates: str = "reject"
    required: tuple[str, ...] = ()
    order: str | None = None
    columns: dict[str, Row] = field(default_factory=dict)
    rules: list[tuple[str, Predicate]] = field(default_factory=list)
    derive: dict[str, Callable[[Row], Any]] = field(default_factory=dict)
    allow: tuple[str, ...] = ("insert", "update", "delete")
    missing: str = "keep"
    scope: Callable[[Row], bool | None] = lambda row: True
    delete: str = "remove"
    mark: Row = field(default_factory=dict)
    null_key: str = "reject"

    def of(self, column: str, option: str, default: Any = None) -> Any:
        return self.columns.get(column, {}).get(option, default)


@dataclass
class Outcome:
    """The table afterwards; for each record its decision and the columns that an update changes; and the rest."""

    table: list[Row]
    decided: list[tuple[str, set[str]]]
    archived: list[Row] = field(default_factory=list)
    gone: int = 0


def same(a: Any, b: Any) -> bool:
    if a is None or b is None:
        return a is b
    if isinstance(a, float) and isinstance(b, float) and a != a and b != b:
        return True
    return bool(a == b)


def alike(a: Any, b: Any, column: str, options: Options) -> bool:
    """Whether two values that are there count as the same."""
    if isinstance(a, str):
        if options.of(column, "trim"):
            a, b = a.strip(), b.strip()
        if options.of(column, "ignore_case"):
            a, b = a.lower(), b.lower()
        return bool(a == b)
    tolerance = options.of(column, "tolerance")
    if tolerance is None:
        return False
    apart = abs(Decimal(str(a)) - Decimal(str(b))) if isinstance(a, float | int | Decimal) else abs((a - b).days)
    return apart <= Decimal(str(tolerance))


def merge(table: list[Row], records: list[Row], key: list[str], options: Options | None = None) -> Outcome:
    options = options or Options()
    out = Outcome([dict(row) for row in table], [])
    records = [record | {name: make(record) for name, make in options.derive.items()} for record in records]
    decided: list[tuple[str, set[str]] | None] = [None] * len(records)
    groups: dict[tuple[Any, ...], list[int]] = {}
    for place, record in enumerate(records):
        name = tuple(record[column] for column in key)
        if any(value is None for value in name):
            if options.null_key == "generate":  # the key stays null here: nobody knows what the database makes
                decided[place] = _one(out, record, key, None, options)
            else:
                decided[place] = ("reject", set())
            continue
        if any(column in record and record[column] is None and column not in key for column in options.required):
            decided[place] = ("reject", set())
        groups.setdefault(name, []).append(place)
    for name, every in groups.items():
        places = every
        if options.order is not None:
            ages = [_age(records[p][options.order]) for p in every]
            places = [p for p, age in zip(every, ages, strict=True) if age == max(ages)]
        first = records[places[0]]
        alike_all = all(same(records[p][c], first[c]) for p in places for c in first)
        stands = places[-1] if options.duplicates == "last" else places[0]
        for place in every:
            if not alike_all and options.duplicates == "reject" and place in places:
                decided[place] = ("reject", set())
            elif place != stands and decided[place] is None:
                decided[place] = ("skip", set())
        if decided[stands] is None:
            decided[stands] = _one(out, records[stands], key, name, options)
    if records and options.missing == "delete" and not any(None in [record[c] for c in key] for record in records):
        for row in list(out.table):
            if tuple(row[c] for c in key) not in groups and options.scope(row) is True and "delete" in options.allow:
                out.gone += _delete(out, row, options)
    out.decided = [one for one in decided if one is not None]
    return out


def _age(value: Any) -> tuple[Any, ...]:
    return (0,) if value is None else (1, value)


def _one(out: Outcome, record: Row, key: list[str], name: tuple[Any, ...] | None, options: Options) -> tuple[str, set[str]]:
    met = [row for row in out.table if name and all(same(row[c], v) for c, v in zip(key, name, strict=True))]
    if len(met) > 1:
        return "reject", set()
    row = met[0] if met else None
    changed: set[str] = set()
    if row is not None:
        for column, value in record.items():
            if column in key or options.of(column, "write", "always") != "always" or same(row[column], value):
                continue
            if value is None and options.of(column, "null") == "keep":
                continue
            if row[column] is None or value is None or not alike(row[column], value, column, options):
                changed.add(column)
    new = {column: record[column] for column in changed}
    reason_to_write = any(options.of(column, "compare", True) for column in changed)
    for column in list(changed):
        other = options.of(column, "previous")
        if other is not None and row is not None and not same(row[other], row[column]):
            changed.add(other)
            new[other] = row[column]
    decision = _default(record, row, reason_to_write, options)
    rejected = decision == "reject"
    stale = row is not None and options.order is not None and _age(record[options.order]) < _age(row[options.order])
    for decide, predicate in [] if stale else options.rules:
        if predicate(record, row, changed) is True:
            if (decide == "insert" and row is not None) or (decide in ("update", "delete") and row is None):
                decision = "skip"
            elif not (decide == "update" and not changed) and not (decide == "insert" and rejected):
                decision = decide
            break
    if decision == "delete" and options.delete == "mark" and all(same(row[c], v) for c, v in options.mark.items()):
        decision = "skip"
    if decision in ("insert", "update", "delete") and decision not in options.allow:
        decision = "skip"
    if decision == "insert":
        columns = list(out.table[0]) if out.table else list(record)
        kept = {c: v for c, v in record.items() if options.of(c, "write", "always") != "never"}
        out.table.append({column: kept.get(column) for column in {**dict.fromkeys(columns), **record}})
    elif decision == "update":
        row.update(new)
        return decision, changed
    elif decision == "delete":
        _delete(out, row, options)
    return decision, set()


def _default(record: Row, row: Row | None, reason_to_write: bool, options: Options) -> str:
    if row is None:
        return "reject" if any(column not in record for column in options.required) else "insert"
    if options.order is not None and _age(record[options.order]) < _age(row[options.order]):
        return "skip"
    return "update" if reason_to_write else "skip"


def _delete(out: Outcome, row: Row | None, options: Options) -> int:
    assert row is not None
    if options.delete == "mark":
        done = all(same(row[column], value) for column, value in options.mark.items())
        row.update(options.mark)
        return 0 if done else 1
    out.table.remove(row)
    if options.delete == "archive":
        out.archived.append(row)
    return 1
