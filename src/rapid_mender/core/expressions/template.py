"""A text with expressions between braces."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

from ..cast import as_text
from ..names import not_text
from . import Env, Expression, ExpressionError, Scope, compile_expression
from .scope import Name


class Template:
    """The text of `because`, with expressions between braces; {{ is a brace."""

    def __init__(self, text: str, scope: Scope) -> None:
        self.parts: list[str | Expression] = []
        if why := not_text(text):
            raise ExpressionError(text.encode(errors="replace").decode(), why, 0, 0)
        at = 0
        while at < len(text):
            here = min((place for place in (text.find("{", at), text.find("}", at)) if place >= 0), default=len(text))
            if here > at:
                self.parts.append(text[at:here])
            if here == len(text):
                break
            if text[here : here + 2] in ("{{", "}}"):
                self.parts.append(text[here])
                at = here + 2
                continue
            end = text.find("}", here)
            if text[here] == "}" or end < 0:
                raise ExpressionError(text, "a brace stands alone; write {{ or }} for a brace itself", here, here)
            try:
                self.parts.append(compile_expression(text[here + 1 : end], scope))
            except ExpressionError as error:
                raise ExpressionError(text, error.what, here + 1 + error.start, here + 1 + error.end) from None
            at = end + 1

    def texts(self, env: Env) -> pa.Array | str:
        """One text for all rows, or one for each."""
        if all(isinstance(part, str) for part in self.parts):
            return "".join(str(part) for part in self.parts)
        pieces = []
        for part in self.parts:
            if isinstance(part, str):
                pieces.append(part)
            else:
                pieces.append(pc.fill_null(as_text(env.array(part.evaluate(env).values))[0].cast(pa.string()), "null"))
        return pc.binary_join_element_wise(*pieces, "")

    @property
    def uses(self) -> tuple[Name, ...]:
        return tuple(name for part in self.parts if isinstance(part, Expression) for name in part.uses)
