"""Expressions in templates: whole-number arithmetic over earlier fields, comparisons with texts, and nothing else.

The text is parsed by Python's own parser and every node is checked against a short list before anything is worked
out, so an expression cannot call, import, or loop. `a.b` and `a[row].b` are names of fields, looked up in the bound
save; no attribute of any object is ever read. Length, depth and size of numbers are bounded.
"""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable
from typing import NamedTuple

from faithful_ledger.core.address.names import name_parts
from faithful_ledger.core.errors import AddressError, ExpressionError

__all__ = ["FUNCTIONS", "Expression", "Lookup", "Said"]

LONGEST = 200
MOST_NODES = 60
LARGEST = 1 << 64

Lookup = Callable[[str], int]
Said = Callable[[str], "int | str"]  # what a field says, by its path
Evaluated = Callable[[Lookup, Said], int]

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
    """A checked expression. `names` are the field paths it needs, `texts` those that are compared with texts.

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
        self.texts: set[str] = set()
        self.names: tuple[str, ...] = tuple(dict.fromkeys(self._check()))
        self._work_out = self._compiled(self._tree)
        self.constant = self.evaluate(_no_names) if not self.names else None

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Expression) and self.text == other.text

    def __hash__(self) -> int:
        return hash(self.text)

    def evaluate(self, lookup: Lookup, said: Said | None = None) -> int:
        """The result; `lookup` gives the number of a field's path, and `said` what a field says that is compared with a
        text.

        Raises:
            ExpressionError: divided by zero, or a number beyond 64 bits.
        """
        return self._work_out(lookup, said or lookup)

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
            elif (of_text := _of_text(node)) is not None:
                names.append(of_text.path)
                self.texts.add(of_text.path)
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
                    "use whole numbers, fields, + - * // % << >> & | ^, comparisons, also of a field with a text as in"
                    f' tag == "HOLD", and {", ".join(FUNCTIONS)}',
                )
        return names

    def _check_arity(self, name: str, node: ast.Call) -> None:
        wanted = {"abs": 1, "up_to": 2}.get(name)
        if node.keywords or not 1 <= len(node.args) <= 4 or (wanted is not None and len(node.args) != wanted):
            raise ExpressionError(f"“{self.text}” gives {name} the wrong number of values", "see the reference")

    def _compiled(self, node: ast.AST) -> Evaluated:
        """The expression as functions in functions, so that evaluating it need not look at the tree again."""
        path = _path_of(node)
        if path is not None:
            return lambda lookup, said: lookup(path)
        if (of_text := _of_text(node)) is not None:
            whose, texts, denied = of_text
            return lambda lookup, said: int((said(whose) in texts) is not denied)
        match node:
            case ast.Constant(value=int(number)):
                return lambda lookup, said: number
            case ast.BinOp(left=left, op=op, right=right):
                return self._binary(type(op), self._compiled(left), self._compiled(right))
            case ast.UnaryOp(op=ast.USub(), operand=operand):
                negated = self._compiled(operand)
                return lambda lookup, said: -negated(lookup, said)
            case ast.UnaryOp(operand=operand):
                inner = self._compiled(operand)
                return lambda lookup, said: int(not inner(lookup, said))
            case ast.BoolOp(op=op, values=values):
                return _either([self._compiled(part) for part in values], stops=isinstance(op, ast.Or))
            case ast.Compare(left=left, ops=ops, comparators=others):
                steps = [(COMPARE[type(op)], self._compiled(part)) for op, part in zip(ops, others, strict=True)]
                return _compared(self._compiled(left), steps)
            case ast.IfExp(test=test, body=body, orelse=orelse):
                tested, chosen, other = map(self._compiled, (test, body, orelse))
                return lambda lookup, said: (chosen if tested(lookup, said) else other)(lookup, said)
            case ast.Call(func=ast.Name(id=name), args=arguments):
                return self._called(name, [self._compiled(argument) for argument in arguments])
        raise ExpressionError(f"“{self.text}” has no result")

    def _called(self, name: str, parts: list[Evaluated]) -> Evaluated:
        function = FUNCTIONS[name]

        def call(lookup: Lookup, said: Said) -> int:
            given = [part(lookup, said) for part in parts]
            if len(given) == 1 and name in ("min", "max"):
                return given[0]
            if name == "up_to" and given[1] <= 0:
                raise ExpressionError(f"“{self.text}” rounds up to a multiple of {given[1]}")
            return function(*given)

        return call

    def _binary(self, kind: type, left: Evaluated, right: Evaluated) -> Evaluated:
        operation, divides, shifts = (
            BINARY[kind],
            kind in (ast.FloorDiv, ast.Mod),
            kind in (ast.LShift, ast.RShift),
        )

        def work_out(lookup: Lookup, said: Said) -> int:
            one, other = left(lookup, said), right(lookup, said)
            if divides and other == 0:
                raise ExpressionError(f"“{self.text}” divides by zero", "the save may be damaged")
            if shifts and not 0 <= other <= 64:
                raise ExpressionError(f"“{self.text}” shifts by {other} bits", "the save may be damaged")
            result = operation(one, other)
            if abs(result) > LARGEST:
                raise ExpressionError(f"“{self.text}” gives a number beyond 64 bits", "the save may be damaged")
            return result

        return work_out


def _either(parts: list[Evaluated], *, stops: bool) -> Evaluated:
    """What `or` gives, which stops at the first that is not 0, or `and`, which stops at the first that is."""

    def work_out(lookup: Lookup, said: Said) -> int:
        result = 0
        for part in parts:
            result = part(lookup, said)
            if bool(result) is stops:
                break
        return result

    return work_out


def _compared(first: Evaluated, steps: list[tuple[Callable[[int, int], bool], Evaluated]]) -> Evaluated:
    if len(steps) == 1:
        ((compare, other),) = steps
        return lambda lookup, said: int(compare(first(lookup, said), other(lookup, said)))

    def work_out(lookup: Lookup, said: Said) -> int:
        present = first(lookup, said)
        for compare, part in steps:
            following = part(lookup, said)
            if not compare(present, following):
                return 0
            present = following
        return 1

    return work_out


class _OfText(NamedTuple):
    """A comparison of what a field says with texts; `denied` if it is to be none of them."""

    path: str
    texts: tuple[str, ...]
    denied: bool


def _of_text(node: ast.AST) -> _OfText | None:
    if not isinstance(node, ast.Compare) or len(node.ops) != 1:
        return None
    op, (left, right) = node.ops[0], (node.left, node.comparators[0])
    if isinstance(op, ast.Eq | ast.NotEq) and isinstance(left, ast.Constant):
        left, right = right, left
    is_set = isinstance(op, ast.In | ast.NotIn) and isinstance(right, ast.Tuple | ast.List)
    parts = right.elts if is_set else [right] if isinstance(op, ast.Eq | ast.NotEq) else []  # type: ignore[attr-defined]
    texts = tuple(part.value for part in parts if isinstance(part, ast.Constant) and isinstance(part.value, str))
    path = _path_of(left)
    if path is None or not texts or len(texts) != len(parts):
        return None
    return _OfText(path, texts, isinstance(op, ast.NotEq | ast.NotIn))


def _path_of(node: ast.AST) -> str | None:
    """The name of a field; of a record `sizes[row].packed`, with a number or `row` and little more in the brackets."""
    names: list[str] = []
    index = ""
    while True:
        match node:
            case ast.Attribute(value=inner, attr=name):
                names.append(f"{name}{index}")
                index = ""
            case ast.Subscript(value=ast.Attribute(attr=name) | ast.Name(id=name) as inner, slice=which) if not index:
                index = _index(name, which)
                if not index:
                    return None
            case ast.Name(id=name):
                return ".".join([f"{name}{index}", *reversed(names)])
            case _:
                return None
        node = inner


def _index(name: str, which: ast.AST) -> str:
    """The number of a record in brackets behind a name; nothing for what is not one."""
    try:
        return str(name_parts(f"{name}[{ast.unparse(which)}]")[0])[len(name) :]
    except AddressError:
        return ""


def _named(node: ast.AST) -> str:
    known = {
        ast.Call: "a call",
        ast.Subscript: "brackets around what is not the number of a record",
        ast.Attribute: "an attribute",
        ast.Constant: "a constant that is not a whole number",
    }
    return known.get(type(node), f"“{type(node).__name__.lower()}”")


def _no_names(name: str) -> int:
    raise ExpressionError(f"{name} is not known here")
