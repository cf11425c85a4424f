"""SQL expressions over Arrow columns: parsed, checked against columns and types, evaluated with three-valued logic."""

from .compiler import Expression, compile_expression
from .scope import Cells, Env, ExpressionError, Scope

__all__ = ["Cells", "Env", "Expression", "ExpressionError", "Scope", "compile_expression"]
