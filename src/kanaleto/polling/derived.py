"""Derived points: formulas over points of the site, evaluated now and then. Their quality is the worst of what they are made of."""

import math
from collections.abc import Callable
from statistics import fmean
from typing import Any

from simpleeval import InvalidExpression, SimpleEval  # type: ignore[import-untyped]

from kanaleto.polling.board import Board, Quality, Reading
from kanaleto.polling.plan import Plan
from kanaleto.site.formula import as_expression, order_of, references
from kanaleto.site.model import Derived, Site

EVERY_S = 0.5
_WORST = (Quality.GOOD, Quality.STALE, Quality.BAD, Quality.NEVER)


class Formulas:
    """Evaluates the derived points of a site in the order in which they need each other."""

    def __init__(self, site: Site, plan: Plan) -> None:
        self._derived = order_of(site.derived)
        self._expressions = {own.name: (as_expression(own.formula), references(own.formula)) for own in self._derived}
        self._places = {f"{place.device.name}/{place.point.name}": place for place in plan.places}
        self._since: dict[tuple[str, int], float] = {}
        self._calls = 0
        self._now = 0.0
        self._name = ""
        functions: dict[str, Callable[..., Any]] = {
            "min": min, "max": max, "mean": lambda *values: fmean(values), "abs": abs, "sqrt": math.sqrt, "round": round,
            "time_in": self._time_in,
        }  # fmt: skip
        self._evaluator = SimpleEval(functions=functions)

    def evaluate(self, board: Board, now_s: float) -> dict[str, Reading]:
        """Every derived point as it stands at loop time `now_s`."""
        found: dict[str, Reading] = {}
        self._now = now_s
        for own in self._derived:
            found[own.name] = self._evaluate(own, board, found)
        return found

    def _evaluate(self, own: Derived, board: Board, found: dict[str, Reading]) -> Reading:
        expression, names = self._expressions[own.name]
        values: dict[str, float] = {}
        worst, reason, age = Quality.GOOD, "", 0.0
        for number, name in enumerate(names):
            reading = found[name] if name in found else board.reading(self._places[name], self._now)
            if _WORST.index(reading.quality) > _WORST.index(worst):
                worst, reason = reading.quality, f"{name}: {reading.reason}"
            age = max(age, reading.age_s or 0.0)
            if isinstance(reading.value, int | float):
                values[f"v{number}"] = reading.value
            elif worst in (Quality.GOOD, Quality.STALE):
                worst, reason = Quality.BAD, f"{name} is no number"
        if len(values) < len(names):
            return Reading(None, worst, reason, b"", None, None)
        self._calls, self._name = 0, own.name
        self._evaluator.names = values
        try:
            value = float(self._evaluator.eval(expression))
        except (InvalidExpression, ArithmeticError, ValueError, TypeError, MemoryError) as error:
            return Reading(None, Quality.BAD, f"the formula gives no number: {error}", b"", age, None)
        if not math.isfinite(value):
            return Reading(None, Quality.BAD, "the formula gives no finite number", b"", age, None)
        return Reading(value, worst, reason, b"", age, None)

    def _time_in(self, is_so: object) -> float:
        """Seconds since this has been so without a break."""
        key = self._name, self._calls
        self._calls += 1
        if not is_so:
            self._since.pop(key, None)
            return 0.0
        return self._now - self._since.setdefault(key, self._now)
