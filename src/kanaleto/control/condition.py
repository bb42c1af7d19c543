"""Conditions of routines: points are only believed once they were read after the step began, and lately."""

import asyncio
from collections.abc import Mapping

from kanaleto.board.derived import place_named
from kanaleto.control.routine import OF_ROUTINE, with_variables
from kanaleto.planning.plan import AnyPlace, Place
from kanaleto.polling.once import read_once
from kanaleto.polling.session import Session
from kanaleto.site.expression import Expression, FormulaMemory, compile_expression
from kanaleto.values.codec import NoValue

LOOK_S = 0.2
_LATELY_S = 1.0
_MOST_COMPILED = 100


class ConditionFailed(Exception):
    """One sentence: why a step came to nothing."""


class Believed:
    """Evaluates for one owner, whose variables are at hand. `device` is the one whose points need no name before
    them."""

    def __init__(self, session: Session, device: str, variables: Mapping[str, float], owner: str) -> None:
        self._session, self._device, self._variables, self._owner = session, device, variables, owner
        self._memory = FormulaMemory()
        self._compiled_of: dict[tuple[str, int], Expression] = {}

    def number(self, text: str) -> float:
        """An expression of variables alone. Raises ArithmeticError, ValueError and KeyError."""
        expression = self._compiled(text)
        values = [self._variables[name.removeprefix(OF_ROUTINE)] for name in expression.names]
        return expression.evaluate(values, self._memory, self._owner)

    def _compiled(self, condition: str) -> Expression:
        key = (condition, self._session.world.version)
        compiled = self._compiled_of.get(key)
        if compiled is None:
            if len(self._compiled_of) > _MOST_COMPILED:
                self._compiled_of.clear()
            plain = with_variables(condition, self._variables)
            compiled = self._compiled_of[key] = compile_expression(plain, self._labels_of)
        return compiled

    async def holds(self, condition: str, since_s: float, within_s: float) -> bool:
        """Whether it is so, by values that were read since then; false where they do not come in time. Raises
        Failed."""
        loop = asyncio.get_running_loop()
        end_s = loop.time() + within_s
        expression = self._compiled(condition)
        values: list[float] = []
        for name in expression.names:
            if name.startswith(OF_ROUTINE):
                values.append(self._variables[name[1:]])
                continue
            value = await self._fresh(self.place_of(name), since_s, end_s)
            if not isinstance(value, int | float):
                return False
            values.append(value)
        self._memory.now_s = loop.time()
        try:
            return bool(expression.evaluate(values, self._memory, self._owner))
        except (ArithmeticError, ValueError):
            return False

    def holds_now(self, condition: str) -> bool:
        """Whether it is so by what the board has; false where something is not known, or old."""
        values: list[float] = []
        now_s = asyncio.get_running_loop().time()
        expression = self._compiled(condition)
        for name in expression.names:
            reading = self._session.board.reading(self.place_of(name), now_s)
            if reading.reason or not isinstance(reading.value, int | float):
                return False
            values.append(reading.value)
        self._memory.now_s = now_s
        try:
            return bool(expression.evaluate(values, self._memory, self._owner))
        except (ArithmeticError, ValueError):
            return False

    def _labels_of(self, name: str) -> dict[int, str]:
        place = self.place_of(name)
        return place.point.labels if isinstance(place, Place) else {}

    def place_of(self, name: str) -> AnyPlace:
        plan = self._session.plan
        place = plan.place_of((self._device, name)) or place_named(plan, name) or plan.place_of(("", name))
        if place is None:
            raise ConditionFailed(f"[{name}] is not in the site any more")
        return place

    async def _fresh(self, place: AnyPlace, since_s: float, end_s: float) -> object:
        """The point's value as it was read after `since_s`; None where it was not in time."""
        session, loop = self._session, asyncio.get_running_loop()
        while True:
            board = session.board
            if not isinstance(place, Place):
                return board.reading(place, loop.time()).value
            record = board.records[place.block.index] if place.block is not None else None
            if record is not None and record.at_s > max(since_s, loop.time() - _LATELY_S):
                value = board.reading(place, loop.time()).value
                return None if isinstance(value, NoValue) else value
            data, _ = await read_once(session, place, 0)
            if data is not None:
                value = int(data[0] & 1) if place.point.table.is_bits else place.point.codec.decode(data)
                power = board.exponent_of(place.device.name, place.point)
                if not isinstance(value, int | float) or power is None:
                    return None
                return value * 10.0**power if power else value
            if loop.time() >= end_s:
                return None
            await asyncio.sleep(LOOK_S)

    def values_text(self, condition: str) -> str:
        """What the points in it are by now."""
        texts = []
        for name in self._compiled(condition).names:
            if name.startswith(OF_ROUTINE):
                continue
            place = self.place_of(name)
            reading = self._session.board.reading(place, asyncio.get_running_loop().time())
            value = reading.value
            texts.append(
                f"{name} is {value:g}" if isinstance(value, int | float) else f"{name}: {reading.reason or 'no value'}"
            )
        return f" ({', '.join(texts)})" if texts else ""
