"""The checkout sheet: what is to be proved, how claims stand, what is on disk, two people's sheets; and taken from the
command line."""

import json
import os
import random
import resource
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from kanaleto.files.loading import load_site
from kanaleto.history.definition import fingerprint_of
from kanaleto.proof.checkout import Checkout, expectation, key_for, sheet_path
from kanaleto.proof.claims import ClaimState, claims_of, counts_of, expected_at, wanted_of
from kanaleto.proof.sequences import SequenceVerdict, keep_sequences
from kanaleto.proof.sheet import VERDICTS, CannotKeep, ClaimKey, SheetLine, append, new_id, read_sheet
from kanaleto.proof.taking import Expected
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.model import Device, Point, Site
from kanaleto.site.proving import Tolerance, ToleranceOf, parse_prove, parse_tolerance
from kanaleto.values.codec import Codec
from kanaleto.values.types import Kind, ValueType, order_for
from kanaleto.wire.codes import Table
from tests.commanded import run
from tests.rawends import RawSlave

MAP = """name,table,address,type,factor,unit,access,labels,bit,range_low,range_high,warn_high,prove,tolerance
Gate,holding,0,uint16,0.01,%,rw,,,0,100,90,0 50 100; limits,0.5 %
Torque,holding,1,int16,,Nm,r,,,,,,,0.2
State,holding,2,uint16,,,r,0=Stopped;1=Open,,,,,each,
Word,holding,3,bits,,,r,0=Enable;3=Fault,,,,,each,
Horn,coil,0,,,,rw,0=off;1=on,,,,,each; write,
Spare,holding,9,uint16,,,r,,,,,,no,
"""
SITE = """
[site]
name = "S"
[[line]]
name = "L"
link = "tcp://127.0.0.1:{port}"
timeout_s = 0.4
{more}
[[line.device]]
name = "Sluice"
unit_id = 7
map = "m.csv"
"""


class WithSite(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.path = self.folder / "s.toml"
        self.write()

    def write(self, port: int = 502, more: str = "", map_text: str = MAP) -> None:
        self.path.write_text(SITE.format(port=port, more=more), encoding="utf-8")
        (self.folder / "m.csv").write_text(map_text, encoding="utf-8")

    @property
    def site(self) -> Site:
        return load_site(self.path)[0]

    @property
    def device(self) -> Device:
        return self.site.lines[0].devices[0]

    def point(self, name: str) -> Point:
        return next(point for point in self.device.points if point.name == name)

    def line(self, point: str = "Torque", verdict: str = "passed", **keys: object) -> SheetLine:
        made = SheetLine(
            new_id(), "value", "Sluice", point, verdict, "2026-05-17T03:00:00.000Z",
            fingerprint_of(self.point(point)), who="anna", expected=1.0, seen=1.0, unit_id=7,
            exchange={"at": "2026-05-17T03:00:00.000Z", "line": "L", "request": "", "answer": ""},
        )  # fmt: skip
        return replace(made, **keys)

    def state(self, *lines: SheetLine, key: ClaimKey | None = None) -> ClaimState:
        key = key or ClaimKey("value", "Sluice", "Torque")
        return next(claim.state for claim in claims_of(self.site, lines) if claim.key == key)


class Wanted(WithSite):
    def test_each_point_asks_for_what_its_map_says(self) -> None:
        told = [(key.claim, key.point, key.level) for key in wanted_of(self.device)]
        self.assertEqual(
            told,
            [
                ("value", "Gate", "0 %"), ("value", "Gate", "50 %"), ("value", "Gate", "100 %"),
                ("limit", "Gate", "warn_high"), ("value", "Torque", ""), ("state", "State", "Stopped"),
                ("state", "State", "Open"), ("state", "Word", "Enable on"), ("state", "Word", "Enable off"),
                ("state", "Word", "Fault on"), ("state", "Word", "Fault off"), ("state", "Horn", "off"),
                ("state", "Horn", "on"), ("write", "Horn", ""),
            ],
        )  # fmt: skip
        self.assertEqual(expected_at(self.point("Gate"), "50 %"), 50.0)

    def test_what_may_stand_in_the_columns(self) -> None:
        self.assertEqual(parse_prove("once; 0 25 %").levels, (0.0, 25.0))
        self.assertFalse(parse_prove("no").once)
        self.assertEqual(parse_tolerance("0,5 %").of, ToleranceOf.SPAN)
        self.assertEqual(parse_tolerance("1 % of value").of, ToleranceOf.VALUE)
        self.assertEqual(parse_tolerance("0.2").of, ToleranceOf.UNIT)
        for text, message in (("once; no", "no stands alone"), ("eech", "'eech' is none of"), ("0 900", "-100 to 200")):
            with self.subTest(text), self.assertRaisesRegex(ValueError, message):
                parse_prove(text)
        for text in ("half", "-1", "0.5 % of range"):
            with self.subTest(text), self.assertRaisesRegex(ValueError, "must read like"):
                parse_tolerance(text)

    def test_what_cannot_be_proved_is_a_fault_of_the_map(self) -> None:
        last = "r,,,,,,,0.2"
        for old, new, text in (
            ("0,100,90,0 50 100; limits", ",,90,0 50 100", "needs range_low and range_high"),
            (last, "r,,,,,,each,", "each needs states"), (last, "r,,,,,,write,", "nobody could write"),
            (last, "r,,,,,,limits,", "limits needs limits"), (last, "r,,,,,,,1 %", "per cent of span"),
        ):  # fmt: skip
            with self.subTest(text):
                self.write(map_text=MAP.replace(old, new))
                with self.assertRaisesRegex(FaultyFile, text):
                    load_site(self.path)


class States(WithSite):
    def test_real_evidence_proves_and_other_is_rehearsed(self) -> None:
        self.assertIs(self.state(), ClaimState.OPEN)
        self.assertIs(self.state(self.line()), ClaimState.PROVED)
        for origin in ("stand-in", "replay", "overheard", "bridge"):
            self.assertIs(self.state(self.line(origin=origin)), ClaimState.REHEARSED)
        self.assertIs(self.state(self.line(verdict="failed")), ClaimState.FAILED)
        self.assertIs(self.state(self.line(verdict="skipped")), ClaimState.SKIPPED)
        self.assertIs(self.state(self.line(), self.line(verdict="withdrawn", at="2026-05-17T04")), ClaimState.OPEN)
        self.assertIs(self.state(self.line(definition="0" * 16)), ClaimState.AGAIN)

    def test_the_newest_counts_whatever_the_clock_says(self) -> None:
        first = self.line(verdict="failed", at="2026-05-17T05:00:00.000Z")
        second = self.line(at="2026-05-17T04:00:00.000Z", replaces=[first.id])  # the clock was set back
        self.assertIs(self.state(first, second), ClaimState.PROVED)
        self.assertIs(self.state(second, first), ClaimState.PROVED)

    def test_what_two_people_judge_differently_is_disputed_until_a_line_replaces_both(self) -> None:
        one, other = self.line(), self.line(verdict="failed", who="ben")
        self.assertIs(self.state(one, other), ClaimState.DISPUTED)
        self.assertIs(self.state(one, replace(other, verdict="passed")), ClaimState.PROVED)
        last = self.line(who="carl", at="2026-05-18T00:00:00.000Z")
        self.assertIs(self.state(one, other, last), ClaimState.DISPUTED)
        self.assertIs(self.state(one, other, replace(last, replaces=[one.id, other.id])), ClaimState.PROVED)

    def test_what_failed_as_found_and_is_proved_as_left_is_not_left(self) -> None:
        lines = [self.line(verdict="failed"), self.line(when="left")]
        claims = {claim.key.when: claim for claim in claims_of(self.site, lines) if claim.key.point == "Torque"}
        self.assertFalse(claims["found"].is_left)
        self.assertIs(claims["found"].state, ClaimState.FAILED)
        lines[1] = replace(lines[1], origin="stand-in")
        claims = {claim.key.when: claim for claim in claims_of(self.site, lines) if claim.key.point == "Torque"}
        self.assertTrue(claims["found"].is_left)

    def test_renamed_ones_are_followed_and_removed_ones_are_kept_and_told(self) -> None:
        line = self.line()
        self.write(map_text=MAP.replace("Torque,", "Motor torque,"))
        self.path.write_text(self.path.read_text().replace('"Sluice"', '"Upper sluice"'))
        (claim,) = [claim for claim in claims_of(self.site, [line]) if claim.lines]
        self.assertEqual((claim.key.device, claim.key.point), ("Upper sluice", "Motor torque"))
        self.assertIs(claim.state, ClaimState.PROVED)
        self.write(map_text="\n".join(row for row in MAP.splitlines() if "Torque" not in row))
        (claim,) = [claim for claim in claims_of(self.site, [line]) if claim.lines]
        self.assertTrue(claim.is_gone)
        self.assertFalse(claim.is_left)

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.tuples(st.sampled_from("abc"), st.sampled_from(VERDICTS), st.integers(0, 9), st.booleans()),
                    max_size=8), st.randoms(use_true_random=False))  # fmt: skip
    def test_lines_in_any_order_give_the_same_states(
        self, told: list[tuple[str, str, int, bool]], chance: random.Random
    ) -> None:
        site, lines = _SITE.get("site") or _SITE.setdefault("site", self.site), list[SheetLine]()
        for number, (who, verdict, hour, replaces) in enumerate(told):
            before = [line.id for line in lines[-1:]] if replaces else None
            lines.append(
                SheetLine(f"{number:016x}", "value", "Sluice", "Torque", verdict, f"2026-05-17T0{hour}", who=who,
                          replaces=before)
            )  # fmt: skip
        shuffled = list(lines)
        chance.shuffle(shuffled)
        self.assertEqual(counts_of(claims_of(site, lines)), counts_of(claims_of(site, shuffled)))


_SITE: dict[str, Site] = {}


class OnDisk(WithSite):
    def test_a_torn_last_line_is_told_and_what_comes_after_stands(self) -> None:
        path = self.folder / "sheet.jsonl"
        append(path, "S", "now", [self.line(), self.line("Gate")])
        whole = path.read_bytes()
        path.write_bytes(whole[:-20])
        sheet = read_sheet(path)
        self.assertEqual(len(sheet.lines), 1)
        self.assertEqual(sheet.messages, [f"{path}:3: this line was torn when it was written; it is left as it is"])
        append(path, "S", "now", [self.line("Gate")])
        sheet = read_sheet(path)
        self.assertEqual([line.point for line in sheet.lines], ["Torque", "Gate"])
        self.assertIn(whole[:-20], path.read_bytes(), "nothing was taken away")

    def test_what_is_newer_or_none_of_ours_is_told(self) -> None:
        path = self.folder / "sheet.jsonl"
        append(path, "S", "now", [self.line()])
        with path.open("a", encoding="utf-8") as file:
            file.write(json.dumps({"id": "1", "claim": "smell", "device": "Sluice", "point": "", "verdict": "passed",
                                   "at": "2026"}) + "\n")  # fmt: skip
            file.write('{"some": "thing"}\n')
        sheet = read_sheet(path)
        self.assertEqual(len(sheet.lines), 1)
        self.assertIn("3: a newer version of Kanaleto wrote this line", sheet.messages[0])
        self.assertIn("4: this line cannot be read", sheet.messages[1])
        for text, message in (('{"kanaleto_sheet": 2}\n', "a newer version"), ("a,b\n", "is no checkout sheet")):
            path.write_text(text)
            with self.assertRaisesRegex(CannotKeep, message):
                read_sheet(path)

    def test_two_programs_append_to_one_sheet_and_nothing_is_lost(self) -> None:
        path = self.folder / "sheet.jsonl"
        lines = [[self.line(who=who) for _ in range(40)] for who in ("anna", "ben")]

        def work(sheet_lines: list[SheetLine]) -> None:
            for line in sheet_lines:
                append(path, "S", "now", [line])

        threads = [threading.Thread(target=work, args=(sheet_lines,)) for sheet_lines in lines]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        sheet = read_sheet(path)
        self.assertEqual({line.id for line in sheet.lines}, {line.id for sheet_lines in lines for line in sheet_lines})
        self.assertEqual(sheet.messages, [])

    @unittest.skipIf(os.geteuid() == 0, "root writes everywhere")
    def test_a_folder_that_may_not_be_written_is_told(self) -> None:
        os.chmod(self.folder, 0o500)
        self.addCleanup(os.chmod, self.folder, 0o700)
        with self.assertRaisesRegex(CannotKeep, "cannot be written"):
            append(self.folder / "x" / "sheet.jsonl", "S", "now", [self.line()])

    def test_a_disk_that_is_full_in_the_middle_of_a_line_keeps_none_of_it(self) -> None:
        path = self.folder / "sheet.jsonl"
        append(path, "S", "now", [self.line()])
        whole = path.read_bytes()
        before = resource.getrlimit(resource.RLIMIT_FSIZE)
        resource.setrlimit(resource.RLIMIT_FSIZE, (len(whole) + 40, before[1]))
        try:
            with self.assertRaisesRegex(CannotKeep, "cannot be written"):
                append(path, "S", "now", [self.line("Gate")])
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, before)
        self.assertEqual(whole, path.read_bytes())
        append(path, "S", "now", [self.line("Gate")])
        self.assertEqual([line.point for line in read_sheet(path).lines], ["Torque", "Gate"])

    def test_a_merge_is_the_union_in_both_orders(self) -> None:
        one, other = self.folder / "one.jsonl", self.folder / "other.jsonl"
        shared = self.line("Gate", level="50 %")
        append(one, "S", "now", [shared, self.line(), self.line("Gate", level="0 %")])
        append(other, "S", "now", [shared, self.line(verdict="failed", who="ben")])
        states = []
        for path, theirs in ((one, other), (other, one)):
            copy = self.folder / f"copy-{path.name}"
            copy.write_bytes(path.read_bytes())
            checkout = Checkout(self.site, copy)
            checkout.merge(theirs, 0.0)
            self.assertEqual(checkout.merge(theirs, 0.0), 0, "a second time nothing is new")
            states.append({claim.key: claim.state for claim in checkout.claims()})
        self.assertEqual(states[0], states[1])
        self.assertIs(states[0][ClaimKey("value", "Sluice", "Torque")], ClaimState.DISPUTED)


_KILLED = """
import sys
from pathlib import Path
from kanaleto.proof.sheet import SheetLine, append, new_id
while True:
    line = SheetLine(new_id(), "value", "Sluice", "Torque", "passed", "2026", note="x" * 300)
    append(Path(sys.argv[1]), "S", "now", [line])
    print(line.id, flush=True)
"""


class Killed(unittest.TestCase):
    def test_what_was_shown_is_there_whenever_the_program_is_killed(self) -> None:
        chance = random.Random(38)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "sheet.jsonl"
            shown: list[str] = []
            for _ in range(20):
                words = [sys.executable, "-c", _KILLED, str(path)]
                with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as taking:
                    assert taking.stdout is not None
                    shown.append(taking.stdout.readline().strip())
                    time.sleep(chance.uniform(0.0, 0.05))
                    taking.kill()
                    shown += taking.stdout.read().split()
            sheet = read_sheet(path)
            self.assertLessEqual({one for one in shown if len(one) == 16}, {line.id for line in sheet.lines})
            self.assertTrue(all("torn" in text or "cannot be read" in text for text in sheet.messages), sheet.messages)


class OverTcp(WithSite):
    def setUp(self) -> None:
        super().setUp()
        self.slave = RawSlave("tcp://x")
        self.addCleanup(self.slave.close)
        self.values = {0: 5010, 1: 0xFFFE, 2: 1, 3: 0b1001}
        self.slave.handler = self._answer
        self.write(self.slave.port)

    def _answer(self, unit: int, pdu: bytes) -> bytes | None:
        first, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5])
        if pdu[0] == 1:
            return b"\x01\x01\x01"
        if first == 9:
            return b"\x83\x02"
        words = [self.values.get(at, 0) for at in range(first, first + count)]
        return bytes((3, 2 * count)) + b"".join(word.to_bytes(2) for word in words)

    def taken(self, point: str, *words: str) -> tuple[int, dict[str, object]]:
        code, out, text = run("proof", str(self.path), "--take", f"Sluice/{point}", "--json", "--who", "anna", *words)
        self.assertTrue(out, text)
        return code, json.loads(out)


class Command(OverTcp):
    def test_a_reading_is_taken_judged_and_kept_with_its_exchange(self) -> None:
        code, claim = self.taken("Gate", "--expected", "50", "--level", "50 %", "--note", "at the gate")
        self.assertEqual((code, claim["state"], claim["seen"], claim["words"]), (0, "rehearsed", 50.1, "1392"))
        self.assertEqual(claim["error_of_span"], 0.1)
        (line,) = read_sheet(sheet_path(self.path)).lines
        assert line.exchange is not None
        self.assertEqual(line.exchange["answer"][-4:], "1392")
        self.assertEqual((line.note, line.origin, line.of, line.tolerance), ("at the gate", "stand-in", "span", 0.5))
        self.assertEqual(self.taken("Gate", "--level", "100 %")[0], 1, "the level says what is expected")
        self.assertEqual(self.taken("Torque", "--expected", "-2.1")[1]["state"], "rehearsed", "the map's tolerance")
        self.assertEqual(self.taken("Torque", "--expected", "-2.3")[1]["state"], "failed")
        self.assertEqual(self.taken("State", "--level", "Open")[1]["state"], "rehearsed")
        self.assertEqual(self.taken("State", "--level", "Stopped")[1]["state"], "failed")
        self.assertEqual(self.taken("Word", "--level", "Fault on")[1]["state"], "rehearsed")
        self.assertEqual(self.taken("Word", "--level", "Enable off")[1]["state"], "failed")
        for word in ("Enable, Fault", "9", "0x0009", "0000000000001001"):
            self.assertEqual(self.taken("Word", "--expected", word)[1]["state"], "rehearsed", word)
        self.assertEqual(self.taken("Word", "--expected", "Enable")[1]["state"], "failed")
        self.assertEqual(self.taken("Horn", "--expected", "on", "--level", "on")[1]["state"], "rehearsed")

    def test_on_a_line_that_is_said_to_be_real_the_same_is_proved(self) -> None:
        self.write(self.slave.port, 'origin = "real"')
        self.assertEqual(self.taken("Torque", "--expected", "-2")[1]["state"], "proved")
        self.values[1] = 5
        self.assertEqual(self.taken("Torque", "--expected", "-2")[1]["state"], "failed", "his newest counts")
        self.values[1] = 0xFFFE
        self.assertEqual(self.taken("Torque", "--expected", "-2", "--left-as")[1]["when"], "left")
        code, out, _ = run("proof", str(self.path), "--left", "--json")
        rows = [json.loads(row) for row in out.splitlines()]
        self.assertEqual(code, 1)
        self.assertNotIn("Torque", {row.get("point") for row in rows}, "put right")
        self.assertEqual(rows[-1]["summary"]["proved"], 1)

    def test_what_is_not_read_leaves_nothing(self) -> None:
        self.slave.handler = lambda unit, pdu: None
        code, _, text = run("proof", str(self.path), "--take", "Sluice/Torque", "--expected", "1")
        self.assertEqual(code, 1)
        self.assertIn("Sluice/Torque was not read", text)
        self.assertFalse(sheet_path(self.path).exists())

    def test_what_is_typed_wrongly_is_told(self) -> None:
        for words, text in (
            (("--take", "Sluice/Torqe"), "did you mean 'Sluice/Torque'"), (("--level", "25 %"), "belong to --take"),
            (("--take", "Sluice/Torque", "--expected", "many"), "'many' is no number"),
            (("--take", "Sluice/Torque"), "Type what its display says"),
            (("--take", "Sluice/Torque", "--expected", "1", "--tolerance", "x"), "must read like"),
            (("--merge", str(self.folder / "none.jsonl")), "there is no such sheet"),
        ):  # fmt: skip
            code, _, err = run("proof", str(self.path), *words)
            self.assertEqual(code, 2, words)
            self.assertIn(text, err)

    def test_nothing_left_is_0(self) -> None:
        self.write(self.slave.port, 'origin = "real"', "name,table,address,prove\nA,holding,0,\nB,holding,1,no\n")
        self.assertEqual(run("proof", str(self.path), "--left")[0], 1)
        self.taken("A", "--expected", "5010")
        code, out, _ = run("proof", str(self.path), "--left")
        self.assertEqual((code, out.strip()), (0, "S: 1 proved; 0 left"))


class ByRoutine(OverTcp):
    def routine(self, steps: str) -> tuple[int, list[dict[str, object]]]:
        (self.folder / "routines").mkdir(exist_ok=True)
        text = f'name = "Prove"\ndevice = "Sluice"\n[variables]\ntarget = 50.1\n{steps}'
        (self.folder / "routines" / "prove.toml").write_text(text)
        code, out, message = run("routine", str(self.path), "Prove", "--json")
        self.assertTrue(out, message)
        return code, [json.loads(row) for row in out.splitlines()]

    def test_a_routine_takes_evidence_at_levels_and_goes_on_where_one_fails(self) -> None:
        code, rows = self.routine(
            '[[step]]\nprove = { "Gate" = "target" }\ntolerance = 0.5\nlevel = "50 %"\n'
            '[[step]]\nprove = { "Torque" = 7 }\n'
            '[[step]]\nprove = { "State" = "Open" }\nlevel = "Open"\n'
        )
        self.assertEqual([row.get("outcome") for row in rows], ["done", "failed", "done", "failed"])
        self.assertEqual(code, 1)
        lines = read_sheet(sheet_path(self.path)).lines
        self.assertEqual(
            [(line.point, line.level, line.verdict, line.note) for line in lines],
            [("Gate", "50 %", "passed", "by routine"), ("Torque", "", "failed", "by routine"),
             ("State", "Open", "passed", "by routine")],
        )  # fmt: skip
        self.assertEqual((lines[0].tolerance, lines[0].of, lines[1].tolerance), (0.5, "unit", 0.2))

    def test_what_cannot_be_read_fails_the_step_and_stops_the_routine(self) -> None:
        code, rows = self.routine('[[step]]\nprove = { "Spare" = 1 }\n[[step]]\nprove = { "Torque" = -2 }\n')
        self.assertEqual((code, [row["outcome"] for row in rows]), (1, ["failed", "skipped", "failed"]))
        self.assertIn("was not read", str(rows[0]["text"]))
        self.assertEqual(read_sheet(sheet_path(self.path)).lines, [])

    def test_faults_of_the_step_are_told_by_check(self) -> None:
        (self.folder / "routines").mkdir()
        for step, message in (
            ('prove = 5', "prove reads like"), ('prove = { "Gat" = 1 }', "did you mean 'Gate'"),
            ('prove = { "Gate" = 1 }\ntolerance = "x"', "must read like"),
            ('prove = { "Gate" = 1 }\nwithin_s = 1', "does not belong to prove"),
        ):  # fmt: skip
            text = f'name = "Prove"\ndevice = "Sluice"\n[[step]]\n{step}\n'
            (self.folder / "routines" / "prove.toml").write_text(text)
            code, _, err = run("check", str(self.path))
            self.assertEqual(code, 2, step)
            self.assertIn(message, err)

    def test_verdicts_of_a_rehearsal_are_claims_of_kind_sequence(self) -> None:
        checkout = Checkout(self.site, sheet_path(self.path))
        sequence_verdicts = [
            SequenceVerdict("Sluice", "back within 5 s", "passed", "after 1 s"),
            SequenceVerdict("L", "others go on", "failed", "0.4"), SequenceVerdict("L", "void one", "void", ""),
        ]  # fmt: skip
        self.assertEqual(keep_sequences(checkout, "Comes and goes", sequence_verdicts, 0.0, "anna"), 2)
        self.assertEqual(
            keep_sequences(checkout, "Comes and goes", sequence_verdicts[:1], 1.0, "anna"), 1, "played again"
        )
        states = {claim.key.level: claim.state for claim in checkout.claims() if claim.key.claim == "sequence"}
        self.assertEqual(
            states,
            {
                "Comes and goes, 1: back within 5 s": ClaimState.REHEARSED,
                "Comes and goes, 2: others go on": ClaimState.FAILED,
            },
        )


class Levels(unittest.TestCase):
    def test_a_state_at_its_level_is_expected_to_show_that_and_nothing_else(self) -> None:
        type_ = ValueType(Kind.UINT16)
        codec = Codec(type_, order_for(type_, None, None))
        point = Point("Mode", Table.HOLDING, 0, codec, 1.0, labels={0: "off", 1: "on"})
        key = ClaimKey("state", "D", "Mode", "on", "found")
        for text in ("", "on", "ON", "1"):
            self.assertEqual(Expected("on", Tolerance(0.0)), expectation(point, key, text, None))
        with self.assertRaisesRegex(ValueError, "Mode at on is to show on, not off"):
            expectation(point, key, "off", None)
        rate = Point("Rate", Table.HOLDING, 0, codec, 1.0, labels={3: "19200 baud", 4: "38400 baud", 5: "5 or so"})
        once = ClaimKey("state", "D", "Rate", "", "found")
        for text, label in (("19200", "19200 baud"), ("3", "19200 baud"), ("5", "5 or so"), ("4", "38400 baud")):
            self.assertEqual(label, expectation(rate, once, text, None).value)

    def test_a_level_that_is_none_is_said_in_one_sentence(self) -> None:
        point = Point(
            "Level", Table.HOLDING, 0, Codec(ValueType(Kind.UINT16), order_for(ValueType(Kind.UINT16), None, None)), 1.0
        )
        self.assertEqual(key_for(point, "D", " 25.0 % ", False).level, "25 %")
        for wrong in ("a lot %", "%", "nan %", "1e999 %"):
            with self.subTest(wrong), self.assertRaisesRegex(ValueError, "must read like 25 %"):
                key_for(point, "D", wrong, False)
