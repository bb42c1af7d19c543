"""Conditions over points of a site, looked at every second: who becomes true is told."""

from collections.abc import Callable

from msgspec.structs import replace

from kanaleto.board.derived import Formulas
from kanaleto.board.listener import Sink
from kanaleto.board.world import World
from kanaleto.site.expression import FormulaMemory
from kanaleto.site.model import Derived


class Conditions(Sink):
    """`on_true` is told the wall time and the condition."""

    def __init__(self, on_true: Callable[[float, str], None]) -> None:
        self._on_true = on_true
        self._memory = FormulaMemory()
        self._names: dict[str, str] = {}
        self._formulas: Formulas | None = None
        self._are_true: set[str] = set()

    def on_plan(self, world: World) -> None:
        site = world.site
        self._names = {f"lay aside {text!r}": text for text in site.keeping.conditions}
        self._formulas = None
        if self._names:
            asked = tuple(Derived(name, text) for name, text in self._names.items())
            self._formulas = Formulas(replace(site, derived=(*site.derived, *asked)), world.plan, self._memory)

    def on_second(self, world: World, now_s: float, wall_s: float) -> None:
        if self._formulas is None:
            return
        found = self._formulas.evaluate(world.board, now_s)
        are_true = {text for name, text in self._names.items() if found[name].value}
        for text in are_true - self._are_true:
            self._on_true(wall_s, text)
        self._are_true = are_true
