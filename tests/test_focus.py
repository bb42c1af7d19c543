"""Where the keys go: to what was just made, round all panels, and back to what the cursor was on."""

import asyncio
import threading
import unittest
from functools import partial
from unittest.mock import patch

from textual.pilot import Pilot

from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import Place
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.find.findings import FoundRows
from kanaleto.tui.find.view import FindView
from kanaleto.tui.live.view import LiveView
from kanaleto.tui.map import ranking
from kanaleto.tui.map.beside import Ranked
from kanaleto.tui.map.view import MapView
from kanaleto.tui.shared.context import Stoppable
from kanaleto.tui.shared.prompt import Prompt
from tests.livesite import LiveCase, rows_shown


class Focus(LiveCase):
    def test_a_point_or_a_device_that_is_added_has_the_cursor(self) -> None:
        self.drive(_added)

    def test_a_bit_is_asked_for_its_table(self) -> None:
        self.drive(_bits)

    def test_tab_goes_round_all_panels_of_find(self) -> None:
        self.drive(_round)

    def test_what_is_in_the_site_already_is_not_added_again(self) -> None:
        self.drive(_again)

    def test_the_addresses_beside_a_point_stay_while_its_readings_are_still_ranked(self) -> None:
        held_up = threading.Event()
        self.addCleanup(held_up.set)

        def ranked(snapshot: Snapshot, place: Place, display: str) -> tuple[Ranked, str]:
            held_up.wait(30)
            return rank_place(snapshot, place, display)

        rank_place = ranking.rank_place
        with patch.object(ranking, "rank_place", ranked):
            self.drive(partial(_compared, held_up=held_up))

    def test_what_is_pasted_while_a_line_waits_comes_behind_the_keys_before_it(self) -> None:
        self.drive(_pasted_ahead)

    def test_a_new_filter_keeps_the_cursor_on_its_point(self) -> None:
        self.drive(_filtered)

    def test_a_scratch_reading_rests_while_find_is_out_of_sight(self) -> None:
        self.drive(_resting)

    def test_a_device_that_is_named_goes_before_a_point_of_it(self) -> None:
        self.drive(_found_by_name)


async def _added(test: Focus, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    await pilot.press("2")
    view = app.query_one(MapView)
    await test.until(lambda: view.ruler_rows.rows and app.focused is view.ruler_rows, "the ruler")
    await pilot.press("a")
    await test.answer(app, pilot, "Later, 60, uint16")
    await test.until(lambda: view.place is not None and view.place.point.name == "Later", "the new point")
    await pilot.press("down", "down")
    await pilot.press("tab", "a")
    await test.shows(app, r"a device more on L: unit ID, name")
    await test.answer(app, pilot, "2")
    await test.shows(app, r"unit 2 of L is Meter 2 already")
    app.take_paste(", 9x")  # added to nothing: it is refused too
    await pilot.press("escape")
    await pilot.press("a")
    await test.answer(app, pilot, "9, Fourth")
    await test.until(lambda: view.device is not None and view.device.name == "Fourth", "the new device")
    await test.shows(app, r"no points yet: a adds one")
    await pilot.press("enter", "a")
    await test.answer(app, pilot, "First, 3, uint16")
    await test.until(lambda: view.place is not None and view.place.identity == ("Fourth", "First"), "its point")


def _is_on(view: MapView, name: str) -> bool:
    return view.place is not None and view.place.point.name == name


def _is_read_otherwise(view: MapView, before: Place) -> bool:
    return view.place is not None and view.place.point != before.point


async def _compared(test: Focus, app: KanaletoApp, pilot: "Pilot[None]", held_up: threading.Event) -> None:
    await pilot.press("2")
    view = app.query_one(MapView)
    await test.until(lambda: view.place is not None and app.focused is view.ruler_rows, "the ruler")
    await pilot.press("z")
    await test.shows(app, r"OFF BY ONE\? +read at \d\d:\d\d:\d\d")
    await pilot.pause(1)  # several pictures later
    await test.shows(app, r"OFF BY ONE\?")
    await pilot.press("down")
    await test.until(lambda: not view._beside.neighbours, "another point, which was not compared")
    await pilot.press("up", "z")
    await test.shows(app, r"OFF BY ONE\?")
    held_up.set()
    await test.shows(app, r"OTHER READINGS")
    await test.shows(app, r"OFF BY ONE\?")
    # it stays while the point is read in another way, whenever that reaches the screen
    for told in (" factor=7", " factor=9"):
        place = view.place
        assert place is not None
        await pilot.press("c")
        await test.answer(app, pilot, told)
        await test.until(partial(_is_read_otherwise, view, place), "the other factor")
        await pilot.pause(0.5)
        await test.shows(app, r"OFF BY ONE\?")


async def _pasted_ahead(test: Focus, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    under_way = Stoppable()
    prompt = app.query_one(Prompt)
    app.ask("what", "", lambda text: under_way)
    await pilot.press("x", "enter")
    await test.until(lambda: prompt.is_waiting, "the line, waiting")
    await pilot.press("slash")
    app.take_paste("nobody")
    under_way.set_result(None)
    await test.until(lambda: not prompt.is_open, "the line, closed")
    await test.shows(app, r"nobody")


async def _bits(test: Focus, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    await pilot.press("2")
    view = app.query_one(MapView)
    await test.until(lambda: view.ruler_rows.rows and app.focused is view.ruler_rows, "the ruler")
    for said, table in (("c", "coil"), ("d", "discrete"), ("h", "holding")):
        await pilot.press("a")
        await test.answer(app, pilot, f"Bit {said}, 30, bool")
        await test.shows(app, r"is 30 a coil \(c\), a discrete input \(d\) or bit 0")
        await test.answer(app, pilot, said)
        name = f"Bit {said}"
        await test.until(partial(_is_on, view, name), name)
        assert view.place is not None
        test.assertEqual(view.place.point.table.value, table)


async def _round(test: Focus, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    await pilot.press("1")
    view = app.query_one(FindView)
    for key in ("tab", "shift+tab"):
        seen: list[object] = []
        for _ in range(9):
            await pilot.press(key)
            seen.append(app.focused)
        test.assertIn(app.query_one(FoundRows), seen)
        test.assertIn(view.form, seen)


async def _again(test: Focus, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    before = app.snapshot.site.point_count
    await pilot.press("1", "enter")
    view = app.query_one(FindView)
    await pilot.press("enter")
    await test.until(lambda: view.words.rows, "the words")
    await pilot.press("a")
    await test.shows(app, r"Meter 1 is in the site already, and nothing is new there")
    test.assertEqual(app.snapshot.site.point_count, before)


async def _filtered(test: Focus, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    view = app.query_one(LiveView)
    for unit in (1, 2, 3):
        test.far.values[unit, 0] = 60  # beyond what it warns of
    await test.shows(app, r"△ +Level +6\.0")
    identity = ("Meter 2", "Level")
    view.go_to(identity)
    kept = 0
    for _ in range(4):
        await pilot.press("o")
        now = view._list.current
        if view._list.find(identity) is not None:
            kept += 1
            test.assertEqual(view._list.identity(now) if now is not None else None, identity)
    test.assertGreaterEqual(kept, 1)


async def _resting(test: Focus, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    await pilot.press("1", "enter", "enter")
    view = app.query_one(FindView)
    await test.until(lambda: view.desk.scratch is not None and view.desk.scratch.state.reads > 1, "two readings")
    await pilot.press("3")
    await test.until(lambda: not view.desk.is_reading, "the rest")
    assert view.desk.scratch is not None
    reads = view.desk.scratch.state.reads
    await asyncio.sleep(2.5)
    test.assertEqual(view.desk.scratch.state.reads, reads)
    await pilot.press("1")
    await test.until(lambda: view.desk.scratch is not None and view.desk.scratch.state.reads > reads, "it goes on")


async def _found_by_name(test: Focus, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    await pilot.press("down", "down", "ctrl+p")
    app.take_paste("switch meter 1")
    await test.until(lambda: rows_shown(app, r"^ +(Switch .*?)  ")[:1] == ["Switch Meter 1 off"], "the device first")
    await pilot.press("escape", "ctrl+p")
    app.take_paste("switch meter 3 off")
    await pilot.press("enter")
    await test.shows(app, r"Meter 3 is switched off, for now")


if __name__ == "__main__":
    unittest.main()
