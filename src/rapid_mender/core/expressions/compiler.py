"""Compiling an expression: its text is parsed, every name and type is checked, and a tree of nodes comes out."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt
from sqlglot import exp

from ..cast import cast as cast_to_column
from ..masks import either, mask_of
from ..schema import Column
from . import kernels
from .nodes import Node, as_type, constant, mapped, mend, said
from .parsing import parse
from .scope import Cells, Env, Expression, ExpressionError, Name, Scope, Unknown
from .types import BOOL, FLOAT, INT, TEXT, canonical, common, family, spoken

_DEEPEST = 100
FUNCTIONS = (
    "ABS", "CASE", "CAST", "COALESCE", "CURRENT_DATE", "CURRENT_TIMESTAMP", "EXTRACT", "LENGTH", "LOWER", "LPAD",
    "NULLIF", "POSITION", "REPLACE", "ROUND", "RPAD", "SPLIT_PART", "SUBSTRING", "TRIM", "UPPER",
)  # fmt: skip
Handlers = Mapping[type, Callable[["Compiler", Any], Node]]
"""For each kind of part of an expression, the function that makes a node of it."""
_COMPARE: dict[type[exp.Expression], Callable[..., Any]] = {
    exp.EQ: pc.equal, exp.NEQ: pc.not_equal, exp.GT: pc.greater, exp.GTE: pc.greater_equal, exp.LT: pc.less,
    exp.LTE: pc.less_equal,
}  # fmt: skip


def compiled(text: str, scope: Scope, want: str | None, functions: Handlers) -> Expression:
    """Parse and check an expression, as `compile_expression` says. `functions` has what is done for each kind of
    function and operator besides those that are here."""
    tree = parse(text)
    work = Compiler(text, scope, {**_HANDLERS, **functions})
    node = work.node(tree)
    if want is not None and family(node.type) not in (want, "null"):
        raise work.wrong(
            tree, f"this must be {'true or false' if want == 'boolean' else want}, and is {spoken(node.type)}"
        )
    if node.interval is not None:
        raise work.wrong(tree, "an interval is nothing by itself; add it to a date")
    if want == "boolean":
        node = as_type(node, BOOL)  # NULL alone has no type
    return Expression(text, node.type, tuple(dict.fromkeys(work.uses)), tree, node.run)


class Compiler:
    def __init__(self, text: str, scope: Scope, handlers: Handlers) -> None:
        self.text = text
        self.handlers = handlers
        self.scope = scope
        self.uses: list[Name] = []
        self.depth = 0

    def wrong(self, part: exp.Expression, what: str) -> ExpressionError:
        places = [one.meta for one in part.walk() if "start" in one.meta]
        start = min((one["start"] for one in places), default=0)
        end = max((one["end"] for one in places), default=len(self.text) - 1)
        return ExpressionError(self.text, what, start, end)

    def node(self, part: exp.Expression) -> Node:
        self.depth += 1
        if self.depth > _DEEPEST:
            raise self.wrong(part, "the expression is nested too deep")
        for kind in type(part).__mro__:
            if kind in self.handlers:
                unknown = [name for name, value in part.args.items() if value and name not in _ARGUMENTS]
                if unknown:
                    raise self.wrong(part, f"{unknown[0].upper()} cannot stand here")
                node = self.handlers[kind](self, part)
                break
        else:
            raise self.wrong(part, _unknown(part))
        self.depth -= 1
        return node

    # -- leaves -------------------------------------------------------------------------------------

    def literal(self, part: exp.Literal) -> Node:
        if part.is_string:
            return constant(part, pa.scalar(str(part.this), TEXT), str(part.this))
        text = str(part.this)
        if text.isdigit() and int(text) < 2**63:
            return constant(part, pa.scalar(int(text), INT), int(text))
        try:
            if "e" in text.lower():
                number = float(text)
                if not math.isinf(number):
                    return constant(part, pa.scalar(number, FLOAT), number)
                raise self.wrong(part, f"{text} is larger than every number here")
            exact = Decimal(text)
        except (ValueError, ArithmeticError):
            raise self.wrong(part, f"{text} is no number") from None
        try:
            return constant(part, pa.scalar(exact), exact)
        except pa.ArrowInvalid:
            raise self.wrong(part, f"{text} has more digits than can be counted with; write it as 1.5e3") from None

    def column(self, part: exp.Column) -> Node:
        if part.args.get("db") is not None:
            raise self.wrong(part, "a name has one point at most: side.column")
        try:
            name, kind = self.scope.find(part.table, part.name)
        except Unknown as error:
            place = part.args["table"] if error.side else part
            raise self.wrong(place, str(error)) from None
        return self._value_of(part, name, kind)

    def _value_of(self, part: exp.Expression, name: Name, kind: pa.DataType) -> Node:
        self.uses.append(name)
        wanted = canonical(kind)

        def run(env: Env) -> Cells:
            values = env.values[name]
            return Cells(values if values.type == wanted else pc.cast(values, wanted))

        return Node(wanted, run, part)

    def anonymous(self, part: exp.Anonymous) -> Node:
        given = part.expressions
        if part.name.lower() == "changed" and len(given) == 1 and isinstance(given[0], exp.Literal | exp.Column):
            try:
                return self._value_of(part, self.scope.find_changed(given[0].name), BOOL)
            except Unknown as error:
                raise self.wrong(part, str(error)) from None
        raise self.wrong(part, _unknown(part))

    # -- logic --------------------------------------------------------------------------------------

    def logic(self, part: exp.Connector) -> Node:
        done = pc.and_kleene if isinstance(part, exp.And) else pc.or_kleene
        parts = list(part.flatten())  # a long chain is not a deep tree
        nodes = [self._truth(one) for one in parts]

        def run(env: Env) -> Cells:
            out = nodes[0].run(env)
            for node in nodes[1:]:
                other = node.run(env)
                values = done(out.values, other.values)
                failed = either(out.failed, other.failed)
                if failed is not None:  # what is known whatever the failed part would be, is known
                    failed = failed & mask_of(pc.is_null(env.array(values)))
                out = Cells(values, failed)
            return out

        return Node(BOOL, run, part)

    def _truth(self, part: exp.Expression) -> Node:
        node = self.node(part)
        if family(node.type) not in ("boolean", "null") or node.interval is not None:
            raise self.wrong(part, f"this must be true or false, and is {spoken(node.type)}")
        if pt.is_null(node.type):
            return constant(part, pa.scalar(None, BOOL))
        return node

    def negation(self, part: exp.Not) -> Node:
        return mapped(part, BOOL, pc.invert, self._truth(part.this))

    def comparison(self, part: exp.Binary) -> Node:
        done = _COMPARE[type(part)]
        a, b = self.alike([part.this, part.expression], f"{part.sql()}: these cannot be compared")
        return mapped(part, BOOL, done, a, b)

    def distinct(self, part: exp.Binary) -> Node:
        a, b = self.alike([part.this, part.expression], "these cannot be compared")

        def run(x: Any, y: Any) -> Any:
            both = pc.and_(pc.is_null(x), pc.is_null(y))
            same = pc.or_(both, pc.fill_null(pc.equal(x, y), False))
            return same if isinstance(part, exp.NullSafeEQ) else pc.invert(same)

        return mapped(part, BOOL, run, a, b)

    def is_(self, part: exp.Is) -> Node:
        what = part.expression
        if isinstance(what, exp.Null):
            return mapped(part, BOOL, pc.is_null, self.node(part.this))
        if isinstance(what, exp.Boolean):
            return mapped(part, BOOL, lambda v: pc.fill_null(pc.equal(v, what.this), False), self._truth(part.this))
        raise self.wrong(part, "IS is followed by NULL, TRUE, FALSE or DISTINCT FROM")

    def between(self, part: exp.Between) -> Node:
        parts = [part.this, part.args["low"], part.args["high"]]
        value, low, high = self.alike(parts, "these cannot be compared")
        return mapped(
            part, BOOL, lambda v, a, b: pc.and_kleene(pc.greater_equal(v, a), pc.less_equal(v, b)), value, low, high
        )

    def in_(self, part: exp.In) -> Node:
        if part.args.get("query") is not None or part.args.get("unnest") is not None:
            raise self.wrong(part, "a subquery cannot stand here: an expression sees one record at a time")
        if not part.expressions:
            raise self.wrong(part, "IN takes one value at least: IN (1, 2)")
        value, *others = self.alike([part.this, *part.expressions], "these cannot be compared")
        if len(others) > 8 and all(one.literal is not None for one in others):
            none = Env(1, {}, None)  # type: ignore[arg-type]  # literals ask nothing of it
            listed = pa.array([one.run(none).values.as_py() for one in others], value.type)
            return mapped(part, BOOL, lambda v: pc.if_else(pc.is_null(v), None, pc.is_in(v, value_set=listed)), value)

        def run(v: Any, *each: Any) -> Any:
            out = pc.equal(v, each[0])
            for one in each[1:]:
                out = pc.or_kleene(out, pc.equal(v, one))
            return out

        return mapped(part, BOOL, run, value, *others)

    def like(self, part: exp.Expression) -> Node:
        escape = None
        if isinstance(part, exp.Escape):
            escape, part = str(part.expression.name), part.this
        if not isinstance(part, exp.Like):
            raise self.wrong(part, "ESCAPE belongs to LIKE")
        pattern = part.expression
        value = self.of("text", part.this, "LIKE")
        turned = pc.invert if part.args.get("negate") else lambda values: values
        if not isinstance(pattern, exp.Literal) or not pattern.is_string:
            raise self.wrong(part, "the pattern of LIKE must be a text in quotes")
        if fault := kernels.check_pattern(pattern.name, escape):
            raise self.wrong(pattern, fault)
        return mapped(part, BOOL, lambda v: turned(kernels.like(v, pattern.name, escape)), value)

    # -- choices ------------------------------------------------------------------------------------

    def case(self, part: exp.Case) -> Node:
        branches = part.args["ifs"]
        if part.this is not None:
            conditions = [
                self.comparison(exp.EQ(this=part.this.copy(), expression=one.this.copy())) for one in branches
            ]
        else:
            conditions = [self._truth(one.this) for one in branches]
        default = part.args.get("default") or exp.Null()
        *results, other = self.alike([*(one.args["true"] for one in branches), default], "these have no type in common")
        return self._choice(part, list(zip(conditions, results, strict=True)), other)

    def _choice(self, part: exp.Expression, cases: list[tuple[Node, Node]], other: Node) -> Node:
        kind = other.type

        def run(env: Env) -> Cells:
            done = [(condition.run(env), result.run(env)) for condition, result in cases]
            return kernels.choose(env, done, other.run(env), kind)

        return Node(kind, run, part)

    def coalesce(self, part: exp.Coalesce) -> Node:
        *values, last = self.alike([part.this, *part.expressions], "these have no type in common")
        given = [(mapped(part, BOOL, pc.is_valid, one), one) for one in values]
        return self._choice(part, given, last)

    def nullif(self, part: exp.Nullif) -> Node:
        a, b = self.alike([part.this, part.expression], "these cannot be compared")
        same = mapped(part, BOOL, pc.equal, a, b)
        return self._choice(part, [(same, constant(part, pa.scalar(None, a.type)))], a)

    # -- types --------------------------------------------------------------------------------------

    def of(self, wanted: str, part: exp.Expression, who: str) -> Node:
        node = self.node(part)
        if node.interval is not None or family(node.type) not in (wanted, "null"):
            raise self.wrong(part, f"{who} takes a {wanted}, and this is {said(node)}{mend(node, wanted)}")
        if pt.is_null(node.type):
            return as_type(node, {"text": TEXT, "number": INT}[wanted])
        return node

    def read(self, node: Node, kind: pa.DataType) -> Node:
        """A text in quotes as a date, a time or a moment."""
        values, bad = cast_to_column(pa.array([node.literal]), Column("", kind))
        if bad is not None and bad.any():
            raise self.wrong(node.source, f"'{node.literal}' is not {spoken(kind)}")
        return constant(node.source, values[0], node.literal)

    def alike(self, parts: Sequence[exp.Expression], what: str) -> list[Node]:
        """The parts in one type. A text in quotes beside a date is read as a date, 0 and 1 beside a boolean as one."""
        nodes = [self.node(one) for one in parts]
        for node in nodes:
            if node.interval is not None:
                raise self.wrong(node.source, "an interval is nothing by itself; add it to a date")
        families = {family(node.type) for node in nodes if node.literal is None}
        moment = next((f for f in ("timestamp", "date", "time") if f in families), None)
        if moment is not None:
            kind = next(node.type for node in nodes if node.literal is None and family(node.type) == moment)
            nodes = [self.read(n, kind) if isinstance(n.literal, str) and n.type == TEXT else n for n in nodes]
        if "boolean" in families:
            nodes = [
                constant(n.source, pa.scalar(bool(n.literal), BOOL)) if n.type == INT and n.literal in (0, 1) else n
                for n in nodes
            ]
        kind = nodes[0].type if any(not pt.is_null(node.type) for node in nodes) else INT
        for node in nodes[1:]:
            both = common(kind, node.type)
            if both is None:
                other = next(n for n in nodes if family(n.type) == family(kind))
                hint = mend(node, family(kind)) or mend(other, family(node.type))
                raise self.wrong(node.source, f"{what}: {said(other)} and {said(node)}{hint}")
            kind = both
        return [as_type(node, kind) for node in nodes]


def _unknown(part: exp.Expression) -> str:
    if isinstance(part, exp.AggFunc):
        return f"{part.sql_name()} is an aggregate, and an expression sees one record at a time"
    if isinstance(part, exp.Query | exp.Subquery | exp.Exists | exp.SubqueryPredicate):
        return "a subquery cannot stand here: an expression sees one record at a time"
    if isinstance(part, exp.Func):
        name = part.name if isinstance(part, exp.Anonymous) else part.sql_name()
        return f"there is no function {name.upper()} here; the functions are {', '.join(FUNCTIONS)}"
    return f"{part.sql() or type(part).__name__} cannot stand in an expression"


_ARGUMENTS = {
    "this", "expression", "expressions", "table", "low", "high", "ifs", "true", "default", "start", "length",
    "position", "decimals", "to", "unit", "negate", "is_string", "escape", "query", "unnest", "db", "typed", "safe",
    "substr", "replacement", "fill_pattern", "is_left", "delimiter", "part_index", "format",
}  # fmt: skip
"""The parts of a tree that are understood; anything else that the parser knows is refused."""

_HANDLERS: dict[type, Callable[[Compiler, Any], Node]] = {
    exp.Literal: Compiler.literal,
    exp.Column: Compiler.column,
    exp.Boolean: lambda work, part: constant(part, pa.scalar(bool(part.this), BOOL)),
    exp.Null: lambda work, part: constant(part, pa.scalar(None)),
    exp.Paren: lambda work, part: work.node(part.this),
    exp.Anonymous: Compiler.anonymous,
    exp.And: Compiler.logic,
    exp.Or: Compiler.logic,
    exp.Not: Compiler.negation,
    **dict.fromkeys(_COMPARE, Compiler.comparison),
    exp.NullSafeEQ: Compiler.distinct,
    exp.NullSafeNEQ: Compiler.distinct,
    exp.Is: Compiler.is_,
    exp.Between: Compiler.between,
    exp.In: Compiler.in_,
    exp.Like: Compiler.like,
    exp.Escape: Compiler.like,
    exp.Case: Compiler.case,
    exp.Coalesce: Compiler.coalesce,
    exp.Nullif: Compiler.nullif,
}
