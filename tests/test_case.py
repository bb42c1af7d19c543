"""A case that is handed on, and the rules that it counts."""

import csv
import hashlib
import io
import json
import subprocess
import sys
import zipfile
from pathlib import Path

from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.jsonlines import CapturedLine
from kanaleto.capture.reading import Capture
from kanaleto.capture.row import ExchangeRow
from kanaleto.evidence.rules import RULES, RuleBook
from kanaleto.lines.outcome import OutcomeKind
from tests.exchanges import SERIAL, TCP, InFolder, exchange


def _spoilt(row: ExchangeRow, at: int, value: int) -> ExchangeRow:
    return row._replace(answer=row.answer[:at] + bytes((value,)) + row.answer[at + 1 :])


class Rules(InFolder):
    def test_each_rule_is_kept_by_a_sound_exchange_and_broken_by_one_that_breaks_it(self) -> None:
        tcp, serial = exchange(7), exchange(7, SERIAL)
        breaking: dict[str, ExchangeRow] = {
            "read-count": tcp._replace(request=tcp.request[:-2] + b"\0\x7e"),
            "read-end": tcp._replace(request=tcp.request[:-4] + b"\xff\xff\0\2"),
            "answered": tcp._replace(answer=b"", kind=OutcomeKind.TIMEOUT),
            "function": _spoilt(tcp, 7, 4),
            "byte-count": _spoilt(tcp, 8, 4),
            "confirmation": tcp._replace(
                request=tcp.request[:7] + b"\6\0\7\0\1", answer=tcp.answer[:7] + b"\6\0\7\0\2"
            ),
            "exception-code": tcp._replace(answer=tcp.answer[:7] + b"\x83\x63"),
            "broadcast": serial._replace(unit_id=0),
            "unit": serial._replace(unit_id=9),
            "check-bytes": _spoilt(serial, 4, 99),
            "length": serial._replace(answer=serial.answer * 60),
            "transaction": _spoilt(tcp, 0, 99),
            "protocol": _spoilt(tcp, 2, 1),
            "length-field": _spoilt(tcp, 5, 99),
            "unit-field": _spoilt(tcp, 6, 99),
        }
        self.assertEqual(set(breaking), {rule.name for rule in RULES})
        for rule in RULES:
            with self.subTest(rule.name):
                self.assertIs(rule.check(breaking[rule.name]), False)
                self.assertIsNot(rule.check(tcp), False)
                self.assertIsNot(rule.check(serial), False)

    def test_silence_before_a_request_as_exactly_as_it_was_seen(self) -> None:
        for pause_us, exact_us, broken in ((2500, 0.0, 0), (900, 0.0, 9), (900, 2000.0, 0)):
            book = RuleBook(lambda line, exact_us=exact_us: exact_us)  # type: ignore[misc]
            at_us = 0
            for number in range(10):
                row = exchange(number, SERIAL)._replace(at_us=at_us, sent_us=4584, first_us=9000, last_us=13000)
                book.add(row)
                at_us += 13000 + pause_us
            (silence,) = [count for count in book.counts if count.rule.name == "silence"]
            self.assertEqual((silence.broken, silence.of), (broken, 9))


class Handed(InFolder):
    def _run(self, *words: str) -> tuple[int, str]:
        done = subprocess.run(
            [sys.executable, "-m", "kanaleto", *words], capture_output=True, text=True, timeout=200, check=False
        )
        self.assertNotIn("Traceback", done.stderr)
        return done.returncode, done.stderr

    def _capture(self) -> Path:
        path = self.folder / "night.jsonl"
        capture = CaptureFile(path, "S", [CapturedLine("Line", TCP, "stand-in", 1.5)])
        capture.put([exchange(n, kind=list(OutcomeKind)[n % 3])._replace(origin="stand-in") for n in range(90)])
        capture.close()
        return path

    def test_all_of_it_fits_together(self) -> None:
        out = self.folder / "case.zip"
        path = str(self._capture())
        code, error = self._run("case", path, str(out), "--where", "outcome:refused", "--note", "by night")
        self.assertEqual(code, 0, error)
        with zipfile.ZipFile(out) as archive:
            names = set(archive.namelist())
            self.assertEqual(
                names,
                {"case.pdf", "exchanges.jsonl", "exchanges.pcapng", "settings.txt", "rules.csv", "SHA256SUMS"},
            )
            lines = [line.split("  ") for line in archive.read("SHA256SUMS").decode().splitlines()]
            sums = {name: total for total, name in lines}
            for name in names - {"SHA256SUMS"}:
                self.assertEqual(hashlib.sha256(archive.read(name)).hexdigest(), sums[name])
            self.assertEqual(archive.read("case.pdf")[:5], b"%PDF-")
            rules = list(csv.DictReader(io.StringIO(archive.read("rules.csv").decode())))
            archive.extract("exchanges.jsonl", self.folder)
            archive.extract("exchanges.pcapng", self.folder)
            self.assertIn("by night", archive.read("settings.txt").decode())
            self.assertIn("1.5 ms late", archive.read("settings.txt").decode())
        self.assertEqual(list(rules[0]), ["rule", "section", "kept", "broken", "of", "first"])
        self.assertTrue(all(int(row["kept"]) + int(row["broken"]) == int(row["of"]) for row in rules))
        wanted = [row for row in Capture(self._again()) if row.kind is OutcomeKind.EXCEPTION]
        for name in ("exchanges.jsonl", "exchanges.pcapng"):
            self.assertEqual(list(Capture(self.folder / name)), wanted)

    def _again(self) -> Path:
        return self.folder / "night.jsonl"

    def test_what_is_refused(self) -> None:
        path, out = str(self._capture()), self.folder / "there.zip"
        out.write_text("mine")
        for words, code, text in (
            ((path, str(out)), 2, "is there already"),
            ((path, str(self.folder / "a.txt")), 2, ".zip or .pdf"),
            ((path, str(self.folder / "b.zip"), "--where", "unit:99"), 1, "nothing fits"),
            ((path, str(self.folder / "c.zip"), "--where", "unit:x"), 2, "at 1"),
            ((path, str(self.folder / "none" / "c.zip")), 2, "no folder"),
            ((str(self.folder / "none.jsonl"), str(self.folder / "c.zip")), 2, "no file"),
        ):
            found, error = self._run("case", *words)
            self.assertEqual(found, code, words)
            self.assertIn(text, error)
        self.assertEqual(out.read_text(), "mine")
        self.assertEqual(sorted(one.name for one in self.folder.glob("*.zip")), ["there.zip"])

    def test_drawings(self) -> None:
        path = str(self._capture())
        for what, name in (("exchange", "one.svg"), ("line", "stretch.svg")):
            code, error = self._run("export", what, path, str(self.folder / name), "--where", "outcome:refused")
            self.assertEqual(code, 0, error)
            text = (self.folder / name).read_text()
            self.assertTrue("stand-in" in text, what)
            self.assertTrue(("refused" if what == "line" else "exception") in text, what)

    def test_a_reader_that_has_enough_is_no_fault(self) -> None:
        many = self.folder / "many.jsonl"
        capture = CaptureFile(many, "S", [CapturedLine("Line", TCP)])
        capture.put([exchange(n) for n in range(20_000)])
        capture.close()
        done = subprocess.run(
            ["bash", "-c", f"{sys.executable} -m kanaleto wire {many} --json | head -1; echo ${{PIPESTATUS[0]}}"],
            capture_output=True, text=True, timeout=100, check=False,
        )  # fmt: skip
        first, code = done.stdout.splitlines()
        self.assertEqual(json.loads(first)["unit_id"], 7)
        self.assertEqual(code, "0", done.stderr)
