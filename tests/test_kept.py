"""What is kept, as its users have it: by commands, and in the application, in a real terminal."""

import csv
import json
import os
import re
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from contextlib import suppress
from pathlib import Path

from kanaleto.capture.reading import Capture
from kanaleto.capture.taped import TapeQuestion, ask_elsewhere, taped_curves
from kanaleto.events.clock import Clock
from kanaleto.events.log import EventKind, EventLog
from kanaleto.files.loading import load_site
from kanaleto.history.journal import journals_of
from kanaleto.history.journalfile import JournalEvent, events_of
from kanaleto.history.renames import renamed
from kanaleto.keeping.kept import Kept as KeptThings
from kanaleto.site.model import Keeping
from tests import killed
from tests.commanded import run
from tests.killed import FarEnd, write_site
from tests.terminal import KANALETO, Terminal


def command(*words: str, code: int = 0) -> tuple[str, str]:
    """What a command printed: on stdout, on stderr."""
    came, out, err = run(*words, within_s=300)
    assert came == code, f"{words}: {came}\n{out}{err}"
    assert "Traceback" not in err, err
    return out, err


class WithSite(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.far = FarEnd()
        self.addCleanup(self.far.server_close)
        self.addCleanup(self.far.shutdown)
        self.site = write_site(self.folder, self.far.port)
        self.kept = self.site.with_suffix(".kanaleto")

    def events(self) -> list[JournalEvent]:
        return [event for path in journals_of(self.kept) for event in events_of(path)]


class Commands(WithSite):
    def test_polled_recorded_and_captured_and_asked_for(self) -> None:
        site = str(self.site)
        pcapng, jsonl = self.folder / "a.pcapng", self.folder / "b.jsonl"
        summary, text = command("poll", site, "--for", "3", "--quiet", "--json", "--record", "--capture", str(pcapng))
        self.assertIn("recording to", text)
        exchanges = json.loads(summary)["summary"]["exchanges"]
        self.assertEqual(len(list(Capture(pcapng))), exchanges)
        command("poll", site, "--for", "1", "--quiet", "--capture", str(jsonl))
        listed = [json.loads(line) for line in command("history", site, "--list", "--json")[0].splitlines()]
        self.assertEqual({own["point"] for own in listed}, {f"R{number}" for number in range(20)})
        rows = [json.loads(line) for line in command("history", site, "--point", "D1/R7", "--json")[0].splitlines()]
        values = [row for row in rows if row["quality"] == "good"]
        self.assertGreater(len(values), 15)
        for row in values:
            self.assertEqual((row["device"], row["value"] >> 8, row["words"]), ("D1", 7, [row["value"]]))
        path = self.folder / "out.csv"
        command("history", site, "--point", "D1/R7", "--point", "D2/R3", "--from", "1h", "--csv", str(path))
        with path.open(newline="") as file:
            table = list(csv.DictReader(file))
        self.assertEqual({(row["device"], row["point"]) for row in table}, {("D1", "R7"), ("D2", "R3")})
        text = command("history", site, "--statistics", "--point", "D1/R7")[0]
        self.assertRegex(text, r"D1/R7  least 17\d\d, most \d+, mean \d+")
        (minute, *_) = [json.loads(line) for line in command("history", site, "--minutes", "--json")[0].splitlines()]
        self.assertLessEqual({"at", "device", "asked", "good", "exceptions", "median_ms", "most_ms"}, set(minute))
        self.assertEqual(command("history", site, "--point", "D1/R7", "--to", "2020-01-01", "--json")[0], "")

    def test_what_happened(self) -> None:
        site = str(self.site)
        self.far.is_mute = True
        command("poll", site, "--for", "2", "--quiet")
        rows = [json.loads(line) for line in command("history", site, "--events", "--json")[0].splitlines()]
        (lost,) = [row for row in rows if row["kind"] == "device lost"]
        self.assertEqual((lost["line"], lost["device"], lost["end"]), ("L", "D2", "quit"))
        self.assertGreater(lost["length_s"], 1)
        self.assertIn("device lost", command("history", site, "--events")[0])
        self.assertEqual(command("history", site, "--writes", "--json")[0], "")
        command("history", site, "--note", "adapter changed")
        command("history", site, "--note", "it was the fuse", "--on", str(lost["id"]))
        self.assertIn("no event 4711", command("history", site, "--note", "x", "--on", "4711", code=1)[1])
        for ending in ("csv", "jsonl", "txt"):
            out = self.folder / f"log.{ending}"
            command("export", "log", site, str(out))
            text = out.read_text()
            for words in ("adapter changed", "it was the fuse", "D2"):
                self.assertIn(words, text, ending)
        self.assertEqual(len((self.folder / "log.jsonl").read_text().splitlines()), len(self.events()))

    def test_the_last_hours_and_what_was_laid_aside(self) -> None:
        site = str(self.site)
        self.far.is_mute = True
        command("poll", site, "--for", "2", "--quiet")
        failed = [json.loads(line) for line in command("wire", site, "--failed", "--json")[0].splitlines()]
        pattern = failed.pop()
        asked = [row for row in failed if row["request"]]  # an answer that came late has a row of its own
        self.assertTrue(asked and {row["outcome"] for row in asked} == {"timeout"})
        self.assertIn("D2 has never answered; its neighbour still answers", " ".join(pattern["pattern"]))
        self.assertEqual({row["origin"] for row in failed}, {"stand-in"})
        text = command("wire", site, "--device", "1", "--text", "read 20 holding from 0")[0]
        self.assertIn("L · D1  read 20 holding from 0  → good", text)
        self.assertIn("00 00 00 06 01 03 00 00 00 14", text)
        (aside,) = [json.loads(line) for line in command("history", site, "--aside", "--json")[0].splitlines()]
        self.assertFalse(aside["seen"])
        self.assertIn("D2: fell silent", aside["why"])
        self.assertIn("D2: fell silent", command("wire", aside["file"])[1])
        (aside,) = [json.loads(line) for line in command("history", site, "--aside", "--json")[0].splitlines()]
        self.assertTrue(aside["seen"])

    def test_samples_of_the_last_hours_though_nobody_recorded(self) -> None:
        site = str(self.site)
        command("poll", site, "--for", "2", "--quiet")
        rows = [json.loads(line) for line in command("history", site, "--tape", "--json")[0].splitlines()]
        self.assertEqual({(row["device"], row["point"]) for row in rows},
                         {(f"D{unit}", f"R{number}") for unit in (1, 2) for number in range(20)})  # fmt: skip
        for row in rows:
            self.assertEqual(row["value"] >> 8, int(row["point"][1:]))
            self.assertEqual(row["words"], [row["value"]])
        folder = str(self.site.with_suffix(".kanaleto") / "tape")
        question = TapeQuestion(site, folder, time.time() - 60, time.time(), [("D1", "R4"), ("D2", "R3"), ("D2", "X")])
        curves = ask_elsewhere(question)
        self.assertEqual(sorted(curves), ["D1/R4", "D2/R3"])
        for name, curve in curves.items():
            device, point = name.split("/")
            anys = [row["value"] for row in rows if (row["device"], row["point"]) == (device, point)]
            self.assertEqual([value for value in curve.value if value is not None], anys)
            self.assertEqual(curve.at, sorted(curve.at))
        self.assertEqual(taped_curves(question), curves)
        for broken in (("none.toml", folder), (site, "nowhere")):
            self.assertEqual(ask_elsewhere(TapeQuestion(*broken, 0, 1, [("D1", "R4")])), {})
        text = command("history", site, "--tape", "--point", "D2/R3", "--from", "1h")[0]
        self.assertRegex(text.splitlines()[0], r"D2 · R3  \d{3}$")
        self.assertIn("there is no point D2/X", command("history", site, "--tape", "--point", "D2/X", code=2)[1])

    def test_bad_input_gets_one_sentence(self) -> None:
        site, other = str(self.site), self.folder / "other.txt"
        other.write_text("words")
        cases = (
            (("history", "none.toml"), 2, "there is no file none.toml"),
            (("history", site), 1, "nothing was recorded"),
            (("history", site, "--events"), 1, "nothing was kept"),
            (("history", site, "--from", "soon"), 2, "'soon' is no time"),
            (("history", site, "--from", "1h", "--to", "2h"), 2, "--from is behind --to"),
            (("history", str(other)), 1, "is damaged, or no record"),
            (("history", "oracle://x/y"), 1, "needs the package"),
            (("history", str(other), "--events"), 1, "is damaged, or no journal"),
            (("wire", str(other)), 2, "is none of these"),
            (("wire", "none.jsonl"), 2, "there is no file"),
            (("wire", site), 2, "nothing was kept"),
            (("export", "log", site, "x.docx"), 2, "does not tell its form"),
            (("poll", site, "--for", "1", "--capture", str(other)), 2, "does not tell its form"),
            (("poll", site, "--for", "1", "--capture", str(self.site)), 2, "does not tell its form"),
            (("poll", site, "--for", "1", "--record", str(self.folder / "no" / "r.db")), 1, "does not exist"),
            (("poll", site, "--for", "1", "--record", "nonsense://x"), 1, "is no store"),
        )
        for words, code, why in cases:
            with self.subTest(words):
                _, text = command(*words, code=code)
                self.assertIn(why, text)

    def test_a_folder_that_cannot_be_written_is_told_and_polling_goes_on(self) -> None:
        self.kept.write_text("a file in the place of the folder")
        summary, text = command("poll", str(self.site), "--for", "2", "--quiet", "--json")
        self.assertGreater(json.loads(summary)["summary"]["good"], 20)
        self.assertEqual(text.count("the journal cannot be opened"), 1, text)
        self.assertEqual(text.count("the tape cannot be written"), 1, text)

    def test_serve_keeps_a_journal_too(self) -> None:
        site = self.folder / "served.toml"
        port = self.far.port
        site.write_text(self.site.read_text().replace(str(port), "0").replace(":0", f":{_free_port()}"))
        command("serve", str(site), "--for", "1")
        rows = [json.loads(line) for line in command("history", str(site), "--events", "--json")[0].splitlines()]
        self.assertEqual([(row["kind"], row["text"], row["end"]) for row in rows], [("run", "kanaleto serve", "over")])

    def test_a_second_recorder_stands_beside_the_first(self) -> None:
        site = str(self.site)
        first = subprocess.Popen(
            [sys.executable, "-m", "kanaleto", "poll", site, "--quiet", "--record"], stderr=subprocess.PIPE, text=True
        )
        assert first.stderr is not None
        while "recording to" not in (line := first.stderr.readline()):
            self.assertTrue(line, "it ended")
        _, text = command("poll", site, "--for", "2", "--quiet", "--record")
        self.assertRegex(text, "somebody else records to .*record.db now: recorded to record-2.db beside it")
        first.send_signal(signal.SIGINT)
        self.assertEqual(first.wait(30), 0)
        first.stderr.close()
        stores = {json.loads(line)["store"] for line in command("history", site, "--list", "--json")[0].splitlines()}
        self.assertEqual({Path(store).name for store in stores}, {"record.db", "record-2.db"})


def _free_port() -> int:
    import socket

    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


class Followed(WithSite):
    def test_the_site_that_is_open_now_is_the_one_that_is_kept(self) -> None:
        other, gone = self.folder / "other.toml", self.folder / "gone.toml"
        other.write_text(self.site.read_text())
        site, _ = load_site(self.site)
        log, texts = EventLog(time.time), list[str]()
        kept = KeptThings("a test", log, Clock(), lambda _, text: texts.append(text))
        kept.start(self.site, site)
        for number, path in enumerate((self.site, other, gone, other, self.site)):
            kept.follow(path, site)
            log.note(EventKind.NOTE, "", "", f"note {number}")
        kept.stop()
        self.assertIsNone(kept.failure)
        self.assertEqual([text for text in texts if text], [])
        notes = [event.text for event in self.events() if event.kind == "note"]
        self.assertEqual(notes, ["note 0", "note 4"])
        others = [event.text for path in journals_of(other.with_suffix(".kanaleto")) for event in events_of(path)]
        self.assertEqual([text for text in others if "note" in text], ["note 1", "note 3"])

    def test_what_was_kept_of_a_site_that_was_never_saved_moves_along(self) -> None:
        site, _ = load_site(self.site)
        saved = self.folder / "saved" / "mine.toml"
        saved.parent.mkdir()
        saved.write_text(self.site.read_text())
        log = EventLog(time.time)
        kept = KeptThings("a test", log, Clock(), lambda *_: None)
        kept.start(self.site, site)
        log.note(EventKind.NOTE, "", "", "before")
        kept.follow(saved, site, moved_from=self.site)
        log.note(EventKind.NOTE, "", "", "after")
        kept.stop()
        found = [event.text for path in journals_of(saved.with_suffix(".kanaleto")) for event in events_of(path)]
        self.assertEqual([text for text in found if text in ("before", "after")], ["before", "after"])
        self.assertEqual(self.events(), [])


class Killed(unittest.TestCase):
    def test_at_most_a_second_is_missing(self) -> None:
        """A few times; `python -m tests.killed` does it fifty times."""
        killed.main(4, at_once=2)


class Settings(WithSite):
    def _loaded(self, text: str) -> Keeping:
        self.site.write_text(self.site.read_text().replace('name = "Killed"', f'name = "Killed"\n{text}', 1))
        site, _ = load_site(self.site)
        return site.keeping

    def test_of_the_site_file(self) -> None:
        keeping = self._loaded('keep_days = 7\nlay_aside = ["garbled", "[D1/R3] > 4"]')
        self.assertEqual((keeping.days, keeping.conditions), (7, ("[D1/R3] > 4",)))

    def test_a_condition_that_becomes_true_lays_minutes_aside(self) -> None:
        self._loaded('lay_aside = ["[D1/R3] > 800"]')
        command("poll", str(self.site), "--for", "6", "--quiet")
        (aside,) = [
            json.loads(line) for line in command("history", str(self.site), "--aside", "--json")[0].splitlines()
        ]
        self.assertIn("[D1/R3] > 800", aside["why"])

    def test_faults_have_their_line(self) -> None:
        self.site.write_text(
            self.site.read_text().replace('name = "Killed"', 'name = "Killed"\nlay_aside = ["lost"]', 1)
        )
        self.assertIn("site.toml:3: lay_aside 'lost' is no event", command("check", str(self.site), code=2)[1])
        text = self.site.read_text().replace('["lost"]', '["[Nobody/Level] > 3"]')
        self.site.write_text(text)
        self.assertRegex(command("check", str(self.site), code=2)[1], r"site.toml:3: .*\[Nobody/Level\] is no point")


class Renamed(WithSite):
    def test_only_what_has_no_other_meaning(self) -> None:
        old, _ = load_site(self.site)
        path = self.folder / "m.csv"
        path.write_text(path.read_text().replace("R3,", "Level,").replace("R4,holding,4,", "R44,holding,4,").replace(
            "R5,holding,5,uint16", "New,holding,5,int16"))  # fmt: skip
        self.site.write_text(self.site.read_text().replace('name = "D2"', 'name = "Pump"'))
        new, _ = load_site(self.site)
        found = renamed(old, new)
        self.assertIn((("D1", "R3"), ("D1", "Level")), found)
        self.assertIn((("D2", "R4"), ("Pump", "R44")), found)
        self.assertIn((("D2", "R7"), ("Pump", "R7")), found)
        self.assertEqual([one for one in found if one[1][1] == "New"], [])


class InTheApplication(WithSite):
    def test_recording_is_begun_told_and_ended_and_asked_for_by_its_new_name(self) -> None:
        with Terminal() as terminal:
            terminal.type(f"{KANALETO} {self.site}", "Enter")
            terminal.wait_for(r"● polling ")
            terminal.wait_for(r"R7 +1\s?\d\d\d")
            terminal.type("R")
            terminal.wait_for(r"● polling · ◉ recording")
            time.sleep(2)
            path = self.folder / "m.csv"
            path.write_text(path.read_text().replace("R7,", "Level,"))
            terminal.wait_for(r"renamed on disk: D1/R7 → D1/Level, D2/R7 → D2/Level")
            terminal.type("C-p")
            terminal.wait_for("words of what you want")
            terminal.type("the same points", "Enter")
            terminal.wait_for(r"the same points: D1/R7 → D1/Level")
            time.sleep(2)
            terminal.type("R")
            terminal.wait_for("end recording\\?")
            terminal.type("n", "Enter")
            terminal.wait_for("recording goes on")
            terminal.type("R", "y", "Enter")
            terminal.wait_for(r"\d+ samples were recorded to ")
            terminal.wait_until(lambda screen: "◉" not in screen, "the end of recording", 10)
            terminal.type("C-p")
            terminal.wait_for("words of what you want")
            terminal.type("note into", "Enter")
            terminal.wait_for("a note for the journal")
            terminal.type("the pump was off", "Enter")
            terminal.wait_for("noted")
            terminal.type("q")
            terminal.wait_for(r"\$\s*$")
        kinds = [event.kind for event in self.events()]
        for kind in ("run", "recording", "edit", "rename", "note"):
            self.assertIn(kind, kinds)
        self.assertTrue(all(event.ended is not None for event in self.events()))
        rows = [
            json.loads(line)
            for line in command("history", str(self.site), "--point", "D1/Level", "--json")[0].splitlines()
        ]
        good = [row for row in rows if row["quality"] == "good"]
        self.assertGreater(len(good), 20)
        self.assertTrue(all(row["value"] >> 8 == 7 for row in good))
        self.assertIn("was never recorded", command("history", str(self.site), "--point", "D1/R7", code=1)[1])

    def test_a_journal_that_cannot_be_written_stays_to_be_seen_until_it_can(self) -> None:
        with Terminal() as terminal:
            self.kept.write_text("in its place")
            terminal.type(f"{KANALETO} {self.site}", "Enter")
            terminal.wait_for(r"the journal cannot be opened")
            terminal.wait_for(r"● polling ")
            terminal.type("R")
            terminal.wait_for(r"✕ not recorded: .*does not exist")
            terminal.type("Escape")
            terminal.wait_until(lambda screen: "not recorded" not in screen, "that it is dismissed", 10)
            self.kept.unlink()
            end = time.monotonic() + 60
            while "the journal cannot" in terminal.screen and time.monotonic() < end:
                time.sleep(0.2)
            self.assertNotIn("the journal cannot", terminal.screen)
            terminal.type("q")
            terminal.wait_for(r"\$\s*$")
        self.assertIn("run", [event.kind for event in self.events()])

    def test_a_killed_application_leaves_a_journal_that_says_so(self) -> None:
        with Terminal() as terminal:
            terminal.type(f"{KANALETO} {self.site}", "Enter")
            terminal.wait_for(r"● polling ")
            end = time.monotonic() + 30
            while not journals_of(self.kept) and time.monotonic() < end:
                time.sleep(0.1)
            time.sleep(1)
            terminal.type("R")
            terminal.wait_for("◉ recording")
            time.sleep(1.5)
            for stat in Path("/proc").glob("[0-9]*/cmdline"):
                with suppress(OSError):
                    if str(self.site).encode() in stat.read_bytes():
                        os.kill(int(stat.parent.name), signal.SIGKILL)
            time.sleep(1)
        out, _ = command("poll", str(self.site), "--for", "1", "--quiet", "--json")
        self.assertGreater(json.loads(out)["summary"]["good"], 3)
        first = next(event for event in self.events() if event.kind == "run")
        recording = next(event for event in self.events() if event.kind == "recording")
        self.assertTrue(first.end_is_unknown and recording.end_is_unknown)
        self.assertTrue(re.search("at least", command("history", str(self.site), "--events")[0]))
