"""Whether the spans that are in a table of versions fit together, and what would mend those that do not."""

from __future__ import annotations

import secrets
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.cast import as_text, cast, plain
from ..core.hashing import hash_rows
from ..core.keys import one_array
from ..core.masks import mask_of
from ..core.versions import NEVER, flags_of
from ..errors import JobError
from ..stores.urls import opened
from .binding import bind
from .job import Job
from .plan import Plan
from .problems import Problems

_MOST = 100


@dataclass
class SpansChecked:
    """What is wrong with the spans of a table.

    `overlaps` are versions that end after the next one of their key begins, `twice` those that begin with the one
    before, `backwards` those that end before they begin; of these `current` are without an end although another
    follows. `gaps` are spans of a key without a version, which deletes make, too. `flags` and `numbers` are those that
    do not say what the spans do. `examples` has up to 100 lines: the key, the span, what is wrong. `mends` are the rows
    that would mend it, gaps and `twice` left alone: the key, the span and what goes with it, to be merged by the
    columns of `key`, with a job without [versions].
    """

    table: str
    store: str
    key: list[str]
    rows: int = 0
    keys: int = 0
    overlaps: int = 0
    twice: int = 0
    backwards: int = 0
    current: int = 0
    gaps: int = 0
    flags: int = 0
    numbers: int = 0
    examples: pa.Table = field(default_factory=lambda: pa.table({}))
    mends: pa.Table = field(default_factory=lambda: pa.table({}))

    @property
    def sound(self) -> bool:
        """Whether nothing is wrong; a gap is not."""
        return not (self.overlaps or self.twice or self.backwards or self.flags or self.numbers)


def check_spans(job: Job) -> SpansChecked:
    """Hold the versions that a job's table has against each other. Reads all of them, and writes nothing.

    Raises JobError if the job does not fit its table, or has no [versions].
    """
    problems = Problems()
    with opened(job.store) as place, place.begin(write=False) as session:
        plan = bind(session, job, True, problems)
        problems.raise_all()
        if plan.spans is None:
            raise JobError("the job has no [versions], so it says nothing of spans")
        names = [*plan.key, *plan.spans.columns]
        pages = [page.values for page in session.scan(plan.info, names, key=plan.identity)]
        table = pa.concat_tables([plan.info.schema.empty_table().select(names), *pages])
        hashes = hash_rows(session.fold(plan.info, table.select(plan.key)), secrets.randbits(64))
        return _checked(plan, place.where, table, hashes)


def _checked(plan: Plan, where: str, table: pa.Table, hashes: np.ndarray) -> SpansChecked:
    spans = plan.spans
    assert spans is not None
    begin, end = spans.instants(table)
    order = np.lexsort((end, begin, hashes))
    key, begin, end, table = hashes[order], begin[order], end[order], table.take(pa.array(order))
    follows = np.append(key[1:] == key[:-1], False)  # another version of the key comes next
    after = np.append(begin[1:], 0)
    twice = np.append(False, (follows & (after == begin))[:-1])
    overlap = follows & (after < end) & (after != begin)
    backwards = end < begin
    mended = np.where(overlap, after, end)
    mended = np.where(backwards, np.where(follows, after, NEVER), mended)
    out = SpansChecked(plan.info.name, where, plan.identity, table.num_rows, int((~follows).sum()))
    out.overlaps, out.twice, out.backwards = int(overlap.sum()), int(twice.sum()), int(backwards.sum())
    out.current = int((overlap & (end == NEVER)).sum())
    gap = follows & (after > end) & ~backwards
    out.gaps = int(gap.sum())
    wrong = {"overlap": overlap, "twice": twice, "backwards": backwards, "gap": gap}
    mends = {name: table[name] for name in (*plan.key, spans.begin)}
    mends[spans.end] = spans.ends(mended, plan.info[spans.end].type)
    odd = overlap | backwards
    if spans.current is not None:
        column, flags = plan.info[spans.current], one_array(table[spans.current])
        says, mends[spans.current] = (flags_of(column, one == NEVER) for one in (end, mended))
        wrong["current"] = mask_of(pc.fill_null(pc.not_equal(flags, says), True))
        odd |= mask_of(pc.fill_null(pc.not_equal(flags, mends[spans.current]), True))
        out.flags = int(wrong["current"].sum())
    if spans.number is not None:
        first = np.flatnonzero(np.append(True, ~follows[:-1])) if len(key) else np.empty(0, np.int64)
        rank = np.arange(len(key)) - np.repeat(first, np.diff(np.append(first, len(key)))) + 1
        number = cast(pa.array(rank), plan.info[spans.number])[0]
        differs = mask_of(pc.fill_null(pc.not_equal(one_array(table[spans.number]), number), True))
        wrong["number"], mends[spans.number], odd = differs, number, odd | differs
        out.numbers = int(differs.sum())
    shared = twice | np.append(twice[1:], False)  # nobody knows which of the two counts
    out.mends = pa.table(mends).filter(pa.array(odd & ~shared))
    out.examples = _examples(plan, table, wrong)
    return out


def _examples(plan: Plan, table: pa.Table, wrong: dict[str, np.ndarray]) -> pa.Table:
    spans = plan.spans
    assert spans is not None
    words = {
        "overlap": "it ends after the next version begins", "twice": "it begins with the version before",
        "backwards": "it ends before it begins", "gap": "the next version begins later than it ends",
        "current": f"{spans.current} does not say whether it has an end",
        "number": f"{spans.number} is not its place among the versions",
    }  # fmt: skip
    places = [(place, words[what]) for what in wrong for place in np.flatnonzero(wrong[what])[: _MOST // 5].tolist()]
    rows = table.take(pa.array([place for place, _ in places], pa.int64()))
    texts = {name: as_text(plain(rows[name]))[0] for name in (*plan.key, spans.begin, spans.end)}
    return pa.table(texts | {"what": pa.array([what for _, what in places], pa.string())})
