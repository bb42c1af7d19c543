"""Formulas of derived points: which points they name, in which order they are evaluated, and whether they can be at
all.

A formula is an expression (`expression`) over points as [Device/Point], and other derived points as [Name].
"""

from collections.abc import Iterator, Sequence
from graphlib import CycleError, TopologicalSorter

from kanaleto.site.expression import BadExpression, compile_expression, references
from kanaleto.site.model import Derived, Line


def order_of(derived: Sequence[Derived]) -> list[Derived]:
    """Those that others need first. Raises ValueError with the circle's names."""
    by_name = {formula.name: formula for formula in derived}
    needs = {formula.name: [name for name in references(formula.formula) if name in by_name] for formula in derived}
    try:
        return [by_name[name] for name in TopologicalSorter(needs).static_order()]
    except CycleError as error:
        raise ValueError(f"these formulas need each other: {' → '.join(reversed(error.args[1]))}") from None


def labels_in(lines: Sequence[Line]) -> dict[str, dict[int, str]]:
    """Labels of every point that has some, as formulas name it."""
    return {
        f"{device.name}/{point.name}": point.labels
        for line in lines
        for device in line.devices
        for point in device.points
        if point.labels
    }


def formula_faults(derived: Sequence[Derived], lines: Sequence[Line]) -> Iterator[tuple[int, str]]:
    """What is wrong, each with the number of the derived point."""
    if not derived:
        return
    points = {f"{device.name}/{point.name}" for line in lines for device in line.devices for point in device.points}
    names = [formula.name for formula in derived]
    labels = labels_in(lines)
    for at, one in enumerate(derived):
        if one.name in names[:at]:
            yield at, f"two derived points are named {one.name!r}; give each its own name"
        unknown = [name for name in references(one.formula) if name not in points and name not in names]
        if unknown:
            yield (
                at,
                f"{one.name}: [{unknown[0]}] is no point; write [Device/Point], or [Name] for another derived point",
            )
            continue
        try:
            compile_expression(one.formula, lambda name: labels.get(name, {}))
        except BadExpression as error:
            yield at, f"{one.name}: {error}"
    try:
        order_of(derived)
    except ValueError as error:
        yield 0, str(error)
