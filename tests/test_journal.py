"""The journal: what happened stands in it, folded, with its end; whatever is done to the disk, the clock or the
program."""

import asyncio
import json
import os
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from kanaleto.events.clock import Clock
from kanaleto.events.log import Ended, EventKind, EventLog, length_text
from kanaleto.history.earlier import NotThere, earlier_events, note_looked, note_on, while_nobody_looked, write_listed
from kanaleto.history.eventtable import as_message, as_object, how_long
from kanaleto.history.journal import FILE, Journal, journals_of
from kanaleto.history.journalfile import JournalEvent, JournalFile, NewerFile, add_note, connect, events_of
from tests.simulated import SimulatedLine, device
from tests.test_polling import Running
from tests.virtual import run_virtual


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name) / "site.kanaleto"
        self.path = self.folder / FILE
        self.now_s = 1_700_000_000.0
        self.told: list[str] = []
        self.log = EventLog(lambda: self.now_s)

    def journal(self) -> Journal:
        journal = Journal(self.folder, "a test", "Ada", lambda: self.now_s, self.told.append)
        journal.follow(self.log)
        return journal

    def kept(self, kind: EventKind | None = None) -> list[JournalEvent]:
        return [event for event in events_of(self.path) if kind is None or event.kind == kind.value]


class Folded(InFolder):
    """Each event once, with how often and until when."""

    def test_an_outage_has_its_begin_and_its_end(self) -> None:
        journal = self.journal()
        self.log.note(EventKind.DEVICE_LOST, "East", "Pump", "fell silent", going_on="lost")
        journal.flush()
        (open_one,) = self.kept(EventKind.DEVICE_LOST)
        self.assertIsNone(open_one.ended)
        self.assertEqual(how_long(open_one), "goes on")
        self.now_s += 9.1
        self.log.end("East", "Pump", "lost")
        journal.flush()
        (lost,) = self.kept(EventKind.DEVICE_LOST)
        self.assertEqual((lost.line, lost.device, lost.who), ("East", "Pump", "Ada"))
        self.assertEqual(as_object(lost)["length_s"], 9.1)
        self.assertEqual(how_long(lost), "9.1 s")
        journal.close()

    def test_what_comes_again_is_counted_and_a_spell_ends_when_it_came_last(self) -> None:
        journal = self.journal()
        for _ in range(40):
            self.log.note(EventKind.GARBLED, "East", "Pump", "check bytes differ", EventKind.GARBLED, is_spell=True)
            self.now_s += 1
            journal.flush()
        self.log.sweep()
        journal.flush()
        self.assertIsNone(self.kept(EventKind.GARBLED)[0].ended)
        self.now_s += 61
        self.log.sweep()
        journal.flush()
        (spell,) = self.kept(EventKind.GARBLED)
        self.assertEqual(spell.count, 40)
        self.assertEqual(spell.ended, spell.last)
        self.assertEqual(as_object(spell)["length_s"], 39.0)
        self.log.note(EventKind.GARBLED, "East", "Pump", "check bytes differ", EventKind.GARBLED, is_spell=True)
        journal.close()
        self.assertEqual(len(self.kept(EventKind.GARBLED)), 2)

    def test_lengths_in_words(self) -> None:
        for seconds, words in (
            (0.4, "0.4 s"),
            (59.7, "60 s"),
            (200, "3 min 20 s"),
            (7500, "2 h 5 min"),
            (98000, "1 d 3 h"),
        ):
            self.assertEqual(length_text(seconds), words)

    def test_of_a_polled_line_every_trouble_once_with_its_length(self) -> None:
        line = SimulatedLine(
            device("Dead", 7), device("Alive", 8), device("Refuses", 9, "name,table,address\nA,holding,0\n")
        )
        refusal = line.exchanger().framing.encode(9, b"\x83\x04")

        async def work() -> None:
            async with Running(line) as running:
                journal = Journal(self.folder, "a test", "Ada", running.session.clock.now, self.told.append)
                journal.follow(running.session.events)
                await running.for_s(5)

                def spoilt(frame, at, right):  # type: ignore[no-untyped-def]
                    if frame.unit_id == 9:
                        return [(at + 0.01, refusal)]
                    if frame.unit_id == 8:
                        return [(when, raw[:-1] + bytes((raw[-1] ^ 1,))) for when, raw in right]
                    return [] if frame.unit_id == 7 else right

                line.fault = spoilt
                for _ in range(300):
                    await running.for_s(1)
                    journal.flush()
                line.fault = None
                await running.for_s(200)
                running.session.events.end_all(Ended.QUIT)
                journal.close()

        run_virtual(work())
        by_kind = {event.kind: event for event in self.kept()}
        for kind, name in (("device lost", "Dead"), ("exception", "Refuses"), ("garbled", "Alive")):
            found = [event for event in self.kept() if event.kind == kind and event.device == name]
            self.assertEqual(len(found), 1, f"{kind}: {found}")
            length_s = as_object(found[0])["length_s"]
            self.assertTrue(290 < length_s < 340, f"{kind} lasted {length_s}")
            self.assertEqual(as_object(found[0])["end"], "over")
        self.assertGreater(by_kind["garbled"].count, 200)


class Ends(InFolder):
    def test_a_clean_end_says_that_what_went_on_did(self) -> None:
        journal = self.journal()
        self.log.note(EventKind.LINE_DOWN, "East", "", "no such port", going_on="down")
        self.now_s += 5
        self.log.end_all(Ended.QUIT)
        journal.close()
        (down,) = self.kept(EventKind.LINE_DOWN)
        self.assertEqual(as_object(down)["end"], "quit")
        (run,) = self.kept(EventKind.RUN)
        self.assertEqual(as_object(run)["length_s"], 5.0)
        self.assertEqual([path.name for path in self.folder.iterdir() if path.suffix == ".lock"], [])

    def test_an_unclean_end_is_closed_at_the_next_start_and_its_end_is_unknown(self) -> None:
        code = (
            "import os, sys, time; from pathlib import Path; from kanaleto.history.journal import Journal;"
            "from kanaleto.events.log import *; log = EventLog(time.time);"
            "j = Journal(Path(sys.argv[1]), 'killed', 'Ada', time.time, print); j.follow(log);"
            "log.note(EventKind.DEVICE_LOST, 'East', 'Pump', 'fell silent', going_on='lost');"
            "log.note(EventKind.LINE_DOWN, 'West', '', 'gone', going_on='down'); log.end('West', '', 'down');"
            "j.flush(); print('up', flush=True); time.sleep(60)"
        )
        killed = subprocess.Popen([sys.executable, "-c", code, str(self.folder)], stdout=subprocess.PIPE, text=True)
        assert killed.stdout is not None
        self.assertEqual(killed.stdout.readline(), "up\n")
        self.now_s = time.time()
        other = self.journal()
        other.flush()
        self.assertIsNone(self.kept(EventKind.DEVICE_LOST)[0].ended, "a program that lives is left alone")
        other.close()
        os.kill(killed.pid, signal.SIGKILL)
        killed.wait()
        killed.stdout.close()
        third = self.journal()
        third.flush()
        (lost,), (down,) = self.kept(EventKind.DEVICE_LOST), self.kept(EventKind.LINE_DOWN)
        self.assertTrue(lost.end_is_unknown)
        self.assertIn("at least", how_long(lost))
        self.assertFalse(down.end_is_unknown, "what had ended has its end")
        self.assertIsNotNone(down.ended)
        run = next(event for event in self.kept(EventKind.RUN) if event.text == "killed")
        self.assertTrue(run.end_is_unknown)
        third.close()


class Disturbed(InFolder):
    def test_a_folder_that_cannot_be_is_told_once_and_nothing_is_lost_once_it_can(self) -> None:
        self.folder.write_text("in its place")
        journal = self.journal()
        for number in range(50):
            self.log.note(EventKind.NOTE, "", "", f"note {number}")
            self.now_s += 1
            journal.flush()
        self.assertEqual(len(self.told), 1, self.told)
        self.assertIn("the journal cannot be opened", self.told[0])
        self.folder.unlink()
        self.now_s += 11
        journal.flush()
        journal.flush()
        self.assertEqual(self.told[-1], "")
        self.assertEqual(len(self.kept(EventKind.NOTE)), 50)
        journal.close()

    def test_a_disk_that_is_full_is_told_and_written_to_again_later(self) -> None:
        journal = self.journal()
        journal.flush()
        assert journal._file is not None
        db = journal._file._db
        (pages,) = db.execute("PRAGMA page_count").fetchone()
        db.execute(f"PRAGMA max_page_count = {pages + 1}")
        for number in range(200):
            self.log.note(EventKind.NOTE, "", "", f"note {number} " + "x" * 200)
        journal.flush()
        self.assertIn("full", self.told[-1])
        db.execute("PRAGMA max_page_count = 1000000")
        self.now_s += 11
        journal.flush()
        self.assertEqual(self.told[-1], "")
        self.assertEqual(len(self.kept(EventKind.NOTE)), 200)
        journal.close()

    def test_events_that_nobody_can_write_are_bounded_in_memory(self) -> None:
        self.folder.write_text("in its place")
        journal = self.journal()
        for number in range(12_000):
            self.log.note(EventKind.NOTE, "", "", f"note {number}")
        journal.flush()
        self.assertEqual(len(journal._waiting), 5000)
        self.assertEqual(journal.lost, 7000)

    def test_one_that_is_damaged_is_left_as_it_is_and_another_stands_beside_it(self) -> None:
        self.folder.mkdir()
        self.path.write_bytes(b"no database at all" * 100)
        journal = self.journal()
        self.log.note(EventKind.NOTE, "", "", "kept all the same")
        journal.flush()
        journal.close()
        self.assertIn("damaged", self.told[0])
        self.assertEqual(self.path.read_bytes()[:18], b"no database at all")
        beside = [path for path in journals_of(self.folder) if path != self.path]
        self.assertEqual([event.text for event in events_of(beside[0])], ["a test", "kept all the same"])

    def test_one_of_a_newer_version_is_refused_in_words(self) -> None:
        self.folder.mkdir()
        db = sqlite3.connect(self.path)
        db.execute("PRAGMA user_version = 99")
        db.close()
        journal = self.journal()
        journal.flush()
        self.assertIn("newer version of Kanaleto", self.told[0])
        with self.assertRaises(NewerFile):
            list(events_of(self.path))

    def test_two_programs_write_one_journal(self) -> None:
        logs = [EventLog(lambda: self.now_s) for _ in range(2)]
        journals = [Journal(self.folder, f"program {n}", "Ada", lambda: self.now_s, self.told.append) for n in range(2)]
        for journal, log in zip(journals, logs, strict=True):
            journal.follow(log)
        for number in range(100):
            for which, (journal, log) in enumerate(zip(journals, logs, strict=True)):
                log.note(EventKind.NOTE, "", "", f"{which}: {number}")
                journal.flush()
        for journal in journals:
            journal.close()
        self.assertEqual(len({event.text for event in self.kept(EventKind.NOTE)}), 200)
        self.assertEqual(self.told, [])

    def test_it_is_bounded_by_age_and_by_size(self) -> None:
        file = JournalFile(self.path, "a test", "Ada", 0)
        day_us = 86_400_000_000
        for day in range(60):
            log = EventLog(lambda day=day: day * 86_400.0)  # type: ignore[misc]
            file.put([log.note(EventKind.NOTE, "", "", "x" * 4000) for _ in range(10)], {})
        file.prune(60 * day_us, days=30)
        self.assertEqual(min(event.begun for event in self.kept(EventKind.NOTE)), 30 * day_us)
        file.prune(60 * day_us, days=30, most_bytes=600_000)
        left = self.kept(EventKind.NOTE)
        self.assertLess(len(left) * 4000, 600_000)
        self.assertEqual(max(event.begun for event in left), 59 * day_us, "the newest stay")
        self.assertGreater(len(left), 50)
        file.end(0)

    def test_an_older_one_is_brought_up(self) -> None:
        self.folder.mkdir()
        sqlite3.connect(self.path).close()
        connect(self.path).close()
        self.assertEqual(list(events_of(self.path)), [])

    def test_notes(self) -> None:
        self.assertTrue(add_note(self.path, "adapter changed", "Ada", 1_000_000, None))
        (note,) = self.kept(EventKind.NOTE)
        self.assertEqual((note.text, note.who), ("adapter changed", "Ada"))
        self.assertTrue(add_note(self.path, "it was the fuse", "Ada", 2_000_000, note.id))
        self.assertFalse(add_note(self.path, "nobody", "Ada", 2_000_000, 99))
        text = as_message(self.kept(), "Alder Lock", "UTC+00:00")
        self.assertIn("adapter changed — it was the fuse", text)
        json.dumps(as_object(note))


class Clocks(unittest.TestCase):
    def test_a_clock_that_is_set_is_anchored_anew_and_told(self) -> None:
        monotonic, wall, awake = [100.0], [5000.0], [100.0]
        clock = Clock(lambda: wall[0], lambda: monotonic[0], lambda: awake[0])

        def passes(seconds: float) -> None:
            for clocks in (monotonic, wall, awake):
                clocks[0] += seconds

        passes(10)
        self.assertEqual(clock.look(), "")
        self.assertEqual(clock.now(), 5010)
        wall[0] += 3600
        self.assertEqual(clock.now(), 5010, "what happens in a row is told in a row")
        self.assertEqual(clock.look(), "the machine's clock was set forward by 3600.0 s")
        self.assertEqual(clock.now(), 8610)
        wall[0] -= 7200
        self.assertIn("back by 7200.0 s", clock.look())
        wall[0] += 300
        awake[0] += 300
        self.assertEqual(clock.look(), "the machine slept for 300 s")
        self.assertEqual(clock.look(), "")
        wall[0] += 0.3
        self.assertEqual(clock.look(), "", "a little off is no event")

    def test_a_session_tells_it_as_an_event(self) -> None:
        line = SimulatedLine(device("Device", 7))
        wall = [0.0]

        async def work() -> None:
            async with Running(line) as running:
                loop = asyncio.get_running_loop()
                session = running.session
                session.clock._wall = lambda: wall[0] + loop.time()
                session.clock._with_sleep = loop.time
                session.clock.anchor(loop.time)
                await running.for_s(3)
                wall[0] -= 1000
                await running.for_s(3)
                (event,) = [one for one in session.events.ring if one.kind is EventKind.CLOCK]
                self.assertIn("set back by 1000.0 s", event.text)

        run_virtual(work())


class Earlier(InFolder):
    """The error log reaches back over the journal, and says what happened while nobody looked."""

    def _told(self, told: list[tuple[EventKind, float, str]]) -> Path:
        journal = self.journal()
        for kind, at_s, text in told:
            self.now_s = at_s
            self.log.note(kind, "Line", "Pump", text)
        journal.flush()
        journal.leave(self.log)
        journal.close()
        return self.folder

    def test_what_was_before_stands_in_the_list_with_numbers_of_its_own(self) -> None:
        folder = self._told([(EventKind.DEVICE_LOST, 1000.0 + n, f"number {n}") for n in range(5)])
        found = [event for event in earlier_events(folder, 1_003_500_000) if event.kind is EventKind.DEVICE_LOST]
        self.assertEqual([event.text for event in found], ["number 0", "number 1", "number 2", "number 3"])
        self.assertTrue(all(event.number < 0 for event in found))
        self.assertEqual([event.number for event in found], sorted(event.number for event in found))
        self.assertEqual(earlier_events(self.folder / "none", 1 << 60), [])

    def test_what_happened_while_nobody_looked_in_one_line(self) -> None:
        folder = self._told(
            [
                (EventKind.DEVICE_LOST, 1000.0, "lost"),
                (EventKind.GARBLED, 2000.0, "crc"),
                (EventKind.EDIT, 3000.0, "map"),
            ]
        )
        kinds = (EventKind.DEVICE_LOST, EventKind.GARBLED)
        self.assertEqual(while_nobody_looked(folder, 1 << 60, kinds)[1], "", "nobody has ever looked: not all at once")
        note_looked(folder, 1_500_000_000)
        missed, text = while_nobody_looked(folder, 1 << 60, kinds)
        self.assertEqual([event.text for event in missed], ["crc"])
        self.assertEqual(text, "while nobody looked: 1 × garbled; the last Pump: crc. E lists them")
        note_looked(folder, 2_500_000_000)
        self.assertEqual(while_nobody_looked(folder, 1 << 60, kinds), ([], ""))
        (folder / "looked-at").write_text("rubbish")
        self.assertEqual(while_nobody_looked(folder, 1 << 60, kinds), ([], ""))

    def test_a_note_on_an_event_stands_with_it(self) -> None:
        folder = self._told([(EventKind.DEVICE_LOST, 1000.0 + n, f"number {n}") for n in range(3)])
        event = next(one for one in earlier_events(folder, 1 << 60) if one.text == "number 1")
        note_on(folder, event, "the plug was out", "somebody")
        note_on(folder, event, "its plug was out", "somebody")
        texts = [one.text for one in earlier_events(folder, 1 << 60) if one.kind is EventKind.DEVICE_LOST]
        self.assertEqual(texts, ["number 0", "number 1 — its plug was out", "number 2"])
        event.wall_s += 0.5
        with self.assertRaisesRegex(NotThere, "does not have that event yet"):
            note_on(folder, event, "no such", "somebody")

    def test_what_is_listed_is_written_as_the_journal_has_it(self) -> None:
        folder = self._told([(EventKind.DEVICE_LOST, 1000.0 + n, f"number {n}") for n in range(5)])
        out = self.folder / "log.csv"
        self.assertEqual(write_listed(folder, out, "csv", {1_001_000_000, 1_003_000_000}, "S"), 2)
        self.assertIn("number 1", out.read_text())
        self.assertNotIn("number 2", out.read_text())
