"""The desk of Find beside a polling engine: a polled serial line is borrowed and given back; scratch readings go
through it."""

import tempfile
import time
import unittest
import unittest.mock
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from kanaleto.files.loading import load_site
from kanaleto.files.maprows import with_rows
from kanaleto.finding.desk import Desk, FindPlace, parse_place
from kanaleto.finding.scratch import ScratchQuestion
from kanaleto.polling.engine import Engine
from kanaleto.site.links.parse import parse_link
from kanaleto.wire.codes import Table
from tests.test_find_screen import Served


def wait_until(is_so: Callable[[], object], what: str, within_s: float = 300) -> None:
    end = time.monotonic() + within_s
    while not is_so():
        if time.monotonic() > end:
            raise AssertionError(f"{what} did not come about within {within_s} s")
        time.sleep(0.05)


@contextmanager
def polled(baud: int, period_s: int) -> Iterator[tuple[Engine, Desk, FindPlace]]:
    """A serial line with one device, polled, and the desk at its place."""
    with tempfile.TemporaryDirectory() as folder:
        device = f'[[line.device]]\nname = "D2"\nunit_id = 2\nmap = "map.csv"\nperiod_s = {period_s}\n'
        text = f'[site]\nname = "Far"\n[[line]]\nname = "L"\nlink = "rtu://{folder}/port?baud={baud}"\n{device}'
        with Served(text) as served:
            site, _ = load_site(served.site)
            engine = Engine(site)
            engine.start()
            try:
                desk = Desk(engine)
                yield engine, desk, desk.take(FindPlace(site.lines[0].link.place, site.lines[0].link))
            finally:
                engine.stop()


class Beside(unittest.TestCase):
    def test_a_polled_line_is_borrowed_and_given_back(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            device = (
                '[[line.device]]\nname = "D2"\nunit_id = 2\nmap = "map.csv"\nperiod_s '
                '= 0.1\nnever_read = ["holding 9"]\n'
            )
            text = f'[site]\nname = "Far"\n[[line]]\nname = "L"\nlink = "rtu://{folder}/port?baud=57600"\n{device}'
            with Served(text) as served:
                site, _ = load_site(served.site)
                engine = Engine(site)
                engine.start()
                try:
                    self.check(engine, Desk(engine))
                finally:
                    engine.stop()

    def test_what_a_search_knows_so_far_can_be_added_while_it_goes_on(self) -> None:
        with unittest.mock.patch("kanaleto.finding.desk.DRAFT_EACH_S", 1.0), polled(57600, 60) as (_, desk, place):
            desk.find_everything(place, 120.0)
            wait_until(lambda: any(draft.rows for draft in place.state.drafts), "a draft")
            self.assertTrue(place.state.doing, "the search goes on")
            self.assertEqual([draft.unit_id for draft in place.state.drafts], [2])
            desk.stop(place)
            wait_until(lambda: not place.state.doing, "the end")
            self.assertTrue(any(draft.rows for draft in place.state.drafts))

    def test_the_last_answer_of_a_busy_line_is_not_taken_for_another_masters(self) -> None:
        with polled(2400, 0) as (engine, desk, place):
            wait_until(lambda: engine.session.count > 2, "polling")
            for _ in range(3):
                desk.ask_units(place)
                wait_until(
                    lambda: not place.state.doing or (place.state.units is not None and place.state.units.asked > 1),
                    "the second unit",
                )
                self.assertEqual(place.state.note, "")
                desk.stop(place)
                wait_until(lambda: not place.state.doing and not engine.session.pollers[0].is_off, "polling again")

    def check(self, engine: Engine, desk: Desk) -> None:
        poller = engine.session.pollers[0]
        place = desk.take(FindPlace(poller.line.link.place, poller.line.link))
        wait_until(lambda: engine.session.board.records[0] is not None, "a first value")

        reader = desk.read(poller.line.link, ScratchQuestion(2, Table.HOLDING, 7, 2, 0.1))
        wait_until(lambda: reader.state.values == (1234, 77), "the scratch reading")
        self.assertTrue(poller.exchanger.is_open)
        forbidden = desk.read(poller.line.link, ScratchQuestion(2, Table.HOLDING, 8, 3, 0.1))
        wait_until(lambda: "never be read" in forbidden.state.error, "the refusal")
        desk.stop_scratch()

        place.update(link=parse_link(f"rtu://{place.title}"))
        desk.try_settings(place)
        wait_until(lambda: poller.is_off, "the closed line")
        with self.assertRaisesRegex(ValueError, "under way"):
            desk.ask_units(place)
        wait_until(lambda: not place.state.doing, "the end", 60)
        self.assertIn("57600", place.state.note)
        self.assertEqual(place.link.settings.baud, 57600)  # type: ignore[union-attr]
        count = engine.session.count
        wait_until(lambda: engine.session.count > count + 3 and not poller.is_off, "polling again")

        desk.ask_units(place)
        time.sleep(0.2)
        self.assertTrue(desk.stop(place))
        wait_until(lambda: "stopped" in place.state.note, "the stop")
        wait_until(lambda: not poller.is_off, "polling again")

    def test_places_from_what_is_typed(self) -> None:
        self.assertFalse(parse_place("/dev/ttyUSB0").state.knows_settings)
        self.assertTrue(parse_place("rtu:///dev/ttyUSB0?baud=9600").state.knows_settings)
        self.assertEqual(parse_place("192.0.2.7").title, "192.0.2.7:502")
        self.assertEqual(parse_place("192.0.2.7-9").state.range, "192.0.2.7-9")
        self.assertTrue(parse_place("COM8").state.is_serial)
        for text in ("", "   ", "tpc://x", "a b c"):
            with self.assertRaises(ValueError):
                parse_place(text)


class Rows(unittest.TestCase):
    def test_rows_under_missing_headings(self) -> None:
        self.assertEqual(with_rows("name,table,address\nA,holding,1",
            [{"name": "B", "address": "2", "table": "coil", "note": "x, y"}]),
                         'name,table,address,note\nA,holding,1\nB,coil,2,"x, y"\n')  # fmt: skip
