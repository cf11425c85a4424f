"""What a sync sends: changes of the followed table as records for the table that follows."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..changes.netting import Netted
from ..changes.past import Past
from ..changes.query import as_told
from ..changes.valid import Keeping
from ..core.existing import Existing
from ..core.expressions import Env, Expression, Scope, compile_expression
from ..core.hashing import hash_rows
from ..core.json_text import read_json
from ..core.keys import one_array
from ..core.masks import mask_of
from ..core.names import in_quotes
from ..core.own_tables import FIXED
from ..core.records import known_column
from ..core.repeats import among
from ..core.row_numbers import NO_ROW, as_indices, is_row, no_rows
from ..core.schema import TableInfo
from ..core.versions import NEVER
from ..errors import JobError
from ..jobs.job import Job
from ..jobs.options import Rule
from ..jobs.sync_job import Sync
from .fingerprints import FINGERPRINTED

if TYPE_CHECKING:
    from .receiving import Receiving
    from .two_way import Rivals

_OF_A_CHANGE = [column.name for column in FIXED]
OTHERWISE = "the row is not what the history says it was"
OUTDONE = "the other table's change of the row counts"


@dataclass(frozen=True)
class Flags:
    """The names of the columns that go along and are not stored: none of the table has these."""

    gone: str
    fresh: str
    outdone: str
    was: Mapping[str, str]


@dataclass(frozen=True)
class _Sent:
    """Changes that are sent: for each the change with the row before as its old row, and the one with the row after as
    its new row, NO_ROW where there is none; and the last change of the row."""

    before: np.ndarray
    after: np.ndarray
    last: np.ndarray

    @property
    def gone(self) -> np.ndarray:
        """A mask of those after which there is no row."""
        return ~is_row(self.after)

    def take(self, places: np.ndarray) -> _Sent:
        """Some of them, by their places or a mask."""
        return _Sent(self.before[places], self.after[places], self.last[places])

    def also_gone(self, places: np.ndarray) -> _Sent:
        """With some of them a second time, without their row after."""
        none = no_rows(len(places))
        pairs = (self.before, self.before[places]), (self.after, none), (self.last, self.last[places])
        return _Sent(*(np.concatenate(pair) for pair in pairs))


@dataclass(frozen=True)
class Sending:
    """How the rows of a table become records for another."""

    sync: Sync
    info: TableInfo
    """The table that is followed."""
    key: list[str]
    """Its key."""
    columns: list[str]
    """The columns of it that are sent, the key among them."""
    needed: list[str]
    """Those that are read."""
    flags: Flags
    when: Expression | None
    keeping: Keeping | None = None
    """How the table keeps versions, if only those in force are sent."""
    catching_up: bool = False
    """A fill may have found what is sent: no row is what the history says it was."""
    rule: Literal["later", "overwrite", "skip", "reject"] | None = None
    """Which side's change counts, if the other table follows this one, see `two_way`."""

    @property
    def identity(self) -> list[str]:
        """The columns that identify what is sent."""
        return self.key if self.keeping is None else self.keeping.key

    @property
    def checks(self) -> bool:
        """Whether the target's row has to be what the history says it was."""
        return self.sync.conflict in ("skip", "reject") and self.rule is None and not self.catching_up

    @property
    def apart(self) -> list[str]:
        """The columns by which rows are told apart, here or in the target."""
        back = {self.sync.rename.get(name, name): name for name in self.columns}
        return list(dict.fromkeys([*self.key, *(back[name] for name in self.sync.key if name in back)]))

    def lacking(self, target: TableInfo) -> list[str]:
        """The columns that are sent, and for which the target has none."""
        return [name for name in self.columns if target.named(self.sync.rename.get(name, name)) is None]

    def without(self, names: Sequence[str]) -> Sending:
        """All but some columns."""
        return replace(self, columns=[name for name in self.columns if name not in names])

    def job(self, target: TableInfo) -> Job:
        """The job that merges what is sent."""
        sync = self.sync
        if sync.keep == "changes":
            aside = [name for name in _OF_A_CHANGE if name not in target and name != "change_no"]
            return sync.merge_job(["change_no"], derive=sync.derive, ignore=aside, allow=["insert"])
        renamed = {name: to for name, to in sync.rename.items() if name in self.columns}
        rules = [Rule(decide="delete", when=f"incoming.{_quoted(self.flags.gone)}")]
        ignore = [self.flags.gone]
        if self.rule is not None:
            ignore.append(self.flags.outdone)
            decide: Literal["skip", "reject"] = "reject" if self.rule == "reject" else "skip"
            rules.insert(0, Rule(decide=decide, when=f"incoming.{_quoted(self.flags.outdone)}", because=OUTDONE))
        if self.checks:
            assert sync.conflict == "skip" or sync.conflict == "reject"
            ignore += [self.flags.fresh, *(self.flags.was[name] for name in self.columns)]
            rules.insert(0, Rule(decide=sync.conflict, when=self._unlike(target), because=OTHERWISE))
        return sync.merge_job(self.target_key(target), rename=renamed, derive=sync.derive, ignore=ignore, rules=rules)

    def job_of_extra(self, target: TableInfo) -> Job:
        """The job that deletes rows of which only the key is given."""
        renamed = {name: to for name, to in self.sync.rename.items() if name in self.identity}
        gone = Rule(decide="delete", when=f"incoming.{_quoted(self.flags.gone)}", because="it is not in the source")
        return self.sync.merge_job(
            self.target_key(target), rename=renamed, ignore=[self.flags.gone], rules=[gone], allow=["delete"]
        )

    def target_key(self, target: TableInfo) -> list[str]:
        key = self.sync.key or [self.sync.rename.get(name, name) for name in self.identity]
        lacking = [name for name in key if target.named(name) is None]
        if lacking:
            raise JobError(
                f"table {target.name!r} has no column {in_quotes(lacking)}, which is of the key; name the columns of "
                "the key in [rename], or give the key"
            )
        return key

    def _unlike(self, target: TableInfo) -> str:
        """The condition for a row that is not what the history says it was."""
        fresh, gone = (f"incoming.{_quoted(name)}" for name in (self.flags.fresh, self.flags.gone))
        differing = []
        for name in self.columns:
            was = self.flags.was[name]
            to = target.named(self.sync.rename.get(name, name))
            if to is not None and to.name not in self.sync.derive:
                differing.append(f"existing.{_quoted(to.name)} IS DISTINCT FROM incoming.{_quoted(was)}")
        unlike = " OR ".join([fresh, *differing])
        return f"(matched AND ({gone} OR changed) AND ({unlike})) OR (NOT matched AND NOT {fresh} AND NOT {gone})"

    @property
    def asked(self) -> list[str]:
        """The columns without which nothing can be sent: the key, and those that conditions read."""
        uses = self.when.uses if self.when is not None else ()
        return list(dict.fromkeys([*self.apart, *self.sync.changes_to, *(name for _, name in uses)]))

    @property
    def compares(self) -> bool:
        """Whether it matters what the rows were before."""
        uses = self.when.uses if self.when is not None else ()
        if self.keeping is not None:
            return True
        return bool(self.checks or self.sync.changes_to or any(side == "old" for side, _ in uses))

    @property
    def is_plain(self) -> bool:
        """Whether nothing goes by what the changes of a row come to: they may as well be sent one after the other."""
        return self.rule is None and self.when is None and not replace(self, catching_up=False).compares

    def read_of(self, past: Past) -> list[str]:
        """The columns of a history that are read."""
        old = past.stored(self.needed if self.compares else self.apart, ["old"])
        return [*FINGERPRINTED, *old, *past.stored(self.needed, ["new"])]

    # -- records ----------------------------------------------------------------------------------------

    def of_net(
        self,
        netted: Netted,
        receiving: Receiving,
        rivals: Rivals | None = None,
        only: Callable[[pa.Table], np.ndarray] | None = None,
    ) -> pa.Table:
        """The records of net changes: rows to be put there, and rows to be gone; also those that came and went again,
        for a fill may have found them. `only`: gives a mask of those that are wanted, by their keys."""
        net, old, new = netted.net, netted.old, netted.new
        changed = np.ones(len(net.updates), bool)
        if self.sync.changes_to:
            changed = np.any([net.changed[name] for name in self.sync.changes_to], axis=0)
        updates = net.updates.take(np.flatnonzero(changed))
        every = (net.inserts, updates, net.deletes, net.passing)
        before = np.concatenate([no_rows(len(net.inserts)), updates.before, net.deletes.before, net.passing.last])
        after = np.concatenate([net.inserts.after, updates.after, no_rows(len(net.deletes) + len(net.passing))])
        sent = _Sent(before, after, np.concatenate([slots.last for slots in every]))
        sent = sent.take(self._wanted(old, new, before, after))
        sent = self._moved(netted, sent, receiving) if self.keeping is None else self._in_force(netted, sent)
        gone = sent.gone
        put, taken = new.take(sent.after[~gone]), netted.taken(sent.before[gone])
        order = np.concatenate([np.flatnonzero(~gone), np.flatnonzero(gone)])
        columns = {name: _both(put, taken, name) for name in self.columns}
        columns[self.flags.gone] = pa.array(gone[order])
        keys = pa.table({})
        if rivals is not None or only is not None:
            keys = pa.table({name: _both(put, old.take(sent.before[gone]), name) for name in self.apart})
        if self.rule is not None:
            outdone = np.zeros(len(order), bool) if rivals is None else rivals.outdone(netted, keys, sent.last[order])
            columns[self.flags.outdone] = pa.array(outdone)
        if self.checks:
            columns[self.flags.fresh] = pa.array(~is_row(sent.before[order]))
            index, was = as_indices(sent.before[order]), receiving.stored(old.values)
            columns |= {self.flags.was[name]: one_array(was[to]).take(index) for name, to in receiving.columns.items()}
        records = pa.table(columns)
        return records if only is None else records.filter(pa.array(only(keys)))

    def _moved(self, netted: Netted, sent: _Sent, receiving: Receiving) -> _Sent:
        """Where the target tells other keys apart than the source does: a row whose key is another one there is gone
        under the one before, and one that comes under an equal key is not gone."""
        if not receiving.is_particular:
            return sent
        old, new = (rows.values.select(self.apart) for rows in (netted.old, netted.new))
        both = np.flatnonzero(is_row(sent.before) & ~sent.gone)
        apart = both[receiving.tells_apart(old.take(pa.array(sent.before[both])), new.take(pa.array(sent.after[both])))]
        sent = sent.also_gone(apart)
        gone = np.flatnonzero(sent.gone)
        seed = secrets.randbits(64)
        taken = hash_rows(receiving.folded(old.take(pa.array(sent.before[gone]))), seed)
        put = hash_rows(receiving.folded(new.take(pa.array(sent.after[~sent.gone]))), seed)
        _, first = np.unique(taken, return_index=True)
        stays = np.ones(len(sent.last), bool)
        stays[gone] = False
        stays[gone[first]] = ~among(taken[first], np.unique(put))
        return sent.take(stays)

    def _in_force(self, netted: Netted, sent: _Sent) -> _Sent:
        """Of changes those that are about versions in force: one that ends is gone, unless another begins."""
        assert self.keeping is not None
        before, after = sent.before, sent.after
        old, new = netted.old.values, netted.new.values
        was, now = ((self.keeping.spans(rows)[1] == NEVER) for rows in (old, new))
        put, gone = is_row(after), is_row(before)
        put[put] = now[after[put]]
        gone[gone] = was[before[gone]]
        gone &= ~put
        seed = secrets.randbits(64)
        keys = [netted.past.session.fold(self.info, rows.select(self.keeping.key)) for rows in (old, new)]
        taken, begun = (hash_rows(folded, seed) for folded in keys)
        gone[gone] = ~among(taken[before[gone]], np.unique(begun[after[put]]))
        _, first = np.unique(taken[before[gone]], return_index=True)  # of several that ended
        places = np.concatenate([np.flatnonzero(put), np.flatnonzero(gone)[first]])
        return _Sent(before, np.where(put, after, NO_ROW), sent.last).take(places)

    def of_rows(self, rows: Existing) -> pa.Table:
        """The records of rows as they are."""
        records = self.cells(rows.take(self.wanted_rows(rows)))
        return records.append_column(self.flags.gone, pa.repeat(False, records.num_rows))

    def cells(self, rows: Existing) -> pa.Table:
        """The columns of rows that are sent, as they are sent."""
        return pa.table({name: _cells(rows, name) for name in self.columns})

    def wanted_rows(self, rows: Existing) -> np.ndarray:
        """The places of the rows that are sent when what follows is filled."""
        every = np.arange(len(rows.positions))
        wanted = self._wanted(rows, rows, no_rows(len(every)), every)
        return every[wanted if self.keeping is None else wanted & (self.keeping.spans(rows.values)[1] == NEVER)]

    def wanted_changes(self, past: Past, changes: Existing) -> np.ndarray:
        """The places of the changes that are sent."""
        every = np.arange(len(changes.positions))
        if self.when is None and not self.sync.changes_to:
            return every
        old, new = (past.rows(changes, side, self.needed) for side in ("old", "new"))
        actions = one_array(changes.values["action"])
        takes, puts = (mask_of(pc.not_equal(actions, one)) for one in ("insert", "delete"))
        before, after = np.where(takes, every, NO_ROW), np.where(puts, every, NO_ROW)
        wanted = self._wanted(old, new, before, after)
        if self.sync.changes_to:
            texts = changes.values["changed"].to_pylist()
            wants = set(self.sync.changes_to)
            named = {text: not wants.isdisjoint(read_json(text, list[str]())) for text in set(texts)}
            wanted &= ~(takes & puts) | np.array([named[text] for text in texts], bool)
        return every[wanted]

    def of_changes(self, past: Past, changes: Existing) -> pa.Table:
        """The records of changes, each with the row that it put, or took."""
        places = self.wanted_changes(past, changes)
        some = changes.take(places)
        old, new = (past.rows(some, side, self.needed) for side in ("old", "new"))
        told = as_told(past, some.values).select(_OF_A_CHANGE)
        gone = pc.equal(one_array(some.values["action"]), "delete")
        for name in self.columns:
            values = _chosen(gone, _cells(old, name), _cells(new, name))
            told = told.append_column(self.sync.rename.get(name, name), values)
        return told

    def _wanted(self, old: Existing, new: Existing, before: np.ndarray, after: np.ndarray) -> np.ndarray:
        """A mask of the changes for which `when` is true."""
        if self.when is None:
            return np.ones(len(before), bool)
        index = {"old": as_indices(before), "new": as_indices(after)}
        rows = {"old": old, "new": new}
        values = {(side, name): one_array(rows[side].values[name]).take(index[side]) for side, name in self.when.uses}
        return mask_of(self.when.evaluate(Env(len(before), values, datetime.now(UTC))).values)


def sending(sync: Sync, info: TableInfo, key: Sequence[str], keeping: Keeping | None = None) -> Sending:
    """How a sync sends the rows of a table. Raises JobError if it names what the table does not have."""
    only = [known_column(info, name).name for name in sync.only]
    ignore = [known_column(info, name).name for name in sync.ignore]
    for name in [*sync.rename, *sync.changes_to]:
        known_column(info, name)
    if lost := [name for name in (key if keeping is None else keeping.key) if name in ignore]:
        raise JobError(f"ignore: {in_quotes(lost)} is of the key of {info.name!r}, by which rows are found")
    sure = key if keeping is None else keeping.key
    if keeping is not None and not only:  # which version it is, is not of interest
        ignore = [*ignore, keeping.end, *keeping.also]
    columns = [name for name in info.names if (not only or name in (*only, *sure)) and name not in ignore]
    clashing = [name for name in columns if sync.rename.get(name, name) in _OF_A_CHANGE]
    if sync.keep == "changes" and clashing:
        raise JobError(
            f"[rename]: a log has columns named {in_quotes(clashing)} itself; give those of {info.name!r} other names"
        )
    when = None
    if sync.when is not None:
        kinds = {column.name: column.type for column in info.columns}
        scope = Scope({"old": kinds, "new": kinds}, what={"old": "the row before", "new": "the row after"})
        try:
            when = compile_expression(sync.when, scope, "boolean")
        except JobError as error:
            raise JobError(f"when: {error}") from None
    spans = [] if keeping is None else [keeping.begin, keeping.end]
    read = {
        *columns,
        *key,
        *sure,
        *spans,
        *sync.changes_to,
        *(name for _, name in (when.uses if when is not None else ())),
    }
    taken = {name.lower() for name in (*info.names, *sync.rename.values())}
    gone, fresh, outdone = (_free(word, taken) for word in ("gone", "fresh", "outdone"))
    flags = Flags(gone, fresh, outdone, {name: _free(f"was {name}", taken) for name in columns})
    return Sending(sync, info, list(key), columns, [name for name in info.names if name in read], flags, when, keeping)


def _free(word: str, taken: set[str]) -> str:
    """A name that no column has."""
    name = f"rmend {word}"
    while name.lower() in taken:
        name += "'"
    return name


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _cells(rows: Existing, name: str) -> pa.Array:
    """A column as it is sent: as texts where some cells have no value of its type, so that these are not lost."""
    cells = rows.verbatim.get(name)
    if cells is not None and cells.unreadable.any():
        return rows.texts(name, np.arange(len(rows.positions)))
    return one_array(rows.values[name])


def _both(put: Existing, taken: Existing, name: str) -> pa.Array:
    parts = [_cells(put, name), one_array(taken.values[name])]
    if parts[0].type != parts[1].type:
        parts[1] = taken.texts(name, np.arange(len(taken.positions)))
    return pa.concat_arrays(parts)


def _chosen(gone: pa.Array, taken: pa.Array, put: pa.Array) -> pa.Array:
    if taken.type != put.type:
        taken, put = (one.cast(pa.string()) for one in (taken, put))
    return pc.if_else(gone, taken, put)
