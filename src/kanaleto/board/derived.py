"""Derived points: formulas over points of the site, evaluated now and then. Their quality is the worst of what they are
made of."""

import math

from kanaleto.board.board import Quality, Reading, Readings
from kanaleto.planning.plan import AnyPlace, Plan
from kanaleto.site.expression import FormulaMemory, compile_expression
from kanaleto.site.formula import labels_in, order_of
from kanaleto.site.model import Derived, Site

EVERY_S = 0.5
_WORST = (Quality.GOOD, Quality.STALE, Quality.BAD, Quality.NEVER)


def place_named(plan: Plan, name: str) -> AnyPlace | None:
    """The place that a formula calls `device/point`; either name may have a slash of its own."""
    cuts = [at for at, character in enumerate(name) if character == "/"]
    found = (plan.place_of((name[:at], name[at + 1 :])) for at in cuts if at)
    return next((place for place in found if place is not None), None)


class Formulas:
    """Evaluates the derived points of a site in the order in which they need each other. `memory` outlives the plan,
    and the site where a formula stays the same."""

    def __init__(self, site: Site, plan: Plan, memory: FormulaMemory) -> None:
        self._memory = memory
        self._derived = order_of((*site.derived, *site.composing))
        labels = labels_in(site.lines) if self._derived else {}
        self._expressions = {
            formula.name: compile_expression(formula.formula, lambda name: labels.get(name, {}))
            for formula in self._derived
        }
        wanted = {name for expression in self._expressions.values() for name in expression.names}
        places = {name: place_named(plan, name) for name in wanted}
        self._places = {name: place for name, place in places.items() if place is not None}

    def begin(self) -> None:
        """From now on these are evaluated: what others remembered is dropped."""
        self._memory.keep({formula.name for formula in self._derived})

    def evaluate(self, board: Readings, now_s: float) -> dict[str, Reading]:
        """Every derived point as it stands at loop time `now_s`."""
        found: dict[str, Reading] = {}
        self._memory.now_s = now_s
        for derived in self._derived:
            found[derived.name] = self._evaluate(derived, board, found)
        return found

    def _evaluate(self, derived: Derived, board: Readings, found: dict[str, Reading]) -> Reading:
        expression = self._expressions[derived.name]
        values: list[float] = []
        worst, reason, age = Quality.GOOD, "", 0.0
        for name in expression.names:
            reading = found[name] if name in found else board.reading(self._places[name], self._memory.now_s)
            if _WORST.index(reading.quality) > _WORST.index(worst):
                worst, reason = reading.quality, f"{name}: {reading.reason}"
            age = max(age, reading.age_s or 0.0)
            if isinstance(reading.value, int | float):
                values.append(reading.value)
            elif worst in (Quality.GOOD, Quality.STALE):
                worst, reason = Quality.BAD, f"{name} is no number"
        if len(values) < len(expression.names):
            return Reading(None, worst, reason, b"", None, None)
        try:
            value = expression.evaluate(values, self._memory, derived.name)
        except (ArithmeticError, ValueError) as error:
            return Reading(None, Quality.BAD, f"the formula gives no number: {error}", b"", age, None)
        if not math.isfinite(value):
            return Reading(None, Quality.BAD, "the formula gives no finite number", b"", age, None)
        return Reading(value, worst, reason, b"", age, None)
