"""Files that mean harm, or are only broken: one sentence with its place, soon, and nothing of memory."""

import csv
import io
import json
import os
import tempfile
import threading
import time
import unittest
import unittest.mock
import zipfile
from pathlib import Path

import openpyxl

from kanaleto.cli.main import main
from kanaleto.files.loading import load_site
from kanaleto.site.filefaults import FaultyFile
from kanaleto.tables.anyfile import read_tables
from kanaleto.tables.csvtext import CannotImport, read_text_table
from kanaleto.tables.importing import Known, grouped, import_rows
from kanaleto.tables.matching import guess_numbering, match_columns
from tests.fuzzfiles import fuzz_files

SITE = (
    '[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:1"\n[[line.device]]\nname = "D"\nunit_id = 1\n'
)
HEAD = "name,table,address"
SOON_S = 120.0
"""What is not bounded takes hours, or all memory; how fast it is, is no matter of a test."""


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class Sites(InFolder):
    def assert_faults(self, site: str | bytes, map_text: str | None, pattern: str) -> None:
        path = self.folder / "s.toml"
        path.write_bytes(site.encode() if isinstance(site, str) else site)
        if map_text is not None:
            (self.folder / "m.csv").write_text(map_text)
        began = time.monotonic()
        with self.assertRaisesRegex(FaultyFile, pattern):
            load_site(path)
        self.assertLess(time.monotonic() - began, SOON_S)

    def test_sites(self) -> None:
        for text, pattern in (
            ("a = " + "[" * 5000, "s.toml:1: is nested too deeply"),
            ("[site]\nname = 'S'\nx = " + "{b=" * 3000 + "1" + "}" * 3000, "s.toml:3: is nested too deeply"),
            ("[site]\nname = 'S'\nperiod_s = " + "9" * 5000, "s.toml:3: has a number of too many digits"),
            (SITE + "timeout_s = 1e308", "must be at most 86400"),
            (SITE + '[scale.x]\ncurve = "0=1e308;1=-1e308"', "s.toml:9: scale 'x': the numbers of the scale"),
            (SITE + "[scale.x]\nfactor = inf", "finite number"),
            (SITE + "[constants]\nCT = nan", "finite number"),
            (SITE + 'never_read = ["holding 0-99999999999999999999"]', "is not in 0…65535"),
            (b"[site]\nname = '\xff'", "s.toml:2: is not UTF-8"),
            (os.urandom(3000), "UTF-8|TOML"),
            ("#" + "x" * 33 * 1024 * 1024, "has more than 32 MB"),
            (SITE + f'map = "{"x" * 300}.csv"', "does not exist"),
            (SITE + 'map = "/dev/zero"', "/dev/zero: is no ordinary file"),
            (SITE + 'map = "~nouser/m.csv"', "does not exist"),
            (SITE + 'map = "."', "is a folder"),
        ):
            with self.subTest(text[-40:]):
                self.assert_faults(text, None, pattern)

    def test_maps(self) -> None:
        rows = "".join(f"P{number},holding,{number % 65536}\n" for number in range(300_000))
        for text, pattern in (
            (f"{HEAD},type,factor,offset\nA,holding,1,float32,{'9' * 400},1", "m.csv:2: A: factor"),
            (f"{HEAD},raw_low,raw_high,eng_low,eng_high\nA,holding,1,0,1e-300,0,1e308", "too large or too small"),
            (f"{HEAD},curve\nA,holding,1,0=0;1=nan", "must read like"),
            (f"{HEAD},factor\nA,holding,1,1e308*1e308*CT", "names the constant 'CT'"),
            (f"{HEAD},type\nA,holding,1,text:4:rot13", "encoding 'rot13' is not known"),
            (f"{HEAD},type\nA,holding,1,text:4:zlib", "encoding 'zlib' is not known"),
            (f"{HEAD},type\nA,holding,1,text:4:undefined", "encoding 'undefined' is not known"),
            (f"{HEAD},type\nA,holding,1,text:4:unicode_escape", "is not known"),
            (f"{HEAD}\n{'A' * 100_000},holding,1", "at most 200 are taken"),
            (f"{HEAD},period_s\nA,holding,1,1e308", "up to a month"),
            (f"{HEAD},period_s\nA,holding,1,1e-300", "up to a month"),
            (f'{HEAD},note\nA,holding,1,"{"x" * 3_000_000}"', "over 130 000 characters"),
            (f"{HEAD}\nA,holding,{'9' * 5000}", "m.csv:2: A"),
            (",".join(f"c{number}" for number in range(20_000)), "has 20000 columns"),
            (f"{HEAD}\n{rows}", "more rows than a map may"),
        ):
            with self.subTest(text[-40:]):
                self.assert_faults(SITE + 'map = "m.csv"', text, pattern)

    def test_formulas(self) -> None:
        for formula, pattern in (
            ("'a' * 999999999", "is no number"),
            ("+".join(["[D/A]"] * 900), "too long|characters"),
            ("(" * 300 + "1" + ")" * 300, "cannot be read|can be read|too deep"),
            ("-" * 500 + "1", "too long or too deep"),
            ("1 << 99999999", "no arithmetic"),
            ("__import__('os')", "calls what there is not"),
            ("[D/A].__class__", "no arithmetic"),
            ("lambda: 1", "no arithmetic"),
            ("9" * 400, "more than 64 bits"),
            ("1_000 + [D/A]", "digits 0 to 9"),
            ("3if [D/A] else 2_", "digits 0 to 9"),
        ):
            with self.subTest(formula[:40]):
                derived = f'[[derived]]\nname = "X"\nformula = {json.dumps(formula)}\n'
                self.assert_faults(f'{SITE}map = "m.csv"\n{derived}', f"{HEAD}\nA,holding,1\n", pattern)

    def test_a_pipe_and_a_name_that_cannot_be(self) -> None:
        os.mkfifo(self.folder / "f.toml")
        for name, pattern in (("f.toml", "no ordinary file"), ("x" * 300 + ".toml", "too long"), (".", "is a folder")):
            with self.assertRaisesRegex(FaultyFile, pattern):
                load_site(self.folder / name)
            with unittest.mock.patch("sys.stderr", io.StringIO()) as errors:
                self.assertEqual(main([str(self.folder / name)]), 2)
            self.assertEqual(errors.getvalue().count("\n"), 1)


class Tables(InFolder):
    def assert_refused(self, name: str, pattern: str, data: bytes | None = None) -> None:
        if data is not None:
            (self.folder / name).write_bytes(data)
        began = time.monotonic()
        with self.assertRaisesRegex(CannotImport, pattern):
            read_tables(self.folder / name)
        self.assertLess(time.monotonic() - began, SOON_S)

    def book(self, name: str = "ok.xlsx", **cells: str) -> Path:
        book = openpyxl.Workbook()
        page = book.active
        assert page is not None
        for place, value in (
            {"A1": "name", "B1": "table", "C1": "address", "A2": "P", "B2": "holding", "C2": 7} | cells
        ).items():
            page[place].value = value  # type: ignore[union-attr]
        book.save(self.folder / name)
        return self.folder / name

    def patched(self, name: str, old: bytes, new: bytes) -> Path:
        """A workbook with other bytes in its sheet."""
        with zipfile.ZipFile(self.book()) as source, zipfile.ZipFile(self.folder / name, "w", 8) as out:
            for part in source.namelist():
                data = source.read(part)
                out.writestr(part, data.replace(old, new) if part.endswith("sheet1.xml") else data)
        return self.folder / name

    def test_tables_of_text_and_json(self) -> None:
        deep = b'{"properties":' + b'{"a":' * 10_000 + b"1" + b"}" * 10_001
        digits = b'{"properties":{"a":{"forms":[{"modv:entity":"Coil","modv:address":' + b"9" * 5000 + b"}]}}}"
        infinite = b'{"properties":{"a":{"forms":[{"modv:entity":"Coil","modv:address":1e999}]}}}'
        for name, data, pattern in (
            ("deep.json", deep, "no Thing Description"),
            ("digits.json", digits, "no Thing Description"),
            ("infinite.json", infinite, "no point in it"),
            ("latin.json", b'{"properties":{"\xff":1}}', "UTF-8"),
            ("rows.csv", b"name,table,address\n" + b"P,holding,1\n" * 30_000, "more than 20000 rows"),
            ("columns.csv", b",".join(b"c%d" % number for number in range(20_000)), "columns"),
            ("cell.csv", b'name,address\n"' + b"x" * 200_000, "130 000 characters"),
            ("empty.csv", b"\n\n", "is empty"),
        ):
            with self.subTest(name):
                self.assert_refused(name, pattern, data)

    def test_workbooks(self) -> None:
        end, rows = b"</sheetData>", b'<row r="%d"><c r="A%d" t="inlineStr"><is><t>x</t></is></c></row>'
        self.patched("bomb.xlsx", end, b'<row r="3">' + b" " * 210_000_000 + b"</row>" + end)
        self.patched("long.xlsx", end, b"".join(rows % (at, at) for at in range(3, 30_000)) + end)
        laughs = b"".join(b'<!ENTITY %c "%s">' % (at, b"&%c;" % (at - 1) * 10) for at in range(98, 110))
        head = b'<!DOCTYPE l [<!ENTITY a "aaaaaaaaaa">' + laughs + b"]><worksheet"
        self.patched("laughs.xlsx", b"<worksheet", head)
        with zipfile.ZipFile(self.folder / "other.xlsx", "w") as other:
            other.writestr("letter.txt", "dear friend")
        for name, data, pattern in (
            ("bomb.xlsx", None, "unpacks to over 200 MB"),
            ("long.xlsx", None, "20000 rows or more"),
            ("other.xlsx", None, "another kind of archive"),
            ("broken.xlsx", b"PK\x03\x04nonsense", "no workbook"),
            ("locked.xlsx", bytes.fromhex("d0cf11e0a1b11ae1") + os.urandom(3000), "encrypted"),
        ):
            with self.subTest(name):
                self.assert_refused(name, pattern, data)

    def test_far_cells_and_merged_ones_cost_little(self) -> None:
        merged = b'</sheetData><mergeCells><mergeCell ref="A2:XFD1048576"/><mergeCell ref="A2:A1048576"/></mergeCells>'
        for path in (self.book("far.xlsx", XFD1048576="far"), self.patched("merged.xlsx", b"</sheetData>", merged)):
            began = time.monotonic()
            (sheet,), _ = read_tables(path)
            self.assertLess(time.monotonic() - began, SOON_S)
            self.assertEqual(sheet.rows[1][1][:3], ("P", "holding", "7"))

    def test_reading_can_be_stopped(self) -> None:
        stop = threading.Event()
        stop.set()
        began = time.monotonic()
        with self.assertRaisesRegex(CannotImport, "stopped"):
            read_tables(self.book(), stop)
        self.assertLess(time.monotonic() - began, SOON_S)

    def test_one_doubt_for_one_cause(self) -> None:
        text = f"{HEAD},type\n" + "".join(f"P,holding,{number},strange\n" for number in range(19_000))
        began = time.monotonic()
        matched = match_columns(read_text_table(text))
        imported = import_rows(matched, guess_numbering(matched))
        self.assertLess(time.monotonic() - began, SOON_S)
        self.assertEqual(len(imported.rows), 19_000)
        self.assertEqual(len({row["name"] for row in imported.rows}), 19_000)
        lines = [text for text, _ in grouped(imported.doubts)]
        self.assertEqual(len(lines), 2, lines)
        self.assertIn("rows 2, 3, 4, 5 and 18996 more: type 'strange' is not understood", lines[0])

    def test_rows_of_names_that_are_there(self) -> None:
        matched = match_columns(read_text_table(f"{HEAD}\nA,holding,1\nB,holding,2\n"))
        numbering = guess_numbering(matched)
        names = {known: [row["name"] for row in import_rows(matched, numbering, ["A"], known).rows] for known in Known}
        self.assertEqual(names, {Known.LEFT: ["B"], Known.REPLACED: ["A", "B"], Known.ADDED: ["A (2)", "B"]})
        self.assertEqual(import_rows(matched, numbering, ["A"], Known.REPLACED).replaced, {"A"})

    def test_headings_and_words_of_the_trade_in_four_languages(self) -> None:
        for headings, table in (
            (("Bezeichnung", "Registeradresse", "Registerart", "Datentyp", "Einheit"), ("Halteregister", "Spule")),
            (("Libellé", "Adresse registre", "Type de registre", "Type de données", "Unité"),
             ("Registre de maintien", "Bobine")),
            (("Descrizione", "Indirizzo registro", "Area di memoria", "Tipo di dato", "Unità"),
             ("Registro di mantenimento", "Bobina")),
            (("Descripción", "Dirección", "Zona de memoria", "Tipo de dato", "Unidad"),
             ("Registro de retención", "Bobina")),
        ):  # fmt: skip
            out = io.StringIO()
            rows = [headings, ("Druck", "10", table[0], "int16", "bar"), ("Pumpe", "11", table[1], "", "")]
            csv.writer(out).writerows(rows)
            matched = match_columns(read_text_table(out.getvalue()))
            imported = import_rows(matched, guess_numbering(matched))
            self.assertEqual([row["table"] for row in imported.rows], ["holding", "coil"], headings)
            self.assertEqual(imported.rows[0]["type"], "int16")
            self.assertEqual(imported.rows[0]["unit"], "bar")


class Mutants(unittest.TestCase):
    def test_some_of_each_kind(self) -> None:
        self.assertEqual(fuzz_files(120, 7), 720)
