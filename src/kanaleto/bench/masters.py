"""What masters did on a bench, each apart: what they wrote with the old and the new values, what they read and how
often, what was refused. Reads of one master, function, address and count are folded."""

import csv
import io
import time
from collections import deque
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from datetime import datetime
from threading import RLock
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.site.model import Device, Point
from kanaleto.wire.codes import WRITING, Table

_FOLD_S = 60.0
_MOST_FOLDED = 5000
_MOST_KEPT = 2000
_MOST_SEEN = 200
_OF_LATE = 0.2  # what the newest of all times between two counts
_TABLES = {1: Table.COIL, 2: Table.DISCRETE, 3: Table.HOLDING, 4: Table.INPUT, 5: Table.COIL, 15: Table.COIL,
           6: Table.HOLDING, 16: Table.HOLDING, 22: Table.HOLDING, 23: Table.HOLDING}  # fmt: skip

ReadWords = Callable[[Table, int, int], list[int] | None]
"""Table, first address and count; what stands there, or None where it is not all there."""


class MasterRow(Struct):
    """One row: a write or a refusal, or reads that are folded. Times are wall times."""

    at_s: float
    master: str
    line: str
    device: str
    unit_id: int
    function: int
    address: int | None
    count: int | None
    outcome: str
    code: int | None = None
    written: list[int] | None = None
    old: list[int] | None = None
    points: tuple[str, ...] = ()
    times: int = 1
    until_s: float = 0.0
    more: dict[str, Any] = {}
    """What else is to be said of it, by whoever passes requests on; of what is folded the largest numbers."""

    @property
    def period_s(self) -> float | None:
        return (self.until_s - self.at_s) / (self.times - 1) if self.times > 1 else None


class SpanAsked(Struct):
    """How one span is asked for by one master: times, when first and last (wall), and the time between two, of late."""

    master: str
    line: str
    device: str
    function: int
    address: int
    count: int
    first_s: float
    last_s: float
    times: int = 1
    period_s: float | None = None


class Seen(Struct):
    """What was seen of one master: since when, how often it asked, how often it was refused, and how last."""

    name: str
    line: str
    first_s: float
    last_s: float
    times: int = 0
    refused: int = 0
    code: int | None = None
    device: str = ""
    """Whose answer refused it last."""


class Masters:
    """Of one bench. `note` may be called on any thread that answers; `rows` are the last that ended; `on_row` receives
    each."""

    def __init__(self, on_row: Callable[[MasterRow], None] | None = None, folds: bool = True,
                 now: Callable[[], float] = time.time) -> None:  # fmt: skip
        self.rows: deque[MasterRow] = deque(maxlen=_MOST_KEPT)
        self.reading: dict[tuple[object, ...], MasterRow] = {}
        self.asked: dict[tuple[str, str, int, int, int], SpanAsked] = {}
        self.seen: dict[str, Seen] = {}
        self.written: dict[tuple[str, str], MasterRow] = {}
        """The last write, or refused one, of a point: by device and point."""
        self._on_row, self._folds, self._now = on_row, folds, now
        self._lock = RLock()  # each line answers on a thread of its own

    def note(
        self, master: str, line: str, device: Device | None, unit_id: int, pdu: bytes, answer: bytes | None,
        old: list[int] | None = None, more: dict[str, Any] | None = None,
    ) -> None:  # fmt: skip
        """A request and what was answered: `old` is what stood where it wrote."""
        function, now = pdu[0], self._now()
        code = answer[1] if answer is not None and len(answer) > 1 and answer[0] & 0x80 else None
        outcome = "silent" if answer is None else "refused" if code is not None else "done"
        address, count, written = _of(pdu)
        with self._lock:
            self._count(now, master, line, device, pdu, address, count, code)
            if self._folds and function not in WRITING and code is None:
                key = (master, line, unit_id, function, address, count, outcome)
                row = self.reading.get(key)
                if row is not None and now - row.at_s < _FOLD_S:
                    row.times += 1
                    row.until_s = now
                    for name, value in (more or {}).items():
                        if isinstance(value, float):
                            row.more[name] = max(value, row.more.get(name, value))
                    return
                if row is not None:
                    self._end(row)
                if len(self.reading) >= _MOST_FOLDED:
                    self.flush()
                row = self._row(now, master, line, device, unit_id, pdu, address, count, outcome)
                row.more = dict(more or {})
                self.reading[key] = row
                return
            row = self._row(now, master, line, device, unit_id, pdu, address, count, outcome)
            row.code, row.written, row.old = code, written, old if code is None else None
            row.more = dict(more or {})
            for name in row.points if function in WRITING else ():
                if (row.device, name) not in self.written and len(self.written) >= _MOST_FOLDED:
                    self.written.clear()
                self.written[row.device, name] = row
            self._end(row)

    def _count(
        self, now: float, master: str, line: str, device: Device | None, pdu: bytes, address: int | None,
        count: int | None, code: int | None,
    ) -> None:  # fmt: skip
        seen = self.seen.get(master)
        if seen is None:
            if len(self.seen) >= _MOST_SEEN:
                del self.seen[min(self.seen, key=lambda name: self.seen[name].last_s)]
            seen = self.seen[master] = Seen(master, line, now, now)
        seen.times += 1
        seen.last_s = now
        name = device.name if device is not None else ""
        if code is not None:
            seen.refused, seen.code, seen.device = seen.refused + 1, code, name
        if pdu[0] in WRITING or address is None or count is None:
            return
        key = (master, name, pdu[0], address, count)
        asked = self.asked.get(key)
        if asked is None:
            if len(self.asked) >= _MOST_FOLDED:
                del self.asked[next(iter(self.asked))]
            self.asked[key] = SpanAsked(master, line, name, pdu[0], address, count, now, now)
            return
        between = now - asked.last_s
        asked.period_s = between if asked.period_s is None else asked.period_s + _OF_LATE * (between - asked.period_s)
        asked.times, asked.last_s = asked.times + 1, now

    def _row(
        self, now: float, master: str, line: str, device: Device | None, unit_id: int, pdu: bytes, address: int | None,
        count: int | None, outcome: str,
    ) -> MasterRow:  # fmt: skip
        table = _TABLES.get(pdu[0])
        points = points_at(device, table, address, count) if device is not None and table is not None else ()
        name = device.name if device is not None else ""
        return MasterRow(now, master, line, name, unit_id, pdu[0], address, count, outcome, points=points, until_s=now)

    def _end(self, row: MasterRow) -> None:
        self.rows.append(row)
        if self._on_row is not None:
            self._on_row(row)

    def all_rows(self) -> list[MasterRow]:
        """Those that are kept, and what is folded still; in the order of their times."""
        with self._lock:
            return sorted([*self.rows, *(replace(row) for row in self.reading.values())], key=lambda row: row.at_s)

    def locked(self) -> AbstractContextManager[object]:
        """While somebody looks at what was seen, nothing is added to it."""
        return self._lock

    def flush(self, at_least_s: float = 0.0) -> None:
        """Whatever is folded for so long ends here."""
        with self._lock:
            until_s = self._now() - at_least_s
            for key in [key for key, row in self.reading.items() if row.at_s <= until_s]:
                self._end(self.reading.pop(key))

    def end_old(self) -> None:
        """What is folded for a minute ends, also where nobody asks for it any more."""
        self.flush(_FOLD_S)


def span_written(pdu: bytes) -> tuple[Table, int, int] | None:
    """Table, first address and count of what a request writes; None for any other."""
    address, count, written = _of(pdu)
    if pdu[0] not in WRITING or written is None or address is None or count is None:
        return None
    return _TABLES[pdu[0]], address, count


def _of(pdu: bytes) -> tuple[int | None, int | None, list[int] | None]:
    """First address, count, and the words or bits that are written."""
    function = pdu[0]
    if function in (1, 2, 3, 4) and len(pdu) >= 5:
        return int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5]), None
    if function in (5, 6) and len(pdu) >= 5:
        word = int.from_bytes(pdu[3:5])
        return int.from_bytes(pdu[1:3]), 1, [word if function == 6 else int(word == 0xFF00)]
    if function in (15, 16) and len(pdu) >= 7:
        count, data = int.from_bytes(pdu[3:5]), pdu[6:]
        if function == 15:
            return (
                int.from_bytes(pdu[1:3]),
                count,
                [data[at // 8] >> at % 8 & 1 for at in range(min(count, 8 * len(data)))],
            )
        return int.from_bytes(pdu[1:3]), count, [int.from_bytes(data[at : at + 2]) for at in range(0, len(data) - 1, 2)]
    if function == 22 and len(pdu) >= 7:
        return int.from_bytes(pdu[1:3]), 1, [int.from_bytes(pdu[3:5]), int.from_bytes(pdu[5:7])]
    if function == 23 and len(pdu) >= 10:
        data = pdu[10:]
        words = [int.from_bytes(data[at : at + 2]) for at in range(0, len(data) - 1, 2)]
        return int.from_bytes(pdu[5:7]), int.from_bytes(pdu[7:9]), words
    return None, None, None


def points_at(device: Device, table: Table, address: int | None, count: int | None) -> tuple[str, ...]:
    """Names of the points that a request touches."""
    if address is None or count is None:
        return ()
    found: list[Point] = [
        point for point in device.points
        if point.table is table and point.address < address + count and address < point.end
    ]  # fmt: skip
    return tuple(point.name for point in found[:50])


_COLUMNS = ("at", "from", "master", "line", "device", "unit_id", "function", "address", "count", "written", "old",
            "points", "outcome", "code", "times", "until", "period_s")  # fmt: skip


def as_csv(rows: Sequence[MasterRow]) -> str:
    """A table of them, with the columns of the log."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(_COLUMNS)
    for row in rows:
        cells = as_json(row, lambda at_s: datetime.fromtimestamp(at_s).astimezone().isoformat(timespec="milliseconds"))
        table.writerow([_cell(cells[column]) for column in _COLUMNS])
    return out.getvalue()


def _cell(value: Any) -> Any:
    if isinstance(value, list):
        return " ".join(str(one) for one in value) if all(isinstance(one, int) for one in value) else "; ".join(value)
    return "" if value is None else value


def as_json(row: MasterRow, iso: Callable[[float], str]) -> dict[str, Any]:
    """A row of the log."""
    return {
        "at": iso(row.at_s), "from": row.master, "master": row.master, "line": row.line, "device": row.device,
        "unit_id": row.unit_id, "function": row.function, "address": row.address, "count": row.count,
        "written": row.written, "old": row.old, "points": list(row.points), "outcome": row.outcome, "code": row.code,
        "times": row.times, "until": iso(row.until_s), "period_s": row.period_s, **row.more,
    }  # fmt: skip
