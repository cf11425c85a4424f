"""What a job names, held against its table: columns, expressions, constants. What is wrong is among the problems."""

from __future__ import annotations

from typing import Any

import pyarrow as pa

from ..core.cast import cast, plain, wanted
from ..core.expressions import Expression, ExpressionError, Scope, compile_expression
from ..core.schema import Column, TableInfo
from ..stores.contract import nearest
from .problems import Problems


class Resolver:
    """Resolves what a job names."""

    def __init__(self, info: TableInfo, problems: Problems) -> None:
        self.info, self.problems = info, problems

    def column(self, what: str, name: str | None) -> str | None:
        """The column that an option names."""
        if name is None:
            return None
        column = self.info.named(name)
        if column is None:
            self.problems.wrong(
                f"{what}: table {self.info.name!r} has no column {name!r}; {nearest(name, self.info.names, 'columns')}"
            )
            return None
        return column.name

    def expression(
        self, place: str, text: str | None, scope: Scope, want: str | None = "boolean", hint: str = ""
    ) -> Expression | None:
        """The expression at a `place` of the job; `hint` is told if it is wrong."""
        if text is None:
            return None
        try:
            return compile_expression(text, scope, want)
        except ExpressionError as error:
            self.problems.wrong_expression(place, error, hint)
            return None

    def constant(self, place: str, column: Column, value: Any) -> pa.Scalar | None:
        values, bad = cast(pa.array([value]), column)
        if bad is not None and bad.any():
            self.problems.wrong(f"{place} = {value!r} is not {wanted(column)}")
            return None
        if value is None and not column.nullable:
            self.problems.wrong(f"{place}: the column is required (NOT NULL)")
        return plain(values)[0]
