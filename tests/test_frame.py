"""The frame round the views: made from lists alone."""

import asyncio
import os
import tempfile
import unittest
import unittest.mock

from textual.pilot import Pilot
from textual.widgets import Static

from kanaleto.board.snapshot import Snapshot
from kanaleto.files.loading import LoadedSite
from kanaleto.polling.engine import Engine
from kanaleto.site.model import Site
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.frame.everywhere import EVERYWHERE
from kanaleto.tui.frame.keys import Keys
from kanaleto.tui.shared.actions import Action
from kanaleto.tui.shared.view import View
from kanaleto.tui.shared.views import Entry
from tests.test_disturbed import painted


class Spare(View, Static, can_focus=True):
    digit, title, about = "7", "Spare", "go to a view that a test has made"
    actions = (Action("t", "turn", "turn the wheel", "turn the wheel once"),)
    turned = 0

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        self.update(f"turned {self.turned} times at {snapshot.site.name}")

    def action_turn(self) -> None:
        self.turned += 1


class WithSpare(KanaletoApp):
    views = (*KanaletoApp.views[:-1], Entry(Spare.digit, Spare.title, __name__, "Spare"))


async def shown(pilot: "Pilot[None]", app: KanaletoApp, text: str) -> None:
    """Waits until it stands on the screen, for as long as a busy machine may need."""
    for _ in range(1000):
        if text in "".join(painted(app)):
            return
        await pilot.pause(0.02)
    raise AssertionError(f"{text!r} is not on the screen:\n" + "\n".join(painted(app)))


class AView(unittest.TestCase):
    def test_a_view_more_is_there_by_being_in_the_list(self) -> None:
        async def work() -> None:
            engine = Engine(Site("Nothing", ()))
            engine.start()
            app = WithSpare(engine, LoadedSite(Site("Nothing", ())), "lagoon")
            try:
                async with app.run_test(size=(160, 47)) as pilot:
                    self.assertIn("7 Spare", painted(app)[0])
                    await pilot.press("escape", "7", "t", "t")
                    while not app.is_whole:
                        await pilot.pause(0.02)
                    await shown(pilot, app, "turned 2 times at Nothing")
                    self.assertIn("t turn the wheel", painted(app)[-1])
                    await pilot.press("1", "escape", "5", "ctrl+p", *"wheel", "enter")
                    await shown(pilot, app, "turned 3 times at Nothing")
                    self.assertEqual((app.current_digit, app.query_one(Spare).turned), ("7", 3))
                    await pilot.press("?")
                    await pilot.pause(0.3)
                    texts = [text for part in app.query_one(Keys)._parts for _, text in part[1]]
                    self.assertIn("turn the wheel once", texts)
                    self.assertIn("go to Find, Map, Live, Wire, Bench, Bridge, Spare", texts)
                    await pilot.resize_terminal(80, 24)
                    await pilot.press("end")
                    await shown(pilot, app, "not polled, or not answered yet")
                    for letters in ("enter", "enter", "pagedown", "pageup", "enter"):  # nothing of it ends anything
                        await pilot.press("ctrl+p", letters, letters)
                    self.assertIsNone(app.crash)
            finally:
                app.door.close()
                engine.stop()

        with tempfile.TemporaryDirectory() as folder:
            kept = {f"XDG_{name}_HOME": folder for name in ("DATA", "STATE")}
            with unittest.mock.patch.dict(os.environ, kept):
                asyncio.run(work())

    def test_what_is_too_small_says_so_and_comes_back_each_time(self) -> None:
        async def work() -> None:
            engine = Engine(Site("Nothing", ()))
            engine.start()
            app = KanaletoApp(engine, LoadedSite(Site("Nothing", ())), "lagoon")
            try:
                async with app.run_test(size=(160, 47)) as pilot:
                    while not app.is_whole:
                        await pilot.pause(0.02)
                    for width, height in ((50, 12), (61, 17), (59, 16), (60, 15), (60, 16), (30, 5), (160, 47)):
                        await pilot.resize_terminal(width, height)
                        await pilot.pause(0.2)
                        is_small = width < 60 or height < 16
                        self.assertEqual("-small" in app.screen.classes, is_small, (width, height))
                        self.assertEqual(bool(app.query_one("#too-small").display), is_small, (width, height))
                        if is_small:
                            self.assertIn(f"{width}×{height}", str(app.query_one("#too-small", Static).content))
            finally:
                app.door.close()
                engine.stop()
                app.keeping.stop()

        asyncio.run(work())

    def test_no_letter_of_a_view_takes_one_that_is_the_same_everywhere(self) -> None:
        same = {key for action in EVERYWHERE for key in action.keys.split(",") if key} | set("1234567")
        for view in [entry.load() for entry in KanaletoApp.views]:
            own = [key for action in view.actions for key in action.keys.split(",") if key]
            self.assertFalse(same & set(own), view.title)
            self.assertEqual(len(own), len(set(own)), view.title)
