"""What others do to the files of an open site, and what becomes of both edits."""

import subprocess
import sys
import time
import unittest
import unittest.mock

from hypothesis import given
from hypothesis import strategies as st

from kanaleto.editing.adding import add_device
from kanaleto.editing.news import Done, NotTakenOver, OthersHere, SoundAgain, TakenOver
from kanaleto.editing.pointedit import change_points, delete_points
from kanaleto.editing.presence import Presence, others_at
from kanaleto.editing.workingcopy import CannotEdit, Clash, Draft
from kanaleto.files.loading import LoadedSite, load_site
from kanaleto.files.merge import merged
from kanaleto.site.model import Site
from tests.test_door import LINK, MAP, InFolder

_CHANGES = """
import sys
from pathlib import Path
from kanaleto.editing.door import Door
from kanaleto.editing.pointedit import add_points
from kanaleto.files.loading import load_whole
path, who = Path(sys.argv[1]), sys.argv[2]
door = Door(load_whole(path), path, False, lambda site: None)
for number in range(200):
    row = {"name": f"{who}{number}", "address": str(100 + number), "table": "coil" if who == "A" else "input"}
    door.edit(add_points("Pump", [row])).result(60)
door.close()
"""


class Others(InFolder):
    def test_two_writers_lose_nothing(self) -> None:
        self.opened().close()
        both = [subprocess.Popen([sys.executable, "-c", _CHANGES, str(self.path), who]) for who in "AB"]
        self.assertEqual([process.wait(300) for process in both], [0, 0])
        names = set(self.rows())
        self.assertEqual(
            names, {f"P{at}" for at in range(8)} | {f"{who}{number}" for who in "AB" for number in range(200)}
        )

    def test_an_edit_lands_on_top_of_what_an_editor_wrote(self) -> None:
        door = self.opened()
        self.map.write_text(MAP.replace("P5,holding,5", "P5,holding,55"))
        door.edit(change_points("Pump", ["P1"], {"factor": "2"})).result(120)
        self.assertIn("P5,holding,55,uint16,", self.map.read_text())
        self.assertIn("P1,holding,1,uint16,2", self.map.read_text())
        self.assertEqual(self.taken[-1].lines[0].devices[0].points[5].address, 55)
        door.undo().result(120)
        self.assertEqual(self.map.read_text(), MAP.replace("P5,holding,5", "P5,holding,55"))

    def test_the_same_row_changed_by_two_is_asked_about(self) -> None:
        door = self.opened()
        door.look().result(120)
        device = load_site(self.path)[0].lines[0].devices[0]
        seen = {"P1": door.cells_of(device, "P1")}
        self.map.write_text(MAP.replace("P1,holding,1,uint16,", "P1,holding,1,uint16,9"))
        edit = change_points("Pump", ["P1"], {"factor": "2"}, seen)
        with self.assertRaisesRegex(Clash, "P1 was changed meanwhile .factor is now 9"):
            door.edit(edit).result(120)
        with self.assertRaisesRegex(Clash, "P1 was changed"):
            door.edit(delete_points("Pump", ["P1"], seen)).result(120)
        door.edit(change_points("Pump", ["P1"], {"type": "int16"}, seen)).result(120)  # another cell of it
        door.edit(edit, anyway=True).result(120)
        self.assertIn("P1,holding,1,int16,2", self.map.read_text())

    def test_an_undo_where_somebody_else_edited_is_asked_about(self) -> None:
        door = self.opened()
        door.edit(change_points("Pump", ["P1"], {"factor": "2"})).result(120)
        self.map.write_text(self.map.read_text().replace("uint16,2", "uint16,3"))
        with self.assertRaisesRegex(Clash, "edited by somebody else since"):
            door.undo().result(120)
        self.assertIn("uint16,3", self.map.read_text())
        door.undo(anyway=True).result(120)
        self.assertEqual(self.map.read_text(), MAP)

    def test_an_editor_that_writes_between_our_reading_and_writing(self) -> None:
        door = self.opened()
        turns = iter(range(3))

        def edit(draft: Draft) -> str:
            text = draft.text(self.map)
            if next(turns, None) is not None:
                self.map.write_text(self.map.read_text() + f"E{time.monotonic_ns()},coil,1,,\n")
            draft.put(text.replace("P1,", "Q1,"), self.map)
            return "rename"

        door.edit(edit).result(120)
        self.assertEqual(self.map.read_text().count("\nE"), 3)
        self.assertIn("Q1,", self.map.read_text())

    def test_files_edited_elsewhere_are_taken_over_and_faulty_ones_told_once(self) -> None:
        door = self.opened()
        door.edit(change_points("Pump", ["P1"], {"factor": "2"})).result(120)
        time.sleep(1.2)
        self.assertEqual(self.news, [])  # our own edit is nobody else's
        self.map.write_text(MAP + "Torn,hold")
        self.until(lambda: any(isinstance(news, NotTakenOver) for news in self.news), "the fault")
        time.sleep(1.2)
        (told,) = self.news
        assert isinstance(told, NotTakenOver)
        self.assertRegex(told.text, r"m\.csv:10: .*Torn")
        with self.assertRaisesRegex(CannotEdit, "the files have a fault, mend it first: .*Torn"):
            door.edit(change_points("Pump", ["P1"], {"factor": "3"})).result(120)
        self.map.write_text(MAP + "Whole,coil,1\n")
        self.until(lambda: any(isinstance(news, TakenOver) for news in self.news), "the mended file")
        self.assertEqual(self.taken[-1].point_count, 9)

    def test_a_fault_that_is_mended_is_told_as_mended_whichever_way_it_is(self) -> None:
        self.opened()
        for _ in range(2):
            self.news.clear()
            self.map.write_text(MAP + "Torn,hold")
            self.until(lambda: [type(news) for news in self.news] == [NotTakenOver], "the fault")
            self.map.write_text(MAP)  # the very text, and another file as the system counts them
            self.until(lambda: [type(news) for news in self.news] == [NotTakenOver, SoundAgain], "the mended file")

    def test_a_file_caught_half_written_is_no_fault(self) -> None:
        self.opened()
        self.map.write_text(MAP + "Torn,hold")
        time.sleep(0.6)
        self.map.write_text(MAP + "Torn,holding,30\n")
        self.until(lambda: self.news, "the news")
        time.sleep(0.6)
        self.assertEqual([type(news) for news in self.news], [TakenOver])

    def test_two_at_one_site_are_told_of_each_other(self) -> None:
        door = self.opened()
        door.look().result(120)
        self.assertEqual(len(others_at(self.path)), 1)
        other = Presence(self.path)
        self.until(
            lambda: any(isinstance(news, OthersHere) and len(news.others) == 1 for news in self.news), "the other"
        )
        other.leave()
        self.until(lambda: isinstance(self.news[-1], OthersHere) and not self.news[-1].others, "its leaving")
        door.close()
        self.assertEqual(others_at(self.path), [])

    def test_an_unsaved_site_that_is_open_elsewhere_is_not_taken(self) -> None:
        door = self.new()
        done: Done = door.edit(add_device(LINK, 3)).result(120)
        assert done.site.path is not None
        other = self.door(LoadedSite(Site("New site", ())), self.folder / "again" / "site.toml", is_unsaved=True)
        with self.assertRaisesRegex(CannotEdit, "open elsewhere"):
            other.open(done.site.path, is_unsaved=True).result(120)
        door.close()
        self.assertEqual(other.open(done.site.path, is_unsaved=True).result(120).site.device_count, 1)


class Merging(unittest.TestCase):
    def test_what_touches_other_lines_is_brought_together(self) -> None:
        base = "a\nb\nc\nd\n"
        for mine, theirs, both in (
            ("a\nB\nc\nd\n", "a\nb\nc\nD\n", "a\nB\nc\nD\n"),
            ("b\nc\nd\n", "a\nb\nc\nd\ne\n", "b\nc\nd\ne\n"),
            ("a\nb\nc\nd\nm\n", "a\nb\nc\nd\nt\n", None),
            ("a\nB\nc\nd\n", "a\nX\nc\nd\n", None),
            ("a\nB\nc\nd\n", "a\nB\nc\nd\n", "a\nB\nc\nd\n"),
            ("a\nc\nd\n", "a\nX\nc\nd\n", None),
        ):
            with self.subTest(mine=mine, theirs=theirs):
                found = merged(base, mine, theirs)
                if both is not None:
                    self.assertEqual(found, both)
                elif found is not None:
                    self.assertEqual(sorted(found), sorted(base + "m\nt\n"))  # both added at one place: both are there

    @given(st.lists(st.sampled_from("abcd\n")), st.lists(st.sampled_from("abcd\n")))
    def test_what_only_one_changed_is_taken(self, base: list[str], mine: list[str]) -> None:
        before, after = "".join(base), "".join(mine)
        self.assertEqual(merged(before, after, before), after)
        self.assertEqual(merged(before, before, after), after)
        self.assertEqual(merged(before, after, after), after)
