"""Writing the batches of several calls that are merged in one transaction: of each call the changes are a batch."""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np

from ..core.own_tables import BATCHES, BATCHES_TABLE
from .batch_row import BatchRow
from .detail import Detail
from .details import is_outdated, write_standing
from .past import NUMBER
from .recorder import Recorder


class NotTogether(Exception):
    """Calls cannot be merged in one transaction; nothing is written."""


class Summary(NamedTuple):
    """What is said of the batch of one call."""

    counts: Mapping[str, int]
    figures: Mapping[str, Any]


@dataclass
class GroupRecorder(Recorder):
    """As `Recorder`, for calls whose records are numbered one after the other: the changes of each call, one after the
    other too, are those of its own batch.

    It is for tables of which nothing is to be noted beside the changes; what else comes up raises NotTogether.
    """

    ends: np.ndarray = field(default_factory=lambda: np.empty(0, np.int64))
    """Of each call the number of its last record."""
    _records: np.ndarray = field(default_factory=lambda: np.empty(0, np.int64))
    """The records of which changes come, by number, ascending; the changes have the next numbers in this order."""

    def __post_init__(self) -> None:
        super().__post_init__()
        self._rows = [self._row, *(copy.copy(self._row) for _ in self.ends[1:])]

    def start(self) -> int:
        """The numbers of all batches are taken with the first."""
        if self._row.number is None:
            batches = self.session.find_own(BATCHES_TABLE, owner=self.info.owner)
            if batches is None or is_outdated(batches):
                raise NotTogether
            numbers = self.session.take_numbers(BATCHES, len(self._rows))
            if not numbers:
                raise NotTogether
            for row, number in zip(self._rows, numbers, strict=True):
                row.number = number
        return super().start()

    def number_of(self, call: int) -> int:
        """The number of the batch of a call."""
        self.start()
        return self._rows[call].start()

    def await_changes(self, records: np.ndarray | None = None) -> None:
        if records is None or len(self._records):
            raise NotTogether
        super().await_changes()
        if not self._whole or self._by_database or self.seals or self._follows_seal() or self.warnings:
            raise NotTogether
        self._records = np.sort(records)

    def _calls(self, records: np.ndarray) -> np.ndarray:
        return np.searchsorted(self.ends, records)

    def _placed(self, count: int, records: np.ndarray | None) -> tuple[dict[str, Any], dict[str, Any]]:
        assert records is not None
        batches = np.array([self.number_of(call) for call in self._calls(records).tolist()], np.int64)
        return {NUMBER: self._since + 1 + np.searchsorted(self._records, records), "batch_no": batches}, {}

    def finish_each(self, calls: Mapping[int, Summary], details: Sequence[Detail]) -> None:
        """Write the rows of the batches of those calls that are to have one, complete. `details`: what holds for all of
        them."""
        if self._newest is not None and self.session.unrecorded(self.info):
            raise NotTogether
        edges = np.searchsorted(self._records, [0, *self.ends.tolist()], "right")
        said = {}
        for at, call in calls.items():
            self.number_of(at)
            first, last = int(edges[at]), int(edges[at + 1])
            span = (self._since + 1 + first, self._since + last) if last > first else (None, None)
            said[at] = self._said(call.counts, call.figures, "done", span)
        if said:
            if not self.info.identifying:
                write_standing(self.session, self.info.name, self.number_of(min(said)), details, self.info.owner)
            BatchRow.complete_all({at: self._rows[at] for at in said}, said)
