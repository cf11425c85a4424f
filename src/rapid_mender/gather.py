"""Gathering what a run gives back: counts, decisions, rejects, samples."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from .core.decide import NAMES, REJECT, Decisions
from .core.existing import Existing
from .core.keys import one_array
from .core.records import REJECT_COLUMNS, Records
from .incoming import Broken, Chunk
from .result import Result, Sample

_SAMPLES = 4  # per decision


@dataclass
class Met:
    """The decisions on records that were looked up, and which columns their updates change."""

    decisions: Decisions
    changed: pa.Array


@dataclass
class Gather:
    """Puts into a result what the chunks of a batch bring. `samples`: also some records to show."""

    result: Result
    samples: bool

    def note(self, chunk: Chunk, records: Records, alone: Decisions, asked: np.ndarray, met: list[Met]) -> None:
        """Put the decisions of a chunk together, in the order of its records."""
        count = len(chunk.rows)
        place = np.arange(count)
        place[asked] = count + np.arange(len(asked))
        codes = np.concatenate([alone.codes, *(one.decisions.codes for one in met)])[place]
        index = pa.array(place)
        parts = [alone, *(one.decisions for one in met)]
        begin = np.cumsum([0, *(len(part.texts) for part in parts[:-1])])
        why = np.concatenate([part.why + start for part, start in zip(parts, begin, strict=True)])[place]
        texts = pa.concat_arrays([part.texts for part in parts])
        reasons = pa.DictionaryArray.from_arrays(pa.array(why.astype(np.int32)), texts)
        none = pa.nulls(count, pa.list_(pa.string()))
        sets = pa.concat_arrays([none, *(one.changed for one in met)]).take(index)
        self.sample(records.rows, records.values, alone, None, np.full(count, -1), {})
        for name, number in zip(NAMES, np.bincount(codes, minlength=len(NAMES)), strict=True):
            self.result.counts[name] += int(number)
        names = pa.DictionaryArray.from_arrays(pa.array(codes), pa.array(NAMES))
        keys = [one_array(records.values[name]) for name in self.result.key]
        table = [pa.array(chunk.rows), names, reasons, sets, *keys]
        self.result._decisions.put(pa.table(table, names=self.result._shape.names))
        rejected = codes == REJECT
        if rejected.any():
            mask = pa.array(rejected)
            raw = chunk.raw.filter(mask)
            texts = raw["rmend_text"].cast(pa.string()) if "rmend_text" in raw.column_names else pa.nulls(raw.num_rows)
            reasons = reasons.filter(mask).dictionary_decode()
            fixed = pa.table([pa.array(chunk.rows[rejected]), reasons, texts], names=list(REJECT_COLUMNS))
            for name in raw.column_names:
                if name not in REJECT_COLUMNS:
                    fixed = fixed.append_column(raw.schema.field(name), raw[name])
            self.result._rejects.put(fixed)

    def note_broken(self, broken: list[Broken]) -> None:
        """Records that could not be split into values are rejects without any."""
        if not broken:
            return
        rows, reasons, texts = (pa.array(part) for part in zip(*broken, strict=True))
        self.result.counts["reject"] += len(broken)
        none = [pa.nulls(len(broken), field.type) for field in list(self.result._shape)[3:]]
        table = [rows, pa.repeat("reject", len(broken)), reasons, *none]
        self.result._decisions.put(pa.table(table, schema=self.result._shape))
        self.result._rejects.put(pa.table([rows, reasons, texts], names=list(REJECT_COLUMNS)))
        for row, reason, text in broken[:_SAMPLES] if self.samples else ():
            self.result.samples.append(Sample(row, "reject", reason, {}, [("", None, text, False)]))

    def sample(
        self,
        rows: np.ndarray,
        values: pa.Table,
        decisions: Decisions,
        existing: Existing | None,
        found: np.ndarray,
        changed: dict[str, np.ndarray],
    ) -> None:
        """Keep some records of each decision to show them, beside the rows that they meet."""
        if not self.samples:
            return
        for code, name in enumerate(NAMES):
            have = sum(sample.decision == name for sample in self.result.samples)
            for at in np.flatnonzero(decisions.codes == code)[: max(_SAMPLES - have, 0)].tolist():
                record, place, cells = values.slice(at, 1).to_pylist()[0], int(found[at]), []
                for column, new in record.items():
                    old = None if existing is None or place < 0 else self._shown(existing, column, place)
                    differs = place >= 0 and column in changed and bool(changed[column][place])
                    cells.append((column, old, new, differs))
                key = {column: record[column] for column in self.result.key}
                self.result.samples.append(Sample(int(rows[at]), name, decisions.reason(at), key, cells))

    @staticmethod
    def _shown(existing: Existing, column: str, place: int) -> Any:
        odd = existing.odd.get(column)
        if odd is not None and odd.mask[place]:
            return odd.text[int(odd.mask[:place].sum())].as_py()
        return existing.values[column][place].as_py()
