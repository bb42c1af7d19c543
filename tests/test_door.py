"""The door to the open site: edits that are whole, in order, addressed by name, undone and redone; what others do to
the files meanwhile."""

import os
import signal
import stat
import subprocess
import sys
import tempfile
import threading
import time
import unittest
import unittest.mock
from collections.abc import Callable
from pathlib import Path

from kanaleto.editing.adding import NewPoint, add_device, keep_lessons, set_link
from kanaleto.editing.door import Door
from kanaleto.editing.news import News, Opened
from kanaleto.editing.pointedit import add_points, change_points, copy_point, delete_points, take_reading
from kanaleto.editing.userfiles import Places
from kanaleto.editing.workingcopy import CannotEdit
from kanaleto.files.loading import LoadedSite, load_site, load_whole
from kanaleto.files.whole import complete, locked, write_bytes_whole
from kanaleto.site.links.parse import parse_link
from kanaleto.site.model import Site
from kanaleto.values.candidates import Candidate
from kanaleto.values.codec import Codec
from kanaleto.values.types import ByteOrder, Kind, ValueType
from kanaleto.wire.codes import Table

LINK = parse_link("tcp://192.0.2.7")
SITE = (
    '# ours\n[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "tcp://192.0.2.7"\n'
    '[[line.device]] # a pump\nname = "Pump"\nunit_id = 3\nmap = "m.csv"\n'
)
MAP = "name,table,address,type,factor\n" + "".join(f"P{number},holding,{number},uint16,\n" for number in range(8))


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.taken: list[Site] = []
        self.news: list[News] = []

    def door(self, loaded: LoadedSite, path: Path, is_unsaved: bool = False) -> Door:
        door = Door(loaded, path, is_unsaved, lambda change: self.taken.append(change.site), self.news.append)
        self.addCleanup(door.close)
        return door

    def opened(self, map_text: str = MAP) -> Door:
        self.path, self.map = self.folder / "site.toml", self.folder / "m.csv"
        self.path.write_text(SITE)
        self.map.write_text(map_text)
        return self.door(load_whole(self.path), self.path)

    def new(self) -> Door:
        return self.door(LoadedSite(Site("New site", ())), self.folder / "new" / "site.toml", is_unsaved=True)

    def until(self, is_so: Callable[[], object], what: str) -> None:
        end = time.monotonic() + 120
        while not is_so():
            self.assertLess(time.monotonic(), end, f"{what} did not come about")
            time.sleep(0.02)

    def rows(self) -> dict[str, str]:
        return {line.split(",")[0]: line for line in self.map.read_text().splitlines()[1:]}


class Editing(InFolder):
    def add(self, door: Door, name: str = "Level", unit: int = 3) -> Site:
        point = NewPoint(name, Table.HOLDING, 4, (("type", "float32"), ("order", "CDAB")))
        return door.edit(add_device(LINK, unit, "", [point])).result(120).site

    def test_a_new_site_grows_and_shrinks(self) -> None:
        door = self.new()
        self.add(door)
        site = self.add(door)
        self.assertEqual([point.name for point in site.lines[0].devices[0].points], ["Level", "Level (2)"])
        self.assertEqual(self.add(door, unit=4).device_count, 2)
        for expected in ((1, 2), (1, 1), (0, 0)):
            site = door.undo().result(120).site
            self.assertEqual((site.device_count, site.point_count), expected)
        with self.assertRaisesRegex(CannotEdit, "nothing was edited"):
            door.undo().result(120)
        door.redo().result(120)
        self.assertEqual(door.redo().result(120).site.point_count, 2)

    def test_an_edit_clears_what_was_undone(self) -> None:
        door = self.new()
        self.add(door)
        self.add(door, "Other")
        door.undo().result(120)
        self.add(door, "Third")
        with self.assertRaisesRegex(CannotEdit, "nothing was undone"):
            door.redo().result(120)

    def test_comments_columns_and_counting_are_kept(self) -> None:
        door = self.opened("name;table;address;Colour\nOld;holding;40001;red")
        self.path.write_text(SITE.replace("unit_id", 'numbering = "reference"\nunit_id'))
        site = self.add(door)
        self.assertIn("# ours", self.path.read_text())
        self.assertEqual(self.map.read_text().splitlines()[-1], "Level;holding;40005;;float32;CDAB")
        self.assertEqual(site.lines[0].devices[0].points[1].address, 4)
        door.edit(set_link("L", parse_link("tcp://192.0.2.7:1502"))).result(120)
        door.edit(keep_lessons({"Pump": {"max_registers": 20}})).result(120)
        for kept in ("# a pump", ":1502", "max_registers = 20"):
            self.assertIn(kept, self.path.read_text())

    def test_an_edit_that_would_break_the_site_writes_nothing(self) -> None:
        door = self.opened()
        for edit in (
            add_points("Pump", [{"name": "P3", "address": "9", "table": "holding"}]),
            add_points("Pump", [{"name": "Far", "address": "70000", "table": "holding"}]),
            change_points("Pump", ["P1"], {"type": "int17"}),
        ):
            with self.assertRaisesRegex(CannotEdit, r"not taken: .*m\.csv, line"):
                door.edit(edit).result(120)
        self.assertEqual((self.map.read_text(), self.taken), (MAP, []))

    def test_rows_are_addressed_by_name(self) -> None:
        door = self.opened()
        done = [
            door.edit(delete_points("Pump", ["P2"])),
            door.edit(change_points("Pump", ["P3"], {"factor": "0.5"})),
            door.edit(delete_points("Pump", ["P2"])),
            door.edit(change_points("Pump", ["P2", "P4"], {"factor": "7"})),
            door.edit(copy_point("Pump", "P4")),
            door.edit(change_points("Gone", ["P3"], {"factor": "7"})),
        ]
        for at, reason in ((2, "P2 stands in no row"), (3, "P2 stands in no row"), (5, "no device 'Gone'")):
            with self.assertRaisesRegex(CannotEdit, reason):
                done[at].result(120)
        self.assertEqual(done[4].result(120).what, "copy P4 of Pump")
        rows = self.rows()
        self.assertEqual(rows["P3"], "P3,holding,3,uint16,0.5")
        self.assertEqual((rows["P4"], rows["P4 (2)"]), ("P4,holding,4,uint16,", "P4 (2),holding,4,uint16,"))
        self.assertNotIn("P2", rows)

    def test_every_one_of_many_quick_edits_is_there(self) -> None:
        door = self.opened()
        threads = [
            threading.Thread(
                target=lambda at=at: [
                    door.edit(change_points("Pump", [f"P{at}"], {"factor": str(n)})) for n in range(1, 6)
                ]
            )  # type: ignore[misc]
            for at in range(8)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        door.edit(add_points("Pump", [{"name": "Last", "address": "90", "table": "coil"}])).result(60)
        self.assertEqual([row.rsplit(",", 1)[1] for name, row in self.rows().items() if name != "Last"], ["5"] * 8)
        for _ in range(41):
            door.undo()
        door.look().result(60)
        self.assertEqual(self.map.read_text(), MAP)

    def test_what_is_begun_on_one_site_is_not_done_to_another(self) -> None:
        door = self.opened()
        opened = door.opened
        other = self.folder / "other.toml"
        other.write_text(SITE)
        door.open(other).result(120)
        with self.assertRaisesRegex(CannotEdit, "another site was opened"):
            door.edit(delete_points("Pump", ["P2"]), opened).result(120)
        self.assertEqual((self.map.read_text(), self.taken[-1].path), (MAP, other))

    def test_save_as_takes_the_maps_along_and_overwrites_nothing(self) -> None:
        places = Places(self.folder / "data", self.folder / "state")
        door = self.door(LoadedSite(Site("New site", ())), places.new_unsaved(), is_unsaved=True)
        self.add(door)
        self.assertEqual(places.unsaved(), [door.opened.path])
        target = self.folder / "pump-house.toml"
        site = door.save_as(target).result(120).site
        self.assertEqual((site.name, site.point_count, places.unsaved()), ("Pump house", 1, []))
        self.assertEqual(door.opened, Opened(target, False, 1))
        with self.assertRaisesRegex(CannotEdit, "is there already"):
            door.save_as(target).result(120)
        self.assertEqual(self.add(door, "More").point_count, 2)
        places.note_recent(target)
        self.assertEqual(places.recent(), [target])
        target.unlink()
        self.assertEqual(places.recent(), [])


class OnDisk(InFolder):
    def test_links_are_written_through_and_modes_kept(self) -> None:
        real = self.folder / "elsewhere" / "real.csv"
        real.parent.mkdir()
        door = self.opened()
        self.map.rename(real)
        self.map.symlink_to(real)
        real.chmod(0o640)
        door.edit(change_points("Pump", ["P1"], {"factor": "2"})).result(120)
        self.assertTrue(self.map.is_symlink())
        self.assertIn("P1,holding,1,uint16,2", real.read_text())
        self.assertEqual(stat.S_IMODE(real.stat().st_mode), 0o640)
        mask = os.umask(0o027)
        self.addCleanup(os.umask, mask)
        done = door.edit(add_device(parse_link("tcp://192.0.2.8"), 1)).result(120)
        new = done.site.lines[-1].devices[0].map_path
        assert new is not None
        self.assertEqual(stat.S_IMODE(new.stat().st_mode), 0o640)
        self.assertEqual([path.name for path in self.folder.rglob(".*new")], [])

    def test_a_column_that_is_none_is_refused_with_what_was_meant(self) -> None:
        door = self.opened()
        before = self.map.read_text()
        for cells, text in (
            ({"period": "2"}, "period is no column of a map .did you mean 'period_s'?"),
            ({"bits": "3"}, "did you mean 'bit'"),
            ({"unit": "m", "speed": ""}, "speed is no column of a map; . lists them all"),
        ):
            with self.assertRaisesRegex(CannotEdit, text):
                door.edit(change_points("Pump", ["P1"], cells)).result(120)
        with self.assertRaisesRegex(CannotEdit, "facter is no column"):
            door.edit(add_points("Pump", [{"name": "N", "table": "holding", "address": "9", "facter": "2"}])).result(
                120
            )
        self.assertEqual(self.map.read_text(), before)
        for cells, text in (
            ({"type": "bool", "warn_high": "1"}, "warn_high needs a number, and type bool has none"),
            ({"type": "text:4", "bit": "3"}, "bit 3 needs a register"),
            ({"factor": "0"}, "a factor of 0"),
            ({"scale": "0"}, "a number goes into factor"),
        ):
            with self.assertRaisesRegex(CannotEdit, text):
                door.edit(change_points("Pump", ["P1"], cells)).result(120)
        self.assertEqual(self.map.read_text(), before)
        self.map.write_text(before.replace("name,", "name,shelf,").replace(",holding", ",left,holding"))
        door.look().result(120)
        door.edit(change_points("Pump", ["P1"], {"shelf": "right"})).result(120)  # a heading of its own
        self.assertIn("P1,right", self.map.read_text())

    def test_reading_otherwise_keeps_factor_and_unit_where_they_can_hold(self) -> None:
        door = self.opened()
        done = door.edit(change_points("Pump", ["P1"], {"factor": "0.1", "unit": "m"})).result(120)
        point = done.site.lines[0].devices[0].points[1]
        same = Candidate(Codec(ValueType(Kind.INT16), ByteOrder.AB, point.codec.scale), 1, 1.0, False, "")
        wide = Candidate(Codec(ValueType(Kind.FLOAT32), ByteOrder.CDAB), 1, 1.0, False, "")
        done = door.edit(take_reading("Pump", point, 0, same)).result(120)
        self.assertIn("scale and unit as before", done.what)
        self.assertIn("P1", self.map.read_text())
        point = done.site.lines[0].devices[0].points[1]
        self.assertEqual((str(point.codec), point.unit), (str(same.codec), "m"))
        done = door.edit(take_reading("Pump", point, 0, wide)).result(120)
        self.assertIn("without its scale: it was of another width", done.what)
        point = done.site.lines[0].devices[0].points[1]
        self.assertEqual((point.codec.scale, point.unit), (None, "m"))

    def test_a_disk_that_takes_no_more_leaves_everything(self) -> None:
        door = self.opened()
        before = self.path.read_text(), self.map.read_text()
        with unittest.mock.patch("kanaleto.files.whole.os.fsync", side_effect=OSError(28, "No space left on device")):
            with self.assertRaisesRegex(CannotEdit, "No space left"):
                door.edit(add_device(parse_link("tcp://192.0.2.8"), 1)).result(120)
            with self.assertRaisesRegex(CannotEdit, "No space left"):
                door.edit(delete_points("Pump", ["P1"])).result(120)
        self.assertEqual((self.path.read_text(), self.map.read_text()), before)
        self.assertEqual([path.name for path in self.folder.rglob(".*new")], [])

    def test_killed_in_an_edit_of_two_files_all_of_it_is_there_or_none(self) -> None:
        self.opened().close()
        had, turn = 0, 0
        while turn < 50 or (had == 0 and turn < 200):  # on a slow machine the first are killed before their first edit
            turn += 1
            process = subprocess.Popen(
                [sys.executable, "-c", _ADDS, str(self.path), str(turn)], stdout=subprocess.PIPE, text=True
            )
            assert process.stdout is not None
            process.stdout.readline()
            time.sleep(turn % 10 * 0.01 * (1 + turn // 50))
            process.send_signal(signal.SIGKILL)
            process.wait()
            process.stdout.close()
            site, _ = load_site(self.path)
            devices = [device for _, device in site.devices() if device.name != "Pump"]
            self.assertGreaterEqual(len(devices), had)
            self.assertTrue(all([point.name for point in device.points] == ["Level"] for device in devices))
            had = len(devices)
        self.assertGreater(had, 0)
        self.door(load_whole(self.path), self.path).look().result(120)  # whoever opens it next takes away what was left
        self.assertEqual([path.name for path in self.folder.rglob(".*new")], [])

    def test_renames_that_were_written_down_are_completed_and_nobody_elses(self) -> None:
        self.opened().close()
        beside = self.folder / "site.kanaleto"
        (self.folder / ".m.csv.ab12.kanaleto-new").write_text("name,table,address\nNew,coil,0\n")
        victim = self.folder / "victim"
        victim.write_text("kept")
        (self.folder / "other").write_text("not ours")
        (beside / "renames.json").write_text(
            '{"renames": [["../.m.csv.ab12.kanaleto-new", "../m.csv"], ["../other", '
            '"../victim"], ["../../../etc/x", "../victim"]]}'
        )
        site, _ = load_site(self.path)
        self.assertEqual([point.name for _, device in site.devices() for point in device.points], ["New"])
        self.assertEqual(victim.read_text(), "kept")
        self.assertFalse((beside / "renames.json").exists())
        (beside / "renames.json").write_text("no note of ours")
        complete(self.path)
        self.assertFalse((beside / "renames.json").exists())

    def test_a_site_that_somebody_holds_too_long_is_told(self) -> None:
        self.opened().close()
        with (
            locked(self.path),
            self.assertRaisesRegex(OSError, "being edited by another program"),
            locked(self.path, 0.1),
        ):
            self.fail("two hold it")


_ADDS = """
import sys
from pathlib import Path
from kanaleto.editing.adding import NewPoint, add_device
from kanaleto.editing.door import Door
from kanaleto.files.loading import load_whole
from kanaleto.site.links.parse import parse_link
from kanaleto.wire.codes import Table
path, turn = Path(sys.argv[1]), int(sys.argv[2])
door = Door(load_whole(path), path, False, lambda site: None)
print("ready", flush=True)
for unit in range(1, 100):
    link = parse_link(f"tcp://192.0.2.9:{1000 + turn}")
    door.edit(add_device(link, unit, "", [NewPoint("Level", Table.HOLDING, unit)])).result(120)
"""


class Whole(InFolder):
    def test_bytes_are_there_whole_or_as_they_were(self) -> None:
        path = self.folder / "file"
        write_bytes_whole(path, b"one")
        with (
            unittest.mock.patch("kanaleto.files.whole.os.replace", side_effect=OSError("gone")),
            self.assertRaises(OSError),
        ):
            write_bytes_whole(path, b"two")
        self.assertEqual((path.read_bytes(), [other.name for other in self.folder.iterdir()]), (b"one", ["file"]))
