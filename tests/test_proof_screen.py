"""The view Proof by keys: evidence taken by enter, at levels, by a write, by a cable that is pulled, by hand; what is
left, what is really there, and papers."""

import asyncio
import json
import unittest
from types import SimpleNamespace
from typing import Any
from unittest.mock import patch

from msgspec.structs import replace
from textual.pilot import Pilot

from kanaleto.bench.states import BenchState, ExpectState, RehearsalState, StepState
from kanaleto.proof.checkout import sheet_path
from kanaleto.proof.sheet import read_sheet
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.shared.prompt import Prompt
from tests.livesite import LiveCase

App = KanaletoApp
MAP = """name,table,address,type,factor,unit,access,labels,range_low,range_high,prove,tolerance,feedback
Level,holding,0,uint16,0.1,m,r,,0,10,0 50,1 %,
Torque,holding,1,int16,,Nm,r,,,,,2,
Pump,holding,2,uint16,,,r,0=off;1=on,,,each,,
Target,holding,4,uint16,0.1,m,rw,,0,10,write,1 %,Level
Spare,holding,6,uint16,,,r,,,,no,,
"""


class Proving(LiveCase):
    def _drive(self, work: Any, origin: str = 'origin = "real"\n', units: int = 1) -> None:
        (self.folder / "m.csv").write_text(MAP)
        site = f'[site]\nname = "S"\nperiod_s = 0.1\n[[line]]\nname = "L"\ntimeout_s = 0.3\n{origin}'
        site += f'link = "tcp://127.0.0.1:{self.far.server_address[1]}"\n'
        for unit in range(1, units + 1):
            site += f'[[line.device]]\nname = "Meter {unit}"\nunit_id = {unit}\nmap = "m.csv"\n'

        async def begun(case: "Proving", app: App, pilot: "Pilot[None]") -> None:
            await pilot.press("7")
            await case.shows(app, rf"Checkout of S +0 of {6 * units} proved")
            await work(case, app, pilot)

        self.drive_site(site, "Level", begun)

    def lines(self) -> list[dict[str, object]]:
        path = sheet_path(self.folder / "site.toml")
        return [json.loads(row) for row in path.read_text().splitlines()[1:]] if path.exists() else []

    def test_a_checkout_by_keys(self) -> None:
        async def work(case: "Proving", app: App, pilot: "Pilot[None]") -> None:
            case.far.values.update({(1, 0): 0, (1, 1): 7, (1, 2): 1})
            await case.shows(app, r"Torque +7 Nm now +◌ open")
            await pilot.press("right_square_bracket", "enter")
            await case.shows(app, r"Level at 0 %: the display shows \(m\)")
            await pilot.press("enter")  # the level says what is expected
            await case.shows(app, r"Level +0 % +0 m +0 m +\+0\.00 % +✓ proved")
            await pilot.press("right_square_bracket", "enter", "enter")
            await case.shows(app, r" 50 % +5 m +0 m +-50\.00 % +✕ failed")
            await case.shows(app, "✕ Meter 1/Level at 50 %  expected 5, seen 0")
            await pilot.press("right_square_bracket", "enter")
            await case.answer(app, pilot, "6")
            await case.shows(app, r"Torque +6 Nm +7 Nm +✓ proved")
            await pilot.press("right_square_bracket", "enter")
            await case.shows(app, r"Pump +off +off +on +✕ failed")
            await pilot.press("right_square_bracket", "enter")
            await case.shows(app, r" on +on +on +✓ proved")
            case.assertEqual(
                [line["verdict"] for line in case.lines()], ["passed", "failed", "passed", "failed", "passed"]
            )
            case.assertTrue(all(line["exchange"] and line["who"] for line in case.lines()))
            await pilot.press("a")
            await case.shows(app, "as left: a turns it")
            case.far.values[1, 2] = 0
            await pilot.press("up", "enter")
            await case.shows(app, r"✕ made good")
            await case.shows(app, r"off left +off +off +✓ proved")

        self._drive(work)

    def test_a_set_point_is_proved_by_the_line_that_writes_and_its_feedback(self) -> None:
        async def work(case: "Proving", app: App, pilot: "Pilot[None]") -> None:
            await case.unlocked(app, pilot)
            await pilot.press("end", "enter")
            await case.shows(app, "Target")
            await asyncio.sleep(0.5)
            await pilot.press("4")
            await case.shows(app, "becomes 4.0 m")
            await asyncio.sleep(1)  # a person looks before pressing
            await pilot.press("enter")
            await case.until(lambda: (1, 4) in case.far.values, "the write")
            case.far.values[1, 0] = 40  # the level follows
            await case.shows(app, r"Target \(write\) +4 m? *4.* ✓ proved")
            (line,) = case.lines()
            case.assertEqual(
                (line["claim"], line["expected"], line["seen"], line["note"]), ("write", 4.0, 4.0, "as Level")
            )

        self._drive(work)

    async def unlocked(self, app: App, pilot: "Pilot[None]") -> None:
        for _ in range(20):
            await self.alone(pilot, "u")
            await asyncio.sleep(0.5)
            if app.control.lock.is_unlocked(""):
                return

    def test_a_cable_that_is_pulled_is_missed_and_comes_back(self) -> None:
        async def work(case: "Proving", app: App, pilot: "Pilot[None]") -> None:
            await pilot.press("c")
            await case.shows(app, "cable pulled +back by itself +◌ open")
            await pilot.press("end", "enter")
            await case.shows(app, "looking …")
            case.far.silent = {1}
            await case.until(lambda: app.snapshot.lines[0].silent, "that it is missed")
            await asyncio.sleep(0.5)
            case.far.silent = set()
            await case.shows(app, r"cable pulled .*noticed.* ✓ proved")
            (line,) = case.lines()
            case.assertRegex(str(line["seen"]), r"noticed after \d\.\d s, away \d\.\d s")

        self._drive(work)

    def test_what_answers_there_is_asked_once_and_saved(self) -> None:
        async def work(case: "Proving", app: App, pilot: "Pilot[None]") -> None:
            await pilot.press("right_square_bracket", "enter")
            await case.shows(app, "what answers on L: real devices, or a stand-in")
            await case.answer(app, pilot, "perhaps")
            await case.shows(app, "type real, or stand-in")
            await pilot.press("escape", "enter")
            await case.shows(app, r"Level at 0 %: the display shows")  # it is asked once
            await pilot.press("enter")
            await case.shows(app, r"◇ rehearsed")
            case.assertNotIn("origin", (case.folder / "site.toml").read_text())

        self._drive(work, "")

    def test_verdicts_and_notes_by_hand_and_a_merge(self) -> None:
        async def work(case: "Proving", app: App, pilot: "Pilot[None]") -> None:
            await pilot.press("right_square_bracket", "V")
            await case.answer(app, pilot, "fine")
            await case.shows(app, "type passed, failed, skipped or withdrawn")
            await pilot.press("escape", "V")
            await case.answer(app, pilot, "failed the glass is broken")
            await case.shows(app, "✕ Meter 1/Level at 0 %  the glass is broken")
            await pilot.press("N")
            await case.answer(app, pilot, ", told to the millwright")
            await case.shows(app, "glass is broken , told to the millwright")
            sheet = read_sheet(sheet_path(case.folder / "site.toml"))
            other = case.folder / "other.jsonl"
            mine = {**case.lines()[-1], "id": "f" * 16, "who": "ben", "verdict": "passed", "replaces": None}
            other.write_text(f'{{"kanaleto_sheet": 1, "site": "S", "begun": "{sheet.begun}"}}\n{json.dumps(mine)}\n')
            await pilot.press("M")
            await case.answer(app, pilot, str(other))
            await case.shows(app, "≠ disputed")
            await case.shows(app, "judged differently: enter takes it again")
            await pilot.press("o")
            await case.answer(app, pilot, " prove=no")
            await case.until(
                lambda: "Level,holding,0,uint16,0.1,m,r,,0,10,no" in (case.folder / "m.csv").read_text(), "no"
            )

        self._drive(work)

    def test_a_rehearsal_that_ends_while_another_view_is_in_sight_is_kept(self) -> None:
        async def work(case: "Proving", app: App, pilot: "Pilot[None]") -> None:
            expect = ExpectState("silent within 5", "passed", "silent after 1 s")
            step = StepState(1.0, 2.0, "silent", "Meter 1", (expect,))
            state = BenchState(0.0, rehearsal=RehearsalState("Comes and goes", 1.0, 9.0, (step,)))
            stand_ins = SimpleNamespace(state=state, served={})
            with patch.object(app.bench, "_stand_ins", stand_ins):
                await pilot.press("4")
                await pilot.pause(0.5)
                assert state.rehearsal is not None
                stand_ins.state = replace(state, rehearsal=replace(state.rehearsal, is_over=True))
                await case.until(lambda: any(own["claim"] == "sequence" for own in case.lines()), "its verdict")
            (kept,) = [own for own in case.lines() if own["claim"] == "sequence"]
            case.assertEqual((kept["device"], kept["verdict"], kept["origin"]), ("Meter 1", "passed", "stand-in"))

        self._drive(work)

    def test_what_is_there_and_papers(self) -> None:
        async def work(case: "Proving", app: App, pilot: "Pilot[None]") -> None:
            await pilot.press("t")
            await case.shows(app, "2 answers as noted")
            case.far.silent = {2}
            await pilot.press("t")
            await case.shows(app, r"✕ Meter 2 +answers +silent")
            await pilot.press("escape")
            await case.shows(app, r"Meter 1 +6 of 6 to go")
            for name, magic in (("report.pdf", b"%PDF"), ("site.svg", b"<svg"), ("handover.zip", b"PK")):
                await pilot.press("x")
                await case.answer(app, pilot, str(case.folder / name))
                await case.until((case.folder / name).exists, name)
                await case.until(lambda: not app.query_one(Prompt).is_open, "the line, closed")
                case.assertEqual((case.folder / name).read_bytes()[: len(magic)], magic)

        self._drive(work, units=2)


if __name__ == "__main__":
    unittest.main()
