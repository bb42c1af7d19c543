"""Findings: each of twenty-two faults is named first on a line that has it, and nothing on a healthy one. `python -m
tests.confusion` does it with many seeds, as a table."""

import struct
import unittest

from kanaleto.capture.row import ExchangeRow
from kanaleto.capture.served import ServedPoints
from kanaleto.evidence.finding import _BOTH, _WIRED, FindingKind
from kanaleto.evidence.findings import findings_of
from kanaleto.evidence.gathered import Gathered
from kanaleto.evidence.owncounts import OwnCounts
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.links.parse import parse_link
from kanaleto.site.model import Line, Site
from kanaleto.wire.rtu import Rtu
from tests.confusion import named
from tests.exchanges import SERIAL, TCP, exchange
from tests.faulty_lines import FAULTY, another_rate, healthy
from tests.simulated import device

_OF_WIRES = ("wire", "baud", "parity", "terminator", "adapter", "A to B", "pair ", "screen", "earth")
_ON_NETWORKS = set(FindingKind) - {FindingKind.PORT_HELD, FindingKind.PORT_GONE}


class Named(unittest.TestCase):
    def test_each_fault_first(self) -> None:
        self.assertEqual(set(FAULTY), set(FindingKind))
        wrong = {}
        for kind, make in FAULTY.items():
            kinds = named(make(1))
            if kinds[:1] != [kind]:
                wrong[kind.value] = [one.value for one in kinds]
        self.assertLessEqual(len(wrong), 1, wrong)

    def test_a_rate_is_told_where_the_bytes_prove_it(self) -> None:
        for seed, who in ((1, "Line"), (2, ("Pump", "Gate", "Mast", "Winch"))):
            gathered = Gathered()
            for row in another_rate(seed).rows():
                gathered.add(row)
            first = findings_of(list(gathered.lines.values()))[0]
            self.assertIn(first.who, who)
            self.assertIn("they were sent at 9600 baud", first.what)

    def test_a_healthy_line_is_left_in_peace(self) -> None:
        claims = [kind for seed in range(12) for kind in named(healthy(seed))]
        self.assertEqual(claims, [])

    def test_fewer_than_eight_failures_say_nothing(self) -> None:
        for kind in (OutcomeKind.TIMEOUT, OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED):
            for link in (TCP, SERIAL):
                gathered = Gathered()
                for number in range(200):
                    row = exchange(number, link, kind if 50 <= number < 57 else OutcomeKind.GOOD)
                    if row.kind is OutcomeKind.GARBLED:
                        row = row._replace(answer=row.answer[:-1])
                    gathered.add(row._replace(last_us=1_000_000) if row.kind is OutcomeKind.TIMEOUT else row)
                self.assertEqual(findings_of(list(gathered.lines.values())), [], (kind, link))

    def test_how_a_counter_of_the_device_itself_grew(self) -> None:
        gate = device("Gate", 7, "name,table,address,type,counts\nErrors,holding,11,uint32,errors\n")
        counts = OwnCounts(ServedPoints(Site("S", (Line("Line", parse_link(SERIAL), (gate,)),))))
        request = bytes((3, 0, 10, 0, 4))

        def row(number: int, value: int | None) -> ExchangeRow:
            frame = Rtu().encode(7, bytes((3, 8)) + struct.pack(">HIH", 0, value or 0, 0), 0)
            found = exchange(number, SERIAL)._replace(line="Line", unit_id=7, request=Rtu().encode(7, request, 0))
            kind = OutcomeKind.GOOD if value is not None else OutcomeKind.TIMEOUT
            return found._replace(answer=frame if value is not None else b"", kind=kind)

        for number, value in enumerate((70_000, 70_003, None, 70_010)):
            counts.add(row(number, value))
        text = "Gate: its own Errors went from 70000 to 70010 (+10), while 1 of its exchanges failed here."
        self.assertEqual([*counts.sentences()], [text])
        counts.add(row(9, 4))
        self.assertIn("+14, began again once", next(iter(counts.sentences())))
        still = OwnCounts(ServedPoints(Site("S", (Line("Line", parse_link(SERIAL), (gate,)),))))
        for number, value in enumerate((5, None, 5)):
            still.add(row(number, value))
        self.assertIn("stood still at 5", next(iter(still.sentences())))

    def test_networks_never_hear_of_wires(self) -> None:
        for kind in _ON_NETWORKS:
            advice = _BOTH[kind]
            text = " ".join((*advice.causes, *advice.tries, advice.apart))
            for word in _OF_WIRES:
                self.assertNotIn(word, text, kind)
        self.assertEqual(set(_BOTH) | set(_WIRED), set(FindingKind))
