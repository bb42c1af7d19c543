"""Devices edited on the screen's behalf: settings with where they come from, renamed, moved, copied, taken away, beside
what others do to the file; and tables taken over into them."""

import unittest
from unittest import mock

from kanaleto.editing.deviceedit import (
    change_device,
    copy_device,
    delete_device,
    free_unit,
    loss_of,
    parse_settings,
    settings_text,
)
from kanaleto.editing.door import Door
from kanaleto.editing.pointedit import take_points
from kanaleto.editing.workingcopy import CannotEdit, Clash, Edit
from kanaleto.files.devicetext import Said
from kanaleto.files.loading import load_site, load_whole
from kanaleto.site.counting import Numbering
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.model import Device
from kanaleto.tui.shared.sure import WantedTwice
from tests.test_door import InFolder

SITE = """# the pump house, by hand
[site]
name = "S"
period_s = 2.0

[[line]]
name = "East"          # behind the wall
link = "tcp://192.0.2.7"
timeout_s = 0.7

[[line.device]]        # the old one
name = "Pump"
unit_id = 3
map = "m.csv"
max_gap = 4            # by trial
note = "hums"

[[line.device]]
name = "Fan"
unit_id = 4

[[line]]
name = "West"
link = "rtu:///dev/ttyUSB7"

[[derived]]
name = "Twice"
formula = "2 * [Pump/P1]"
"""


class Devices(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.path = self.folder / "site.toml"
        self.path.write_text(SITE)
        (self.folder / "m.csv").write_text("name,table,address\nP1,holding,1\nP2,holding,2\n")
        self.opened_door: Door = self.door(load_whole(self.path), self.path)

    def said(self, name: str) -> Said:
        said = self.opened_door.said_of(name)
        assert said is not None
        return said

    def do(self, edit: Edit, anyway: bool = False) -> str:
        return self.opened_door.edit(edit, anyway=anyway).result(60).what

    def devices(self) -> dict[str, tuple[str, Device]]:
        site, _ = load_site(self.path)
        return {device.name: (line.name, device) for line, device in site.devices()}

    def typed(self, name: str, text: str) -> dict[str, object]:
        return parse_settings(text, self.said(name))

    def test_where_a_setting_comes_from(self) -> None:
        said = self.said("Pump")
        sources = [said.source(key) for key in ("max_gap", "timeout_s", "period_s", "retries", "order")]
        self.assertEqual(sources, ["own", "line", "site", "default", "default"])
        self.assertEqual(settings_text(said), "name=Pump unit_id=3 line=East map=m.csv max_gap=4 note=hums")

    def test_settings_typed_changed_and_taken_away(self) -> None:
        text = "period_s=demand never_read='holding 40-47'"
        self.assertEqual(self.typed("Pump", text).keys(), {"period_s", "never_read"})  # what is not named stays
        changes = self.typed("Pump", f"{settings_text(self.said('Pump'))} {text} max_gap=")
        self.assertEqual(changes, {"max_gap": None, "period_s": "demand", "never_read": ["holding 40-47"]})
        self.assertEqual(self.do(change_device("Pump", changes, self.said("Pump"))), "settings of Pump")
        message = self.path.read_text()
        self.assertIn("# the old one", message)
        self.assertIn('note = "hums"', message)
        self.assertNotIn("max_gap", message)
        _, device = self.devices()["Pump"]
        self.assertEqual((device.limits.max_gap, device.limits.never_read[0][1:]), (0, (40, 47)))
        self.opened_door.undo().result(60)
        self.assertEqual(self.path.read_text(), SITE)

    def test_what_would_be_lost_is_said(self) -> None:
        for text, loss in (
            ("map=", "this takes map of Pump away, and its 2 points"),
            ("max_registers= watchdog_s=", ""),
            ("max_gap=", ""),
            ("note=", ""),
            ("period_s=1", ""),
        ):
            self.assertEqual(loss_of(self.typed("Pump", text), "Pump", 2), loss, text)
        changes: dict[str, object] = {"max_registers": None, "never_read": None, "retries": 2}
        self.assertEqual(loss_of(changes, "Pump", 2), "this takes max_registers and never_read of Pump away")

    def test_what_would_be_lost_is_wanted_twice_and_not_in_one_burst(self) -> None:
        twice, clock = WantedTwice(), [100.0]
        with mock.patch("kanaleto.tui.shared.sure.time.monotonic", lambda: clock[0]):
            self.assertEqual(twice.answer("note=x", ""), "")
            self.assertIn("enter again does it", twice.answer("map=", "this takes the map away"))
            self.assertIn("enter again does it", twice.answer("map=", "this takes the map away"))  # the same burst
            clock[0] += 0.6
            self.assertIn("enter again does it", twice.answer("tag=", "this takes the tag away"))  # something else
            clock[0] += 0.6
            self.assertEqual(twice.answer("tag=", "this takes the tag away"), "")

    def test_what_is_typed_wrong_is_told(self) -> None:
        for text, pattern in (
            ("unit_id=three", "unit_id 'three' must be a whole number"),
            ("period_s=fast", "must be seconds, or demand"),
            ("unit_id=", "unit_id is needed"),
            ("speed=9", "speed is no setting"),
            ("note='open", "a quote is not closed"),
            ("enabled=maybe", "must be yes or no"),
        ):
            with self.subTest(text), self.assertRaisesRegex(ValueError, pattern):
                self.typed("Pump", text)
        with self.assertRaisesRegex(CannotEdit, "max_registers = 999 must be at most 125"):
            changes = self.typed("Pump", "name=Pump unit_id=3 line=East map=m.csv max_registers=999")
            self.do(change_device("Pump", changes))
        self.assertEqual(self.path.read_text(), SITE)

    def test_renamed_in_formulas_too(self) -> None:
        self.do(change_device("Pump", {"name": "Sump pump"}))
        self.assertIn("2 * [Sump pump/P1]", self.path.read_text())
        self.assertIn("Sump pump", self.devices())
        with self.assertRaisesRegex(CannotEdit, "is a device already"):
            self.do(change_device("Fan", {"name": "Sump pump"}))

    def test_moved_to_another_line_and_back(self) -> None:
        changes = self.typed("Pump", "line=West name=Pump unit_id=3 map=m.csv max_gap=4 note=hums")
        self.assertEqual(self.do(change_device("Pump", changes)), "move Pump to West")
        line, device = self.devices()["Pump"]
        self.assertEqual((line, len(device.points), device.limits.max_gap), ("West", 2, 4))
        self.do(change_device("Fan", {"line": "West"}))
        self.assertEqual({line for line, _ in self.devices().values()}, {"West"})
        self.do(change_device("Fan", {"line": "East"}))
        self.assertEqual(self.devices()["Fan"][0], "East")
        with self.assertRaisesRegex(CannotEdit, "there is no line 'North'"):
            self.do(change_device("Fan", {"line": "North"}))

    def test_copied_and_taken_away(self) -> None:
        site, _ = load_site(self.path)
        self.assertEqual(free_unit(site, "Pump"), 5)
        self.do(copy_device("Pump", 5))
        line, copy = self.devices()["Pump (2)"]
        self.assertEqual((line, copy.unit_id, len(copy.points), copy.limits.max_gap), ("East", 5, 2, 4))
        self.do(delete_device("Pump (2)"))
        self.assertNotIn("Pump (2)", self.devices())
        self.assertTrue((self.folder / "m.csv").is_file())
        with self.assertRaisesRegex(CannotEdit, "is no point"):
            self.do(delete_device("Pump"))  # a formula needs it
        self.do(delete_device("Fan"))
        self.assertEqual(set(self.devices()), {"Pump"})

    def test_what_somebody_changed_meanwhile_is_asked_about(self) -> None:
        seen = self.said("Pump")
        self.path.write_text(SITE.replace("max_gap = 4", "max_gap = 9"))
        with self.assertRaisesRegex(Clash, "max_gap is now 9"):
            self.do(change_device("Pump", {"max_gap": 2}, seen))
        self.do(change_device("Pump", {"note": "hums louder"}, seen))  # which nobody else touched
        self.do(change_device("Pump", {"max_gap": 2}, seen), anyway=True)
        self.assertEqual(self.devices()["Pump"][1].limits.max_gap, 2)
        with self.assertRaisesRegex(CannotEdit, "there is no device 'Gone'"):
            self.do(delete_device("Gone"))

    def test_a_table_is_taken_over(self) -> None:
        rows = [{"name": "P1", "table": "holding", "address": "7", "type": "int16"}, {"name": "P9", "table": "holding",
                                                                                     "address": "9"}]  # fmt: skip
        self.do(take_points("Pump", rows, {"P1"}))
        points = {point.name: point.address for point in self.devices()["Pump"][1].points}
        self.assertEqual(points, {"P1": 7, "P2": 2, "P9": 9})
        self.do(take_points("Fan", [{"name": "S", "table": "holding", "address": "40011"}], (), Numbering.REFERENCE))
        _, fan = self.devices()["Fan"]
        self.assertEqual((fan.numbering, fan.points[0].address), (Numbering.REFERENCE, 10))


class Keys(InFolder):
    def loaded(self, text: str, count: int = 3) -> list[str]:
        path = self.folder / "s.toml"
        (self.folder / "m.csv").write_text(
            "name,table,address\n" + "".join(f"P{n},holding,{n}\n" for n in range(count))
        )
        path.write_text(text)
        return [str(fault) for fault in load_site(path)[1]]

    def test_a_newer_format_is_refused_in_one_sentence(self) -> None:
        self.assertEqual(self.loaded('[site]\nname = "S"\nformat = 1\n'), [])
        with self.assertRaises(FaultyFile) as raised:
            self.loaded('[site]\nname = "S"\nformat = 2\n')
        self.assertEqual(len(raised.exception.faults), 1)
        self.assertIn("s.toml:3: format = 2: is newer than this Kanaleto reads", str(raised.exception.faults[0]))

    def test_a_most_number_of_points_is_told_when_passed(self) -> None:
        text = (
            '[site]\nname = "S"\nmax_points = 2\nwriting = "never"\n[[line]]\nname = "L"\nlink = "tcp://192.0.2.1"\n'
            'max_points = 3\n[[line.device]]\nname = "D"\nunit_id = 1\nmax_points = 1\nmap = "m.csv"\ntag = "P1"\n'
        )
        texts = self.loaded(text)
        self.assertIn("s.toml:12: warning: D has 3 points, and max_points is 1", texts[0])
        self.assertIn("s.toml:3: warning: the site has 3 points, and max_points is 2", texts[1])
        self.assertEqual(len(texts), 2)
        with self.assertRaisesRegex(FaultyFile, "tag names 'X'"):
            self.loaded(text.replace('tag = "P1"', 'tag = "X"'))


if __name__ == "__main__":
    unittest.main()
