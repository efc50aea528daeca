"""Expressions in templates: whole-number arithmetic over earlier fields, and nothing else.

The text is parsed by Python's own parser and every node is checked against a short list before anything is worked
out, so an expression cannot call, subscript, import, or loop. `a.b` is the path of a field, looked up in the bound
save by name; no attribute of any object is ever read. Length, depth and size of numbers are bounded.
"""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable

from faithful_ledger.core.errors import ExpressionError

__all__ = ["FUNCTIONS", "Expression", "Lookup"]

LONGEST = 200
MOST_NODES = 60
LARGEST = 1 << 64

Lookup = Callable[[str], int]

BINARY: dict[type, Callable[[int, int], int]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.FloorDiv: operator.floordiv,
    ast.Mod: operator.mod,
    ast.LShift: operator.lshift,
    ast.RShift: operator.rshift,
    ast.BitAnd: operator.and_,
    ast.BitOr: operator.or_,
    ast.BitXor: operator.xor,
}
COMPARE: dict[type, Callable[[int, int], bool]] = {
    ast.Eq: operator.eq,
    ast.NotEq: operator.ne,
    ast.Lt: operator.lt,
    ast.LtE: operator.le,
    ast.Gt: operator.gt,
    ast.GtE: operator.ge,
}
FUNCTIONS: dict[str, Callable[..., int]] = {
    "min": min,
    "max": max,
    "abs": abs,
    "up_to": lambda value, step: -(-value // step) * step,
}


class Expression:
    """A checked expression. `names` are the field paths it needs.

    Raises:
        ExpressionError: when made from a text that is not allowed; the sentence says which part.
    """

    def __init__(self, text: str | int) -> None:
        self.text = str(text)
        if len(self.text) > LONGEST:
            raise ExpressionError(f"the expression “{self.text[:40]}…” is longer than {LONGEST} characters")
        try:
            self._tree = ast.parse(self.text, mode="eval").body
        except (SyntaxError, ValueError, MemoryError, RecursionError) as error:
            raise ExpressionError(f"“{self.text}” is not an expression", "write one like crew_count * 24") from error
        self.names: tuple[str, ...] = tuple(dict.fromkeys(self._check()))
        self.constant = self.evaluate(_no_names) if not self.names else None

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Expression) and self.text == other.text

    def __hash__(self) -> int:
        return hash(self.text)

    def evaluate(self, lookup: Lookup) -> int:
        """The result; `lookup` gives the number of a field's path.

        Raises:
            ExpressionError: divided by zero, or a number beyond 64 bits.
        """
        return self._value(self._tree, lookup)

    def _check(self) -> list[str]:
        names: list[str] = []
        count = 0
        queue: list[ast.AST] = [self._tree]
        while queue:
            node = queue.pop(0)
            count += 1
            if count > MOST_NODES:
                raise ExpressionError(f"“{self.text}” has more than {MOST_NODES} parts", "split it over several fields")
            path = _path_of(node)
            if path is not None:
                names.append(path)
            elif isinstance(node, ast.Constant) and type(node.value) is int and abs(node.value) <= LARGEST:
                continue
            elif isinstance(node, ast.BinOp) and type(node.op) in BINARY:
                queue += [node.left, node.right]
            elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub | ast.Not):
                queue.append(node.operand)
            elif isinstance(node, ast.BoolOp):
                queue += node.values
            elif isinstance(node, ast.Compare) and all(type(op) in COMPARE for op in node.ops):
                queue += [node.left, *node.comparators]
            elif isinstance(node, ast.IfExp):
                queue += [node.test, node.body, node.orelse]
            elif isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in FUNCTIONS:
                self._check_arity(node.func.id, node)
                queue += node.args
            else:
                raise ExpressionError(
                    f"“{self.text}” uses {_named(node)}, which expressions do not know",
                    f"use whole numbers, fields, + - * // % << >> & | ^, comparisons, and {', '.join(FUNCTIONS)}",
                )
        return names

    def _check_arity(self, name: str, node: ast.Call) -> None:
        wanted = {"abs": 1, "up_to": 2}.get(name)
        if node.keywords or not 1 <= len(node.args) <= 4 or (wanted is not None and len(node.args) != wanted):
            raise ExpressionError(f"“{self.text}” gives {name} the wrong number of values", "see the reference")

    def _value(self, node: ast.AST, lookup: Lookup) -> int:
        path = _path_of(node)
        if path is not None:
            return lookup(path)
        match node:
            case ast.Constant(value=int(number)):
                return number
            case ast.BinOp(left=left, op=op, right=right):
                return self._binary(type(op), self._value(left, lookup), self._value(right, lookup))
            case ast.UnaryOp(op=ast.USub(), operand=operand):
                return -self._value(operand, lookup)
            case ast.UnaryOp(operand=operand):
                return int(not self._value(operand, lookup))
            case ast.BoolOp(op=op, values=values):
                result = 0
                for part in values:
                    result = self._value(part, lookup)
                    if bool(result) is isinstance(op, ast.Or):
                        break
                return result
            case ast.Compare(left=left, ops=ops, comparators=others):
                present = self._value(left, lookup)
                for compare, other in zip(ops, others, strict=True):
                    following = self._value(other, lookup)
                    if not COMPARE[type(compare)](present, following):
                        return 0
                    present = following
                return 1
            case ast.IfExp(test=test, body=body, orelse=orelse):
                return self._value(body if self._value(test, lookup) else orelse, lookup)
            case ast.Call(func=ast.Name(id=name), args=arguments):
                given = [self._value(argument, lookup) for argument in arguments]
                if len(given) == 1 and name in ("min", "max"):
                    return given[0]
                if name == "up_to" and given[1] <= 0:
                    raise ExpressionError(f"“{self.text}” rounds up to a multiple of {given[1]}")
                return FUNCTIONS[name](*given)
        raise ExpressionError(f"“{self.text}” has no result")

    def _binary(self, kind: type, left: int, right: int) -> int:
        if kind in (ast.FloorDiv, ast.Mod) and right == 0:
            raise ExpressionError(f"“{self.text}” divides by zero", "the save may be damaged")
        if kind in (ast.LShift, ast.RShift) and not 0 <= right <= 64:
            raise ExpressionError(f"“{self.text}” shifts by {right} bits", "the save may be damaged")
        result = BINARY[kind](left, right)
        if abs(result) > LARGEST:
            raise ExpressionError(f"“{self.text}” gives a number beyond 64 bits", "the save may be damaged")
        return result


def _path_of(node: ast.AST) -> str | None:
    names: list[str] = []
    while isinstance(node, ast.Attribute):
        names.append(node.attr)
        node = node.value
    if not isinstance(node, ast.Name):
        return None
    return ".".join([node.id, *reversed(names)])


def _named(node: ast.AST) -> str:
    known = {
        ast.Call: "a call",
        ast.Subscript: "brackets",
        ast.Attribute: "an attribute",
        ast.Constant: "a constant that is not a whole number",
    }
    return known.get(type(node), f"“{type(node).__name__.lower()}”")


def _no_names(name: str) -> int:
    raise ExpressionError(f"{name} is not known here")
