"""What a merge or a preview gives back."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field
from typing import Any

import pyarrow as pa

from ..core.cast import as_text, plain
from ..core.decisions import NAMES
from ..core.records import REJECT_SHAPE
from ..core.schema import TableInfo
from ..incoming import Spool, tables_of
from ..incoming.rejected import ABSENT


@dataclass(frozen=True)
class Sample:
    """One record beside the row that it meets. `cells`: column, existing value, incoming value, changed.

    `row` is None for a row that did not come.
    """

    row: int | None
    decision: str
    reason: str
    key: dict[str, Any]
    cells: list[tuple[str, Any, Any, bool]]


@dataclass(frozen=True)
class Decided:
    """What became of one record: the `decision`, and its `reason`; `key` by column, also one that the database made;
    the columns that an update `changed`; `row`, which record of the batch it was, from 1."""

    row: int | None
    decision: str
    reason: str
    changed: list[str]
    key: dict[str, Any]


@dataclass
class Result:
    """The outcome of a merge or a preview.

    `counts` has one number for each decision; `records` is the number of incoming records, and `missing` that of
    the rows that did not come and are deleted, which `counts` has too. `rules` says how often each rule decided, by its
    number; `warnings` what may surprise; `groups` has, if `by` was given, one row a group: the group, the count of each
    decision, and the rows of the table before and after. `batch` is the batch's number; None for a preview. `stops`
    says, in a preview, why a merge would stop. `changed` counts, for each column, the updates that changed it. `unit`
    says what the row numbers count: "line" of a text file, or "row".
    `retries` is how often a unit of work was done again because another program wrote the same rows meanwhile.
    """

    table: str
    store: str
    key: list[str]
    unit: str
    wrote: bool
    counts: dict[str, int] = field(default_factory=lambda: dict.fromkeys(NAMES, 0))
    records: int = 0
    missing: int = 0
    rules: dict[int, int] = field(default_factory=dict)
    warnings: list[str] = field(default_factory=list)
    by: str | None = None
    groups: pa.Table | None = None
    changed: dict[str, int] = field(default_factory=dict)
    batch: int | None = None
    rejects_path: str | None = None
    stops: str | None = None
    retries: int = 0
    seconds: float = 0.0
    samples: list[Sample] = field(default_factory=list)
    _decisions: list[Spool] = field(default_factory=list, repr=False)
    _rejects: list[Spool] = field(default_factory=list, repr=False)
    _shape: pa.Schema = field(default_factory=lambda: pa.schema([]), repr=False)
    _made: list[str] = field(default_factory=list, repr=False)
    _each: list[Decided] | None = field(default=None, repr=False)
    """What became of each record, where there are no tables of that."""

    @property
    def landed(self) -> bool:
        """Whether a row of the table was written."""
        return self.wrote and any(self.counts[name] for name in ("insert", "update", "delete"))

    @property
    def decisions(self) -> pa.Table:
        """One row a record, by row number: row, decision, reason, changed (a list of columns), the key; and, of a table
        that is merged into by another key than the one which its database makes, that one too.

        A key column with one of these four names is here key_row, key_decision and so on.
        Rows that did not come stand at the end, without a row number. A key that the database made is here.
        """
        if self._each is not None:
            lines = [[one.row, one.decision, one.reason, one.changed or None, *one.key.values()] for one in self._each]
            return pa.Table.from_pylist(
                [dict(zip(self._shape.names, line, strict=True)) for line in lines], self._shape
            )
        parts = [table.cast(self._shape) for table in tables_of(self._decisions)]
        return pa.concat_tables([self._shape.empty_table(), *parts]).sort_by("row")

    @property
    def rejects(self) -> pa.Table:
        """The rejected records as they came, after rmend_row, rmend_reason, rmend_text and rmend_batch.

        rmend_text is the text of a record that could not be split into values. A column of theirs that has such a name
        itself has an underscore more.
        """
        table = unite(list(tables_of(self._rejects))).sort_by("rmend_row")
        batch = pa.repeat(pa.scalar(self.batch, pa.int64()), table.num_rows)
        return table.add_column(3, "rmend_batch", batch)

    @property
    def first(self) -> Decided | None:
        """What became of the first record; None if there was none."""
        return next(self.each(), None)

    def each(self) -> Iterator[Decided]:
        """What became of each record, one after the other, as plain Python values; see `decisions`."""
        if self._each is not None:
            yield from self._each
            return
        names = [*self.key, *self._made]
        for line in self.decisions.to_pylist():
            row, decision, reason, changed, *key = line.values()
            yield Decided(row, decision, reason, changed or [], dict(zip(names, key, strict=True)))

    def to_dict(self, decisions: bool = False) -> dict[str, Any]:
        """The result as plain values: what `--json` prints; with `decisions` those of each record too."""
        document: dict[str, Any] = {
            "table": self.table, "store": self.store, "key": self.key, "written": self.landed, "records": self.records,
            "counts": self.counts, "changed": self.changed, "rules": self.rules, "missing": self.missing,
            "warnings": self.warnings, "retries": self.retries, "seconds": round(self.seconds, 3),
        }  # fmt: skip
        if self.groups is not None:
            document["groups"] = self.groups.to_pylist()
        if self.wrote:
            document["batch"] = self.batch
            document["rejects"] = self.rejects_path
        else:
            document["stops"] = self.stops
            document["samples"] = [
                {
                    self.unit: one.row,
                    "decision": one.decision,
                    "reason": one.reason,
                    "key": one.key,
                    "values": {
                        column or "text": {"existing": old, "incoming": new, "changed": changed}
                        for column, old, new, changed in one.cells
                    },
                }
                for one in self.samples
            ]
        if decisions:
            document["decisions"] = [asdict(one) for one in self.each()]
        return document

    def _repr_html_(self) -> str:
        """What a notebook shows."""
        from ..notebook import of_result

        return of_result(self)


def decisions_schema(info: TableInfo, key: list[str]) -> pa.Schema:
    return pa.schema(
        [
            ("row", pa.int64()),
            ("decision", pa.string()),
            ("reason", pa.string()),
            ("changed", pa.list_(pa.string())),
        ]
        + [(_apart(name, key), info[name].type) for name in key]
    )


def _apart(name: str, key: list[str]) -> str:
    """The name of a key column among the decisions, where `row` is the number of the record."""
    if name in ("row", "decision", "reason", "changed"):
        name = f"key_{name}"
        while name in key:
            name = f"key_{name}"
    return name


def unite(tables: list[pa.Table]) -> pa.Table:
    """Tables of rejects as one; where their types do not go together, as texts.

    Where some records lack columns that others have, rmend_absent lists these, as a JSON array.
    """
    every = list(
        dict.fromkeys(name for table in tables for name in table.column_names if name not in REJECT_SHAPE.names)
    )
    absent = [[name for name in every if name not in table.column_names] for table in tables]
    ragged = any(names and len(names) < len(every) for names in absent)
    parts = [REJECT_SHAPE.empty_table()]
    for table, names in zip(tables, absent, strict=True):
        if ragged:
            told = json.dumps(names, ensure_ascii=False) if names and len(names) < len(every) else None
            table = table.add_column(3, ABSENT, pa.repeat(pa.scalar(told, pa.string()), len(table)))
        parts.append(table)
    try:
        return pa.concat_tables(parts, promote_options="permissive")
    except (pa.ArrowTypeError, pa.ArrowInvalid):
        return pa.concat_tables([_as_texts(part) for part in parts], promote_options="permissive")


def _as_texts(table: pa.Table) -> pa.Table:
    named = zip(table.column_names, table.columns, strict=True)
    return pa.table({name: c if name == "rmend_row" else as_text(plain(c))[0] for name, c in named})
