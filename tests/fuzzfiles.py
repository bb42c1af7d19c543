"""`make fuzz`, its second half: mutated files into everything that reads one, by default 100 000 of each kind. A
failure prints the line that replays it.

Each mutant ends in what is declared: a model, or faults in words. None takes long, and what is called sound can be
planned, simulated, decoded from any words, and shown.
"""

import argparse
import itertools
import random
import sys
import tempfile
import time
from collections.abc import Callable
from importlib import resources
from pathlib import Path

from kanaleto.bench.device import SimulatedDevice
from kanaleto.board.board import Board, Record
from kanaleto.board.derived import Formulas
from kanaleto.files.maprows import NEW_MAP, with_rows
from kanaleto.files.sitefile import read_site
from kanaleto.files.texts import SiteTexts
from kanaleto.planning.plan import plan_site
from kanaleto.site.expression import BadExpression, FormulaMemory, compile_expression
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.model import Site
from kanaleto.tables.csvtext import CannotImport, Sheet, decode, read_text_table, sheet_of_rows
from kanaleto.tables.importing import Known, grouped, import_rows
from kanaleto.tables.maps import as_workbook, rows_of_json
from kanaleto.tables.matching import guess_numbering, match_columns
from kanaleto.tables.things import as_thing, rows_of_thing
from kanaleto.tables.workbook import look_at_archive, sheets_in
from kanaleto.values.text import shown

LONGEST_S = 30.0
_EVIL = [
    "1e308", "-1e308", "1e-320", "nan", "inf", "9" * 30, "9" * 400, "0x", "0xFFFFFFFFFF", "\0", "\x1b[2J", "\u202e",
    "'", '"', "[", "]", "[[", "{", "}", "=", ";", ",", "\t", "\n", "\r", "#", "**", "9**9**9", "%", "//", "(",
    ")" * 40, "-",
    "text:4:rot13", "text:250", "uint64", "float64[30]", "0-15", "-5", "65535", "65536", "1_0", "٣", "é", "😀", "..",
    "/",
    "~nouser", "/dev/zero", "true", "[1", "e", "=0", "0=0;1=1e308", "0=0;0=1", "demand", "rw", "w", "coil", "input",
    " ",
    "clamp", "yes", "4-20mA", "bit([", "rises(", "time_in(", " if ", " else ", "not ", "min(", "\\", "\ufeff",
    "]" * 200,
]  # fmt: skip
_FORMULAS = [
    "[Upper pool level/Pool level] - [Lower pool level/Pool level]", "max([A], 2, 3 ** 2) / min(1, [B])",
    "1 if rises([A] > 3) and not falls([B]) else time_in([A] == 1)", "bit([A], 'Label') + bit([B], 3) * round([A], 2)",
    "mean([A], [B], 4) % 7 - sqrt(abs([A])) ** 0.5", "((([A] + 1) * 2) - 3) / 4 < 5 <= [B] != 2 or [A]",
]  # fmt: skip


def _demo() -> tuple[str, dict[str, str]]:
    folder = resources.files("kanaleto.demo") / "site"
    maps = {one.name: one.read_text(encoding="utf-8") for one in (folder / "maps").iterdir() if one.name[-4:] == ".csv"}
    return (folder / "alder-lock.toml").read_text(encoding="utf-8"), maps


def mutated(source: random.Random, text: str) -> str:
    """A few evil pieces put in, others taken out, doubled or moved."""
    for _ in range(source.choice((1, 1, 2, 3, 8, 30))):
        at = source.randrange(len(text) + 1)
        end = min(at + source.choice((1, 1, 3, 20, 200)), len(text))
        match source.randrange(5):
            case 0:
                text = text[:at] + source.choice(_EVIL) + text[at:]
            case 1:
                text = text[:at] + text[end:]
            case 2:
                text = text[:end] + text[at:end] * source.choice((1, 2, 30)) + text[end:]
            case 3:
                other = source.randrange(len(text) + 1)
                text = text[:other] + text[at:end] + text[other:]
            case _:
                text = text[:at] + source.choice(_EVIL) + text[end:]
    return text[:200_000]


class Corpora:
    """What the mutants are made of, and what is done with them."""

    def __init__(self) -> None:
        self.site_text, self.maps = _demo()
        self.folder = Path("/nowhere")
        self.site = self._read(self.site_text, self.maps)
        devices = list(self.site.devices())
        self.things = [as_thing(device, line.link) for line, device in devices]
        self.books = [as_workbook(device) for _, device in devices[:3]]
        self.kinds: dict[str, Callable[[random.Random], None]] = {
            "site": self._site, "map": self._map, "formula": self._formula, "csv": self._csv, "xlsx": self._xlsx,
            "thing": self._thing,
        }  # fmt: skip

    def _read(self, site_text: str, maps: dict[str, str]) -> Site:
        path = self.folder / "site.toml"
        overlay = {path: site_text} | {self.folder / "maps" / name: text for name, text in maps.items()}
        return read_site(path, SiteTexts(overlay))[0]

    def _site(self, source: random.Random) -> None:
        try:
            site = self._read(mutated(source, self.site_text), self.maps)
        except FaultyFile as faulty:
            assert faulty.faults and all(fault.text and "\n" not in str(fault) for fault in faulty.faults)
            return
        use(site, source, few=True)

    def _map(self, source: random.Random) -> None:
        name = source.choice(list(self.maps))
        devices = f'[[line.device]]\nname = "D"\nunit_id = 1\nnumbering = "reference"\nmap = "maps/{name}"\n'
        head = '[site]\nname = "S"\n[constants]\nCT = 40\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1"\n'
        try:
            site = self._read(head + devices, {name: mutated(source, self.maps[name])})
        except FaultyFile as faulty:
            assert faulty.faults
            return
        use(site, source, few=False)

    def _formula(self, source: random.Random) -> None:
        text = mutated(source, source.choice(_FORMULAS))
        try:
            expression = compile_expression(text, lambda name: {0: "Label"})
        except BadExpression as error:
            assert len(str(error)) < 6000
            return
        memory = FormulaMemory()
        for values in ((0, 0.0), (1e308, -1e308), (2**64 - 1, -1), (0.5, 3)):
            try:
                expression.evaluate([values[at % 2] for at in range(len(expression.names))], memory)
            except (ArithmeticError, ValueError):
                continue

    def _csv(self, source: random.Random) -> None:
        text = mutated(source, self.maps[source.choice(list(self.maps))])
        rare = source.random() < 0.02  # whose encoding is guessed, which takes its time
        data = text.encode("cp1252" if rare else source.choice(("utf-8", "utf-16")), "replace")
        if rare:
            data = bytes(source.choices(data, k=min(len(data), 500))) if data else data
        try:
            take(read_text_table(decode(data)), source)
        except CannotImport as error:
            assert str(error)

    def _thing(self, source: random.Random) -> None:
        text = mutated(source, source.choice(self.things))
        rows = rows_of_json(text)
        if rows is None:
            try:
                rows, _ = rows_of_thing(text)
            except ValueError as error:
                assert str(error)
                return
        if rows:
            take(sheet_of_rows("thing", rows), source)

    def _xlsx(self, source: random.Random) -> None:
        data = bytearray(source.choice(self.books))
        for _ in range(source.choice((1, 2, 5, 40))):
            at = source.randrange(len(data))
            if source.random() < 0.5:
                data[at] ^= 1 << source.randrange(8)
            elif source.random() < 0.5:
                del data[at : at + source.randint(1, 60)]
            else:
                data[at:at] = data[at : at + source.randint(1, 60)]
        with tempfile.NamedTemporaryFile(suffix=".xlsx", dir="/dev/shm" if Path("/dev/shm").is_dir() else None) as file:
            file.write(data)
            file.flush()
            path = Path(file.name)
            try:
                look_at_archive(path)
                sheets = sheets_in(path)
            except CannotImport as error:
                assert str(error)
                return
            except MemoryError:
                raise
            except Exception as error:  # of the package; the process that reads one tells it in words
                assert not isinstance(error, AssertionError)
                return
        for sheet in sheets:
            take(Sheet(sheet["title"], tuple((number, tuple(cells)) for number, cells in sheet["rows"])), source)


def take(sheet: Sheet, source: random.Random) -> None:
    """Import it; what comes of it is a map that can be read."""
    matched = match_columns(sheet)
    imported = import_rows(matched, guess_numbering(matched), ["Flow", "Total"], source.choice(list(Known)))
    grouped(imported.doubts)
    text = with_rows(NEW_MAP, [dict(row) for row in imported.rows])
    path = Path("/nowhere/site.toml")
    head = (
        '[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1"\n[[line.device]]\nname = "D"\nunit_id = 1\n'
    )
    try:
        read_site(path, SiteTexts({path: head + 'map = "m.csv"\n', path.parent / "m.csv": text}))
    except FaultyFile as faulty:
        assert faulty.faults


def use(site: Site, source: random.Random, few: bool) -> None:
    """What is called sound can be polled, simulated and shown, whatever the registers hold."""
    plan = plan_site(site)
    board = Board(plan)
    formulas = Formulas(site, plan, FormulaMemory())
    patterns = [b"\xff", b"\x80\0", b"\x7f\xf0\0\0", b"\0"]
    for pattern in patterns[: 1 if few else 4]:
        for block in plan.blocks:
            board.begin(block)
            size = block.request.answer_bytes
            data = bytes(itertools.islice(itertools.cycle(pattern), size))
            board.put(block.index, Record(data, block.decoder.decode(data), 1.0, 1.0))
        readings = board.frozen()
        readings.derived = formulas.evaluate(readings, 1.0)
        for place in plan.places:
            reading = readings.reading(place, 1.5)
            if reading.value is not None:
                shown(reading.value, place.point.codec, place.point.decimals, place.point.labels)
    for line, device in site.devices():
        if not few or source.random() < 0.2:
            SimulatedDevice(device, line.link.framing.value != "tcp").answer(bytes((3, 0, 0, 0, 1)))


def fuzz_files(count: int, first_seed: int, only: str = "") -> int:
    """`count` mutants of each kind; gives how many there were."""
    corpora, total = Corpora(), 0
    for kind, one in corpora.kinds.items():
        if only and kind != only:
            continue
        began, slowest = time.perf_counter(), 0.0
        for seed in range(first_seed, first_seed + count):
            start = time.perf_counter()
            try:
                one(random.Random(f"{kind} {seed}"))
                took = time.perf_counter() - start
                assert took < LONGEST_S, f"it took {took:.1f} s"
            except BaseException:
                print(f"fails: python -m tests.fuzzfiles --kind {kind} --seed {seed} --count 1", file=sys.stderr)
                raise
            slowest = max(slowest, took)
        total += count
        print(f"{kind}: {count} mutants, {time.perf_counter() - began:.0f} s, the slowest {1000 * slowest:.0f} ms")
    return total


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=100_000, help="mutants of each kind")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kind", default="")
    chosen = parser.parse_args()
    try:
        import resource

        resource.setrlimit(resource.RLIMIT_AS, (2 * 1024**3, 2 * 1024**3))
    except ImportError:
        pass
    fuzz_files(chosen.count, chosen.seed, chosen.kind)


if __name__ == "__main__":
    main()
