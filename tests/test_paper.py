"""Paper: valid SVG and PDF with what they must say, whatever names and numbers there are; bad input in one sentence."""

import math
import re
import tempfile
import unittest
import xml.etree.ElementTree as ET
from pathlib import Path

import numpy as np
from msgspec.structs import replace

from kanaleto.history.curves import EMPTY, curve_of
from kanaleto.paper.drawing import drawn, write_elsewhere
from kanaleto.paper.look import NoPaper
from kanaleto.paper.making import COLUMNS, comparison_sheet, map_sheet, trend_sheet, values_sheet
from kanaleto.paper.sheets import PaperColumn, Sheet, TableSheet
from kanaleto.planning.plan import plan_site
from kanaleto.site.model import Site
from tests.simulated import SimulatedLine, device
from tests.test_kept import WithSite, command
from tests.test_polling import Running
from tests.virtual import run_virtual

HOSTILE = "$\\frac{1}{0}$ <b>&\x1b[31m\u202e " + "long " * 40
MAP = (
    "name,table,address,type,factor,unit,labels,range_low,range_high,warn_high,alarm_high,note\n"
    "Level,holding,0,uint16,0.1,m,,0,100,40,80,Above the sill\nState,holding,1,uint16,,,0=Shut;1=Open,,,,,\n"
)


def text_of(sheet: Sheet) -> str:
    """What stands on it, as SVG; which is sound XML."""
    return " ".join(ET.fromstring(drawn(sheet, "svg")).itertext())


def pages_of(pdf: bytes) -> int:
    assert pdf.startswith(b"%PDF") and pdf.rstrip().endswith(b"%%EOF")
    found = re.search(rb"/Count (\d+)", pdf)
    assert found is not None
    return int(found[1])


def site_of(map_text: str = MAP, name: str = "Gate") -> Site:
    return replace(SimulatedLine(device(name, 7, map_text)).site, name="Alder Lock")


class Trends(unittest.TestCase):
    def _sheet(self, scale: str = "several", name: str = "Gate", values: list[float] | None = None) -> Sheet:
        site = site_of(name=name)
        places = list(plan_site(site).places)
        numbers = values if values is not None else [math.sin(at / 9) * 30 + 40 for at in range(600)]
        at = [float(at) for at in range(len(numbers))]
        quality = [0 if math.isfinite(number) else 2 for number in numbers]
        level = curve_of(at, numbers, quality, [0] * len(at), float(len(at)))
        state = curve_of([0.0, 200.0, 400.0], [0, 1, 0], [0, 0, 0], [0, 0, 1], 600.0)
        curves = dict(zip([place.identity for place in places], (level, state), strict=True))
        return trend_sheet("Alder Lock", places, curves, 0.0, 600.0, scale, ["a note"], 100.0, 300.0)

    def test_it_says_what_it_must(self) -> None:
        for scale in ("one", "several", "percent"):
            with self.subTest(scale):
                text = text_of(self._sheet(scale))
                for wanted in (
                    "Alder Lock: trend",
                    "Gate · Level",
                    "[m]",
                    "Gate · State",
                    "Open",
                    "least 10.0",
                    "a note",
                ):
                    self.assertIn(wanted, text)
                self.assertRegex(text, r"1970-01-01 \d\d:\d\d:\d\d … .*local time, \S+ \(UTC[+-]\d\d:\d\d\)")
                self.assertEqual(pages_of(drawn(self._sheet(scale), "pdf")), 1)
        self.assertIn("warn above 40 m", text_of(self._sheet("several")))

    def test_no_least_and_no_most_is_missed(self) -> None:
        values = [40.0] * 600
        values[333] = 77.0
        sheet = self._sheet(values=values)
        (level, _) = sheet.curves  # type: ignore[union-attr]
        self.assertEqual(max(number for number in level.high if number is not None), 77.0)
        self.assertEqual(len(level.at), COLUMNS)

    def test_no_number_at_all_infinities_and_nothing(self) -> None:
        for values in ([math.nan] * 600, [math.inf, -math.inf] * 300, [1e308, -1e308] * 300, [5.0] * 600, [3.0]):
            with self.subTest(values[:2]):
                self.assertIn("Gate · Level", text_of(self._sheet("one", values=values)))
        places = list(plan_site(site_of()).places)
        nothing = {place.identity: EMPTY for place in places}
        self.assertIn("nothing was read in this time", text_of(trend_sheet("S", places, nothing, 0.0, 1.0, "one")))

    def test_names_of_others(self) -> None:
        text = text_of(self._sheet(name=HOSTILE[:200]))
        self.assertIn("$\\frac{1}{0}$ <b>&␛[31m⟨202E⟩", text)
        self.assertNotIn("\x1b", text)
        self.assertNotIn("\u202e", text)


class Tables(unittest.TestCase):
    def test_a_map(self) -> None:
        site = site_of()
        (line,) = site.lines
        text = text_of(map_sheet("Alder Lock", line, line.devices[0], 0.0))
        for wanted in ("Gate, register map", "unit 7", "0x0001", "uint16", "× 0.1", "0 = Shut", "Above the sill"):
            self.assertIn(wanted, text)
        self.assertIn("alarm above 80 m", re.sub(r"\s+", " ", text))

    def test_long_tables_take_pages_and_one_tall_page(self) -> None:
        rows = [[f"row {number}", "x" * (number % 300), "3"] for number in range(500)]
        sheet = TableSheet(
            "T", "about", [PaperColumn("name"), PaperColumn("text"), PaperColumn("number", True)], rows, [7]
        )
        self.assertGreater(pages_of(drawn(sheet, "pdf")), 10)
        text = text_of(sheet)
        self.assertIn("row 499", text)
        empty = TableSheet("T", "about", [PaperColumn("name")], [])
        self.assertEqual(pages_of(drawn(empty, "pdf")), 1)

    def test_values_and_a_comparison(self) -> None:
        async def run() -> None:
            async with Running(SimulatedLine(device("Gate", 7, MAP))) as running:
                running.line.units  # noqa: B018
                await running.for_s(3)
                running.session.publish()
                snapshot = running.session.snapshot
                text = text_of(values_sheet(snapshot, list(snapshot.plan.places), 0.0))
                for wanted in ("Gate · unit 7", "Level", "Shut", "good", "0000"):
                    self.assertIn(wanted, text)

        run_virtual(run())
        sheet = comparison_sheet("S", "2 of 3 differ", ["point", "one", "other"], [["A", "1", HOSTILE]], [0], 0.0)
        self.assertIn("2 of 3 differ", text_of(sheet))

    def test_what_is_not_answered_by_real_devices_is_said(self) -> None:
        for origin, texts in (("real", []), ("stand-in", ["Not answered by real devices: {} (stand-in)."])):
            site = site_of()
            site = replace(site, lines=tuple(replace(line, origin=origin) for line in site.lines))
            places = list(plan_site(site).places)
            sheet = trend_sheet("S", places, {place.identity: EMPTY for place in places}, 0.0, 1.0, "one")
            self.assertEqual(sheet.notes, [text.format(site.lines[0].name) for text in texts])

    def test_elsewhere_whole_or_not_at_all(self) -> None:
        sheet = comparison_sheet("S", "t", ["point", "one"], [["A", "1"]], [], 0.0)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.svg"
            write_elsewhere(sheet, path)
            ET.fromstring(path.read_text())
            for bad, text in (("a.doc", "end it in .svg or .pdf"), ("none/b.pdf", "cannot be written")):
                with self.assertRaisesRegex(NoPaper, text):
                    write_elsewhere(sheet, Path(folder) / bad)
            self.assertEqual([path.name for path in Path(folder).iterdir()], ["a.svg"])


class ByCommand(WithSite):
    def test_a_trend_out_of_the_record(self) -> None:
        site, out = str(self.site), str(self.folder / "t.svg")
        point = ("--point", "D1/R3")
        for words, code, text in (
            ((out, *point), 1, "nothing was recorded"),
            ((out,), 2, "--point"),
            ((str(self.folder / "t.doc"), *point), 2, "end it in .svg or .pdf"),
            ((out, "--point", "D1/Nix"), 2, "there is no point 'D1/Nix'"),
            ((out, *point, "--from", "1h", "--to", "2h"), 2, "--from is not before --to"),
            ((out, *(word for at in range(9) for word in ("--point", f"D1/R{at}"))), 2, "9 points are too many"),
        ):
            with self.subTest(words):
                self.assertIn(text, command("export", "trend", site, *words, code=code)[1])
        command("poll", site, "--for", "3", "--quiet", "--record")
        for words, code, text in (
            (("--from", "1min"), 0, "2 points drawn"),
            (("--from", "3d", "--to", "2d"), 0, "nothing was read in that time"),
            (("--store", str(self.folder / "none.db")), 1, "was never recorded here"),
        ):
            with self.subTest(words):
                done = command("export", "trend", site, out, *point, "--point", "D2/R4", *words, code=code)
                self.assertIn(text, done[1])
        text = " ".join(ET.parse(out).getroot().itertext())
        self.assertIn("D1 · R3", text)
        pdf = self.folder / "m.pdf"
        self.assertIn("20 points of D1", command("export", "map", site, str(pdf), "--device", "D1")[1])
        self.assertEqual(pages_of(pdf.read_bytes()), 1)
        self.assertIn("cannot be written", command("export", "trend", site, "/nowhere/t.svg", *point, code=1)[1])


if __name__ == "__main__":
    np.seterr(all="raise")
    unittest.main()
