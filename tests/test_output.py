"""Maps go out and come back: tables, workbooks, JSON, Thing Descriptions; scales fitted to what a display shows; two
countings."""

import json
import random
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from kanaleto.cli.output import say
from kanaleto.demo.start import copy_site
from kanaleto.files.loading import load_site
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.site.counting import Numbering, as_references, wire_of_reference
from kanaleto.site.model import Device, Point
from kanaleto.tables.anyfile import read_tables
from kanaleto.tables.csvtext import read_text_table, sheet_of_rows
from kanaleto.tables.importing import import_rows
from kanaleto.tables.maps import as_csv, as_json, as_workbook
from kanaleto.tables.matching import match_columns
from kanaleto.tables.things import as_thing, rows_of_thing
from kanaleto.values.fitting import fit, full_scale
from kanaleto.wire.codes import Table
from tests.test_commands import kanaleto

MAP = (
    "name,table,address,type,order,factor,offset,raw_low,raw_high,eng_low,eng_high,curve,signal,clamp,labels,bit,no_value,access,range_low,range_high,unit\n"
    "Level,holding,0,float32,CDAB,,,,,,,,,,,,,rw,0,3,m\n"
    "Pressure,input,4,int16,,,,6400,32000,0,250,,4-20mA,yes,,,,,,,bar\n"
    'Bent,input,5,uint16,,,,,,,,"0=0;1000=10;4000=100",,,,,0xFFFF,,,,\n'
    "Hot,holding,9,int16,,0.1,-40,,,,,,,,,,0x8000,,,,°C\n"
    'State,holding,10,uint16,,,,,,,,,,,"0=Off;1=On",4-7,,,,,\n'
    "Cells,holding,20,uint16[4],,0.001,,,,,,,,,,,,,,,V\n"
    "Lamp,coil,3,,,,,,,,,,,,,,,rw,,,\n"
    "Clamped,input,8,uint16,,,,0,4000,0,100,,,yes,,,,,,,\n"
)


def same(one: Point, other: Point) -> bool:
    return (one.name, one.table, one.address, one.codec, one.labels, one.access, one.limits, one.unit) == (
        other.name, other.table, other.address, other.codec, other.labels, other.access, other.limits, other.unit,
    )  # fmt: skip


class OutAndBack(unittest.TestCase):
    def setUp(self) -> None:
        points, faults = read_map(Path("m.csv"), MAP, MapDefaults())
        self.assertEqual([fault for fault in faults if not fault.is_warning], [])
        self.device = Device("Pump [1]", 7, points, 1.0, 1)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.link = load_site(copy_site(self.folder, 15020))[0].lines[2].link

    def check(self, text: str) -> None:
        points, faults = read_map(Path("back.csv"), text, MapDefaults())
        self.assertEqual([str(fault) for fault in faults if not fault.is_warning], [])
        by_name = {point.name: point for point in points}
        for point in self.device.points:
            self.assertTrue(same(point, by_name[point.name]), (point, by_name[point.name]))

    def test_a_table_reads_back_the_same(self) -> None:
        self.check(as_csv(self.device))

    def test_a_workbook_reads_back_the_same(self) -> None:
        path = self.folder / "m.xlsx"
        path.write_bytes(as_workbook(self.device))
        imported = import_rows(match_columns(read_tables(path)[0][0]), Numbering.PROTOCOL)
        self.assertEqual(imported.doubts, ())
        self.assertEqual([row["name"] for row in imported.rows], [point.name for point in self.device.points])

    def test_our_own_table_imports_without_a_doubt(self) -> None:
        imported = import_rows(match_columns(read_text_table(as_csv(self.device))), Numbering.PROTOCOL)
        self.assertEqual(imported.doubts, ())
        self.assertEqual(imported.rows[1]["signal"], "4-20mA")

    def test_a_thing_description_reads_back_the_same(self) -> None:
        text = as_thing(self.device, self.link)
        thing = json.loads(text)
        form = thing["properties"]["Level"]["forms"][0]
        self.assertEqual((form["modv:entity"], form["modv:address"], form["modv:quantity"]), ("HoldingRegister", 0, 2))
        self.assertEqual((form["modv:type"], form["modv:mostSignificantWord"]), ("xsd:float", False))
        rows, doubts = rows_of_thing(text)
        self.assertEqual(doubts, [])
        keys = list(dict.fromkeys(key for row in rows for key in row))
        lines = [",".join(f'"{row.get(key, "")}"' for key in keys) for row in rows]
        self.check("\n".join([",".join(keys), *lines]) + "\n")

    def test_descriptions_of_others(self) -> None:
        form = {
            "href": "/1/40?quantity=2",
            "op": ["readproperty"],
            "modv:function": "readInputRegisters",
            "modv:type": "xsd:float",
            "modv:quantity": 2,
        }
        other = {
            "properties": {
                "Flow": {"type": "number", "unit": "m3/h", "forms": [form]},
                "Odd": {"forms": []},
                "No": {"forms": [{"href": "/x"}]},
            }
        }
        rows, doubts = rows_of_thing(json.dumps(other))
        self.assertEqual(rows, [{"name": "Flow", "table": "input", "address": "40", "type": "float32", "unit": "m3/h"}])
        self.assertEqual(len(doubts), 2)
        sheet = sheet_of_rows("thing", rows)
        self.assertEqual(import_rows(match_columns(sheet), Numbering.PROTOCOL).rows[0]["type"], "float32")
        for wrong in ("", "[]", "{}", '{"properties": 3}', "null"):
            with self.subTest(wrong), self.assertRaises(ValueError):
                rows_of_thing(wrong)

    def test_json_has_both_counts(self) -> None:
        told = json.loads(as_json(self.device))
        self.assertEqual(
            (told["unit_id"], told["points"][0]["wire_address"], told["points"][5]["registers"]), (7, 0, 4)
        )

    def test_the_command(self) -> None:
        site = str(self.folder / "alder-lock.toml")
        for name in ("mast.csv", "mast.xlsx", "mast.json", "mast.td.json"):
            code, _, err = kanaleto("export", site, str(self.folder / name), "--device", "Weather mast")
            self.assertEqual((code, (self.folder / name).exists()), (0, True), err)
        self.assertEqual(kanaleto("export", site, str(self.folder / "x.csv"))[0], 2)
        self.assertEqual(kanaleto("export", site, str(self.folder / "x.what"), "--device", "Weather mast")[0], 2)
        self.assertEqual(kanaleto("export", site, "/no/such/folder/x.csv", "--device", "Weather mast")[0], 1)


class Gone(unittest.TestCase):
    def test_that_nobody_reads_stderr_any_more_ends_nothing(self) -> None:
        """What goes on says things there; of stdout the end is an end (as behind a head)."""
        gone = mock.Mock(write=mock.Mock(side_effect=BrokenPipeError))
        with mock.patch("sys.stderr", gone), mock.patch("sys.stdout", gone):
            say("too slow", err=True)
            with self.assertRaises(BrokenPipeError):
                say("a value")


class Fitting(unittest.TestCase):
    def test_pairs_give_the_simplest_scale(self) -> None:
        for pairs, factor, offset in (
            ([(1250, 12.5)], 0.01, 0),
            ([(0, -20), (12000, 80)], 100 / 12000, -20),
            ([(100, 10), (250, 25), (999, 99.9)], 0.1, 0),
            ([(0, 4), (4000, 20)], 0.004, 4),
            ([(183, 18.3), (190, 19.0)], 0.1, 0),
        ):
            with self.subTest(pairs):
                found = fit(pairs)
                self.assertAlmostEqual(found.factor, factor, places=5)
                self.assertAlmostEqual(found.offset, offset, places=2)
        for wrong in ([], [(0, 5)], [(1, 0), (5, 0)], [(float("nan"), 1)]):
            with self.subTest(wrong), self.assertRaises(ValueError):
                fit(wrong)

    @given(st.integers(-3, 3), st.integers(1, 99), st.integers(-50, 50), st.integers(0, 10**6))
    def test_what_a_display_rounds_is_found_again(self, power: int, digits: int, offset: int, seed: int) -> None:
        factor = digits * 10.0**power
        chance = random.Random(seed)
        raws = chance.sample(range(32000), 4)
        pairs = [(raw, raw * factor + offset) for raw in raws]
        found = fit(pairs)
        self.assertLessEqual(found.error, max(abs(value) for _, value in pairs) * 2e-4 + 1e-9)

    def test_the_likely_full_scale(self) -> None:
        self.assertEqual(full_scale(16000, 50, 0, 100)[0][0], 32000)
        self.assertEqual(full_scale(2048, 50, 0, 100)[0][0], 4095)
        self.assertEqual(full_scale(5, 90, 0, 100), [])


class TwoCountings(unittest.TestCase):
    def test_only_what_is_in_doubt_is_asked(self) -> None:
        self.assertEqual(wire_of_reference("40313", Table.HOLDING, Numbering.PROTOCOL), 312)
        self.assertIsNone(wire_of_reference("313", Table.HOLDING, Numbering.PROTOCOL))
        self.assertIsNone(wire_of_reference("40313", Table.HOLDING, Numbering.REFERENCE))
        self.assertIsNone(wire_of_reference("30313", Table.HOLDING, Numbering.PROTOCOL))
        rows = as_references([{"name": "A", "table": "holding", "address": "40313"}], Numbering.ONE)
        self.assertEqual(rows[0]["address"], "313")
