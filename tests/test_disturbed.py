"""The screen while the ground moves: maps edited every moment, planning made slow, prompts whose point is gone. By
Textual's pilot, with a real engine on a device whose registers hold their own address."""

import asyncio
import os
import random
import re
import socket
import socketserver
import struct
import tempfile
import threading
import time
import unittest
import unittest.mock
from collections.abc import Awaitable, Callable
from functools import partial
from pathlib import Path

from textual import events
from textual.pilot import Pilot

from kanaleto.board import world
from kanaleto.editing.pointedit import change_points
from kanaleto.editing.workingcopy import Draft
from kanaleto.files.loading import load_whole
from kanaleto.finding.scratch import ScratchQuestion
from kanaleto.planning import plan as planning
from kanaleto.polling.engine import Engine
from kanaleto.site.model import Site
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.find.view import FindView
from kanaleto.tui.frame.standing import Standing
from kanaleto.tui.live.rows import LiveRows
from kanaleto.tui.live.view import LiveView
from kanaleto.tui.map.ruler import RulerRows
from kanaleto.tui.map.view import MapView
from kanaleto.tui.shared.prompt import Prompt
from tests.servers import Server, take

HEAD = "name,table,address,type"


class _OwnAddress(socketserver.BaseRequestHandler):
    """Every holding register holds its own address."""

    def handle(self) -> None:
        self.request.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        while head := take(self.request, 12):
            first, count = struct.unpack(">HH", head[8:12])
            body = struct.pack(f">BB{count}H", 3, 2 * count, *range(first, first + count))
            self.request.sendall(head[:4] + struct.pack(">HB", len(body) + 1, head[6]) + body)


def rows_of(addresses: list[int]) -> str:
    """A map whose names tell the addresses."""
    return "\n".join([HEAD, *(f"R{address},holding,{address},uint16" for address in addresses)]) + "\n"


def painted(app: KanaletoApp) -> list[str]:
    """What stands on the screen, row by row."""
    return ["".join(segment.text for segment in strip) for strip in app.screen._compositor.render_strips()]


def slowly(site: Site, *arguments: object) -> planning.Plan:
    time.sleep(0.2)
    return planning.plan_site(site, *arguments)  # type: ignore[arg-type]


Work = Callable[["Disturbed", KanaletoApp, "Pilot[None]"], Awaitable[None]]


class Disturbed(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        kept = {f"XDG_{name}_HOME": str(self.folder / name) for name in ("DATA", "STATE")}
        patch = unittest.mock.patch.dict(os.environ, kept)
        patch.start()
        self.addCleanup(patch.stop)
        server = Server(("127.0.0.1", 0), _OwnAddress)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        self.map, self.path = self.folder / "m.csv", self.folder / "site.toml"
        self.map.write_text(rows_of(list(range(12))))
        self.path.write_text(
            f'[site]\nname = "S"\nperiod_s = 0.05\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:{server.server_address[1]}"\n'
            '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "m.csv"\n'
        )

    def drive(self, work: Work, is_slow: bool = True, size: tuple[int, int] = (160, 47)) -> None:
        """Run the application, and `work` on it."""

        self.map.write_text(rows_of(list(range(12))))

        async def run() -> None:
            loaded = load_whole(self.path)
            engine = Engine(loaded.site)
            engine.start()
            app = KanaletoApp(engine, loaded, "lagoon")
            try:
                async with app.run_test(size=size) as pilot:
                    await self.until(lambda: any(re.search(r"R0 +0 ", row) for row in painted(app)), "a first value")
                    await self.until(lambda: app.is_whole, "all that the first frame did not need")
                    await work(self, app, pilot)
                    self.assertIsNone(app.crash)
            finally:
                app.door.close()
                engine.stop()
                app.keeping.stop()

        if not is_slow:
            asyncio.run(run())
            return
        with unittest.mock.patch.object(world, "plan_site", slowly):
            asyncio.run(run())

    async def until(self, is_so: Callable[[], object], what: str) -> None:
        end = time.monotonic() + 120
        while not is_so():
            self.assertLess(time.monotonic(), end, f"{what} did not come about")
            await asyncio.sleep(0.02)

    def on_disk(self, addresses: list[int]) -> None:
        """Somebody else edits the map."""
        beside = self.folder / "m.new"
        beside.write_text(rows_of(addresses))
        os.replace(beside, self.map)

    async def taken(self, app: KanaletoApp, name: str, is_there: bool = True) -> None:
        await self.until(lambda: (app.snapshot.place_of(("D", name)) is not None) is is_there, f"{name} in the plan")


class Values(Disturbed):
    def test_none_stands_under_another_name_while_the_map_is_edited(self) -> None:
        for is_slow in (False, True):
            with self.subTest(is_slow=is_slow):
                self.drive(_watch_values, is_slow)


def _instead(path: Path, text: str, draft: Draft) -> str:
    draft.put(text, path)
    return "another map"


async def _watch_values(test: Disturbed, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    pick = random.Random(7)
    seen = 0
    least, most, next_edit = time.monotonic() + 8, time.monotonic() + 120, 0.0
    while time.monotonic() < (least if seen > 1000 else most):
        if time.monotonic() > next_edit:
            addresses = pick.sample(range(40), pick.randint(3, 30))
            if pick.random() < 0.5:
                test.on_disk(addresses)
            else:
                app.door.edit(partial(_instead, test.map, rows_of(addresses)))
            next_edit = time.monotonic() + pick.choice((0.1, 0.4, 1.0))
        if pick.random() < 0.1:
            await pilot.press(pick.choice(("2", "3")))
        await asyncio.sleep(0.02)
        for row in painted(app):
            for pattern in (r"\bR(\d+) +(\d+) +[─━ ]", r"([0-9A-F]{4})  .?R(\d+) +uint16 +(\d+) "):
                if found := re.search(pattern, row):
                    numbers = {
                        int(found[1], 16 if len(found.groups()) == 3 else 10),
                        *(int(text) for text in found.groups()[1:]),
                    }
                    test.assertEqual(len(numbers), 1, row)
                    seen += 1
    test.assertGreater(seen, 200)


class Identity(Disturbed):
    def test_cursor_marks_and_pins_stay_with_their_points(self) -> None:
        self.drive(_identities)

    def test_what_a_prompt_was_opened_on_is_what_it_changes(self) -> None:
        self.drive(_prompts)

    def test_every_refusal_is_seen_in_the_end_and_not_its_opposite(self) -> None:
        self.drive(_refusals)

    def test_keys_typed_ahead_of_an_edit(self) -> None:
        self.drive(_typed_ahead)

    def test_keys_that_are_all_there_at_once(self) -> None:
        self.drive(_at_once, is_slow=False)

    def test_views_that_were_hidden_meanwhile(self) -> None:
        self.drive(_hidden)


async def _identities(test: Disturbed, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    rows = app.query_one(LiveView).query_one(LiveRows)
    await pilot.press(*["down"] * 5, "p")
    await pilot.press("2", *["down"] * 5, "v", "v")
    ruler = app.query_one(RulerRows)
    place = app.query_one(MapView).place
    assert place is not None
    test.assertEqual((place.point.name, ruler.marked), ("R7", {"R5", "R6"}))
    test.on_disk([*range(30, 38), *range(2, 12), 20])
    await test.taken(app, "R30")
    await pilot.pause(0.3)
    place = app.query_one(MapView).place
    assert place is not None
    test.assertEqual((place.point.name, ruler.marked), ("R7", {"R5", "R6"}))
    test.on_disk([1, 6, 7, 20, 21])
    await test.taken(app, "R30", False)
    await test.until(lambda: ruler.marked == {"R6"}, "the mark let go")
    test.assertIn("R5 is no more", app.notice)
    await pilot.press("3")
    await test.until(lambda: not rows.pinned, "the pin let go")
    test.assertIn("R5 is no more", app.notice)
    current = app.query_one(LiveView)._current
    assert current is not None


async def _prompts(test: Disturbed, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    view, prompt = app.query_one(MapView), app.query_one(Prompt)
    await pilot.press("2", "down", "down", "c")
    await pilot.press(*" unit=kW")
    test.on_disk([40, 41, *range(12)])  # all rows lie two further down now
    await test.taken(app, "R40")
    await pilot.press("ctrl+z")  # the prompt's own, and it has none
    await pilot.press("enter")
    await test.until(lambda: not prompt.is_open, "the edit")
    test.assertIn("R2,holding,2,uint16,kW", test.map.read_text())
    await pilot.press("d")
    test.on_disk([0, 1, 3, 4])
    await test.taken(app, "R2", False)
    await pilot.press("5", "enter")
    test.assertIn("R2 of D is no more", "".join(app.troubles.values()))
    test.assertTrue(prompt.is_open)
    await pilot.press("escape")
    test.assertFalse(prompt.is_open)
    place = view.place
    assert place is not None
    await pilot.press("c")
    test.on_disk([90])
    await test.taken(app, "R90")
    await pilot.press(*" unit=V", "enter")
    await test.until(lambda: "edit" in app.troubles, "the refusal")
    test.assertRegex(app.troubles["edit"], rf"{place.point.name} stands in no row of D's map any more")
    test.assertEqual(test.map.read_text(), rows_of([90]))


async def _refusals(test: Disturbed, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    standing = app.query_one(Standing)
    await pilot.press("2", "down", "delete", "delete")  # the second is for what is gone by then
    await test.until(lambda: app.troubles.get("edit"), "the second refused")
    test.assertIn("R1 stands in no row", app.troubles["edit"])
    test.assertEqual(test.map.read_text(), rows_of([0, *range(2, 12)]))
    test.on_disk([0, 5, 9])
    await test.taken(app, "R2", False)
    await pilot.pause(0.5)
    test.assertIn("R1 stands in no row", app.troubles["edit"])  # a take-over does not cover it
    test.assertTrue(standing.display)
    test.assertTrue(any("R1 stands in no row" in row for row in painted(app)))
    test.map.write_text(rows_of([0, 5]) + "Torn,hold")
    await test.until(lambda: "files" in app.troubles, "the faulty file")
    await pilot.press("escape")
    test.assertEqual(list(app.troubles), ["files"])  # seen and let go, but this is not mended yet
    test.map.write_text(rows_of([0, 5, 6]))
    await test.until(lambda: not app.troubles, "the mended file")
    await test.until(lambda: not standing.display, "the row to go")


async def _typed_ahead(test: Disturbed, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    prompt = app.query_one(Prompt)
    await pilot.press("2", "down", "down", "a", *"X", "comma", *"70", "comma", *"int17", "enter")
    await test.until(lambda: not prompt.is_waiting and "edit" in app.troubles, "the refusal")
    await pilot.pause(0.5)
    test.assertTrue(prompt.is_open)  # to be corrected
    test.assertEqual(test.map.read_text(), rows_of(list(range(12))))
    await pilot.press(*["backspace"] * 2, *"16", "enter", "3")
    await test.until(lambda: app.current_digit == "3", "the key behind an edit that went well")
    test.assertIn("X,holding,70,int16", test.map.read_text())
    test.assertEqual(app.troubles, {})


def _burst(app: KanaletoApp, *keys: str) -> None:
    """All keys in the queue before the first is looked at, as a terminal that was held up sends them."""
    for key in keys:
        character = {"comma": ",", "full_stop": ".", "colon": ":"}.get(key, key if len(key) == 1 else None)
        app.post_message(events.Key(key, character))


async def _at_once(test: Disturbed, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    find = app.query_one(FindView)
    place = find.snapshot.site.lines[0].link.place
    read = ["enter", "7", "tab", "tab", "1", "2", "enter"]  # unit and address
    for keys in (["1", "home", *read], ["1", "y", *place, *read], ["r", *read[1:], "escape", "y", *place, *read]):
        _burst(app, *keys)
        await test.until(lambda: find.words.has_keys, "the reading")
        test.assertEqual((find.form.question.unit_id, find.form.question.address), (7, 12))
        find.form.show(ScratchQuestion())
        await pilot.press("escape")
    live = app.query_one(LiveRows)
    _burst(app, "3", "slash", *"r11", "enter", "p", "escape", "home", "p", "ctrl+p", *"ruler", "escape", "2", "1", "3")
    await test.until(lambda: len(live.pinned) == 2, "two pins")
    test.assertEqual(live.pinned, [("D", "R11"), ("D", "R0")])
    app.post_message(events.AppBlur())  # somebody looks at another window, and the keys of a script go on
    _burst(app, "2", "down", "down", "a", *"Y", "comma", *"80", "comma", *"uint16", "enter", "3", "end")
    await test.until(lambda: "Y,holding,80,uint16" in test.map.read_text(), "the edit")
    await test.until(lambda: app.current_digit == "3", "the keys behind the edit")
    app.post_message(events.AppFocus())
    await pilot.pause(0.2)
    test.assertTrue(live.has_keys)


async def _hidden(test: Disturbed, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    for turn in range(12):
        test.on_disk(list(range(turn, 40 - 3 * turn)))
        await pilot.press("1", "2", "down", "4", "3", "pagedown", "ctrl+p", "escape", "?", "1", "3")
        app.edit(change_points("D", [f"R{turn + 1}"], {"type": "int16"}))
    await pilot.pause(1)
