"""When does it fail: lines with one cause of failure each, and lines with none."""

import random
import unittest
from collections import Counter
from collections.abc import Callable

from kanaleto.capture.row import ExchangeRow
from kanaleto.evidence.when import WhenLooked, look_when
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.wire.rtu import Rtu
from tests.exchanges import SERIAL, START_US

_RTU = Rtu()
_NAMES = {7: "Pump", 8: "Gate", 9: "Mast"}
Fails = Callable[["Line", int, int, int, int], bool]
"""The line, when (µs since the beginning), how many registers, who was asked before, how long since the switch (µs)."""


class Line:
    """Three devices on a serial line for half an hour; the gate has a switch that goes on and off. One of them fails by
    chance now and then, and more often where `fails` says so."""

    def __init__(self, seed: int, fails: Fails, hours: float = 0.5) -> None:
        self.source = random.Random(seed)
        self.victim = self.source.choice((7, 9))
        self.base = self.source.uniform(0.002, 0.02)
        self.strength = self.source.uniform(0.5, 0.9)
        self.kind = self.source.choice((OutcomeKind.TIMEOUT, OutcomeKind.GARBLED))
        self.period_us = round(self.source.uniform(20, 90) * 1e6)
        self._fails, self._until_us = fails, round(hours * 3600e6)

    def rows(self) -> list[ExchangeRow]:
        source, rows, at_us, before = self.source, list[ExchangeRow](), 0, 0
        is_on, switched_us, next_switch_us = False, -(1 << 40), 20_000_000
        while at_us < self._until_us:
            at_us += round(source.uniform(40_000, 400_000))
            unit, count = source.choice((7, 8, 9)), source.choice((1, 4, 20, 60))
            if at_us > next_switch_us:
                is_on, next_switch_us = not is_on, at_us + round(source.uniform(10, 60) * 1e6)
                unit, count = 8, 1
                switched_us = at_us if is_on else switched_us
            since_us = at_us - switched_us
            kind = OutcomeKind.GOOD
            if unit == self.victim and (
                source.random() < self.base
                or (self._fails(self, at_us, count, before, since_us) and source.random() < self.strength)
            ):
                kind = self.kind
            rows.append(self._row(at_us, unit, count, kind, is_on))
            before = unit
        return rows

    def _row(self, at_us: int, unit: int, count: int, kind: OutcomeKind, is_on: bool) -> ExchangeRow:
        address = 100 if unit == 8 and count == 1 else 0
        request = _RTU.encode(unit, bytes((3, 0, address, 0, count)), 0)
        data = bytes((0, is_on)) if address else self.source.randbytes(2 * count)
        answer = _RTU.encode(unit, bytes((3, 2 * count)) + data, 0) if kind is not OutcomeKind.TIMEOUT else b""
        last_us = 15_000 if kind is not OutcomeKind.TIMEOUT else 500_000
        return ExchangeRow(
            START_US + at_us,
            "Line",
            SERIAL,
            "real",
            _NAMES[unit],
            unit,
            kind,
            0,
            request,
            answer,
            4000,
            9000,
            last_us,
            "",
        )


_CAUSES: dict[str, Fails] = {
    "change": lambda line, at_us, count, before, since_us: since_us < 1_800_000,
    "period": lambda line, at_us, count, before, since_us: at_us % line.period_us < line.period_us // 6,
    "length": lambda line, at_us, count, before, since_us: count >= 20,
    "before": lambda line, at_us, count, before, since_us: before == 8,
}


def _looked(line: Line) -> WhenLooked:
    rows = line.rows()
    return look_when(lambda: rows)


class Causes(unittest.TestCase):
    def test_the_cause_is_named_first_in_nine_of_ten(self) -> None:
        named: Counter[str] = Counter()
        right = 0
        for name, fails in _CAUSES.items():
            for seed in range(5):
                found = _looked(Line(seed, fails)).found
                named[f"{name}: {found[0].cause if found else 'nothing'}"] += 1
                right += bool(found) and found[0].cause == name
        self.assertGreaterEqual(right, 18, named)

    def test_where_there_is_none_at_most_one_claim_in_twenty(self) -> None:
        looked = [_looked(Line(seed, lambda *_: False)) for seed in range(20)]
        claims = [one.text for when_looked in looked for one in when_looked.found]
        self.assertLessEqual(len(claims), 1, claims)
        self.assertGreater(sum(when_looked.causes for when_looked in looked), 250)

    def test_an_outage_is_one_case(self) -> None:
        """A minute of silence is no pattern, however many times it was asked in it."""
        line = Line(3, lambda line, at_us, count, before, since_us: 600e6 < at_us < 660e6)
        line.strength, line.base = 1.0, 0.0
        self.assertEqual(_looked(line).found, [])

    def test_it_says_how_often_and_against_what(self) -> None:
        line = Line(1, _CAUSES["change"])
        rows = line.rows()
        (found,) = look_when(lambda: rows).found
        self.assertIn("after Gate holding 100 becomes 1", found.text)
        own = [row for row in rows if row.unit_id == line.victim]
        self.assertEqual(found.count + found.against, sum(row.kind is line.kind for row in own))
        self.assertEqual(found.of + found.against_of, len(own))
        self.assertIn(f"{found.count} times of {found.of}", found.text)
        self.assertIn(f"{found.against} of {found.against_of} otherwise", found.text)
