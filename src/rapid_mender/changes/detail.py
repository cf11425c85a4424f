"""One detail of a batch on which other code depends."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import astuple, dataclass
from datetime import datetime
from typing import Any, Literal

Name = Literal[
    "key", "began", "pruned", "unrecorded", "captured", "pause", "resume", "mended", "origin", "archive", "restored",
    "versions", "column", "table", "replaced",
    "left", "process",
]  # fmt: skip


@dataclass(frozen=True)
class Detail:
    """One row of `rmend_details`. What a field says depends on the detail:

    - key: `name`, a column of the key by which the batch was merged. Only if it is another key than before.
    - column: from the batch on, `value` stands in the names of the history's columns of the column `name`, which some
      databases number `number` in the table that they identify by `role`; a row for each column.
    - table: the database numbers the table (`role` "table") and its history ("history") `number`; with the column rows,
      whenever one of them has changed.
    - replaced: after the change `change_no` another table stood under the name, with other rows than the history has.
    - began: the history has values for the pair of columns with the name `name` from the change `change_no` on.
    - pruned: the changes up to `change_no`, made up to `at_time` and of batches up to `of_batch`, were removed; `value`
      is the hash of that batch's seal.
    - unrecorded: the batch's changes of the table are not in its history; they came after `change_no`.
    - captured: a capture of the table began.
    - pause: a capture was paused after `change_no`; the table had `row_count` rows. With the role "found" it was found
      that it had lost triggers, some time before; with the role "resumed" the pause before ended there.
    - resume: it was resumed at `at_time`; after `change_no` so many numbers (`row_count`) are kept free.
    - mended: what changed in the pause that batch `of_batch` noted was found.
    - origin: the batch brought changes of the table that `name` stands for, the last of which has the fingerprint
      `value`, see `followers`; `role`: what the store of that table called itself.
    - archive: deleted rows were put into the table `name`.
    - restored: the undo made undone what batch `of_batch` did to the archive `name`; without `of_batch`, as of earlier
      versions: the rows that it inserted came out of there.
    - process: the batch, which is committed in parts, is merged by the process `number` of the machine `name`; `value`:
      the machine's start, where processes are numbered, and when the process was started.
    - left: the undo left `row_count` rows as they were.
    - versions: how the table keeps them: `role` says what the column `name` is (from, to, column, also, key); with the
      role "open" `value` stands for no end, with "included" the end is the last day. Only if that is another way than
      before.
    """

    detail: Name
    role: str | None = None
    name: str | None = None
    change_no: int | None = None
    of_batch: int | None = None
    row_count: int | None = None
    at_time: datetime | None = None
    value: str | None = None
    number: int | None = None
    batch: int = 0
    """The batch that it is of, where it was read."""

    @property
    def said(self) -> tuple[Any, ...]:
        """All that it says, whichever batch it is of."""
        return astuple(self)[:-1]


def versions_details(
    *,
    begin: str,
    end: str,
    open_: str | None,
    included: bool,
    columns: Sequence[str],
    also: Sequence[str],
    key: Sequence[str],
) -> list[Detail]:
    """How a table keeps versions. `open_`: what stands for no end, as a text; None: null does."""
    named = (("from", [begin]), ("to", [end]), ("column", columns), ("also", also), ("key", key))
    details = [Detail("versions", role, name) for role, names in named for name in names]
    details += [Detail("versions", "open", value=open_)] if open_ is not None else []
    return details + ([Detail("versions", "included")] if included else [])
