"""Small arithmetic on one value, as release sheets write it: `value * 1000`. Nothing else can be said or run by it."""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Mapping
from decimal import Decimal, DivisionByZero, InvalidOperation

_OPERATIONS: Mapping[type[ast.operator], Callable[[Decimal, Decimal], Decimal]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
}
LONGEST = 100


def check_arithmetic(text: str) -> str:
    """The expression, when it is one; raises ValueError with the reason."""
    if len(text) > LONGEST:
        raise ValueError(f"should have at most {LONGEST} characters")
    try:
        _compute(ast.parse(text, mode="eval").body, Decimal(1))
    except (SyntaxError, RecursionError) as fault:
        raise ValueError("should be arithmetic on `value`, like value * 1000") from fault
    except (DivisionByZero, InvalidOperation, ZeroDivisionError):
        pass  # for other values it may have an answer
    return text


def computed(text: str, value: str) -> str:
    """What an expression makes of a value; the value itself where it is no number, or there is no answer."""
    try:
        found = _compute(ast.parse(text, mode="eval").body, Decimal(value.strip()))
    except (InvalidOperation, DivisionByZero, ZeroDivisionError, OverflowError):
        return value
    whole = found.to_integral_value()
    return str(int(whole)) if found == whole else format(found.normalize(), "f")


def _compute(node: ast.expr, value: Decimal) -> Decimal:
    if isinstance(node, ast.BinOp) and type(node.op) in _OPERATIONS:
        return _OPERATIONS[type(node.op)](_compute(node.left, value), _compute(node.right, value))
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        return -_compute(node.operand, value)
    if isinstance(node, ast.Constant) and type(node.value) in (int, float):
        return Decimal(str(node.value))
    if isinstance(node, ast.Name) and node.id == "value":
        return value
    raise ValueError("has more in it than numbers, `value`, + - * / and brackets")
