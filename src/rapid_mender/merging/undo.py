"""Undoing batches: what they did is put back, as a batch of its own."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from datetime import date, datetime
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..changes.detail import Detail
from ..changes.given import whole
from ..changes.guard import Guard
from ..changes.past import NUMBER, Past, changes_made, past_of
from ..changes.past import together as joined
from ..changes.recorder import Recorder
from ..changes.shared_keys import SharedKeys, shared_keys
from ..core.compare import Patterns, unlike
from ..core.decisions import NAMES
from ..core.existing import Existing
from ..core.names import in_quotes
from ..core.repeats import among
from ..core.row_numbers import is_row, no_rows
from ..core.slots import Slots
from ..errors import ConflictError, JobError
from ..stores.contract import Condition, Refusals, Selection, Store, Written
from ..stores.urls import opened
from .conflicts import Conflicts, key_of, sets
from .retries import until_done
from .rows import RowWriter, Setting, together
from .undo_archives import Archives
from .undo_scope import Scope, batches_of, others_between, picked_of
from .undone import Putting, Undone, in_words

_SAMPLES = 3


def undo(
    store: str | Store,
    batch: int | None = None,
    *,
    since_batch: int | None = None,
    table: str | None = None,
    since: datetime | date | str | None = None,
    until: datetime | date | str | None = None,
    actor: str | None = None,
    application: str | None = None,
    rest: bool = False,
    force: bool = False,
    preview: bool = False,
) -> Undone:
    """Put back what a batch did, in one transaction, as a batch of its own; with `since_batch`, what that one and all
    later ones did to its table; or, with some of `since`, `until`, `actor` and `application`, those changes of `table`,
    by whichever program, that were made from a time, until a time, by somebody, by a program.

    A row that is not as these changes left it, that others changed in between, or that the database does not take, is
    a conflict: then nothing is undone and ConflictError is raised, which has all of them in `undone`. With `rest` the
    other rows are undone, with `force` these too. Batches that were altered since they were sealed are an AlteredError,
    unless `force`. With a batch, `table` only makes sure that it is one of that table.
    With `preview` nothing is written or raised for a conflict. Raises JobError if there is no such batch, or its
    history was switched off or is gone.
    """
    began = time.perf_counter()
    number = batch if since_batch is None else since_batch
    every = {"since": since, "until": until, "actor": actor, "application": application}
    picked = {name: value for name, value in every.items() if value is not None}
    one = (batch is None) != (since_batch is None) and isinstance(number, int) and not isinstance(number, bool)
    if not picked and not one:
        raise JobError(
            "name the batch to undo by its number: batch, or since_batch for that one and all later ones; or say which "
            "changes of a table: since, until, actor, application"
        )
    if picked and (number is not None or table is None):
        raise JobError(f"{in_quotes(picked)} pick changes of a table: name the table, and no batch")
    whole("batch", number)
    if rest and force:
        raise JobError("rest leaves out the rows that were changed since, force puts them back; choose one")
    with opened(store) as place:
        with place.begin(write=False) as session:
            if picked:
                assert table is not None
                past = past_of(session, table)
                what, name, changed = picked_of(past, picked), past.info.name, True
            else:
                assert number is not None
                name, numbers, changed = batches_of(session, number, since_batch is not None, table)
                what = Scope(numbers)
            if not changed:
                return Undone(name, place.where, [], what.numbers, False, what.words)
            info = past_of(session, name).info
        retries: list[None] = []

        def unit(alone: bool) -> Undone:
            with place.begin(not preview, info, alone) as session:
                if not preview:
                    session.take_turn(info)
                return _Undo(past_of(session, name), what, rest, force, preview).go()

        undone = until_done(place, unit, lambda: retries.append(None))
    return replace(undone, store=place.where, retries=len(retries), seconds=time.perf_counter() - began)


class _Undo:
    """One undo, within a transaction."""

    def __init__(self, past: Past, what: Scope, rest: bool, force: bool, preview: bool) -> None:
        numbers, self.what = what.numbers, what
        self.past, self.session, self.info = past, past.session, past.info
        self.rest, self.force, self.preview = rest, force, preview
        self.runs = past.runs([[Condition("batch_no", "=", number) for number in numbers]]) if numbers else []
        of = [Condition("batch_no", "=", number) for number in numbers] or [Condition("last_change", ">=", what.first)]
        self.guard = Guard(past, [of], 0 if numbers else None, not force)
        numbered = [run["first_change"] for run in self.runs if run["first_change"] is not None]
        first = min(numbered, default=what.first)
        past.check_key(first)
        self.columns = [name for name in past.known_since(first) if not self.info[name].generated]
        self.recorder = Recorder(self.session, self.info, None, True, undoes=numbers, kind="undo")
        if not preview and not past.is_complete:  # MariaDB alters no table that a transaction has read
            self.recorder.await_changes()
        self.changes = self._changes(what)
        self.old, self.new = (past.rows(self.changes, side, self.columns) for side in ("old", "new"))
        self.undone = Undone(self.info.name, "", past.key, numbers, not preview, what.words)
        self.between = others_between(past, self.changes) if what.where is not None else None
        """Hashes of the keys that others changed in between."""
        self.conflicts = Conflicts(past, self.columns, self.old, self.new)
        self.writes = not preview
        self.reason = f"undoes {what.words}"
        self.archives = Archives(past, self.changes, self.old)
        self._left = [self.old.values.select(past.key).slice(0, 0)]
        """The keys of the rows that stay as they are."""

    def _changes(self, what: Scope) -> Existing:
        """All changes that are to be undone, in order. Raises JobError if some of them are gone."""
        numbers = what.numbers
        names = [NUMBER, "action", "batch_no", *self.past.stored(list(dict.fromkeys([*self.columns, *self.past.key])))]
        if what.where is not None:
            pages = self.guard.read(what.where, names)
            return joined(pages) if pages else self.past.nothing()
        spans = [(run["first_change"], run["last_change"]) for run in self.runs if run["first_change"] is not None]
        first, last = min((one for one, _ in spans), default=0), max((one for _, one in spans), default=-1)
        bounds = [[Condition("change_no", ">=", first)], [Condition("change_no", "<=", last)]]
        of = [Condition("batch_no", "=", number) for number in numbers]
        pages = self.guard.read([*bounds, of], names)
        there = sum(len(page.positions) for page in pages)
        wanted = sum(map(changes_made, self.runs))
        if there < wanted:
            self.guard.check()
            raise JobError(
                f"the history has {there:,} of the {wanted:,} changes that are to be undone: the others were pruned, "
                "or removed by hand"
            )
        return joined(pages) if pages else self.session.read(self.past.kept, Selection(bounds, "change_no"))

    def _check_reach(self, slots: Slots) -> None:
        """Raise JobError where the database would change rows along with those that are put back, as a merge does."""
        if not self.info.reach:
            return
        deletes = bool((~slots.had).any())
        both = slots.take(np.flatnonzero(slots.had & slots.has))
        old, new = self.old.take(both.before), self.new.take(both.after)
        changed = [name for name in self.columns if unlike(old, new, name).any()]
        for one in self.info.reach:
            wrong = [one.deleting(self.info.name)] if deletes else []
            wrong += [said[0] for said in [one.updating(self.info.name, changed)] if said is not None]
            for why in filter(None, wrong):
                raise JobError(f"{self.what.words} cannot be undone: {why}; let it restrict, and undo it then")

    # -- the way ----------------------------------------------------------------------------------------

    def go(self) -> Undone:
        """Look at every row that the batches touched, and put back what can be."""
        if not len(self.changes.positions):
            self.guard.check()
            if self.recorder.batch is not None:  # its row is there, and stays
                self.recorder.finish(dict.fromkeys(NAMES, 0), {})
            return replace(self.undone, wrote=False)
        if self.writes:
            self.recorder.await_changes()
        shared = shared_keys(self.past, self.changes, self.old, self.new, self._since())
        if shared is None:
            slots = self.past.slots(self.changes)
        else:
            others = np.flatnonzero(~shared.changed)
            slots = self.past.slots(self.changes.take(others)).among(others)
        every = self._changed(slots.without_passing())
        self._check_reach(every)
        moved, rest = _linked(every)
        waiting = [(slots, RowWriter(self.session, self.recorder, self.info, key)) for slots, key in
                   ((moved, []), (self._sorted(rest), self.past.key)) if len(slots)]  # fmt: skip
        fresh, left = False, -1
        while waiting:  # what was refused for the sake of other rows may pass once these are written
            refused = [
                (some, writer, why) for slots, writer in waiting for some, why in self._through(slots, writer, fresh)
            ]
            count = sum(len(some) for some, _, _ in refused)
            if count == left:
                for some, _, why in refused:
                    self.conflicts.note(some, np.arange(len(some)), why)
                    self.undone.kept += len(some)
                    self._left.append(self._keys(some))
                break
            waiting, fresh, left = [(some, writer) for some, writer, _ in refused], True, count
        if shared is not None:
            self._put_back_copies(shared)
        if self.writes:
            self.archives.settle(pa.concat_tables(self._left))
        return self._ended()

    def _since(self) -> Existing | None:
        """All changes since the first that is to be undone, of a table in which several rows may share a key."""
        if self.info.identifying:
            return None
        names = [NUMBER, "action", *self.past.stored(self.columns)]
        since = [[Condition(NUMBER, ">=", self.changes.values[NUMBER][0].as_py())]]
        return joined(list(self.past.changes(since, names)))

    def _put_back_copies(self, shared: SharedKeys) -> None:
        """Put back the rows whose keys several rows share: copies that came go, and copies that went come."""
        slots, row = shared.slots()
        gone = slots.has & ~is_row(row)
        self.conflicts.gone(slots, gone)
        wrong = self._note_others(slots, gone) | gone
        kept = self.conflicts.odd(slots, shared.there, row)
        keys = shared.keys_of(self._keys(slots))
        if self.force:
            self.undone.forced += int((wrong & ~kept).sum())
        else:
            kept |= among(keys, np.unique(keys[wrong | kept]))
        pending = self._put(slots, shared.there, row, kept, RowWriter(self.session, self.recorder, self.info, []))
        for some, refusals in pending:
            if reasons := refusals():
                places = np.array(sorted(reasons), np.int64)
                self.conflicts.note(some, places, [reasons[place] for place in places.tolist()])
                self.undone.kept += len(places)
                self._left.append(self._keys(some.take(places)))

    def _changed(self, slots: Slots) -> Slots:
        """Without those whose row is, in the columns that are known, after the changes as it was before."""
        there = np.flatnonzero(slots.had & slots.has)
        old, new = self.old.take(slots.before[there]), self.new.take(slots.after[there])
        same = np.ones(len(there), bool)
        for name in self.columns:
            same &= ~unlike(old, new, name)
        return slots.take(np.delete(np.arange(len(slots)), there[same])) if same.any() else slots

    def _sorted(self, slots: Slots) -> Slots:
        """By key, so that rows which lie together are put back together."""
        keys = self._keys(slots).rename_columns([f"k{i}" for i in range(len(self.past.key))])
        order = pc.sort_indices(keys, sort_keys=[(name, "ascending") for name in keys.column_names])
        return slots.take(order.to_numpy())

    def _keys(self, slots: Slots) -> pa.Table:
        return key_of(self.old, self.new, slots, self.past.key)

    def _through(self, slots: Slots, writer: RowWriter, fresh: bool) -> list[tuple[Slots, list[str]]]:
        """Put back the rows of slots, where nothing speaks against it. Returns those that the database refused."""
        at_once = self.session.rows_at_once(self.info, self.past.key)
        pending: list[tuple[Slots, Callable[[], Refusals]]] = []
        for start in range(0, len(slots), at_once):
            pending += self._slice(slots.take(np.arange(start, min(start + at_once, len(slots)))), writer, fresh)
        refused = []
        for some, refusals in pending:
            reasons = refusals()
            if reasons:
                places = np.array(sorted(reasons), np.int64)
                refused.append((some.take(places), [reasons[place] for place in places.tolist()]))
        return refused

    def _slice(self, slots: Slots, writer: RowWriter, fresh: bool) -> list[tuple[Slots, Callable[[], Refusals]]]:
        there = self.session.fetch(self.info, self._keys(slots), fresh)
        matches = np.bincount(there.positions, minlength=len(slots))
        row = no_rows(len(slots))
        row[there.positions] = np.arange(len(there.positions))
        kept = matches > 1
        if not fresh:
            unlike = self.conflicts.look(slots, there, row, matches)
            unlike |= self._note_others(slots, unlike)
            if self.force:
                self.undone.forced += int((unlike & ~kept).sum())
            else:
                kept |= unlike
            kept |= self.conflicts.odd(slots, there, row)
        return self._put(slots, there, row, kept, writer, not fresh)

    def _note_others(self, slots: Slots, noted: np.ndarray) -> np.ndarray:
        """A mask of the rows that others changed in between. Those that are not `noted` are noted as conflicts."""
        if self.between is None or not len(self.between[0]):
            return np.zeros(len(slots), bool)
        mixed = among(self.past.hash_keys(self._keys(slots), self.between[1]), self.between[0])
        self.conflicts.note(slots, np.flatnonzero(mixed & ~noted), "others changed it in between")
        return mixed

    def _put(
        self, slots: Slots, there: Existing, row: np.ndarray, kept: np.ndarray, writer: RowWriter, first: bool = True
    ) -> list[tuple[Slots, Callable[[], Refusals]]]:
        """Put back the rows of slots that are not `kept` as they are; in `there` the row of each stands at `row`.
        `first`: these were not tried before."""
        if first:
            self.writes = self.writes and (self.rest or self.force or not len(self.conflicts))
            self.undone.kept += int(kept.sum())
            self._left.append(self._keys(slots.take(np.flatnonzero(kept))))
        back, stands = slots.had, is_row(row)
        pending: list[tuple[Slots, Callable[[], Refusals]]] = []
        for action, mask in (("update", back & stands), ("insert", back & ~stands), ("delete", ~back & stands)):
            places = np.flatnonzero(mask & ~kept)
            if not len(places):
                continue
            some, rows = slots.take(places), there.take(row[places]) if action != "insert" else None
            if self.preview:
                self._foresee(action, some, rows)
            elif self.writes:
                pending += self._write(writer, action, some, rows)
        return pending

    def _write(
        self, writer: RowWriter, action: str, slots: Slots, rows: Existing | None
    ) -> list[tuple[Slots, Callable[[], Refusals]]]:
        why = pa.repeat(self.reason, len(slots))
        before = self.old.values.take(pa.array(slots.before)) if action != "delete" else None
        if before is not None and rows is not None:
            setting = self._setting(slots, rows, before)
            every = np.arange(len(slots))
            changed = np.flatnonzero(np.any(list(setting.changed.values()), axis=0)) if setting.changed else every[:0]
            pending = []
            for group in together(rows, setting, every[changed]):
                places = changed[group]
                written = writer.update(rows.take(places), setting, places, why.take(pa.array(places)))
                pending.append((slots.take(places), self._counted("update", len(places), written)))
            return pending
        if before is not None:
            written = writer.insert(before, why)
            return [(slots, self._counted("insert", len(slots), written))]
        assert rows is not None
        return [(slots, self._counted("delete", len(slots), writer.delete(rows, why)))]

    def _counted(self, action: str, count: int, written: Written) -> Callable[[], Refusals]:
        """What was refused of rows that were sent; counts the others when that is known."""

        def refusals() -> Refusals:
            refused = written.refusals()
            self.undone.counts[action] += count - len(refused)
            return refused

        return refusals

    def _setting(self, slots: Slots, rows: Existing, before: pa.Table) -> Setting:
        old = self.old.take(slots.before)
        changed = {name: unlike(rows, old, name) for name in self.columns}
        changed = {n: mask & sets(self.old, self.new, slots, n) for n, mask in changed.items() if mask.any()}
        changed = {name: mask for name, mask in changed.items() if mask.any()}
        return Setting(before, changed, Patterns(changed, len(slots)))

    # -- the end ----------------------------------------------------------------------------------------

    def _foresee(self, action: str, slots: Slots, rows: Existing | None) -> None:
        """Count what would be done, and keep samples of it."""
        masks: dict[str, np.ndarray] | None = None
        if action == "update":
            assert rows is not None
            setting = self._setting(slots, rows, self.old.values.take(pa.array(slots.before)))
            changed = np.any(list(setting.changed.values()), axis=0) if setting.changed else np.zeros(len(slots), bool)
            slots, rows = slots.take(np.flatnonzero(changed)), rows.take(np.flatnonzero(changed))
            masks = {name: mask[changed] for name, mask in setting.changed.items()}
        self.undone.counts[action] += len(slots)
        room = max(_SAMPLES - sum(one.action == action for one in self.undone.samples), 0)
        for place in range(min(room, len(slots))):
            now = rows.shown(place) if rows is not None else {}
            then = self.old.shown(int(slots.before[place])) if slots.had[place] else {}
            key = {name: (then or now)[name] for name in self.past.key}
            names = [name for name in self.columns if masks is None or (name in masks and masks[name][place])]
            cells = [(name, now.get(name), then.get(name)) for name in names]
            self.undone.samples.append(Putting(action, key, [one for one in cells if one[1] != one[2]]))

    def _ended(self) -> Undone:
        self.guard.check()
        undone = self.undone
        last = self.changes.values["change_no"][-1].as_py()
        undone.conflicts = self.conflicts.table(last)
        open_still = undone.conflicts.num_rows and not self.rest and (undone.kept or not self.force)
        if open_still and not self.preview:
            raise ConflictError(in_words(undone), replace(undone, wrote=False))
        if self.preview:
            undone.stops = bool(open_still)
            return undone
        figures: dict[str, Any] = {"records": 0, "forced": undone.forced, "kept": undone.kept, "key": undone.key}
        details = [Detail("key", name=name) for name in undone.key]
        details += self.archives.details
        details += [Detail("left", row_count=undone.kept)] if undone.kept else []
        undone.batch = self.recorder.start()
        self.recorder.finish(dict.fromkeys(NAMES, 0) | undone.counts, figures | self.what.figures, details=details)
        return undone


def _linked(slots: Slots) -> tuple[Slots, Slots]:
    """Rows whose key one change moved from one slot to another, each as one; and the other slots."""
    left, come = ~slots.has, ~slots.had
    moved = np.intersect1d(slots.before[left & ~come], slots.after[come & ~left])
    rest = ~(left & np.isin(slots.before, moved)) & ~(come & np.isin(slots.after, moved))
    return Slots(moved, moved, moved), slots.take(np.flatnonzero(rest))
