"""The parts of a compiled expression."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
from sqlglot import exp

from ..masks import Marks, either, nulled
from .scope import Cells, Env
from .types import TEXT, family, spoken, to


@dataclass(frozen=True)
class Node:
    """A part of an expression: its type, and how it is evaluated. `literal` is set for a constant of the text."""

    type: pa.DataType
    run: Callable[[Env], Cells]
    source: exp.Expression
    literal: Any = None
    interval: tuple[int, int] | None = None
    """Months and microseconds, of an interval."""


def constant(part: exp.Expression, value: pa.Scalar, literal: Any = None) -> Node:
    return Node(value.type, lambda env: Cells(value), part, literal)


def mapped(part: exp.Expression, kind: pa.DataType, done: Callable[..., Any], *nodes: Node) -> Node:
    """A function of values that cannot fail."""

    def run(env: Env) -> Cells:
        failed, given = None, []
        for node in nodes:
            cells = node.run(env)
            failed = either(failed, cells.failed)
            given.append(cells.values)
        return Cells(_unknown(env, done(*given), failed), failed)

    return Node(kind, run, part)


def _unknown(env: Env, values: Any, failed: Marks) -> Any:
    """Values that are null where something failed, whatever is made of them: NULL IS NULL is true, and 1 / 0 IS NULL
    is not."""
    return values if failed is None or not failed.any() else nulled(env.array(values), failed)


def computed(part: exp.Expression, done: Callable[..., Cells], *nodes: Node) -> Node:
    """A function of arrays that may fail, in the type that it gives for no rows."""

    def run(env: Env) -> Cells:
        failed, given = None, []
        for node in nodes:
            cells = node.run(env)
            failed = either(failed, cells.failed)
            given.append(env.array(cells.values))
        out = done(*given)
        return Cells(_unknown(env, out.values, failed), either(failed, out.failed))

    kind = done(*(pa.array([], node.type) for node in nodes)).values.type
    return Node(kind, run, part)


def as_type(node: Node, kind: pa.DataType) -> Node:
    if node.type == kind:
        return node
    return Node(kind, lambda env: recast(node.run(env), kind), node.source, node.literal)


def recast(cells: Cells, kind: pa.DataType) -> Cells:
    return Cells(to(cells.values, kind), cells.failed)


def said(node: Node) -> str:
    if node.interval is not None:
        return "an interval"
    if isinstance(node.literal, str) and node.type == TEXT:
        return f"the text '{node.literal}'"
    return spoken(node.type)


def mend(node: Node, wanted: str = "number") -> str:
    """The hint how to turn a value into what is wanted."""
    if node.interval is not None or family(node.type) != "text":
        return ""
    sql = {"number": "DOUBLE", "date": "DATE", "timestamp": "TIMESTAMP", "time": "TIME", "boolean": "BOOLEAN"}.get(
        wanted
    )
    if sql is None:
        return ""
    if wanted == "number" and isinstance(node.literal, str):
        return "; write a number without quotes"
    return f"; write CAST({node.source.sql()} AS {sql})"
