"""The keys of a device that only matter when it is simulated: identity, server_id, files, fifos, what moves its
registers, how it behaves."""

import csv
import math
import re
from collections.abc import Callable
from datetime import datetime
from io import StringIO
from itertools import pairwise
from pathlib import Path

from kanaleto.files.siteschema import DeviceTable, MoveTable
from kanaleto.files.texts import read_text
from kanaleto.site.counting import Numbering, parse_number, to_wire
from kanaleto.site.filefaults import FaultyFile, suggestion
from kanaleto.site.model import Behaviour, Machine, MachineState, Move, Quantity, Simulated
from kanaleto.wire.codes import Table
from kanaleto.wire.identity import MOST_OBJECT_BYTES, OBJECT_NAMES
from kanaleto.wire.records import LAST_RECORD, MOST_FIFO

TellFault = Callable[[tuple[str, ...], str], None]
"""Keys below the device, and what is wrong there."""

_OBJECT_IDS = {name: number for number, name in OBJECT_NAMES.items()}


def read_simulated(table: DeviceTable, folder: Path, tell: TellFault) -> Simulated:
    """What the table says; each fault is reported and left out. Lists lie beside the site file, in `folder`."""
    return Simulated(
        table.gaps == "zero",
        tuple(read_object for name, text in table.identity.items() if (read_object := _object(name, text, tell))),
        table.server_id,
        tuple(file for text in table.files if (file := _file(text, tell))),
        tuple(
            fifo for key, words in table.fifos.items() if (fifo := _fifo(key, words, Numbering(table.numbering), tell))
        ),
        table.behaves.strict,
        tuple(move for point, move_table in table.moves.items() if (move := _move(point, move_table, folder, tell))),
        tuple(
            Quantity(name, one.start, one.next, one.low, one.high)
            for name, one in table.quantity.items()
        ),
        tuple(
            Machine(
                point,
                tuple(
                    MachineState(
                        name, tuple(state.bits) if state.bits is not None else None, state.value,
                        tuple(state.to.items()), state.after_s,
                    )
                    for name, state in states.items()
                ),
            )
            for point, states in table.machine.items() if states
        ),
        _behaviour(table, tell),
    )  # fmt: skip


_KINDS: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "wave": (("low", "high", "period_s"), ("phase_s",)),
    "follow": ((), ("rate", "lag_s")),
    "formula": ((), ()),
    "counts_s": ((), ("by",)),
    "list_file": (("column", "every_s"), ("then",)),
    "clock": ((), ()),
    "walk": ((), ("low", "high")),
}
"""What moves a point: keys that its kind needs, and that it may have."""
_IN_FILE = {"list_file": "list"}


def _move(point: str, table: MoveTable, folder: Path, tell: TellFault) -> Move | None:
    where = ("moves", point)
    kinds = [kind for kind in _KINDS if getattr(table, kind) is not None]
    if len(kinds) != 1:
        message = " and ".join(_IN_FILE.get(kind, kind) for kind in kinds)
        known = ", ".join(_IN_FILE.get(kind, kind) for kind in _KINDS)
        tell(where, f"{point}: {f'{message} are several' if kinds else 'nothing moves it'}; write one of {known}")
        return None
    (kind,) = kinds
    needs, may = _KINDS[kind]
    others = {key for kind in _KINDS.values() for keys in kind for key in keys} - {*needs, *may}
    said = _IN_FILE.get(kind, kind)
    for key in needs:
        if getattr(table, key) is None:
            tell(where, f"{point}: {said} needs {key}")
            return None
    for key in sorted(others):
        if getattr(table, key) is not None:
            tell((*where, key), f"{point}: {key} does not go with {said}")
            return None
    if table.low is not None and table.high is not None and table.low > table.high:
        tell(where, f"{point}: low {table.low:g} is above high {table.high:g}")
        return None
    numbers = [
        (key, float(setting)) for key in (*needs, *may) if isinstance(setting := getattr(table, key), int | float)
    ]
    main = getattr(table, kind)
    text = main if isinstance(main, str) else ""
    if isinstance(main, int | float):
        numbers.append((kind, float(main)))
    rows: tuple[tuple[float, float], ...] = ()
    if kind == "list_file":
        try:
            rows = read_list(folder / text, table.column or "", table.every_s)
        except ValueError as error:
            tell(where, f"{point}: {error}")
            return None
    return Move(
        point, said, tuple(numbers), text, table.column or "", table.then or "again", table.condition, table.noise, rows
    )


def read_list(path: Path, column: str, every_s: float | str | None) -> tuple[tuple[float, float], ...]:
    """When each value of a column begins to hold, and the value; a last row without one says when the list ends. Raises
    ValueError with one sentence."""
    try:
        text = read_text(path)
    except FaultyFile as error:
        raise ValueError(str(error.faults[0])) from None
    lines = list(csv.reader(StringIO(text)))
    heads = [head.strip() for head in lines[0]] if lines else []
    for wanted in (column, *(("at",) if every_s == "at" else ())):
        if wanted not in heads:
            raise ValueError(f"{path.name} has no column {wanted!r}; it has {', '.join(heads) or 'none'}")
    at, when = heads.index(column), heads.index("at") if every_s == "at" else -1
    rows: list[tuple[float, float]] = []
    for number, cells in enumerate(lines[1:], 2):
        if not any(cell.strip() for cell in cells):
            continue
        try:
            value = float(cells[at])
            moment = _moment(cells[when]) if when >= 0 else 0.0
        except (IndexError, ValueError):
            raise ValueError(f"{path.name}:{number} has no number there: a list may have no holes") from None
        rows.append((moment, value))
    if not rows:
        raise ValueError(f"{path.name} has no rows")
    if when < 0:
        step = float(every_s) if isinstance(every_s, int | float) else 1.0
        return (*((number * step, value) for number, (_, value) in enumerate(rows)), (len(rows) * step, math.nan))
    first = rows[0][0]
    if any(later < earlier for (earlier, _), (later, _) in pairwise(rows)):
        raise ValueError(f"{path.name}: its times do not rise")
    last = rows[-1][0] - first
    step = last / (len(rows) - 1) if len(rows) > 1 else 1.0
    return (*((moment - first, value) for moment, value in rows), (last + max(step, 0.001), math.nan))


def _moment(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return datetime.fromisoformat(text.strip().replace("Z", "+00:00")).timestamp()


def _behaviour(table: DeviceTable, tell: TellFault) -> Behaviour:
    behaves = table.behaves
    delays = behaves.delay_ms if isinstance(behaves.delay_ms, list) else [behaves.delay_ms, behaves.delay_ms]
    if len(delays) != 2 or not 0 <= delays[0] <= delays[1] <= 60_000:
        tell(("behaves", "delay_ms"), "delay_ms is one number of milliseconds, or two, the shorter first")
        delays = [0.0, 0.0]
    return Behaviour(
        (delays[0] / 1000, delays[1] / 1000), behaves.receive_bytes, behaves.too_long, behaves.connections,
        behaves.with_more, behaves.idle_s, behaves.settings_after, behaves.errors_in,
    )  # fmt: skip


def _object(name: str, text: str, tell: TellFault) -> tuple[int, str] | None:
    number = _OBJECT_IDS.get(name)
    if number is None:
        try:
            number = parse_number(name)
        except ValueError:
            tell(
                ("identity",),
                f"identity: {name!r} is no object{suggestion(name, list(_OBJECT_IDS))}; "
                f"there are {', '.join(_OBJECT_IDS)}, 0x80…0xFF",
            )
            return None
    if not 0 <= number <= 0xFF or len(text.encode("utf-8")) > MOST_OBJECT_BYTES:
        tell(("identity",), f"identity: object {name} must be 0…0xFF and its text at most {MOST_OBJECT_BYTES} bytes")
        return None
    return number, text


def _file(text: str, tell: TellFault) -> tuple[int, int, int] | None:
    match = re.fullmatch(r"\s*(\d+)\s+(\d+)\s*[-–]\s*(\d+)\s*", text)
    if match is None:
        tell(("files",), f"files: {text!r} must read like '4 0-99', a file number and its records")
        return None
    file, first, last = (int(part) for part in match.groups())
    if not 1 <= file <= 0xFFFF or not first <= last <= LAST_RECORD:
        tell(("files",), f"files: {text!r}: files are 1…65535, records 0…{LAST_RECORD}")
        return None
    return file, first, last


def _fifo(key: str, words: list[int], numbering: Numbering, tell: TellFault) -> tuple[int, tuple[int, ...]] | None:
    try:
        address = to_wire(key, Table.HOLDING, numbering)
    except ValueError as error:
        tell(("fifos",), f"fifos: {error}")
        return None
    if len(words) > MOST_FIFO:
        tell(("fifos",), f"fifos: {len(words)} words at {key}, {MOST_FIFO} are possible")
        return None
    return address, tuple(words)
