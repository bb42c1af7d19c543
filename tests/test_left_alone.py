"""Nothing of ours follows a symbolic link beside a site, changes what is damaged, or writes a formula into a table."""

import csv
import hashlib
import io
import random
import sqlite3
import tempfile
import unittest
from pathlib import Path

import openpyxl
from hypothesis import given
from hypothesis import strategies as st

from kanaleto.capture.tape import Tape, note_looked_at
from kanaleto.control.snapshots import Held, as_text, load
from kanaleto.editing.presence import Presence, others_at
from kanaleto.files.beside import require_own
from kanaleto.files.harmless import guarded, unguarded
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.files.whole import complete, locked, write_together
from kanaleto.history.journalfile import JournalFile
from kanaleto.history.store import CannotRecord, Store, url_of
from kanaleto.site.model import Device
from kanaleto.tables.anyfile import read_tables
from kanaleto.tables.maps import as_csv, as_workbook
from kanaleto.wire.codes import Table

_FORMULAS = (
    "=1+1",
    "+cmd|' /C calc'!A0",
    "-2+3",
    "@SUM(1)",
    "\t=1",
    "'=1",
    "''@a",
    "'plain",
    "-5",
    "+12.5",
    "-1 200,5",
    "=",
)


class Links(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name)
        self.site = self.root / "s.toml"
        self.site.write_text('[site]\nname = "S"\n')
        self.beside = self.root / "s.kanaleto"
        self.beside.mkdir()
        self.elsewhere = self.root / "elsewhere"
        self.elsewhere.mkdir()
        self.victim = self.elsewhere / "victim"
        self.victim.write_text("mine\n")

    def _unchanged(self) -> None:
        self.assertEqual([path.name for path in self.elsewhere.iterdir()], ["victim"])
        self.assertEqual(self.victim.read_text(), "mine\n")

    def test_a_tape_that_leads_elsewhere(self) -> None:
        (self.beside / "tape").symlink_to(self.elsewhere)
        tape: Tape[int] = Tape(self.beside / "tape", {}, lambda rows: b"x")
        with self.assertRaisesRegex(OSError, "symbolic link"):
            tape.put([1] * 100_000, 10**15)
        with self.assertRaisesRegex(OSError, "symbolic link"):
            tape.lay_aside(10**15, "why")
        self._unchanged()
        (self.beside / "tape").unlink()
        (self.beside / "tape").mkdir()
        (self.beside / "tape" / "aside").symlink_to(self.elsewhere)
        with self.assertRaisesRegex(OSError, "symbolic link"):
            tape.lay_aside(10**15, "why")
        note_looked_at(self.beside / "tape" / "aside" / "a.tape")
        self._unchanged()

    def test_databases_locks_notes_and_who_is_there(self) -> None:
        for ending in ("", "-wal", "-shm", ".lock"):
            for name in ("journal.db", "record.db"):
                link = self.beside / f"{name}{ending}"
                link.symlink_to(self.victim)
                with self.assertRaises((OSError, CannotRecord)) as raised:
                    if name == "journal.db":
                        JournalFile(self.beside / name, "test", "me", 1)
                    else:
                        Store(url_of(str(self.beside / name)))
                self.assertIn("symbolic link", str(raised.exception))
                link.unlink()
                self._unchanged()
        (self.beside / "open").symlink_to(self.elsewhere)
        with self.assertRaisesRegex(OSError, "symbolic link"):
            Presence(self.site)
        self.assertEqual(others_at(self.site), [])
        (self.beside / "edit.lock").symlink_to(self.victim)
        with self.assertRaisesRegex(OSError, "symbolic link"), locked(self.site):
            pass
        (self.beside / "renames.json").symlink_to(self.victim)
        complete(self.site)
        with self.assertRaisesRegex(OSError, "symbolic link"):
            write_together(self.site, {self.site: "a", self.root / "m.csv": "b"})
        self._unchanged()

    def test_the_folder_itself_may_be_elsewhere_and_so_may_what_a_user_names(self) -> None:
        self.beside.rmdir()
        self.beside.symlink_to(self.elsewhere)
        require_own(self.beside / "tape")
        linked = self.root / "record.db"
        linked.symlink_to(self.elsewhere / "big.db")
        store = Store(url_of(str(linked)))
        store.close()
        self.assertTrue((self.elsewhere / "big.db").exists())


class Damaged(unittest.TestCase):
    def test_it_stays_as_it_was_found(self) -> None:
        source = random.Random(3)
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            sound = folder / "sound.db"
            JournalFile(sound, "test", "me", 1).end(2)
            store = Store(url_of(str(folder / "record.db")))
            store.series("S", "D", "P")
            store.connection.commit()
            store.close()
            for original, opens in (
                (sound, lambda path: JournalFile(path, "test", "me", 3).end(4)),
                (folder / "record.db", lambda path: Store(url_of(str(path))).close()),
            ):
                data = original.read_bytes()
                refused = 0
                for number in range(40):
                    spoilt = bytearray(data)
                    if number == 0:
                        spoilt = bytearray(b"no database at all\n" * 50)
                    else:
                        at = max(source.randrange(len(data) // 4096) * 4096, 100)  # the head of a page
                        spoilt[at : at + 300] = source.randbytes(300)
                    path = folder / f"spoilt{original.stem}{number}.db"
                    path.write_bytes(spoilt)
                    before = hashlib.sha256(path.read_bytes()).hexdigest()
                    try:
                        opens(path)
                    except (sqlite3.DatabaseError, CannotRecord):
                        refused += 1
                        self.assertEqual(hashlib.sha256(path.read_bytes()).hexdigest(), before, number)
                        self.assertEqual([file.name for file in folder.glob(f"{path.name}*")], [path.name])
                self.assertGreater(refused, 3)


class Formulas(unittest.TestCase):
    def _device(self) -> Device:
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(("name", "table", "address", "unit", "labels", "note", "offset"))
        for number, text in enumerate(_FORMULAS):
            label = text.replace("=", "x").replace(";", " ").strip()
            writer.writerow(
                (guarded(text.strip()), "holding", number, "%", f"1={label or 'a'}", guarded(text.strip()), "-5")
            )
        points, faults = read_map(Path("m.csv"), out.getvalue(), MapDefaults(period_s=1))
        self.assertEqual([fault for fault in faults if not fault.is_warning], [])
        return Device("=D", 1, points, 0.5, 1)

    def test_a_workbook_has_text_as_text(self) -> None:
        device = self._device()
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "m.xlsx"
            path.write_bytes(as_workbook(device))
            (page,) = openpyxl.load_workbook(path).worksheets
            rows = list(page.iter_rows(min_row=2))
            self.assertEqual({cell.data_type for row in rows for cell in row} - {"s", "n"}, set())
            self.assertEqual([row[0].value for row in rows], [text.strip() for text in _FORMULAS])
            offsets = next(cell for cell in page[1] if cell.value == "offset").column
            self.assertEqual({row[offsets - 1].value for row in rows}, {-5})
            (sheet,), _ = read_tables(path)
            self.assertEqual([cells[0] for _, cells in sheet.rows[1:]], [text.strip() for text in _FORMULAS])

    def test_csv_has_none_and_reads_back_as_it_was(self) -> None:
        device = self._device()
        text = as_csv(device)
        for row in csv.reader(io.StringIO(text)):
            for cell in row:
                self.assertTrue(cell[:1] not in "=+-@\t" or not cell or cell.replace(" ", "").replace(",", ".")
                                .lstrip("+-").replace(".", "").isdigit(), cell)  # fmt: skip
        points, _ = read_map(Path("m.csv"), text, MapDefaults(period_s=1))
        self.assertEqual([point.name for point in points], [text.strip() for text in _FORMULAS])
        self.assertEqual([point.note for point in points], [text.strip() for text in _FORMULAS])
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "m.csv"
            path.write_text(text)
            (sheet,), _ = read_tables(path)
            self.assertEqual([cells[0] for _, cells in sheet.rows[1:]], [text.strip() for text in _FORMULAS])
            held = [Held(name.strip(), name.strip(), Table.HOLDING, 1, b"\0\1", name, "%") for name in _FORMULAS]
            snapshot = Path(folder) / "s.csv"
            snapshot.write_text(as_text("S", "2026-05-17T03:00", held))
            self.assertEqual([row.device for row in load(snapshot)], [name.strip() for name in _FORMULAS])
            for row in csv.reader(snapshot.read_text().splitlines()[2:]):
                self.assertNotIn(row[0][:1], ("=", "@", "\t"))

    @given(st.text(alphabet="=+-@'\ta5. ,e", max_size=8) | st.text(max_size=8))
    def test_what_is_guarded_is_read_back(self, text: str) -> None:
        made = guarded(text)
        assert isinstance(made, str)
        self.assertEqual(unguarded(made), text)
        if made[:1] in ("=", "@"):
            self.fail(made)
        self.assertEqual(guarded(-5.5), -5.5)


if __name__ == "__main__":
    unittest.main()
