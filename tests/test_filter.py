"""The filter for exchanges: what fits, what is none, and where."""

import unittest
from datetime import datetime

from hypothesis import given, settings
from hypothesis import strategies as st

from kanaleto.capture.filter import FAILED, parse_filter
from kanaleto.capture.row import ExchangeRow
from kanaleto.capture.served import ServedPoints
from kanaleto.events.filtering import FilterFault, parse_event_filter
from kanaleto.events.log import Event, EventKind
from kanaleto.events.moments import moment_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.model import Site
from kanaleto.wire.codes import Table
from tests.exchanges import SERIAL, START_US, TCP, exchange, rows
from tests.simulated import SimulatedLine, device

_KINDS = list(OutcomeKind)
_MAP = "name,table,address\nFlow,holding,10\nLevel,holding,11\nSpeed,holding,40\n"


def _night() -> list[ExchangeRow]:
    """Sixty exchanges of two devices and a unit without a name; the address is the number."""
    night = []
    for number in range(60):
        row = exchange(number, SERIAL if number % 2 else TCP, _KINDS[number % 6])
        name = ("Sump pump", "Pump", "")[number % 3]
        night.append(row._replace(device=name, line="East line" if number % 2 else "Cabinet", unit_id=number % 3 + 7))
    return night


class Fitting(unittest.TestCase):
    def _fits(self, text: str) -> set[int]:
        wanted = parse_filter(text)
        return {number for number, row in enumerate(_night()) if wanted.fits(row)}

    def test_each_key(self) -> None:
        every = set(range(60))
        cases: list[tuple[str, set[int]]] = [
            ("", every),
            ("line:East", {n for n in every if n % 2}),
            ('line:"east LINE"', {n for n in every if n % 2}),
            ("line:Eas", set()),
            ("line:Eas*", {n for n in every if n % 2}),
            ('device:"Sump pump"', {n for n in every if n % 3 == 0}),
            ("device:pump", {n for n in every if n % 3 != 2}),
            ('device:"unit 9"', {n for n in every if n % 3 == 2}),
            ("-device:pump", {n for n in every if n % 3 == 2}),
            ("unit:8", {n for n in every if n % 3 == 1}),
            ("unit:8-9", {n for n in every if n % 3}),
            ("function:3", every),
            ("function:0x10", set()),
            ("address:0x0A-12", {10, 11, 12}),
            ("address:>57", {58, 59}),
            ("address:<=1", {0, 1}),
            ("outcome:silent", {n for n in every if _KINDS[n % 6] is OutcomeKind.TIMEOUT}),
            ("-outcome:good outcome:silent", {n for n in every if _KINDS[n % 6] is OutcomeKind.TIMEOUT}),
            ("-outcome:good", {n for n in every if _KINDS[n % 6] in FAILED}),
            ("outcome:refused:2", {n for n in every if _KINDS[n % 6] is OutcomeKind.EXCEPTION}),
            ("outcome:refused:3", set()),
            ("-outcome:refused:2", {n for n in every if _KINDS[n % 6] is not OutcomeKind.EXCEPTION}),
            ("took_ms:>2.8", every),
            ("took_ms:>2.9", set()),
            ("bytes:0", {n for n in every if _KINDS[n % 6] is OutcomeKind.TIMEOUT}),
            ("origin:real", every),
            ("-origin:real", set()),
            ("from:2023-11-14T22:13:20.1Z", {n for n in every if n >= 10}),
            ("to:2023-11-14T22:13:20.1Z", {n for n in every if n < 10}),
            ("-from:2023-11-14T22:13:20.1Z", {n for n in every if n < 10}),
            ("sump", {n for n in every if n % 3 == 0}),
            ('"sump pump" line:East', {n for n in every if n % 6 == 3}),
            ("read holding", every),
            ("0032 address:50", {50}),
            ("-sump -line:East unit:8", {n for n in every if n % 6 == 4}),
        ]
        for text, wanted in cases:
            with self.subTest(text):
                self.assertEqual(self._fits(text), wanted)

    def test_times_are_those_of_the_night(self) -> None:
        self.assertEqual(START_US, 1_700_000_000_000_000)  # 2023-11-14T22:13:20Z, which the cases count on

    def test_a_time_of_the_clock_is_when_it_last_was(self) -> None:
        now = datetime(2026, 5, 17, 1, 30).astimezone()
        for text, day, clock in (
            ("01:30", 17, "01:30:00"),
            ("0:10", 17, "00:10:00"),
            ("01:31", 16, "01:31:00"),
            ("22:00", 16, "22:00:00"),
            ("23:59:59.5", 16, "23:59:59"),
        ):
            moment = moment_of(text, now)
            self.assertEqual((day, clock), (moment.day, f"{moment:%H:%M:%S}"), text)
        self.assertEqual(datetime(2026, 5, 16, 23, 30).astimezone(), moment_of("2h", now))

    def test_points_need_a_site_and_are_those_that_a_request_reaches(self) -> None:
        far = SimulatedLine(device("Pump", 7, _MAP), is_serial=False)
        served = ServedPoints(Site("S", (far.line,)))
        name = far.line.devices[0].points[1].name
        self.assertIs(far.line.devices[0].points[1].table, Table.HOLDING)
        wanted = parse_filter(f'point:"Pump/{name}"', served.names_of)
        alone = parse_filter(f'point:"{name}"', served.names_of)
        for number in range(60):
            row = exchange(number)._replace(line=far.line.name)
            self.assertEqual(wanted.fits(row), number == 11)
            self.assertEqual(alone.fits(row), number == 11)
        with self.assertRaisesRegex(FilterFault, "needs a site"):
            parse_filter("point:Level")


class Faults(unittest.TestCase):
    def test_each_is_told_with_its_place(self) -> None:
        cases = [
            ("devise:Pump", 1, "'device'"),
            ("unit:7 outcom:good", 8, "'outcome'"),
            ("outcome:bad", 1, "is no outcome"),
            ("outcome:silent:2", 1, "only refused"),
            ("outcome:refused:x", 1, "is no number"),
            ("unit:x", 1, "is no number"),
            ("line:East unit:9-7", 11, "the lower one"),
            ('device:"Sump', 8, "no end"),
            ("took_ms:=>5", 1, "is no number"),
            ("from:yesterday", 1, "is no time"),
            ("origin:fake", 1, "is no origin"),
            ("device:", 1, "no value"),
            ('a"b c"', 2, "within a word"),
        ]
        for text, place, message in cases:
            with self.subTest(text), self.assertRaises(FilterFault) as caught:
                parse_filter(text)
            with self.subTest(text):
                self.assertEqual(caught.exception.place, place, str(caught.exception))
                self.assertIn(message, str(caught.exception))

    @given(st.text(alphabet='abdeilnotuv:"-><= 0x12', max_size=30) | st.text(max_size=20), rows)
    @settings(max_examples=300, deadline=None)
    def test_any_text_fits_or_is_a_fault(self, text: str, row: ExchangeRow) -> None:
        try:
            wanted = parse_filter(text)
        except FilterFault as fault:
            self.assertTrue(1 <= fault.place <= len(text) + 1)
            return
        self.assertIn(wanted.fits(row), (True, False))

    @given(st.sampled_from(("device:pump", "outcome:silent", "unit:1-9", "sump", "took_ms:>1")), rows)
    def test_excluding_is_the_opposite(self, part: str, row: ExchangeRow) -> None:
        self.assertNotEqual(parse_filter(part).fits(row), parse_filter(f"-{part}").fits(row))


class OfEvents(unittest.TestCase):
    def test_each_key(self) -> None:
        lost = Event(1, EventKind.DEVICE_LOST, 1_700_000_000.0, "East line", "Sump pump", "fell silent")
        limit = Event(2, EventKind.LIMIT, 1_700_000_100.0, "East line", "Gate", "above 8 m", point="Level")
        for text, wanted in (
            ("", (True, True)),
            ("device:pump", (True, False)),
            ("-device:pump", (False, True)),
            ("point:Level", (False, True)),
            ("point:Gate/Level", (False, True)),
            ('kind:"device lost"', (True, False)),
            ("silent", (True, False)),
            ("line:East from:2023-11-14T22:14:00Z", (False, True)),
            ("to:2023-11-14T22:14:00Z", (True, False)),
        ):
            fits = parse_event_filter(text)
            self.assertEqual((fits(lost), fits(limit)), wanted, text)
        for text, message in (("outcome:good", "of exchanges"), ("divice:x", "'device'"), ("from:never", "is no time")):
            with self.assertRaisesRegex(FilterFault, message):
                parse_event_filter(text)
