"""What many points share: constants, named scales and states, a maker's own numbering, exponents in other registers;
and derived points."""

import asyncio
import tempfile
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from kanaleto.board.board import Quality
from kanaleto.files.loading import load_site
from kanaleto.polling.session import Session
from kanaleto.site.counting import Numbering, OwnNumbering, countings, from_wire, to_wire
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.model import Site
from kanaleto.wire.codes import Table
from tests.simulated import SimulatedLine
from tests.virtual import run_virtual

HEAD = '[site]\nname = "S"\n'
LINE = '[[line]]\nname = "L"\nlink = "tcp://192.0.2.1"\n[[line.device]]\nname = "D"\nunit_id = 1\nmap = "m.csv"\n'


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def site(self, text: str, rows: str) -> Site:
        (self.folder / "m.csv").write_text(rows)
        (self.folder / "s.toml").write_text(text)
        return load_site(self.folder / "s.toml")[0]

    def faults(self, text: str, rows: str) -> str:
        with self.assertRaises(FaultyFile) as caught:
            self.site(text, rows)
        return str(caught.exception)


class Shared(InFolder):
    def test_constants_scales_and_states_are_kept_once(self) -> None:
        text = (
            HEAD + "[constants]\nCT = 40\nVT = 110.0\n[scale.Bar]\nraw_low = "
            "0\nraw_high = 4000\neng_low = 0\neng_high = 16\n"
        )
        text += '[states.Valve]\n0 = "Closed"\n1 = "Open"\n' + LINE
        site = self.site(
            text,
            "name,table,address,type,factor,scale,states\nI,holding,0,uint16,0.01*CT,,\nP,holding,1,uint16,,Bar,\nV,holding,2,,,,Valve\n",
        )
        current, pressure, valve = site.lines[0].devices[0].points
        self.assertEqual(current.codec.finish(100), 40)
        self.assertEqual(pressure.codec.finish(2000), 8)
        self.assertEqual(valve.labels, {0: "Closed", 1: "Open"})
        twice = self.site(text.replace("CT = 40", "CT = 80"), (self.folder / "m.csv").read_text())
        self.assertEqual(twice.lines[0].devices[0].points[0].codec.finish(100), 80)

    def test_what_is_not_known_is_told(self) -> None:
        for head, cell, reason in (
            ("[constants]\nCT = 4\n", "0.1*CTT,,", "did you mean 'CT'"),
            ("", "CT,,", r"has no \[constants\]"),
            ("[constants]\nCT = 0\n", "1/CT,,", "is no number and no expression"),
            ("[constants]\nCT = 4\n", "__import__('os'),,", "is not known|is no number"),
            ("", ",Bar,", "scale 'Bar' is not known"),
            ("", ",,Valve", "states 'Valve' is not known"),
            ("[scale.Bar]\nraw_low = 1\n", ",,", "only part of"),
            ('[states.V]\nx = "y"\n', ",,", "each key is a number"),
        ):
            with self.subTest(cell=cell, head=head):
                self.assertRegex(
                    self.faults(HEAD + head + LINE, f"name,table,address,factor,scale,states\nA,holding,0,{cell}\n"),
                    reason,
                )

    def test_a_makers_own_numbering(self) -> None:
        site = self.site(
            HEAD + LINE + "own_numbering = { base = 1000, group = 100 }\n", "name,table,address\nSpeed,holding,P12.34\n"
        )
        self.assertEqual(site.lines[0].devices[0].points[0].address, 2234)
        for cell, reason in (
            ("1234", "group and index"),
            ("12.100", "below 100"),
            ("pump", "no number"),
            ("999.1", "there are 0"),
        ):
            with self.subTest(cell):
                text = HEAD + LINE + "own_numbering = { base = 1000, group = 100 }\n"
                self.assertIn(reason, self.faults(text, f"name,table,address\nSpeed,holding,{cell}\n"))

    @given(st.integers(0, 300), st.integers(1, 200), st.integers(1, 4), st.integers(0, 60), st.integers(0, 40))
    def test_own_numbers_come_back(self, base: int, group: int, index: int, at_group: int, at_index: int) -> None:
        numbering = OwnNumbering(base, group * index, index)
        text = f"{at_group}.{at_index:02d}"
        try:
            address = to_wire(text, Table.HOLDING, numbering)
        except ValueError:
            return
        self.assertEqual(from_wire(address, Table.HOLDING, numbering), text)

    def test_an_entry_that_fits_two_countings_is_known(self) -> None:
        found = dict(countings("40313", Table.HOLDING))
        self.assertEqual(found, {Numbering.PROTOCOL: 40313, Numbering.ONE: 40312, Numbering.REFERENCE: 312})
        self.assertEqual(dict(countings("312", Table.HOLDING)), {Numbering.PROTOCOL: 312, Numbering.ONE: 311})

    def test_an_exponent_in_another_register(self) -> None:
        line = SimulatedLine(is_serial=False)
        rows = (
            "name,table,address,type,exponent,initial\nTotal,holding,0,uint32,Power,184220600\n"
            "Power,holding,40,int16,,-3\n"
        )
        site = self.site(HEAD + LINE, rows)
        self.assertIn("no other point", self.faults(HEAD + LINE, rows.replace("Power,184", "Pwer,184")))
        line = SimulatedLine(*site.lines[0].devices, is_serial=False)
        session = Session(line.site, line.exchanger)

        async def work() -> object:
            task = asyncio.create_task(session.run())
            await asyncio.sleep(3)
            reading = session.board.reading(next(session.plan.places), asyncio.get_running_loop().time())
            task.cancel()
            return reading

        reading = run_virtual(work())
        self.assertEqual((reading.value, reading.quality), (184220.6, Quality.GOOD))  # type: ignore[attr-defined]


ROWS = "name,table,address,type,initial\nUpper,holding,0,float32,2.5\nLower,holding,2,float32,1.0\nOpen,coil,0,,1\n"


class Formulas(InFolder):
    def readings(self, derived: str, fault: object = None, for_s: float = 5.0) -> dict[str, object]:
        site = self.site(HEAD + LINE + derived, ROWS)
        line = SimulatedLine(*site.lines[0].devices, is_serial=False)
        line.fault = fault  # type: ignore[assignment]
        session = Session(Site("S", (line.line,), None, site.derived), line.exchanger)

        async def work() -> dict[str, object]:
            task = asyncio.create_task(session.run())
            await asyncio.sleep(for_s)
            now = asyncio.get_running_loop().time()
            found = {place.derived.name: session.board.reading(place, now) for place in session.plan.derived}
            task.cancel()
            return dict(found)

        return run_virtual(work())

    def test_sums_means_thresholds_and_time_in_a_state(self) -> None:
        found = self.readings(
            '[[derived]]\nname = "Head"\nformula = "[D/Upper] - [D/Lower]"\nunit = "m"\n'
            '[[derived]]\nname = "Twice"\nformula = "2 * [Head]"\n'
            '[[derived]]\nname = "Mean"\nformula = "mean([D/Upper], [D/Lower])"\n'
            '[[derived]]\nname = "High"\nformula = "1 if [D/Upper] > 2 and [D/Open] else 0"\n'
            '[[derived]]\nname = "Since"\nformula = "time_in([D/Open] == 1)"\n'
        )
        values = {name: reading.value for name, reading in found.items()}  # type: ignore[attr-defined]
        self.assertEqual([values[name] for name in ("Head", "Twice", "Mean", "High")], [1.5, 3.0, 1.75, 1.0])
        self.assertGreater(values["Since"], 3)
        self.assertTrue(all(reading.quality is Quality.GOOD for reading in found.values()))  # type: ignore[attr-defined]

    def test_quality_follows_the_worst_input(self) -> None:
        found = self.readings(
            '[[derived]]\nname = "Head"\nformula = "[D/Upper] - [D/Lower]"\n', lambda frame, at, right: []
        )
        self.assertEqual((found["Head"].quality, found["Head"].value), (Quality.NEVER, None))  # type: ignore[attr-defined]
        divided = self.readings('[[derived]]\nname = "Share"\nformula = "[D/Upper] / ([D/Open] - 1)"\n')
        self.assertEqual(divided["Share"].quality, Quality.BAD)  # type: ignore[attr-defined]

    def test_faulty_formulas_are_told_with_their_name(self) -> None:
        for derived, reason in (
            ('name = "A"\nformula = "[D/Uper] + 1"', r"\[D/Uper\] is no point"),
            ('name = "A"\nformula = "[A] + 1"', "need each other: A → A"),
            ('name = "A"\nformula = "[B]"\n[[derived]]\nname = "B"\nformula = "[A]"', "need each other: A → B → A"),
            ('name = "A"\nformula = "1 +"', "can be read"),
            ('name = "A"\nformula = "open(1)"', "calls what there is not"),
            ('name = "A"\nformula = "upper + 1"', "names 'upper'"),
            ('name = "A"\nformula = "().__class__"', "no arithmetic"),
            ('name = "A"\nformula = "1"\n[[derived]]\nname = "A"\nformula = "2"', "two derived points"),
        ):
            with self.subTest(derived):
                self.assertRegex(self.faults(HEAD + LINE + "[[derived]]\n" + derived + "\n", ROWS), reason)
