"""From the manual's table to right values: readings ranked, rows edited, tables of others taken over with every
doubt."""

import random
import tempfile
import unittest
from decimal import Decimal
from math import floor, log10
from pathlib import Path

import openpyxl
from hypothesis import given
from hypothesis import strategies as st
from openpyxl.worksheet.worksheet import Worksheet

from kanaleto.editing.anothermap import carried
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.files.maprows import MapText, assignments, parse_assignments, parse_new, with_changes
from kanaleto.planning.plan import plan_site
from kanaleto.planning.ruler import GapRow, RulerPart, RulerRow
from kanaleto.planning.ruler import Ruler as Rulers
from kanaleto.site.counting import Numbering
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Line, Site
from kanaleto.tables.anyfile import read_tables
from kanaleto.tables.csvtext import CannotImport, decode, read_text_table
from kanaleto.tables.importing import import_rows
from kanaleto.tables.matching import guess_numbering, match_columns
from kanaleto.values.candidates import Candidate, parse_display, rank
from kanaleto.values.codec import Codec
from kanaleto.values.types import ORDERS, Kind, ValueType
from tests.simulated import device

_KINDS = (Kind.INT16, Kind.UINT16, Kind.INT32, Kind.UINT32, Kind.FLOAT32, Kind.INT64, Kind.UINT64, Kind.FLOAT64)
_SIZES = {1: (1.8, 4.2), 2: (2.5, 7.5), 4: (3.0, 11.0)}


def measured(seed: int) -> tuple[Codec, list[bytes]]:
    """A reading that wanders with noise, as 20 samples of its words."""
    chance = random.Random(seed)
    kind = chance.choice(_KINDS)
    is_wide = ValueType(kind).is_wide
    orders = [order for order in ORDERS if order.is_for_wide == is_wide]
    codec = Codec(ValueType(kind), chance.choice(orders))
    is_float, is_signed = codec.type.is_float, not kind.value.startswith("u")
    size = 10 ** (chance.uniform(-1, 5) if is_float else chance.uniform(*_SIZES[codec.registers]))
    value = size * (chance.choice((1, 1, 1, -1)) if is_signed else 1)
    noise = 10 ** chance.uniform(-4, -2)
    samples = []
    for _ in range(20):
        value += size * noise * chance.gauss(0, 1)
        samples.append(codec.encode(value if is_float else round(value), is_within=False))
    return codec, samples


def is_same(codec: Codec, candidate: Candidate, samples: list[bytes]) -> bool:
    """The same numbers: int16 and uint16 cannot be told apart while nothing is negative."""
    bare = Codec(candidate.codec.type, candidate.codec.order)
    return bare.registers == codec.registers and all(bare.decode(sample) == codec.decode(sample) for sample in samples)


class Ranked(unittest.TestCase):
    def test_what_the_display_says_ranks_the_right_reading_first(self) -> None:
        right = 0
        for seed in range(400):
            codec, samples = measured(seed)
            value = codec.decode(samples[-1])
            if codec.type.is_float:
                digits = max(0, min(4, 3 - floor(log10(abs(value)))))  # type: ignore[arg-type]
                display = f"{value:.{digits}f}"
            else:
                display = f"{Decimal(value).scaleb(-random.Random(seed).choice((0, 1, 2))):f}"  # type: ignore[arg-type]
            right += is_same(codec, rank(samples[-1:], display)[0], samples[-1:])
        self.assertGreaterEqual(right, 396)

    def test_twenty_samples_alone_rank_it_first_in_nine_of_ten(self) -> None:
        right = sum(is_same(codec, rank(samples)[0], samples) for codec, samples in map(measured, range(400)))
        self.assertGreaterEqual(right, 360)

    def test_a_display_that_nothing_agrees_with(self) -> None:
        self.assertFalse(any(candidate.agrees for candidate in rank([bytes.fromhex("3D71401A")], "77.77")))
        best = rank([bytes.fromhex("3D71401A")], "2,41")[0]
        self.assertEqual((best.title, best.agrees), ("float32 CDAB", True))
        for wrong in ("pump", "nan", "1.2.3"):
            with self.assertRaises(ValueError):
                parse_display(wrong)

    @given(st.lists(st.binary(min_size=2, max_size=8), min_size=1, max_size=5))
    def test_any_words_are_ranked_without_an_error(self, samples: list[bytes]) -> None:
        fits = [candidate.fit for candidate in rank(samples)]
        self.assertEqual(fits, sorted(fits, reverse=True))


class Ruler(unittest.TestCase):
    def rows(self, text: str) -> list[object]:
        pump = device("Pump", 1, text)
        line = Line("L", TcpLink("192.0.2.1", 502), (pump,))
        return list(Rulers(plan_site(Site("S", (line,))).parts[0]))

    def test_brackets_words_and_gaps(self) -> None:
        rows = self.rows(
            "name,table,address,type,bit\nLevel,holding,0,float32,\nWord,holding,2,bits,\nOn,holding,2,bool,0\nFar,holding,9,uint16,\n"
        )
        parts = [(row.address, row.part, row.block_part, row.is_more) for row in rows if isinstance(row, RulerRow)]
        self.assertEqual(parts[0], (0, RulerPart.FIRST, RulerPart.FIRST, False))
        self.assertEqual(parts[1], (1, RulerPart.LAST, RulerPart.MIDDLE, False))
        self.assertEqual(parts[2][:2], (2, RulerPart.WHOLE))
        self.assertEqual((parts[3][0], parts[3][3]), (2, True))
        gaps = [(row.first, row.last) for row in rows if isinstance(row, GapRow)]
        self.assertEqual(gaps, [(3, 8)])

    def test_overlaps_are_shown_and_bits_are_none(self) -> None:
        rows = self.rows("name,table,address,type\nWide,holding,0,uint32\nInside,holding,1,uint16\n")
        self.assertEqual([row.overlaps for row in rows if isinstance(row, RulerRow)], [False, False, True])


MAP = (
    'name;table;address;type;Colour\nA;holding;1;uint16;red\n# a remark\n"B; b";holding;2;;blue\nC;holding;3;float32;\n'
)


class Rows(unittest.TestCase):
    def test_only_the_rows_that_change_are_written_again(self) -> None:
        changed = with_changes(MAP, {"B; b": {"type": "int16"}, "C": {"order": "CDAB"}})
        self.assertIn("# a remark\n", changed)
        self.assertIn("A;holding;1;uint16;red\n", changed)
        self.assertIn('"B; b";holding;2;int16;blue;\n', changed)
        self.assertEqual(
            MapText(changed).cells_of("C"),
            {"name": "C", "table": "holding", "address": "3", "type": "float32", "order": "CDAB"},
        )
        self.assertEqual(MapText(MAP).without({"A", "C"}).splitlines()[1:], ["# a remark", '"B; b";holding;2;;blue'])
        for edit in (lambda: with_changes(MAP, {"D": {"type": "int16"}}), lambda: MapText(MAP).without({"A", "D"})):
            self.assertRaises(KeyError, edit)

    def test_assignments_both_ways(self) -> None:
        cells = {"name": "Pool level", "unit": "m³", "labels": "0=Off;1=On"}
        self.assertEqual(parse_assignments(assignments(cells)), cells)
        for wrong in ("", "type", "=3", 'name="open', "ty pe=3"):
            with self.subTest(wrong), self.assertRaises(ValueError):
                parse_assignments(wrong)

    def test_runs_are_numbered_and_counted_on(self) -> None:
        rows = parse_new("Cell {1..24} voltage, 40201, float32, step 2, unit=V")
        self.assertEqual(
            (len(rows), rows[1]["name"], rows[23]["address"], rows[0]["unit"]), (24, "Cell 2 voltage", "40247", "V")
        )
        self.assertEqual([row["address"] for row in parse_new("W {1..3}, 0x10, uint32, CDAB")], ["16", "18", "20"])
        self.assertEqual(parse_new("Lamp, 5, coil"), [{"name": "Lamp", "address": "5", "table": "coil"}])
        for wrong in ("Level", "Level,", "C {5..1}, 1", "C {1..3}, pump", ""):
            with self.subTest(wrong), self.assertRaises(ValueError):
                parse_new(wrong)


def nasty(path: Path) -> None:
    """A workbook as they come: merged cells, headings on row 7, references as text, decimal commas, duplicates,
    hexadecimal."""
    book = openpyxl.Workbook()
    page = book.active
    assert isinstance(page, Worksheet)
    page["A1"] = "Pump controller, register list"
    page.merge_cells("A1:F1")
    for column, text in enumerate(
        ("Gruppe", "Register (4x)", "Bezeichnung", "Datentyp", "Skalierung", "Einheit", "Zugriff"), 1
    ):
        page.cell(7, column, text)
    rows: list[tuple[str | int | None, ...]] = [
        ("Motor", 40001, "Strom L1", "U16", "0,1", "A", "RO"),
        (None, 40002, "Strom L2", "INT 16", "0,1", "A", "R/W"),
        (None, "4x0003", "Drehzahl", "unsigned long", "1", "1/min", "RO"),
        (None, "4xxxx", "Reserve", "U16", "", "", ""),
        (None, "0x1F", "Temperatur", "Float", "", "°C", "lesen"),
        (),
        (None, 40041, "Zustand", "wunderbar", "", "", "vielleicht"),
        (None, 40041, "Zustand", "wunderbar", "", "", "vielleicht"),
        (None, 30005, "Eingang", "S16", "10^-2", "", ""),
        (None, "", "ohne Adresse", "U16", "", "", ""),
        (None, 40050, "Strom L1", "U16", "0", "", ""),
        (None, 99999, "zu weit", "U16", "", "", ""),
    ]
    for at, cells in enumerate(rows, 8):
        for column, cell in enumerate(cells, 1):
            page.cell(at, column, cell)
    page.merge_cells("A8:A11")
    book.save(path)


class Imports(unittest.TestCase):
    def test_a_nasty_workbook(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "nasty.xlsx"
            nasty(path)
            matched = match_columns(read_tables(path)[0][0])
        self.assertEqual(guess_numbering(matched), Numbering.REFERENCE)
        imported = import_rows(matched, Numbering.REFERENCE)
        rows = {row["name"]: row for row in imported.rows}
        self.assertEqual(
            rows["Strom L1"],
            {
                "name": "Strom L1",
                "table": "holding",
                "address": "40001",
                "type": "uint16",
                "factor": "0.1",
                "unit": "A",
                "access": "r",
            },
        )
        self.assertEqual((rows["Strom L2"]["type"], rows["Strom L2"]["access"]), ("int16", "rw"))
        self.assertEqual((rows["Drehzahl"]["type"], rows["Drehzahl"]["address"]), ("uint32", "40003"))
        self.assertEqual((rows["Temperatur"]["type"], rows["Temperatur"]["address"]), ("float32", "40032"))
        self.assertEqual((rows["Eingang"]["table"], rows["Eingang"]["factor"]), ("input", "0.01"))
        self.assertIn("Strom L1 (2)", rows)
        doubts = {doubt.row: doubt for doubt in imported.doubts}
        for row, reason, is_lost in (
            (11, "stands for any reference", True), (12, "hexadecimal", False), (14, "not understood", False),
            (15, "the same as row 14", True), (17, "has no address", True), (18, "is there already", False),
            (19, "names no table", True),
        ):  # fmt: skip
            self.assertIn(reason, " ".join(doubt.text for doubt in imported.doubts if doubt.row == row))
            self.assertEqual(doubts[row].is_lost, is_lost, row)
        keys = ("name", "table", "address", "type", "factor", "unit", "access")
        text = "\n".join(
            ",".join(cells) for cells in (keys, *(tuple(row.get(key, "") for key in keys) for row in imported.rows))
        )
        _, faults = read_map(Path("m.csv"), text, MapDefaults(Numbering.REFERENCE))
        self.assertEqual([fault for fault in faults if not fault.is_warning], [])

    def test_other_languages_encodings_and_delimiters(self) -> None:
        text = "Adresse;Désignation;Type de donnée;Facteur;Unité\n0;Débit;float;;m³/h\n2;Température;int16;0,1;°C\n"
        for data in (
            text.encode("cp1252"),
            text.encode("utf-8-sig"),
            text.encode("utf-16"),
            text.replace(";", "\t").encode(),
        ):
            matched = match_columns(read_text_table(decode(data)))
            self.assertEqual({"address", "name", "type", "factor", "unit"}, set(matched.columns.values()))
            rows = import_rows(matched, guess_numbering(matched)).rows
            self.assertEqual([row["name"] for row in rows], ["Débit", "Température"])
            self.assertEqual((rows[0]["type"], rows[1]["factor"]), ("float32", "0.1"))

    def test_without_headings_the_cells_tell(self) -> None:
        matched = match_columns(read_text_table("100\tPool level\tfloat32\n102\tWater temperature\tint16\n"))
        self.assertEqual(set(matched.columns.values()), {"address", "name", "type"})
        matched.assign(1, "note")
        self.assertEqual(import_rows(matched, Numbering.PROTOCOL).rows[0]["name"], "Holding 100")

    def test_corrections_are_remembered(self) -> None:
        sheet = read_text_table("Kennung,Adresse\nLevel,4\n")
        self.assertEqual(match_columns(sheet, {"kennung": "note"}).columns[0], "note")

    def test_files_that_are_no_table(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            broken = Path(folder) / "broken.xlsx"
            broken.write_bytes(b"PK\x03\x04nonsense")
            empty = Path(folder) / "empty.csv"
            empty.write_text("\n\n")
            for path, reason in (
                (broken, "no workbook"),
                (empty, "is empty"),
                (Path(folder), "is a folder"),
                (Path("/no/such"), "no such file"),
            ):
                with self.subTest(path.name), self.assertRaisesRegex(CannotImport, reason):
                    read_tables(path)

    @given(st.text(max_size=400))
    def test_any_text_is_read_or_refused(self, text: str) -> None:
        try:
            matched = match_columns(read_text_table(text))
        except CannotImport:
            return
        import_rows(matched, guess_numbering(matched))


class AnotherMap(unittest.TestCase):
    """What a point takes from the one whose place it takes, and what is lost."""

    HEAD = "name,table,address,type,unit,labels,warn_low,warn_high,alarm_high,hysteresis,alarm_on\n"

    def _carried(self, old: str, new: str) -> tuple[dict[str, str], list[str]]:
        points = []
        for row in (old, new):
            read, faults = read_map(Path("m.csv"), f"{self.HEAD}{row}\n", MapDefaults())
            self.assertEqual([fault for fault in faults if not fault.is_warning], [])
            points.append(read[0])
        return carried(*points)

    def test_each_column_that_the_new_map_does_not_say(self) -> None:
        limits = {"warn_low": "1", "warn_high": "7", "alarm_high": "8", "hysteresis": "0.5"}
        old = "Level,holding,0,int16,m,,1,7,8,0.5,"
        self.assertEqual(self._carried(old, "Level,holding,9,float32,m,,,,,,"), (limits, []))
        cells, lost = self._carried(old, "Level,holding,9,float32,m,,,6,,,")  # its own figure stands
        self.assertEqual((cells, lost), ({key: limits[key] for key in limits if key != "warn_high"}, []))
        cells, lost = self._carried(old, "Level,holding,9,float32,m,,,9,,,")  # 9 is above the alarm at 8
        self.assertEqual((sorted(cells), lost), (["hysteresis", "warn_low"], ["alarm_high"]))
        cells, lost = self._carried(old, "Level,holding,9,float32,ft,,,,,,")
        self.assertEqual((cells, sorted(lost)), ({}, sorted(limits)))

    def test_names_of_states_and_what_of_them_warns(self) -> None:
        old = "State,holding,0,bits,,0=Ready;3=Fault,,,,,Fault"
        labels = {"labels": "0=Ready;3=Fault", "alarm_on": "Fault"}
        self.assertEqual(self._carried(old, "State,holding,9,bits,,,,,,,"), (labels, []))
        cells, lost = self._carried(old, "State,holding,9,bits,,0=On;1=Off,,,,,")
        self.assertEqual((cells, lost), ({}, ["alarm_on"]))
        self.assertEqual(self._carried(old, "State,holding,9,float32,m,,,,,,")[1], ["labels", "alarm_on"])


class Counting(unittest.TestCase):
    def test_a_point_that_counts_errors(self) -> None:
        text = "name,table,address,counts\nErrors,holding,0,errors\nLevel,holding,1,\n"
        points, faults = read_map(Path("m.csv"), text, MapDefaults())
        self.assertEqual(faults, [])
        self.assertEqual([point.counts for point in points], ["errors", ""])
        _, faults = read_map(Path("m.csv"), text.replace("errors", "sheep"), MapDefaults())
        self.assertIn("counts 'sheep' is not known", str(faults[0]))
