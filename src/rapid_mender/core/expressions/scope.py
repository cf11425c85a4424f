"""The names that an expression may use when it is compiled, and their values when it is evaluated."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
import pyarrow as pa

from ...errors import JobError
from ..names import closest

if TYPE_CHECKING:
    from sqlglot import exp

Name = tuple[str, str]
"""A side ("incoming", "existing", "changed", or "" for what has none) and a name."""


class ExpressionError(JobError):
    """An expression is wrong: what, and between which characters of its text; `lines` show the place."""

    def __init__(self, text: str, what: str, start: int, end: int) -> None:
        self.text, self.what, self.start, self.end = text, what, start, end
        line_start = text.rfind("\n", 0, start) + 1
        line = text[line_start:].split("\n", 1)[0]
        marks = "^" * max(1, min(end, line_start + len(line) - 1) - start + 1)
        self.lines = f"\n    {line}\n    {' ' * (start - line_start)}{marks}"
        super().__init__(f"{what}{self.lines}")


class Unknown(Exception):
    """A name that the scope does not have, with a hint; `side`: it is the side that is unknown."""

    def __init__(self, what: str, side: bool = False) -> None:
        self.side = side
        super().__init__(what)


class Cells(NamedTuple):
    """The values of an expression, and a mask of the rows for which it could not be computed (they are null)."""

    values: pa.Array | pa.Scalar
    failed: np.ndarray | None = None


@dataclass
class Env:
    """The rows that an expression is evaluated over. `values` has an array of `rows` values for each name."""

    rows: int
    values: Mapping[Name, pa.Array]
    now: datetime
    """The time of the run, in UTC: CURRENT_TIMESTAMP."""

    def array(self, cells: pa.Array | pa.Scalar) -> pa.Array:
        return pa.repeat(cells, self.rows) if isinstance(cells, pa.Scalar) else cells


@dataclass(frozen=True)
class Expression:
    """A checked expression. `uses` are the names that it reads."""

    text: str
    type: pa.DataType
    uses: tuple[Name, ...]
    tree: exp.Expression | None
    _run: Callable[[Env], Cells]

    def evaluate(self, env: Env) -> Cells:
        """The values, one for each row of `env`, and a mask of the rows for which there is none but should be."""
        cells = self._run(env)
        return Cells(env.array(cells.values), cells.failed)


@dataclass
class Scope:
    """The names that an expression may use, with their types.

    `sides` maps a side to its columns; `bare` is the side of a name without one; `flags` are true-or-false
    names without a side; with `changes`, changed('column') may be asked for the columns of `existing`.
    """

    sides: Mapping[str, Mapping[str, pa.DataType]]
    bare: str | None = None
    flags: tuple[str, ...] = ()
    changes: bool = False
    what: Mapping[str, str] = field(default_factory=dict)
    """For messages: what each side is called."""

    def find(self, side: str, name: str) -> tuple[Name, pa.DataType]:
        """The key and type of a name. Raises Unknown, with the mend."""
        if not side:
            if name.lower() in self.flags:
                return ("", name.lower()), pa.bool_()
            if self.bare is None:
                near = [f"{s}.{c}" for s in self.sides for c in self.sides[s] if c.lower() == name.lower()]
                hint = closest(name, self.flags)
                mend = f"write {' or '.join(near)}" if near else f"did you mean {hint}?" if hint else self._shape()
                raise Unknown(f"{name!r} has no side; {mend}")
            side = self.bare
        sides = {one.lower(): one for one in self.sides}
        if side.lower() not in sides:
            mend = f"did you mean {hint}?" if (hint := closest(side, self.sides)) else self._shape()
            raise Unknown(f"there is no {side!r} here; {mend}", side=True)
        side = sides[side.lower()]
        columns = self.sides[side]
        alike = [c for c in columns if c == name] or [c for c in columns if c.lower() == name.lower()]
        if not alike:
            near_name = closest(name, columns)
            listed = ", ".join(list(columns)[:12]) + (", …" if len(columns) > 12 else "")
            mend = f"did you mean {near_name}?" if near_name else f"the columns are {listed or 'none'}"
            raise Unknown(f"{self.what.get(side, side)} has no column {name!r}; {mend}")
        return (side, alike[0]), columns[alike[0]]

    def find_changed(self, name: str) -> Name:
        if not self.changes:
            raise Unknown("changed(…) is known in rules only")
        (_, column), _ = self.find("existing", name)
        return "changed", column

    def _shape(self) -> str:
        named = [f"{side}.COLUMN" for side in self.sides if side]
        return f"the names here are {', '.join([*named, *self.flags])}"


def always(value: object, constant: pa.Scalar) -> Expression:
    """An expression that is the same for every row; `value` is how it was written."""
    return Expression(repr(value), constant.type, (), None, lambda env: Cells(constant))
