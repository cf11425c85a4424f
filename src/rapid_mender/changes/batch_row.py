"""One batch's row in the batches of its store: its number, and what is said of it from its beginning to its end."""

from __future__ import annotations

import getpass
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any, Literal

import pyarrow as pa

from ..core.existing import Existing
from ..core.own_tables import BATCHES, BATCHES_TABLE, DETAILS_TABLE, Kind, history_name
from ..core.schema import TableInfo
from ..errors import StoreError
from ..stores.contract import Load, Session, kept
from .details import Outdated, is_outdated, make_batches

Status = Literal["running", "done", "stopped", "killed"]
ENDED = "done", "stopped"
_COUNTED = {"insert": "inserted", "update": "updated", "delete": "deleted", "skip": "skipped", "reject": "rejected"}


@dataclass
class BatchRow:
    """The row of a batch about a table. It is inserted when it is complete, or as soon as only that gives its number.

    `job`: what the batch is said to be of.
    """

    session: Session
    info: TableInfo
    job: str | None
    kind: Kind
    reserved: int | None = None
    """The number that the batch took in a transaction that was rolled back; it takes it again, so that none is
    skipped."""
    number: int | None = None
    started: datetime = field(default_factory=lambda: datetime.now(UTC))
    made: bool = False
    """This transaction created the table of batches; if it is rolled back, so is the numbering."""
    is_inserted: bool = False
    _stored: Existing | None = None
    """The row in this transaction, where the store could say where it is."""

    def __post_init__(self) -> None:
        from .. import __version__

        self.actor, self.application = actor_now(), f"rmend {__version__}"

    def start(self) -> int:
        """The batch's number. The first call takes it; where only a row tells it, that is inserted.

        Raises Outdated if the table of batches is that of an earlier version.
        """
        if self.number is None:
            batches = self.session.find_own(BATCHES_TABLE, owner=self.info.owner)
            needs_undo(batches, self.info)
            if batches is None:
                make_batches(self.session)
                self.made = True
            elif is_outdated(batches):
                raise Outdated(BATCHES_TABLE)
            reserved = self._after_history() if self.made else self.reserved
            if not (self.made and reserved):
                self.number = next(iter(self.session.take_numbers(BATCHES, 1, reserved)), None)
            if self.number is None:
                stored = self._numbered(_as_table(self._begun()), reserved)
                self.number = int(stored.values["batch_no"][0].as_py())
                self._stored = stored if stored.locators.num_columns else None
                self.is_inserted = True
        return self.number

    @property
    def to_keep(self) -> int | None:
        """The number that the batch keeps if this transaction is rolled back."""
        return self.reserved if self.made or self.number is None else self.number

    def resume(self, session: Session) -> None:
        """Go on in another transaction, in which the row is there already."""
        self.session, self._stored, self.made = session, None, False
        session.find_own(BATCHES_TABLE, owner=self.info.owner)

    def complete(self, row: Mapping[str, Any]) -> None:
        """Set columns of the row, which is inserted if it is not there yet."""
        if self.is_inserted:
            rows = self._stored or self.session.fetch(BATCHES, pa.table({"batch_no": [self.number]}), fresh=True)
            self.session.update(BATCHES, rows, _as_table(row))
            return
        number = pa.table({"batch_no": pa.array([self.number], pa.int64())})
        self.session.append(BATCHES, Load(number, {**self._begun(), **row}))
        self.is_inserted = True

    @staticmethod
    def complete_all(rows: Mapping[int, BatchRow], said: Mapping[int, Mapping[str, Any]]) -> None:
        """Insert several rows of one session, which are complete; the columns that each has are the same."""
        first = next(iter(rows.values()))
        lines = [{"batch_no": row.number, **row._begun(), **said[at]} for at, row in rows.items()]
        shape = pa.schema([BATCHES.schema.field(name) for name in lines[0]])
        first.session.append(BATCHES, Load(pa.Table.from_pylist(lines, shape), {}))

    def _begun(self) -> dict[str, Any]:
        """What the row says from its beginning."""
        row = begun(self.info.name, self.job, self.actor, self.kind, self.application, self.started)
        if not all(text.isascii() for text in row.values() if isinstance(text, str)):
            row = kept(self.session.normalise(BATCHES, _as_table(row))).to_pylist()[0]  # not every database has these
        return row

    def _numbered(self, values: pa.Table, reserved: int | None) -> Existing:
        """Insert the row. The database numbers it, unless it did so before, or its counter is behind."""
        for number in dict.fromkeys((reserved, None, 0)):
            if number == 0:
                number = self.session.last(BATCHES_TABLE, "batch_no") + 1
            row = values
            if number is not None:
                row = values.append_column("batch_no", pa.array([number], pa.int64()))
            written = self.session.insert(BATCHES, row, BATCHES.primary_key)
            refused = written.refusals()
            if not refused:
                return written.stored
        raise StoreError(f"{self.session.where}: {BATCHES_TABLE} does not take the batch's row: {refused[0]}")

    def _after_history(self) -> int | None:
        """A batch number that neither the table's history nor the details have yet, if somebody removed the table of
        batches."""
        last, history = 0, history_name(self.info.name)
        for kept_as in (self.session.find_own(history, self.info), self.session.find_own(DETAILS_TABLE)):
            if kept_as is not None and "batch_no" in kept_as:
                last = max(last, self.session.last(kept_as.name, "batch_no"))
        return last + 1 if last else None


def needs_undo(table: TableInfo | None, info: TableInfo) -> None:
    """Raise StoreError if one of our tables has an engine that cannot undo, and the table that it is about can."""
    if table is not None and not table.undoes and info.undoes:
        raise StoreError(f"table {table.name!r} has an engine that cannot undo; give it one that can")


def _as_table(row: Mapping[str, Any]) -> pa.Table:
    return pa.Table.from_pylist([row], pa.schema([BATCHES.schema.field(name) for name in row]))


def begun(
    table: str, job: str | None, actor: str | None, kind: Kind, application: str, started: datetime
) -> dict[str, Any]:
    """What a batch's row says from its beginning; `job`: what it is said to be of."""
    return {
        "table_name": table, "job": job, "actor": actor, "kind": kind, "application": application,
        "started_at": started, "status": "running",
    }  # fmt: skip


def ended(
    counts: Mapping[str, int],
    figures: Mapping[str, Any],
    status: Status,
    span: tuple[int | None, int | None],
    unrecorded: int = 0,
    undoes: Sequence[int] = (),
) -> dict[str, Any]:
    """What it says at the end; `span`: its first and its last change."""
    return {_COUNTED[name]: count for name, count in counts.items()} | {
        "finished_at": None if status == "running" else datetime.now(UTC), "status": status,
        "first_change": span[0], "last_change": span[1], "unrecorded": unrecorded, "figures": json.dumps(figures),
        "undoes": json.dumps(list(undoes)) if undoes else None,
    }  # fmt: skip


def listed(what: str, names: Sequence[str]) -> dict[str, list[str]]:
    """Names among the figures, if there are any."""
    return {what: list(names)} if names else {}


def actor_now() -> str | None:
    """Who this process runs as, in the words of the system."""
    try:
        return getpass.getuser()
    except (KeyError, OSError, ImportError):
        return None
