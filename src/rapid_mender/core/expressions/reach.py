"""Conditions that can never be true, and conditions that an earlier one always takes first."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from decimal import Decimal
from typing import Any

from sqlglot import exp
from sqlglot.optimizer.simplify import simplify

_WORLDS = ({"matched": True}, {"matched": False, "changed": False})
"""Either a row has the record's key, or none has it, and then nothing is changed and all its columns are null."""


def never_true(tree: exp.Expression) -> bool:
    """Whether a condition can be seen never to be true, whatever the values are."""
    folded = [_folded(tree, world) for world in _WORLDS]
    return all(_known(one) in (False, None) or _contradicts(one) for one in folded)


def unreachable(trees: Sequence[tuple[int, exp.Expression]]) -> list[tuple[int, int]]:
    """Pairs (later, earlier) of numbered conditions of which the earlier is true whenever the later is."""
    shadowed = []
    parts = [(number, _conjuncts(tree), _always_true(tree)) for number, tree in trees]
    for place, (number, mine, _) in enumerate(parts):
        for earlier, theirs, always in parts[:place]:
            if always or theirs <= mine:
                shadowed.append((number, earlier))
                break
    return shadowed


def _always_true(tree: exp.Expression) -> bool:
    return all(_known(_folded(tree, world)) is True for world in _WORLDS)


def _conjuncts(tree: exp.Expression) -> set[str]:
    tree = _bare(tree)
    parts = tree.flatten() if isinstance(tree, exp.And) else [tree]
    return {_bare(part).sql(normalize=True) for part in parts}


def _bare(tree: exp.Expression) -> exp.Expression:
    while isinstance(tree, exp.Paren):
        tree = tree.this
    return tree


def _folded(tree: exp.Expression, world: dict[str, bool]) -> exp.Expression:
    def known(node: exp.Expression) -> exp.Expression:
        if isinstance(node, exp.Column):
            if not node.table and node.name.lower() in world:
                return exp.Boolean(this=world[node.name.lower()])
            if node.table.lower() == "existing" and not world["matched"]:
                return exp.Null()
        if isinstance(node, exp.Anonymous) and node.name.lower() == "changed" and not world["matched"]:
            return exp.Boolean(this=False)
        return node

    try:
        return simplify(tree.copy().transform(known))
    except Exception:  # what cannot be simplified is not known
        return tree


def _contradicts(tree: exp.Expression) -> bool:
    """Whether a chain of AND asks one name for values that exclude each other: a > 5 AND a < 3."""
    tree = _bare(tree)
    if not isinstance(tree, exp.And):
        return False
    bounds: dict[tuple[str, bool], list[Any]] = {}
    for part in map(_bare, tree.flatten()):
        bound = _bound(part)
        if bound is None:
            continue
        name, op, value = bound
        low, high = bounds.setdefault((name, isinstance(value, str)), [None, None])
        if op in ("=", ">", ">=") and (low is None or (value, op == ">") > low):
            low = (value, op == ">")
        if op in ("=", "<", "<=") and (high is None or (value, op != "<") < high):
            high = (value, op != "<")
        bounds[name, isinstance(value, str)] = [low, high]
        if low and high and (low[0] > high[0] or (low[0] == high[0] and (low[1] or not high[1]))):
            return True
    return False


def _bound(part: exp.Expression) -> tuple[str, str, Any] | None:
    """A comparison of a name with a constant: the name, the operator, the constant."""
    ops = {exp.EQ: "=", exp.GT: ">", exp.GTE: ">=", exp.LT: "<", exp.LTE: "<="}
    turned = {"=": "=", ">": "<", ">=": "<=", "<": ">", "<=": ">="}
    op = ops.get(type(part))
    if op is None:
        return None
    left, right = _bare(part.this), _bare(part.expression)
    if isinstance(left, exp.Literal):
        left, right, op = right, left, turned[op]
    if not isinstance(left, exp.Column) or not isinstance(right, exp.Literal):
        return None
    return left.sql().lower(), op, right.name if right.is_string else Decimal(right.name)


_UNKNOWN = object()


def _known(tree: exp.Expression) -> object:
    """True, False or None (null) if the condition always has that value; otherwise a marker."""
    tree = _bare(tree)
    if isinstance(tree, exp.Boolean):
        return bool(tree.this)
    if isinstance(tree, exp.Null):
        return None
    if isinstance(tree, exp.Not):
        value = _known(tree.this)
        return (not value) if isinstance(value, bool) else value
    if isinstance(tree, exp.And | exp.Or):
        values = [_known(part) for part in tree.flatten()]
        decisive = isinstance(tree, exp.Or)
        if decisive in values:
            return decisive
        if all(value is not _UNKNOWN for value in values):
            return None if None in values else not decisive
        if isinstance(tree, exp.And) and None in values:
            return None  # null, or false: never true
        return _UNKNOWN
    if isinstance(tree, exp.EQ | exp.NEQ | exp.GT | exp.GTE | exp.LT | exp.LTE | exp.Like | exp.Between | exp.In):
        return None if any(isinstance(_bare(part), exp.Null) for part in _operands(tree)) else _UNKNOWN
    if isinstance(tree, exp.Is) and isinstance(tree.expression, exp.Null) and isinstance(_bare(tree.this), exp.Null):
        return True
    return _UNKNOWN


def _operands(tree: exp.Expression) -> list[exp.Expression]:
    if isinstance(tree, exp.In):
        return [tree.this]
    if isinstance(tree, exp.Between):
        return [tree.this]
    return [tree.this, tree.expression]


def rests_on(tree: exp.Expression, absent: Collection[str]) -> bool:
    """Whether an expression must be null because the incoming names in `absent` are."""
    tree = _bare(tree)
    if isinstance(tree, exp.Column):
        return tree.table.lower() == "incoming" and tree.name.lower() in absent
    if isinstance(tree, exp.Null):
        return True
    parts = [part for part in tree.iter_expressions() if not isinstance(part, exp.DataType | exp.Identifier | exp.Var)]
    if isinstance(tree, exp.Is | exp.NullSafeEQ | exp.NullSafeNEQ):
        return False
    if isinstance(tree, exp.Case):
        default = tree.args.get("default") or exp.Null()
        return all(rests_on(one, absent) for one in (*(branch.args["true"] for branch in tree.args["ifs"]), default))
    if isinstance(tree, exp.Nullif):
        return rests_on(tree.this, absent)
    if isinstance(tree, exp.Coalesce | exp.And | exp.Or):
        return all(rests_on(part, absent) for part in parts)
    return any(rests_on(part, absent) for part in parts if not isinstance(part, exp.Null))
