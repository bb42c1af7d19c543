"""Formulas of derived points: which points they name, and whether they can be evaluated at all.

A formula names points as [Device/Point], and other derived points as [Name]. It may use + - * / ** comparisons, and, or, not,
`x if y else z`, and the functions of FUNCTIONS; `time_in(…)` gives the seconds since what stands in it became true.
"""

import ast
import re
from collections.abc import Iterator, Sequence

from kanaleto.site.model import Derived, Line

FUNCTIONS = ("min", "max", "mean", "abs", "sqrt", "round", "time_in")
_REFERENCE = re.compile(r"\[([^\[\]]+)\]")
_NODES = (
    ast.Expression, ast.BinOp, ast.UnaryOp, ast.BoolOp, ast.Compare, ast.IfExp, ast.Call, ast.Name, ast.Load, ast.Constant, ast.operator,
    ast.unaryop, ast.boolop, ast.cmpop,
)  # fmt: skip


def references(formula: str) -> list[str]:
    """What stands in brackets, each once, in order."""
    return list(dict.fromkeys(match.strip() for match in _REFERENCE.findall(formula)))


def as_expression(formula: str) -> str:
    """The formula with v0, v1, … for what stands in brackets, in the order of `references`."""
    places = {name: f"v{number}" for number, name in enumerate(references(formula))}
    return _REFERENCE.sub(lambda match: places[match[1].strip()], formula)


def order_of(derived: Sequence[Derived]) -> list[Derived]:
    """Those that others need first. Raises ValueError with the circle's names."""
    by_name = {own.name: own for own in derived}
    done: list[Derived] = []
    under_way: list[str] = []

    def visit(own: Derived) -> None:
        if own in done:
            return
        if own.name in under_way:
            circle = " → ".join([*under_way[under_way.index(own.name) :], own.name])
            raise ValueError(f"these formulas need each other: {circle}")
        under_way.append(own.name)
        for name in references(own.formula):
            if name in by_name:
                visit(by_name[name])
        under_way.pop()
        done.append(own)

    for own in derived:
        visit(own)
    return done


def formula_faults(derived: Sequence[Derived], lines: Sequence[Line]) -> Iterator[tuple[int, str]]:
    """What is wrong, each with the number of the derived point."""
    points = {f"{device.name}/{point.name}" for line in lines for device in line.devices for point in device.points}
    names = [own.name for own in derived]
    for at, own in enumerate(derived):
        if own.name in names[:at]:
            yield at, f"two derived points are named {own.name!r}; give each its own name"
        unknown = [name for name in references(own.formula) if name not in points and name not in names]
        if unknown:
            yield at, f"{own.name}: [{unknown[0]}] is no point; write [Device/Point], or [Name] for another derived point"
        wrong = _syntax(own.formula)
        if wrong:
            yield at, f"{own.name}: {wrong}"
    try:
        order_of(derived)
    except ValueError as error:
        yield 0, str(error)


def _syntax(formula: str) -> str:
    try:
        tree = ast.parse(as_expression(formula), mode="eval")
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return f"{formula!r} is no formula that can be read"
    for node in ast.walk(tree):
        if isinstance(node, ast.Call) and (not isinstance(node.func, ast.Name) or node.func.id not in FUNCTIONS):
            return f"{formula!r} calls what there is not; there are {', '.join(FUNCTIONS)}"
        if isinstance(node, ast.Name) and node.id not in FUNCTIONS and not re.fullmatch(r"v\d+", node.id):
            return f"{formula!r} names {node.id!r}; points stand in brackets, as [Device/Point]"
        if not isinstance(node, _NODES):
            return f"{formula!r} has something that is no arithmetic"
    return ""
