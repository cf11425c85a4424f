"""Reading a chunk of records in the terms of the table: columns named, derived and cast, faults found."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.cast import plain
from ..core.expressions.scope import Name
from ..core.keys import null_keys, one_array
from ..core.masks import mask_of
from ..core.records import Records, check_required, derive, misfit, read_columns
from ..incoming import Chunk
from ..jobs.layouts import Layout, Layouts, shape_of
from ..jobs.plan import Plan
from ..stores.contract import Session, kept
from .lookups import Lookups


class Reader:
    """Reads the chunks of a batch as a plan wants them."""

    def __init__(self, plan: Plan, layouts: Layouts, now: datetime) -> None:
        self.plan, self.layouts, self.now = plan, layouts, now
        self.lookups = Lookups(plan)
        self.names: dict[str, pa.DataType] = {}
        """Every column that some record of the batch has, with the type in which it came first: what a rule that is a
        function is given. The first pass fills it."""

    def layout(self, chunk: Chunk) -> Layout:
        return self.layouts.of(shape_of(chunk.raw.schema))

    def read(self, chunk: Chunk, only: Sequence[str] | None = None) -> Records:
        """A chunk in the table's terms; `only`: just these columns. A key column that is absent is null."""
        layout, info = self.layout(chunk), self.plan.info
        derived, needed = layout.derived, None if only is None else set(only)
        if needed is not None:
            for name in reversed(derived):  # each stands after those that it reads
                if name in needed:
                    needed |= {used for _, used in derived[name].uses}
            derived = {name: one for name, one in derived.items() if name in needed}
        wanted = {n: c for n, c in layout.mapping.items() if needed is None or c in needed}
        records = read_columns(chunk.raw, chunk.rows, wanted, info, self.plan.notations)
        seen = {name: column for name, column in layout.seen.items() if needed is None or column in needed}
        self._put_extras(records, chunk, layout, seen)
        if layout.looked_up:
            self.lookups.put(records, chunk, needed)
        if derived:
            own = {
                target: plain(chunk.raw[name]) if layout.misfit is None else pa.nulls(len(chunk.rows))
                for target, name in layout.own.items()
            }
            derive(records, derived, self._incoming(records, layout), self.now, info, own, self.plan.notations)
        if layout.misfit is not None:
            records.add_fault(np.ones(len(chunk.rows), bool), layout.misfit)
        absent = [name for name in self.plan.identity if name not in records.values.column_names]
        if absent:
            nulls = {name: pa.nulls(len(chunk.rows), info[name].type) for name in absent}
            present = zip(records.values.column_names, records.values.columns, strict=True)
            records.values = pa.table(dict(present) | nulls)
        return records

    def _put_extras(self, records: Records, chunk: Chunk, layout: Layout, seen: dict[str, str]) -> None:
        """Put incoming columns that go nowhere, but that expressions may read, into `records.extras`."""
        there, reads, extras = set(chunk.raw.column_names), layout.reads(), layout.extras
        if self.plan.has_functions:  # which see every column of the batch, whatever the record sends
            extras = {n: kind for n, kind in self.names.items() if self.plan.info.named(n) is None} | extras
        for name, kind in extras.items():
            if self.plan.has_functions or name in reads:
                records.extras[name] = plain(chunk.raw[name]) if name in there else pa.nulls(len(chunk.rows), kind)
        if seen:
            aside = read_columns(chunk.raw, chunk.rows, seen, self.plan.info, self.plan.notations)
            records.add_fault(mask_of(aside.faults.is_valid()), aside.faults.drop_null())
            records.extras |= {name: one_array(aside.values[name]) for name in aside.values.column_names}

    def _incoming(self, records: Records, layout: Layout) -> dict[Name, pa.Array]:
        """The values that derived columns may read: the records' own, and null for what did not come."""
        nulls = {name: pa.nulls(len(records.rows), kind) for name, kind in layout.types.items()}
        values = {("incoming", n): one_array(records.values[n]) for n in records.values.column_names}
        return nulls | {("incoming", name): column for name, column in records.extras.items()} | values

    def check(self, session: Session, records: Records) -> None:
        """Note faults that need the store, the table or the key to see."""
        plan = self.plan
        came = records.values
        records.values, refused = session.normalise(plan.info, came)
        for name, mask in refused.items():
            values = one_array(came[name]).filter(pa.array(mask))
            column = plan.info[name]
            why: str | None = "held exactly by this store"
            if pa.types.is_binary(values.type):
                why = "so short that this store has room for it"
            if pa.types.is_string(values.type):
                own = column.normalises or column.labels or column.members
                why = None if own else "a text that this store has letters and room for"
            records.add_fault(mask, misfit(values, plan.info[name], why))
        sent = records.values.column_names
        check_required(records, plan.info, [n for n in sent if n not in plan.key and plan.columns[n].strict_null])
        self._check_dates(records)
        null = null_keys(records.values.select(self._must_come())) & records.faults.is_null().to_numpy(
            zero_copy_only=False
        )
        if null.any():
            empty = [
                pc.if_else(
                    pc.is_null(one_array(records.values[name]).filter(pa.array(null))),
                    name,
                    pa.scalar(None, pa.string()),
                )
                for name in self._must_come()
            ]
            names = pc.binary_join_element_wise(*empty, ", ", null_handling="skip")
            records.add_fault(null, pc.binary_join_element_wise("the key has no value: ", names, ""))

    def _check_dates(self, records: Records) -> None:
        """A record of a version has a date, which is before that which stands for no end."""
        spans = self.plan.spans
        if spans is None:
            return
        given = one_array(records.values[spans.begin])
        sound = records.faults.is_null().to_numpy(zero_copy_only=False)
        by = spans.options.effective or spans.begin
        records.add_fault(mask_of(pc.is_null(given)) & sound, f"the record has no date ({by})")
        if spans.open is not None:
            past = mask_of(pc.greater_equal(given, pa.scalar(spans.open, given.type))) & sound
            if past.any():
                why = f"a date before {spans.open}, which stands for no end"
                records.add_fault(past, misfit(given.filter(pa.array(past)), self.plan.info[spans.begin], why))

    def _must_come(self) -> list[str]:
        """The key columns that must come with the record, since the database cannot make them."""
        plan = self.plan
        makes = plan.job.null_key == "generate"
        return [name for name in plan.key if not (makes and plan.info[name].has_default)]

    def keys(self, session: Session, chunk: Chunk) -> tuple[pa.Table, np.ndarray]:
        """The keys of a chunk in the table's types, and a mask of those without a null."""
        records = self.read(chunk, self.plan.key)
        keys = kept(session.normalise(self.plan.info, records.values.select(self.plan.key)))
        return keys, ~null_keys(keys)
