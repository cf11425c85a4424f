"""Writing one batch: its changes into the history of its table, and its row into the batches of the store."""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa

from ..core.existing import Existing
from ..core.own_tables import (
    BATCHES,
    BATCHES_TABLE,
    NEWEST_BATCHES,
    Kind,
    history_info,
    history_name,
    is_history,
    stored_names,
)
from ..core.schema import TableInfo
from ..errors import JobError, StoreError
from ..stores.contract import Condition, Load, Selection, Session, Written
from ..stores.contract.widening import too_narrow
from .batch_row import ENDED, BatchRow, Status, ended, listed, needs_undo
from .chains import agrees
from .detail import Detail
from .details import write_details, write_standing
from .identity import Identity, KnownHistory, identity_of, named_before
from .lost import lost_by
from .past import MOST_CHANGES, NUMBER, past_of, renamed_words
from .process import note_killed
from .seal import SEALED, is_sealed, seal_of

VerbatimCells = Mapping[str, tuple[np.ndarray, pa.Table]]
"""By column of the history: the places of cells, and the store's own form of them."""


@dataclass
class Recorder:
    """Writes one batch: its row in `rmend_batches`, and its changes into the history."""

    session: Session
    info: TableInfo
    job: str | None
    history: bool
    number: int | None = None
    """The number that the batch took in a transaction that was rolled back; it takes it again, so that none is
    skipped."""
    undoes: Sequence[int] = ()
    """The batches that this one undoes."""
    kind: Kind = "merge"
    seals: bool | None = None
    """Whether the batch is sealed; None: if the one before it is."""
    unrecorded: int = 0
    """How many rows triggers changed that no record was about; if there are any, the history does not replay."""
    after: int | None = None
    """The batch's changes have the numbers after this one, which are kept free for it; None: the next ones."""
    at: datetime | None = None
    """When the changes were made, if not as they are recorded."""
    reserves: int = 0
    """The last of the numbers that a batch without changes keeps free, if it does."""
    known: KnownHistory | None = None
    """What the batches before have learnt of the history."""
    warnings: Sequence[str] = ()
    """What is to be known of the triggers of the table's capture."""
    _newest: int | None = None
    """The last change of the history: when the batch began, or, where the batch itself numbers changes, by now."""
    _first: int | None = None
    """The first change of the batch, where that numbers them itself."""
    _since: int = 0
    """The last change when the batch began."""
    _by_database: bool = False
    """The database numbers changes, as others may record some at the same time."""
    _asked: bool = False
    _began_history: bool = False
    """The history was made by this batch."""
    _details: int = 0
    """How many details of the batch are written."""
    _told: bool = False
    """Those of the run are."""
    _told_history: bool = False
    """Those of the history are, which may be prepared by a later unit of work."""
    _unrecorded_after: int | None = None
    """The change after which it was noted last that the batch is not recorded."""
    _began: Sequence[str] = ()
    """The columns that the history did not have before."""
    _follows: bool | None = None
    """Whether the newest batch before this one that changed something, and has ended, is sealed, if that is known."""
    _running: Sequence[int] = ()
    """The newest batches before this one that have not ended, as far as that was looked at."""
    _whole: bool = False
    """Nothing is to be noted of the history."""
    _other_rows: bool = False
    """Another table has taken the name, with other rows than the history says."""
    _gone: Sequence[str] = ()
    """The columns of the history that the table has no more."""

    def __post_init__(self) -> None:
        self._row = BatchRow(self.session, self.info, self.job, self.kind, self.number)

    @property
    def batch(self) -> int | None:
        """The batch's number, once it is taken."""
        return self._row.number

    @property
    def _history(self) -> str:
        return history_name(self.info.name)

    @cached_property
    def _identity(self) -> Identity:
        return identity_of(self.session, self.info)

    @cached_property
    def _shape(self) -> TableInfo:
        return history_info(self.info, self.session.fits, self._identity.names)

    @cached_property
    def _stored(self) -> dict[str, str]:
        return stored_names(self.info, self.session.fits, self._identity.names)

    @property
    def knows_history(self) -> bool:
        """Whether the history is as it was when the batch came upon it, if it did."""
        if self._newest is None:
            return True
        history = self.session.find_own(self._history, self.info)
        return history is not None and self.known is not None and self.known.holds(self.info, history)

    def start(self) -> int:
        """The batch's number. The first call takes it; where only a row tells it, the batch's row is inserted."""
        return self._row.start()

    def await_changes(self, records: np.ndarray | None = None) -> None:
        """Take the batch's number, and make the history if it is not there. `records`: of which records by number
        changes come."""
        del records
        self.start()
        if self._newest is None and not self._asked:
            self._asked = True
            if self._stand_aside():
                self.warnings = self.session.unsafe_triggers(self.info)
            if lost := lost_by(self.session, self.info.name):
                told = f"the capture of {self.info.name!r} does not record what others write: {'; '.join(lost)}"
                self.warnings = [*self.warnings, told]
            if self.history:
                self._prepare_history()
                note_killed(self.session, self._running)

    @property
    def to_keep(self) -> int | None:
        """The number that the batch keeps if this transaction is rolled back."""
        return self._row.to_keep

    def _prepare_history(self) -> None:
        history = self.session.find_own(self._history, self.info)
        if history is not None and self.known is not None and self.known.holds(self.info, history):
            self._identity, self._stored, self._whole = self.known.identity, self.known.stored, True
            assert self.known.shape is not None
            self._shape, self._gone = self.known.shape, self.known.gone
            self._newest = self._since = self.newest() if self.after is None else self.after
            return
        wanted = self._shape
        needs_undo(history, self.info)
        if history is None:
            if why := self.session.cannot_make(wanted):
                raise JobError(f"the history of {self.info.name!r} cannot be made: {why}; set history = false")
            self.session.create(wanted, self.info)
            self._began_history = True
            if before := named_before(self.session, self.info):
                self.warnings = [*self.warnings, renamed_words(self.info.name, *before)]
        elif not is_history(history):
            raise StoreError(
                f"a table named {wanted.name!r} is there already and is not a history; rename it, or set "
                "history = false"
            )
        else:
            if narrow := too_narrow(self.session, self.info, history, self._identity.names):
                self.session.widen_columns(wanted.name, narrow)
            new = [column for column in wanted.columns if column.name not in history]
            if new:
                self.session.add_columns(wanted.name, new)
            self._began = self._identity.beginning(self._stored, history)
            self._gone = sorted(set(history.names) - set(wanted.names))
            self._other_rows = self._identity.replaced and not agrees(past_of(self.session, self.info.name, self.info))
            if self.known is not None and not new and not narrow:
                self.known.keep(self.info, history, self._identity, wanted, self._stored, self._gone)
        self._newest = self._since = self.newest() if self.after is None else self.after

    def _stand_aside(self) -> bool:
        """Have what the batch changes recorded by the batch alone, if others' changes of the table are captured.
        Returns whether they are."""
        captured = self.session.stand_aside(self.info)
        self._by_database = captured and self.session.many_writers and self.after is None
        self.history |= captured
        return captured

    def newest(self) -> int:
        """The last change's number: that of the history, or, if rows of it were removed, of the batches."""
        kept, batches = self.session.find_own(self._history, self.info), self.session.find_own(BATCHES_TABLE)
        newest = self.session.last(self._history, NUMBER) if kept is not None else 0
        if batches is None:
            return newest
        here = [Condition("table_name", "=", self.info.name)], [Condition("last_change", ">=", 1)]
        columns = [name for name in ("last_change", "batch_no", "seal", "status") if name in batches]
        some = self.session.read(
            BATCHES, Selection(here, "last_change", NEWEST_BATCHES, columns=columns)
        ).values.to_pylist()
        for one in some:
            newest = newest if one["last_change"] is None else max(newest, one["last_change"])  # somebody altered it
        ended = {one["batch_no"]: is_sealed(one.get("seal")) for one in some if one["status"] in ENDED}
        self._running = [one["batch_no"] for one in some if one["status"] == "running"]
        before = [number for number in ended if self.batch is None or number < self.batch]
        if before or len(some) < NEWEST_BATCHES:  # one that still runs, or was killed, does not end a chain of seals
            self._follows = bool(before) and ended[max(before)]
        if newest >= MOST_CHANGES:
            raise StoreError(f"{self.session.where}: change {newest} of {self.info.name!r} is none; remove it by hand")
        return newest

    def record(
        self,
        action: str,
        changes: pa.Table,
        verbatim: VerbatimCells,
        after: Sequence[Written] = (),
        *,
        records: np.ndarray | None = None,
    ) -> None:
        """Append changes of one action to the history, but for those that a store refused in `after`.

        `verbatim` has cells that go in as the store holds them; `records`: of which record by number each change comes.
        """
        if not self.history or not changes.num_rows:
            return
        columns = {self._stored.get(name, name): changes[name] for name in changes.column_names if name != "action"}
        verbatim = {self._stored[name]: cells for name, cells in verbatim.items()}
        placed, same = self._placed(changes.num_rows, records)
        same |= {
            "action": action,
            "changed_at": self.at or datetime.now(UTC),
            "actor": self._row.actor,
            "application": self._row.application,
        }
        self.session.append(self._shape, Load(pa.table(placed | columns), same, verbatim), after)

    def _placed(self, count: int, records: np.ndarray | None) -> tuple[dict[str, Any], dict[str, Any]]:
        """The numbers of the next changes, and of their batches: those that differ from change to change, and those
        that do not."""
        del records
        same, batch = dict[str, Any](), self.start()
        assert self._newest is not None
        same["batch_no"] = batch
        if self._by_database:
            taken = self.session.next_numbers(self.info, count)
            return {} if taken is None else {NUMBER: taken}, same
        numbers = np.arange(self._newest + 1, self._newest + 1 + count)
        self._first = self._first or int(numbers[0])
        self._newest = int(numbers[-1])
        return {NUMBER: numbers}, same

    def resume(self, session: Session) -> None:
        """Go on in another transaction, in which the batch has its row already."""
        self.session, self._row, self._asked = session, copy.copy(self._row), False
        self._row.resume(session)
        if self._newest is not None:
            session.find_own(self._history, self.info)
            self._stand_aside()
            self._newest = self.newest()

    def finish(
        self,
        counts: Mapping[str, int],
        figures: dict[str, Any],
        status: Status = "done",
        details: Sequence[Detail] = (),
    ) -> None:
        """Complete the batch's row, or bring it up to date ("running"). `figures`: what else is to be kept of the run,
        as JSON, for those who look; `details`: what other code depends on."""
        self.start()
        first, last = self._span() if self._newest is not None else (self.reserves or None, self.reserves or None)
        if self._newest is not None:
            self.unrecorded += self.session.unrecorded(self.info)
        landed = any(counts[name] for name in ("insert", "update", "delete"))
        self._row.complete(self._said(counts, figures, status, (first, last)))
        self._note(landed, first, details)
        whole = status != "running" and (first is not None or self.kind == "prune")
        sealed = whole and (self._follows_seal() if self.seals is None else self.seals)
        if sealed and self._is_overtaken():
            told = f"batch {self.batch} is not sealed, as a later one of {self.info.name!r} was sealed before it ended"
            self.warnings = [*self.warnings, told]
        elif sealed:
            past = past_of(self.session, self.info.name, self.info)
            (run,) = past.runs([[Condition("batch_no", "=", self.batch)]])
            row = self.session.fetch(BATCHES, pa.table({"batch_no": [self.batch]}), fresh=True)
            self.session.update(BATCHES, row, pa.table({"seal": [seal_of(past, run)]}))

    def _said(
        self,
        counts: Mapping[str, int],
        figures: Mapping[str, Any],
        status: Status,
        span: tuple[int | None, int | None],
    ) -> dict[str, Any]:
        """What the batch's row says at the end; `span`: its first and its last change."""
        landed = any(counts[name] for name in ("insert", "update", "delete"))
        return ended(counts, {**figures, **self._shown(landed)}, status, span, self.unrecorded, self.undoes)

    def _shown(self, landed: bool) -> dict[str, Any]:
        """What those who look are told of the history."""
        told: dict[str, Any] = listed("began", self._began) | listed("gone", self._gone)
        return told if self.history or not landed else told | {"history": False}

    def _note(self, landed: bool, first: int | None, details: Sequence[Detail]) -> None:
        """Write those of the batch's details that are not written yet; and, each time, where it was not recorded."""
        assert self.batch is not None
        table, about = self.info.name, list[Detail]()
        if not self._told:
            about, self._told = list(details), True
        if self._newest is not None and not self._told_history and not self._whole:
            begins = first if first is not None else self._newest + 1
            about += [Detail("began", name=name, change_no=begins) for name in self._began]
            about += self._identity.news(self.info, self.session.find_own(self._history, self.info))
            about += [Detail("replaced", change_no=self._since)] if self._other_rows else []
            self._told_history = True
        if landed and not self.history and (after := self.newest()) != self._unrecorded_after:
            about.append(Detail("unrecorded", change_no=after))
            self._unrecorded_after = after
        if self.info.identifying and not self._began_history:  # rows are told apart without; asking takes a while
            about = [one for one in about if one.detail != "key"]
        write_standing(self.session, table, self.batch, about, self.info.owner)
        write_details(self.session, table, self.batch, about, self._details, self.info.owner)
        self._details += len(about)

    def _span(self) -> tuple[int | None, int | None]:
        """The first and the last change of the batch."""
        if not self._by_database:
            return self._first, self._newest if self._first is not None else None
        kept = self.session.find_own(self._history, self.info)
        assert kept is not None
        mine = [[Condition("batch_no", "=", self.batch)], [Condition(NUMBER, ">", self._since)]]
        edges = [self.session.read(kept, Selection(mine, NUMBER, 1, first, [NUMBER])) for first in (True, False)]
        first, last = (edge.values[NUMBER][0].as_py() if len(edge.positions) else None for edge in edges)
        return first, last

    def _is_overtaken(self) -> bool:
        """Whether a later batch is sealed already, which this one cannot stand before."""
        here = [[Condition("table_name", "=", self.info.name)], [Condition("batch_no", ">", self.batch)]]
        later = self.session.read(BATCHES, Selection([*here, SEALED], "batch_no", 1, columns=["batch_no"]))
        return len(later.positions) > 0

    def _follows_seal(self) -> bool:
        """Whether the batch before that changed something is sealed."""
        if self._follows is not None:
            return self._follows
        here = [[Condition("table_name", "=", self.info.name)], [Condition("last_change", ">=", 1)]]
        ended = [[Condition("status", "=", "done"), Condition("status", "=", "stopped")]]
        before = [*here, *ended, [Condition("batch_no", "<", self.batch)]]
        seals = self.session.read(BATCHES, Selection(before, "batch_no", 1, columns=["seal"])).values["seal"]
        return any(is_sealed(text) for text in seals.to_pylist())


def verbatim_cells(**sides: Existing) -> VerbatimCells:
    """The verbatim cells of the rows on the `old` and `new` side of some changes, by the history's columns."""
    return {
        f"{side}_{name}": (np.flatnonzero(cells.mask), cells.raw)
        for side, rows in sides.items()
        for name, cells in rows.verbatim.items()
    }
