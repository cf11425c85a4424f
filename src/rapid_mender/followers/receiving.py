"""The table that follows, as the sender sees it: which keys it calls equal, and what it makes of values."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pyarrow as pa

from ..core.cast import cast
from ..core.compare import differs
from ..core.keys import one_array
from ..core.schema import TableInfo
from ..errors import JobError
from ..stores.contract import Session
from .sending import Sending


@dataclass(frozen=True)
class Receiving:
    """The table that follows, within a session."""

    session: Session
    info: TableInfo
    send: Sending

    @cached_property
    def key(self) -> list[str]:
        """The columns of its key."""
        return [self.info[name].name for name in self.send.target_key(self.info)]

    @property
    def is_keyed(self) -> bool:
        """Whether its key is sent as it is."""
        return {*self.key} <= {*self.columns.values()}

    @property
    def is_particular(self) -> bool:
        """Whether it may tell other keys apart than the source does, and these are sent as they are, not derived."""
        if not self.is_keyed:
            return False
        words = (pa.types.is_string, pa.types.is_large_string, pa.types.is_binary, pa.types.is_large_binary)
        types = [self.info[name].type for name in self.key] + [self.send.info[name].type for name in self.send.key]
        return bool(self.send.sync.key) or any(is_word(one) for one in types for is_word in words)

    @cached_property
    def columns(self) -> dict[str, str]:
        """By column that is sent the one of the table into which it goes."""
        rename = self.send.sync.rename
        found = {name: self.info.named(rename.get(name, name)) for name in self.send.columns}
        return {name: to.name for name, to in found.items() if to is not None and to.name not in self.send.sync.derive}

    def stored(self, rows: pa.Table) -> pa.Table:
        """What the table holds once it has taken rows of the source: its own columns, in its types. A value that it
        cannot take is null."""
        columns = {name: to for name, to in self.columns.items() if name in rows.column_names}
        values = pa.table({to: cast(one_array(rows[name]), self.info[to])[0] for name, to in columns.items()})
        if any(self.info[name].normalises for name in values.column_names):
            values, _ = self.session.normalise(self.info, values)
        return values

    @cached_property
    def sources(self) -> dict[str, str]:
        """By column of the key the one of the source that is sent into it. Raises JobError if one is derived."""
        back = {to: name for name, to in self.columns.items()}
        if lacking := [name for name in self.key if name not in back]:
            raise JobError(
                f"column {lacking[0]!r} of the key of {self.info.name!r} is not sent, but derived, so its rows cannot "
                "be held against those of the table that is followed"
            )
        return {name: back[name] for name in self.key}

    def folded(self, rows: pa.Table) -> list[pa.Array]:
        """The keys of rows of the source, in a form in which two are the same where this table calls them equal."""
        return self.session.fold(self.info, self.stored(rows.select([*self.sources.values()])).select(self.key))

    def tells_apart(self, old: pa.Table, new: pa.Table) -> np.ndarray:
        """A mask of the pairs of keys that are two here."""
        pairs = zip(self.folded(old), self.folded(new), strict=True)
        return np.any([differs(was, now) for was, now in pairs], axis=0)
