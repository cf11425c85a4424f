"""The text of an expression as a tree."""

from __future__ import annotations

from functools import lru_cache

import sqlglot
from sqlglot import exp
from sqlglot.errors import ParseError, TokenError

from ..names import not_text
from .scope import ExpressionError

_LONGEST = 10_000
_MOST_DIGITS = 400


@lru_cache(maxsize=1_000)
def parse(text: str) -> exp.Expression:
    """The tree of an expression. It is shared by all who ask for it: change a copy."""
    if not text.strip():
        raise ExpressionError(text, "the expression is empty", 0, 0)
    if len(text) > _LONGEST:
        raise ExpressionError(text[:60] + "…", f"an expression has at most {_LONGEST} characters", 0, 0)
    if why := not_text(text):
        raise ExpressionError(text.encode(errors="replace").decode(), why, 0, 0)
    try:
        trees = sqlglot.parse(text)
    except ParseError as error:
        one = error.errors[0]
        at = _offset(text, one.get("line", 1), one.get("col", 1)) - len(one.get("highlight") or " ")
        what = str(one.get("description", "it cannot be read")).rstrip(".")
        what = "something is missing here" if "missing for" in what else what
        raise ExpressionError(text, f"this is not SQL: {what}", max(at, 0), max(at, 0)) from None
    except TokenError as error:
        raise ExpressionError(text, f"this is not SQL: {str(error).splitlines()[0]}", 0, len(text) - 1) from None
    except RecursionError:
        raise ExpressionError(text[:60] + "…", "the expression is nested too deep", 0, 0) from None
    if len(trees) != 1 or trees[0] is None:
        raise ExpressionError(text, "this is more than one expression", 0, len(text) - 1)
    for literal in trees[0].find_all(exp.Literal):
        if not literal.is_string and len(literal.name) > _MOST_DIGITS:
            at = max(text.find(literal.name), 0)
            raise ExpressionError(text, f"a number has at most {_MOST_DIGITS} digits", at, at + len(literal.name) - 1)
    return trees[0]


def _offset(text: str, line: int, column: int) -> int:
    return sum(len(one) + 1 for one in text.split("\n")[: line - 1]) + column
