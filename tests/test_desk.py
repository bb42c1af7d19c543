"""The desk of Find beside a polling engine: a polled serial line is borrowed and given back; scratch readings go through it. And the
workspace: edits that are whole, undone and redone, and never over somebody else's."""

import tempfile
import time
import unittest
from collections.abc import Callable
from pathlib import Path

from kanaleto.polling.engine import Engine
from kanaleto.site.adding import NewPoint, add_device, set_link
from kanaleto.site.edit import with_rows
from kanaleto.site.link import parse_link
from kanaleto.site.model import Site
from kanaleto.site.places import Places
from kanaleto.site.sitefile import load_site
from kanaleto.site.workspace import CannotEdit, Workspace
from kanaleto.survey.desk import Desk, Place, parse_place
from kanaleto.survey.scratch import Question
from kanaleto.wire.codes import Table
from tests.test_find_screen import Served


def wait_until(is_so: Callable[[], object], what: str, within_s: float = 20) -> None:
    end = time.monotonic() + within_s
    while not is_so():
        if time.monotonic() > end:
            raise AssertionError(f"{what} did not come about within {within_s} s")
        time.sleep(0.05)


class Beside(unittest.TestCase):
    def test_a_polled_line_is_borrowed_and_given_back(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            device = '[[line.device]]\nname = "D2"\nunit_id = 2\nmap = "map.csv"\nperiod_s = 0.1\nnever_read = ["holding 9"]\n'
            text = f'[site]\nname = "Far"\n[[line]]\nname = "L"\nlink = "rtu://{folder}/port?baud=57600"\n{device}'
            with Served(text) as served:
                site, _ = load_site(served.site)
                engine = Engine(site)
                engine.start()
                try:
                    self.check(engine, Desk(engine))
                finally:
                    engine.stop()

    def test_the_last_answer_of_a_busy_line_is_not_taken_for_another_masters(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            device = '[[line.device]]\nname = "D2"\nunit_id = 2\nmap = "map.csv"\nperiod_s = 0\n'
            text = f'[site]\nname = "Far"\n[[line]]\nname = "L"\nlink = "rtu://{folder}/port?baud=2400"\n{device}'
            with Served(text) as served:
                site, _ = load_site(served.site)
                engine = Engine(site)
                engine.start()
                try:
                    desk = Desk(engine)
                    place = desk.take(Place(site.lines[0].link.place, site.lines[0].link))
                    wait_until(lambda: engine.session.count > 2, "polling")
                    for _ in range(3):
                        desk.ask_units(place)
                        wait_until(lambda: not place.doing or (place.units is not None and place.units.asked > 1), "the second unit")
                        self.assertEqual(place.note, "")
                        desk.stop(place)
                        wait_until(lambda: not place.doing and not engine.session.pollers[0].is_off, "polling again")
                finally:
                    engine.stop()

    def check(self, engine: Engine, desk: Desk) -> None:
        poller = engine.session.pollers[0]
        place = desk.take(Place(poller.line.link.place, poller.line.link))
        wait_until(lambda: engine.session.board.records[0] is not None, "a first value")

        reader = desk.read(poller.line.link, Question(2, Table.HOLDING, 7, 2, 0.1))
        wait_until(lambda: reader.state.values == (1234, 77), "the scratch reading")
        self.assertTrue(poller.exchanger.is_open)
        forbidden = desk.read(poller.line.link, Question(2, Table.HOLDING, 8, 3, 0.1))
        wait_until(lambda: "never be touched" in forbidden.state.error, "the refusal")
        desk.stop_scratch()

        place.link = parse_link(f"rtu://{place.title}")
        desk.try_settings(place)
        wait_until(lambda: poller.is_off, "the closed line")
        with self.assertRaisesRegex(ValueError, "under way"):
            desk.ask_units(place)
        wait_until(lambda: not place.doing, "the end", 60)
        self.assertIn("57600", place.note)
        self.assertEqual(place.link.settings.baud, 57600)  # type: ignore[union-attr]
        count = engine.session.count
        wait_until(lambda: engine.session.count > count + 3 and not poller.is_off, "polling again")

        desk.ask_units(place)
        time.sleep(0.2)
        self.assertTrue(desk.stop(place))
        wait_until(lambda: "stopped" in place.note, "the stop")
        wait_until(lambda: not poller.is_off, "polling again")

    def test_places_from_what_is_typed(self) -> None:
        self.assertFalse(parse_place("/dev/ttyUSB0").knows_settings)
        self.assertTrue(parse_place("rtu:///dev/ttyUSB0?baud=9600").knows_settings)
        self.assertEqual(parse_place("192.0.2.7").title, "192.0.2.7:502")
        self.assertEqual(parse_place("192.0.2.7-9").range, "192.0.2.7-9")
        self.assertTrue(parse_place("COM8").is_serial)
        for text in ("", "   ", "tpc://x", "a b c"):
            with self.assertRaises(ValueError):
                parse_place(text)


class Editing(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.link = parse_link("tcp://192.0.2.7")

    def add(self, workspace: Workspace, site: Site, name: str = "Level", unit: int = 3) -> Site:
        return add_device(
            workspace, site, self.link, unit, "", [NewPoint(name, Table.HOLDING, 4, (("type", "float32"), ("order", "CDAB")))]
        )

    def test_a_new_site_grows_and_shrinks(self) -> None:
        workspace = Workspace(self.folder / "new" / "site.toml", is_unsaved=True)
        site = self.add(workspace, Site("New site", ()))
        site = self.add(workspace, site)
        self.assertEqual([point.name for point in site.lines[0].devices[0].points], ["Level", "Level (2)"])
        site = self.add(workspace, site, unit=4)
        self.assertEqual(site.device_count, 2)
        for expected in ((1, 2), (1, 1), (0, 0)):
            _, site = workspace.undo()
            self.assertEqual((site.device_count, site.point_count), expected)
        with self.assertRaisesRegex(CannotEdit, "nothing was edited"):
            workspace.undo()
        _, site = workspace.redo()
        _, site = workspace.redo()
        self.assertEqual(site.point_count, 2)

    def test_comments_columns_and_counting_are_kept(self) -> None:
        path = self.folder / "site.toml"
        device = '[[line.device]] # a pump\nname = "Pump"\nunit_id = 3\nmap = "m.csv"\nnumbering = "reference"\n'
        path.write_text(
            '# ours\n[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "tcp://192.0.2.7"\n' + device.replace("strange = 1\n", "")
        )
        (self.folder / "m.csv").write_text("name;table;address;Colour\nOld;holding;40001;red")
        workspace = Workspace(path)
        site = self.add(workspace, load_site(path)[0])
        self.assertIn("# ours", path.read_text())
        self.assertEqual((self.folder / "m.csv").read_text().splitlines()[-1], "Level;holding;40005;;float32;CDAB")
        self.assertEqual(site.lines[0].devices[0].points[1].address, 4)
        set_link(workspace, site.lines[0], parse_link("tcp://192.0.2.7:1502"))
        self.assertIn("# a pump", path.read_text())
        self.assertIn(":1502", path.read_text())

    def test_an_edit_that_would_break_the_site_leaves_it_as_it_was(self) -> None:
        workspace = Workspace(self.folder / "site.toml")
        self.add(workspace, Site("New site", ()))
        before = workspace.path.read_text()
        with self.assertRaisesRegex(CannotEdit, "not taken: "):
            workspace.change("nonsense", {workspace.path: before + "[[line]]\nname = 7\n"})
        self.assertEqual(workspace.path.read_text(), before)

    def test_what_somebody_else_changed_is_not_undone(self) -> None:
        workspace = Workspace(self.folder / "site.toml")
        self.add(workspace, Site("New site", ()))
        workspace.path.write_text(workspace.path.read_text() + "# theirs\n")
        with self.assertRaisesRegex(CannotEdit, "edited by somebody else"):
            workspace.undo()
        self.assertIn("# theirs", workspace.path.read_text())

    def test_save_as_takes_the_maps_along_and_overwrites_nothing(self) -> None:
        places = Places(self.folder / "data", self.folder / "state")
        workspace = Workspace(places.new_unsaved(), is_unsaved=True)
        self.add(workspace, Site("New site", ()))
        self.assertEqual(places.unsaved(), [workspace.path])
        target = self.folder / "pump-house.toml"
        site = workspace.save_as(target)
        self.assertEqual((site.name, site.point_count, places.unsaved()), ("Pump house", 1, []))
        with self.assertRaisesRegex(CannotEdit, "is there already"):
            workspace.save_as(target)
        places.note_recent(target)
        self.assertEqual(places.recent(), [target])
        target.unlink()
        self.assertEqual(places.recent(), [])

    def test_rows_under_missing_headings(self) -> None:
        self.assertEqual(with_rows("name,table,address\nA,holding,1", [{"name": "B", "address": "2", "table": "coil", "note": "x, y"}]),
                         'name,table,address,note\nA,holding,1\nB,coil,2,"x, y"\n')  # fmt: skip
