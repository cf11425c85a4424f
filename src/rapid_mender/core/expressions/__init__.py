"""SQL expressions over Arrow columns: parsed, checked against columns and types, evaluated with three-valued logic."""

from .scope import Cells, Env, Expression, ExpressionError, Scope, always

__all__ = ["Cells", "Env", "Expression", "ExpressionError", "Scope", "always", "compile_expression"]


def compile_expression(text: str, scope: Scope, want: str | None = None) -> Expression:
    """Parse and check an expression. `want` is the family that its value must be of ("boolean").

    Raises ExpressionError, which points at the place.
    """
    from .compiler import compiled  # the parser takes a tenth of a second to load; many jobs need none
    from .functions import HANDLERS

    return compiled(text, scope, want, HANDLERS)
