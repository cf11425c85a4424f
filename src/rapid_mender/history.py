"""The history of a table and the batches of a store: their shape, writing and reading them."""

from __future__ import annotations

import getpass
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa

from .core.changes import spell_changed
from .core.existing import Existing
from .core.names import fitted
from .core.records import known_column, value_of
from .core.schema import Column, TableInfo
from .errors import JobError, StoreError
from .stores.base import Condition, Session, Store, Written, kept, opened

OddCells = Mapping[str, tuple[np.ndarray, pa.Table]]
"""By column of the history: the places of cells, and the store's own form of them."""

BATCHES_TABLE = "rmend_batches"
_MOMENT = pa.timestamp("ms", "UTC")

BATCHES = TableInfo(
    BATCHES_TABLE,
    (
        Column("batch_no", pa.int64(), nullable=False, has_default=True),
        Column("table_name", pa.string(), nullable=False),
        Column("job", pa.string()),
        Column("actor", pa.string()),
        Column("application", pa.string()),
        Column("started_at", _MOMENT, nullable=False),
        Column("finished_at", _MOMENT),
        *(Column(name, pa.int64()) for name in ("inserted", "updated", "deleted", "skipped", "rejected")),
        Column("first_change", pa.int64()),
        Column("last_change", pa.int64()),
        Column("status", pa.string(), nullable=False, one_of=("running", "done", "stopped")),
        Column("unrecorded", pa.int64()),
    ),
    ("batch_no",),
)

_FIXED = (
    Column("change_no", pa.int64(), nullable=False),
    Column("batch_no", pa.int64()),
    Column("action", pa.string(), nullable=False, one_of=("insert", "update", "delete")),
    Column("changed", pa.string()),
    Column("changed_at", _MOMENT, nullable=False),
    Column("actor", pa.string()),
    Column("application", pa.string()),
)


def history_name(table: str) -> str:
    return f"{table}_history"


def stored_names(info: TableInfo, fits: Callable[[str], bool]) -> dict[str, str]:
    """What the columns old_X and new_X of a history are called in a store that has room for names that fit."""
    full = [f"{side}_{column.name}" for column in info.columns for side in ("old", "new")]
    return {name: fitted(name, fits) for name in full}


def history_info(info: TableInfo, fits: Callable[[str], bool]) -> TableInfo:
    """The shape of a table's history in a store that has room for names that fit."""
    names = stored_names(info, fits)
    sides = [
        replace(
            column,
            name=names[f"{side}_{column.name}"],
            nullable=True,
            has_default=False,
            generated=False,
            length=None,
        )
        for column in info.columns
        for side in ("old", "new")
    ]
    return TableInfo(history_name(info.name), (*_FIXED, *sides), ("change_no",))


def is_history(info: TableInfo) -> bool:
    return all(column.name in info for column in _FIXED)


@dataclass
class Recorder:
    """Writes one batch: its changes, and its row in `rmend_batches`. Nothing is written before a change is."""

    session: Session
    info: TableInfo
    job: str | None
    history: bool
    application: str
    batch: int | None = None
    unrecorded: int = 0
    """How many rows that nobody sent were changed by triggers: the history does not replay if there are any."""
    _first: int | None = None
    _last: int | None = None
    _started: datetime | None = None
    _row: Existing | None = None
    """The batch's row in this transaction, where the store could say where it is."""

    def __post_init__(self) -> None:
        self._started = datetime.now(UTC)
        self._actor = _actor()

    @cached_property
    def _shape(self) -> TableInfo:
        return history_info(self.info, self.session.fits)

    @cached_property
    def _stored(self) -> dict[str, str]:
        return stored_names(self.info, self.session.fits)

    def start(self) -> int:
        """The batch's number; taken on the first call, with a row in the batches."""
        if self.batch is None:
            batches, missing = self.session.find_own(BATCHES_TABLE, owner=self.info.owner), list[Column]()
            if batches is None:
                self.session.create(BATCHES)
            else:
                missing = [column for column in BATCHES.columns if column.name not in batches]
            self._needs_undo(batches)
            if [column.name for column in missing] == ["unrecorded"]:  # made by an earlier version
                self.session.add_columns(BATCHES_TABLE, missing)
            elif missing:
                raise StoreError(
                    f"a table named {BATCHES_TABLE!r} is there already and is not Rapid Mender's; rename it"
                )
            row = {
                "table_name": self.info.name, "job": self.job, "actor": self._actor,
                "application": self.application, "started_at": self._started, "status": "running",
            }  # fmt: skip
            values = pa.Table.from_pylist([row], pa.schema([BATCHES.schema.field(name) for name in row]))
            if not all(text.isascii() for text in row.values() if isinstance(text, str)):
                values = kept(self.session.settle(BATCHES, values))  # the database may not have these letters
            stored = self._numbered(values)
            self.batch = int(stored.values["batch_no"][0].as_py())
            self._row = stored if stored.locators.num_columns else None
            if self.history:
                self._prepare_history()
        return self.batch

    def _numbered(self, values: pa.Table) -> Existing:
        """Insert the batch's row. The database numbers it; where its counter is behind, it is told the number."""
        written = self.session.insert(BATCHES, values, BATCHES.primary_key)
        refused = written.refusals()
        if not refused:
            return written.stored
        number = self.session.last(BATCHES_TABLE, "batch_no") + 1
        values = values.append_column("batch_no", pa.array([number], pa.int64()))
        written = self.session.insert(BATCHES, values, BATCHES.primary_key)
        if again := written.refusals():
            raise StoreError(f"{self.session.where}: {BATCHES_TABLE} does not take the batch's row: {again[0]}")
        return written.stored

    def _prepare_history(self) -> None:
        wanted = self._shape
        found = self.session.find_own(wanted.name, self.info)
        self._needs_undo(found)
        if found is None:
            if why := self.session.cannot_make(wanted):
                raise JobError(f"the history of {self.info.name!r} cannot be made: {why}; set history = false")
            self.session.create(wanted, self.info)
        elif not is_history(found):
            raise StoreError(
                f"a table named {wanted.name!r} is there already and is not a history; rename it, or set "
                "history = false"
            )
        else:
            self._check_history(found)
            new = [column for column in wanted.columns if column.name not in found]
            if new:
                self.session.add_columns(wanted.name, new)
        self._last = self._newest()

    def _needs_undo(self, table: TableInfo | None) -> None:
        if table is not None and not table.undoes and self.info.undoes:
            raise StoreError(f"table {table.name!r} has an engine that cannot undo; give it one that can")

    def _newest(self) -> int:
        """The last change's number: that of the history, or, if rows of it were removed, of the batches."""
        newest = self.session.last(self._shape.name, "change_no")
        here = [Condition("table_name", "=", self.info.name)], [Condition("last_change", ">=", 1)]
        told = self.session.read(BATCHES, here, newest="batch_no", limit=1, columns=["last_change"])
        return max(newest, *told["last_change"].to_pylist(), 0)

    def _check_history(self, found: TableInfo) -> None:
        """A column of the table may have been altered since: then a database may cut or round what the history gets."""
        for column in self.info.columns:
            for name in (self._stored[f"{side}_{column.name}"] for side in ("old", "new")):
                if name in found and not found[name].holds(column):
                    raise StoreError(
                        f"{found.name}.{name} is {found[name].declared}, but {self.info.name}.{column.name} is "
                        f"{column.declared}; alter the history's columns to that type and run again"
                    )

    def record(self, action: str, changes: pa.Table, odd: OddCells, after: Sequence[Written] = ()) -> None:
        """Append changes of one action to the history, but for those that a store refused in `after`.

        `odd` has cells that go in as the store holds them.
        """
        batch = self.start()
        if not self.history or not changes.num_rows:
            return
        assert self._last is not None
        numbers = np.arange(self._last + 1, self._last + 1 + changes.num_rows)
        self._first = self._first or int(numbers[0])
        self._last = int(numbers[-1])
        same = {
            "batch_no": batch,
            "action": action,
            "changed_at": datetime.now(UTC),
            "actor": self._actor,
            "application": self.application,
        }
        columns = {self._stored.get(name, name): changes[name] for name in changes.column_names if name != "action"}
        odd = {self._stored[name]: cells for name, cells in odd.items()}
        self.session.append(self._shape, pa.table({"change_no": numbers} | columns), same, odd, after)

    def resume(self, session: Session) -> None:
        """Go on in another transaction, in which the batch has its row already."""
        self.session, self._row = session, None
        session.find_own(BATCHES_TABLE, owner=self.info.owner)
        if self.batch is not None and self.history:
            session.find_own(self._shape.name, self.info)
            self._last = self._newest()

    def finish(self, counts: Mapping[str, int], status: str = "done") -> None:
        """Complete the batch's row, or bring it up to date ("running"); if nothing was written there is none."""
        if self.batch is None:
            return
        if self.history:
            self.unrecorded += self.session.unrecorded(self.info)
        rows = self._row or self.session.fetch(BATCHES, pa.table({"batch_no": [self.batch]}), fresh=True)
        names = {
            "insert": "inserted",
            "update": "updated",
            "delete": "deleted",
            "skip": "skipped",
            "reject": "rejected",
        }
        values = {names[name]: [count] for name, count in counts.items()} | {
            "finished_at": [None if status == "running" else datetime.now(UTC)], "status": [status],
            "first_change": [self._first], "last_change": [self._last if self._first else None],
            "unrecorded": [self.unrecorded],
        }  # fmt: skip
        schema = pa.schema([BATCHES.schema.field(name) for name in values])
        self.session.update(BATCHES, rows, pa.table(values, schema=schema))


def odd_cells(**sides: Existing) -> OddCells:
    """The odd cells of the rows on the `old` and `new` side of some changes, by the history's columns."""
    return {
        f"{side}_{name}": (np.flatnonzero(cells.mask), cells.raw)
        for side, rows in sides.items()
        for name, cells in rows.odd.items()
    }


def history(
    store: str | Store,
    table: str,
    *,
    key: Mapping[str, Any] | None = None,
    batch: int | None = None,
    action: str | None = None,
    column: str | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
    limit: int | None = None,
) -> pa.Table:
    """The changes of a table, in order, as an Arrow table with the columns of its history.

    `key` maps key columns to values, before or after the change; `column` keeps the updates that changed
    that column; `since` and `until` (datetimes; without a zone they are UTC) bound `changed_at`; `limit`
    keeps the newest so many. Raises StoreError if the table is not there, JobError for an unknown column,
    value or action. A table that was never merged into has an empty history.
    """
    if action not in (None, "insert", "update", "delete"):
        raise JobError(f"action is 'insert', 'update' or 'delete', not {action!r}")
    with opened(store) as place, place.begin(write=False) as session:
        info = session.describe(table)
        shape, names = history_info(info, session.fits), stored_names(info, session.fits)
        full = {stored: name for name, stored in names.items()}
        found = session.find_own(shape.name, info)
        where: list[list[Condition]] = []
        for name, value in (key or {}).items():
            known = known_column(info, name)
            sought = value_of(known, value).as_py()
            where.append([Condition(names[f"{side}_{known.name}"], "=", sought) for side in ("old", "new")])
        if batch is not None:
            where.append([Condition("batch_no", "=", batch)])
        if action is not None:
            where.append([Condition("action", "=", action)])
        if column is not None:
            name = known_column(info, column).name
            where.append([Condition("changed", "contains", spell_changed([name])[1:-1])])
        for op, moment in ((">=", since), ("<=", until)):
            if moment is not None:
                zoned = moment if moment.tzinfo else moment.replace(tzinfo=UTC)
                where.append([Condition("changed_at", op, zoned.astimezone(UTC))])  # type: ignore[arg-type]
        if found is None:
            return _named(shape.schema.empty_table(), full)
        if not is_history(found):
            raise StoreError(f"table {shape.name!r} is not a history that Rapid Mender keeps")
        where = [[one for one in group if one.column in found] for group in where]
        rows = session.read(found, [group for group in where if group], newest="change_no", limit=limit)
        return _named(_as_declared(rows, _FIXED), full)


def batches(store: str | Store, *, table: str | None = None, limit: int | None = None) -> pa.Table:
    """The batches of a store, oldest first, as an Arrow table; `limit` keeps the newest so many."""
    with opened(store) as place, place.begin(write=False) as session:
        found = session.find_own(BATCHES_TABLE)
        if found is None:
            return BATCHES.schema.empty_table()
        where: Sequence[Sequence[Condition]] = [[Condition("table_name", "=", table)]] if table else ()
        return _as_declared(session.read(found, where, newest="batch_no", limit=limit), BATCHES.columns)


def _named(rows: pa.Table, names: Mapping[str, str]) -> pa.Table:
    return rows.rename_columns([names.get(name, name) for name in rows.column_names])


def _as_declared(rows: pa.Table, columns: Sequence[Column]) -> pa.Table:
    """With Rapid Mender's own columns in their types, where a store keeps them in another."""
    for column in columns:
        place = rows.column_names.index(column.name)
        if rows.schema.field(place).type != column.type:
            rows = rows.set_column(place, column.name, rows[column.name].cast(column.type))
    return rows


def _actor() -> str | None:
    try:
        return getpass.getuser()
    except (KeyError, OSError, ImportError):
        return None
