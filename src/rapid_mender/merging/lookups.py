"""Columns that are looked up in other tables, by what the records send."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.cast import as_text, cast, plain
from ..core.hashing import hash_rows
from ..core.keys import one_array
from ..core.masks import mask_of
from ..core.records import Records, misfit
from ..incoming import Chunk
from ..jobs.plan import BoundLookup, Plan
from ..stores.contract import Session

_SEED = 5
_NONE, _ONE, _SEVERAL = 0, 1, 2


class Lookups:
    """What was found in other tables so far: each value is looked up once."""

    def __init__(self, plan: Plan) -> None:
        self._info = plan.info
        self._each = {target: _Lookup(lookup) for target, lookup in plan.lookups.items()}

    def prepare(self, session: Session, chunk: Chunk) -> None:
        """Look up what the records of a chunk send, but for what is known."""
        for one in self._each.values():
            one.find(session, chunk)

    def put(self, records: Records, chunk: Chunk, only: set[str] | None) -> None:
        """Put the columns that are looked up among the values of records; `only`: just these columns."""
        for target, one in self._each.items():
            if only is not None and target not in only:
                continue
            found = one.of(chunk)
            if found is None:
                continue  # the records do not send what it is looked up by
            values, faults = found
            records.add_fault(mask_of(faults.is_valid()), faults.drop_null())
            done, bad = cast(values, self._info[target])
            if bad is not None and bad.any():
                records.add_fault(bad, misfit(values.filter(pa.array(bad)), self._info[target]))
            there = dict(zip(records.values.column_names, records.values.columns, strict=True))
            records.values = pa.table({**there, target: done})


class _Lookup:
    """One column. What is known of each key that records sent: how many rows have it, and the value of the first."""

    def __init__(self, bound: BoundLookup) -> None:
        self.bound = bound
        self._hashes = np.empty(0, np.uint64)
        self._count = np.empty(0, np.int8)
        self._values = pa.nulls(0, bound.info[bound.take].type)

    def find(self, session: Session, chunk: Chunk) -> None:
        keys = self._keys(chunk)
        if keys is None:
            return
        whole = np.flatnonzero(_whole(keys))
        hashes, first = np.unique(_hashed(keys)[whole], return_index=True)
        new = ~np.isin(hashes, self._hashes)
        if not new.any():
            return
        names = [column for column, _ in self.bound.match]
        sought = pa.table(keys, names=names).take(pa.array(whole[first[new]]))
        sought, _ = session.normalise(self.bound.info, sought)
        rows = session.look_up(self.bound.info, sought)
        found = pa.table({"at": rows.positions, "value": plain(rows.values[self.bound.take])})
        every_value, with_nulls = pc.CountOptions(mode="all"), pc.ScalarAggregateOptions(skip_nulls=False)
        groups = found.group_by("at", use_threads=False).aggregate(
            [("value", "count_distinct", every_value), ("value", "first", with_nulls)]
        )
        at = groups["at"].to_numpy()
        count = np.zeros(int(new.sum()), np.int8)
        count[at] = np.where(groups["value_count_distinct"].to_numpy() > 1, _SEVERAL, _ONE)
        place = np.full(len(count), len(at))
        place[at] = np.arange(len(at))
        firsts = pa.concat_arrays([one_array(groups["value_first"]), pa.nulls(1, self._values.type)])
        every = np.concatenate([self._hashes, hashes[new]])
        order = np.argsort(every)
        values = pa.concat_arrays([self._values, firsts.take(pa.array(place))])
        self._hashes, self._values = every[order], values.take(pa.array(order))
        self._count = np.concatenate([self._count, count])[order]

    def of(self, chunk: Chunk) -> tuple[pa.Array, pa.Array] | None:
        """The value for each record, and why there is none: null where there is one, or where none was sent."""
        keys = self._keys(chunk)
        if keys is None:
            return None
        bound, count, whole = self.bound, len(chunk.rows), _whole(keys)
        number = np.full(count, _ONE, np.int8)
        values = pa.nulls(count, self._values.type)
        if whole.any():
            place = np.searchsorted(self._hashes, _hashed(keys)[whole])
            number[whole] = self._count[place]
            values = pc.replace_with_mask(values, pa.array(whole), self._values.take(pa.array(place)))
        faults = pa.nulls(count, pa.string())
        for how, what, words in ((_NONE, bound.none, "no row"), (_SEVERAL, bound.several, "several rows")):
            mask = number == how
            if not mask.any():
                continue
            if what.rejects:
                said = self._said(chunk, mask, "has" if how == _NONE else "have")
                why = pc.binary_join_element_wise(f"{bound.column}: {words} of {bound.info.name} ", said, "")
                faults = pc.replace_with_mask(faults, pa.array(mask), why)
            values = pc.if_else(pa.array(mask), what.value.cast(values.type), values)
        return values, faults

    def _said(self, chunk: Chunk, mask: np.ndarray, verb: str) -> pa.Array:
        parts: list[pa.Array | str] = []
        for column, name in self.bound.match:
            sent = plain(chunk.raw[_named(chunk, name)]).filter(pa.array(mask))
            shown = pc.utf8_slice_codeunits(as_text(sent)[0], 0, 60)
            parts += [" and " if parts else f"{verb} ", f"{column} '", pc.fill_null(shown, ""), "'"]
        return pc.binary_join_element_wise(*parts, "")

    def _keys(self, chunk: Chunk) -> list[pa.Array] | None:
        """What records send, in the types of the columns by which it is looked up; None if they do not send all."""
        names = [_named(chunk, name) for _, name in self.bound.match]
        if None in names:
            return None
        columns = self.bound.info.pick([column for column, _ in self.bound.match])
        return [cast(chunk.raw[name], column)[0] for name, column in zip(names, columns, strict=True)]


def _named(chunk: Chunk, name: str) -> str | None:
    """The incoming column of a name, in upper or lower case if none is spelt just so."""
    there = chunk.raw.column_names
    return name if name in there else next((one for one in there if one.lower() == name.lower()), None)


def _whole(keys: Sequence[pa.Array]) -> np.ndarray:
    """A mask of the keys without a null."""
    return np.all([mask_of(pc.is_valid(one)) for one in keys], axis=0)


def _hashed(keys: Sequence[pa.Array]) -> np.ndarray:
    return hash_rows(list(keys), _SEED)
