"""Exchanges packed: a tape is a line that says what it is, and then blocks. A block stands for itself: its head says
how many exchanges it has, from when to when, and how they ended, so that it need not be unpacked where nothing in it is
wanted; its index says who failed how; its check sum tells when it was damaged or cut short. What stands behind such a
block is still found.

    head of a block, little-endian: "KBL2", CRC-32 of the rest of the head, CRC-32 of what follows the head, its size,
    count, first and last time (µs since 1970), outcomes as bits, shift (below), size and CRC-32 of the index;
    the index, JSON: [line, device, unit ID, outcome, count] of what failed, nothing where nothing did;
    then, packed by zlib: size of the names, names as JSON, a column each of what rows have in common, all requests,
    all answers

Rows of one program stay in order when its clock is set back: their order is their time plus the block's shift, by which
the clock was set back since the program began. Blocks of before there was an index begin with "KBLK".
"""

import json
import sys
import zlib
from array import array
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from itertools import accumulate
from pathlib import Path
from struct import Struct, error
from typing import BinaryIO, NamedTuple

from kanaleto.board.listener import Exchange
from kanaleto.capture.row import ExchangeRow, row_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.model import Line

HEAD_LINE = b"kanaleto tape 1 "
_MARKED = b"KBL"
_MARK, _MARK_1 = b"KBL2", b"KBLK"
_HEAD, _HEAD_1 = Struct("<4sIIIIqqIqII"), Struct("<4sIIIIqqI")
_MOST_INDEXED, _MOST_INDEX = 500, 1 << 20
_SIZE = Struct("<I")
_KINDS = tuple(OutcomeKind)
_NUMBERS = {kind: number for number, kind in enumerate(_KINDS)}
_MOST_US = 0xFFFFFFFF
_MOST_PACKED, MOST_RAW = 16_000_000, 64_000_000
_LOOKED_THROUGH = 1 << 20


class BlockHead(NamedTuple):
    """What a block says of itself, and where it stands; times in microseconds since 1970."""

    place: int
    crc: int
    size: int
    rows: int
    first_us: int
    last_us: int
    outcomes: int
    shift_us: int = 0
    index_size: int = 0
    index_crc: int = 0
    is_indexed: bool = False

    @property
    def start(self) -> int:
        """Where the index begins."""
        return self.place + (_HEAD.size if self.is_indexed else _HEAD_1.size)

    @property
    def end(self) -> int:
        return self.start + self.size

    def may_have(self, kinds: frozenset[OutcomeKind]) -> bool:
        """Whether any of its rows ended so."""
        return any(self.outcomes >> _NUMBERS[kind] & 1 for kind in kinds)


class Failures(NamedTuple):
    """So many exchanges of a block ended so."""

    line: str
    device: str
    unit_id: int
    kind: OutcomeKind
    times: int


def pack(rows: Sequence[ExchangeRow], shift_us: int = 0) -> bytes:
    """One block."""
    names = _Names()
    lines, devices, reasons = names.lines, names.devices, names.reasons
    columns = _Columns(
        array("q", [row.at_us for row in rows]),
        array("I", [min(row.sent_us, _MOST_US) for row in rows]),
        array("I", [min(row.first_us, _MOST_US) for row in rows]),
        array("I", [min(row.last_us, _MOST_US) for row in rows]),
        bytes([_NUMBERS[row.kind] for row in rows]),
        bytes([min(row.attempt, 255) for row in rows]),
        bytes([row.unit_id for row in rows]),
        array("H", [lines.setdefault((row.line, row.link, row.origin), len(lines)) for row in rows]),
        array("H", [devices.setdefault(row.device, len(devices)) for row in rows]),
        array("H", [reasons.setdefault(row.reason, len(reasons)) for row in rows]),
    )
    return _block(names, columns, [row.request for row in rows], [row.answer for row in rows], shift_us)


def pack_exchanges(
    exchanges: Sequence[Exchange], come_from: Callable[[Line], tuple[str, str]], shift_us: int = 0
) -> bytes:
    """One block of exchanges as the engine tells them, the same as of their rows; `come_from` gives link and origin.
    For thousands a second, beside the engine: a column at a time."""
    names = _Names()
    outcomes = [exchange.outcome for exchange in exchanges]
    lines, devices = [exchange.line for exchange in exchanges], [exchange.device for exchange in exchanges]
    reasons = [outcome.reason for outcome in outcomes]
    requests, answers = [outcome.request for outcome in outcomes], [outcome.answer for outcome in outcomes]
    line_ids, device_ids = list(map(id, lines)), list(map(id, devices))
    line_of, device_of = dict[int, int](), dict[int, int]()
    for key, line in dict(zip(line_ids, lines, strict=True)).items():
        line_of[key] = names.lines.setdefault((line.name, *come_from(line)), len(names.lines))
    for key, device in dict(zip(device_ids, devices, strict=True)).items():
        device_of[key] = names.devices.setdefault(device.name if device is not None else "", len(names.devices))
    names.reasons = {reason: number for number, reason in enumerate(dict.fromkeys(reasons))}
    try:
        columns = _Columns(
            array("q", [round(exchange.wall_s * 1e6) for exchange in exchanges]),
            array("I", [round((outcome.sent_at - outcome.asked_at) * 1e6) for outcome in outcomes]),
            array("I", [round((outcome.first_at - outcome.asked_at) * 1e6) if outcome.answer else 0
                        for outcome in outcomes]),
            array("I", [round((outcome.done_at - outcome.asked_at) * 1e6) for outcome in outcomes]),
            bytes([_NUMBERS[outcome.kind] for outcome in outcomes]),
            bytes([exchange.attempt for exchange in exchanges]),
            bytes([outcome.unit_id for outcome in outcomes]),
            array("H", map(line_of.__getitem__, line_ids)),
            array("H", map(device_of.__getitem__, device_ids)),
            array("H", map(names.reasons.__getitem__, reasons)),
        )  # fmt: skip
    except (OverflowError, ValueError):  # out of what is usual: one by one
        return pack([row_of(exchange, *come_from(exchange.line)) for exchange in exchanges], shift_us)
    return _block(names, columns, requests, answers, shift_us)


class _Columns(NamedTuple):
    """What rows have in common, a column each: µs since 1970; µs after that; numbers of outcomes, attempts, units;
    numbers of names."""

    at: "array[int]"
    sent: "array[int]"
    first: "array[int]"
    last: "array[int]"
    kinds: bytes
    attempts: bytes
    units: bytes
    lines: "array[int]"
    devices: "array[int]"
    reasons: "array[int]"


class _Names:
    """Names of a block, each once."""

    def __init__(self) -> None:
        self.lines: dict[tuple[str, str, str], int] = {}
        self.devices: dict[str, int] = {}
        self.reasons: dict[str, int] = {}

    def as_json(self) -> bytes:
        return json.dumps(
            {"lines": list(self.lines), "devices": list(self.devices), "reasons": list(self.reasons)}
        ).encode()


def _block(
    names: _Names, columns: _Columns, requests: Sequence[bytes], answers: Sequence[bytes], shift_us: int
) -> bytes:
    names_json = names.as_json()
    sizes = array("H", map(len, requests)), array("H", map(len, answers))
    parts = [_little(column) for column in (*columns, *sizes)]
    index = _index(names, columns)
    body = index + zlib.compress(b"".join((_SIZE.pack(len(names_json)), names_json, *parts, *requests, *answers)), 1)
    outcomes = sum(1 << number for number in set(columns.kinds))
    first, last = min(columns.at), max(columns.at)
    rest = _HEAD.pack(
        _MARK, 0, zlib.crc32(body), len(body), len(requests), first, last, outcomes, shift_us, len(index),
        zlib.crc32(index),
    )[8:]  # fmt: skip
    return b"".join((_MARK, _SIZE.pack(zlib.crc32(rest)), rest, body))


def _index(names: _Names, columns: _Columns) -> bytes:
    """Who failed how, and how often."""
    if not any(columns.kinds):
        return b""
    failed = Counter(
        (line, device, unit_id, kind)
        for line, device, unit_id, kind in zip(
            columns.lines, columns.devices, columns.units, columns.kinds, strict=True
        )
        if kind
    )
    if len(failed) > _MOST_INDEXED:
        return b"[]"
    lines, devices = [name for name, _, _ in names.lines], list(names.devices)
    entries = [
        [lines[line], devices[device], unit_id, kind, count] for (line, device, unit_id, kind), count in failed.items()
    ]
    return json.dumps(entries, separators=(",", ":")).encode()


def failures_in(file: BinaryIO, head: BlockHead) -> list[Failures] | None:
    """What the index of a block says; None where there is none, or it is damaged: then the block has to be read."""
    if not head.outcomes & ~1:
        return []
    if not head.index_size or head.index_size > _MOST_INDEX:
        return None
    file.seek(head.start)
    raw = file.read(head.index_size)
    try:
        entries = json.loads(raw) if zlib.crc32(raw) == head.index_crc else []
        return [
            Failures(line, device, unit, _KINDS[kind], count) for line, device, unit, kind, count in entries
        ] or None
    except (ValueError, TypeError, IndexError, RecursionError):
        return None


def _little(column: "array[int] | bytes") -> bytes:
    if isinstance(column, bytes):
        return column
    if sys.byteorder == "big":
        column = column[:]
        column.byteswap()
    return column.tobytes()


class Unpacked:
    """The rows of a block, made when they are looked at; of those that are not only columns are held. Raises ValueError
    where the block holds none."""

    def __init__(self, body: bytes, count: int) -> None:
        """`count` is how many rows the head promises."""
        try:
            data = zlib.decompressobj().decompress(body, MOST_RAW)
            (size,) = _SIZE.unpack_from(data)
            names = json.loads(data[4 : 4 + size])
            self._lines = [(str(name), str(link), str(origin)) for name, link, origin in names["lines"]]
            self._devices: list[str] = names["devices"]
            self._reasons: list[str] = names["reasons"]
        except (zlib.error, error, KeyError, TypeError, EOFError) as fault:
            raise ValueError(f"the block is none: {fault}") from None
        place = 4 + size

        def column(code: str) -> "array[int]":
            nonlocal place
            found = array(code)
            found.frombytes(data[place : place + count * found.itemsize])
            place += count * found.itemsize
            if sys.byteorder == "big":
                found.byteswap()
            return found

        try:
            columns = [column(code) for code in "qIIIBBBHHHHH"]
        except ValueError:
            raise ValueError("the block is cut short") from None
        request_end = place + sum(columns[10])
        if any(len(column) != count for column in columns) or request_end + sum(columns[11]) != len(data):
            raise ValueError("the block holds another number of rows than it says")
        if count and (
            max(columns[4]) >= len(_KINDS)
            or max(columns[7]) >= len(self._lines)
            or max(columns[8]) >= len(self._devices)
            or max(columns[9]) >= len(self._reasons)
        ):
            raise ValueError("the block names what it does not have")
        self._columns, self._data = columns, data
        self.at_us, self.kinds = columns[0], columns[4]
        self.held = len(data) + 40 * count + 16 * count
        """Bytes in memory, about."""
        self._requests = list(accumulate(columns[10], initial=place))
        self._answers = list(accumulate(columns[11], initial=request_end))

    def __len__(self) -> int:
        return len(self.at_us)

    def row(self, number: int) -> ExchangeRow:
        at_us, sent, first, last, kind, attempt, unit_id, line, device, reason, _, _ = (
            column[number] for column in self._columns
        )
        asked, answered = self._requests, self._answers
        return ExchangeRow(
            at_us, *self._lines[line], self._devices[device], unit_id, _KINDS[kind], attempt,
            self._data[asked[number] : asked[number + 1]], self._data[answered[number] : answered[number + 1]], sent,
            first, last, self._reasons[reason],
        )  # fmt: skip

    def __iter__(self) -> Iterator[ExchangeRow]:
        lines, devices, reasons, data = self._lines, self._devices, self._reasons, self._data
        columns, asked, answered = self._columns[:10], self._requests, self._answers
        bounds = zip(asked, asked[1:], answered, answered[1:], strict=False)
        for (at_us, sent, first, last, kind, attempt, unit_id, line, device, reason), (begin, end, start, stop) in zip(
            zip(*columns, strict=True), bounds, strict=False
        ):
            name, link, origin = lines[line]
            yield ExchangeRow(
                at_us, name, link, origin, devices[device], unit_id, _KINDS[kind], attempt, data[begin:end],
                data[start:stop], sent, first, last, reasons[reason],
            )  # fmt: skip

    def of_kinds(self, kinds: frozenset[OutcomeKind]) -> list[int]:
        """Numbers of the rows that ended so."""
        wanted = {_NUMBERS[kind] for kind in kinds}
        return [number for number, kind in enumerate(self.kinds) if kind in wanted]


def unpack(body: bytes, count: int) -> Iterator[ExchangeRow]:
    """The rows of a block, of which its head says how many there are. Raises ValueError where they are none."""
    yield from Unpacked(body, count)


def heads(file: BinaryIO, damaged: list[str], name: str, start: int = 0, end: int | None = None) -> Iterator[BlockHead]:
    """Heads of the blocks of a tape, one behind the other; what is no block is passed over and reported in `damaged`.
    The heads are only read, not the blocks. `start` is where a block begins, 0 for the first; nothing behind `end` is
    looked at."""
    if end is None:
        file.seek(0, 2)
        end = file.tell()
    if not start:
        file.seek(0)
        file.readline(100_000)
        start = file.tell()
    place = start
    while place < end:
        file.seek(place)
        head = _head(place, file.read(_HEAD.size))
        if head is not None and head.size <= _MOST_PACKED and head.end <= end:
            yield head
            place = head.end
            continue
        found = _next_mark(file, place + 1, end)
        cut = "is cut short" if found is None else "is damaged"
        damaged.append(
            f"{name} {cut} at byte {place:,}: {(found or end) - place:,} bytes hold nothing that can be read"
        )
        if found is None:
            return
        place = found


def _head(place: int, raw: bytes) -> BlockHead | None:
    if raw.startswith(_MARK) and len(raw) == _HEAD.size and raw[4:8] == _SIZE.pack(zlib.crc32(raw[8:])):
        return BlockHead._make((place, *_HEAD.unpack(raw)[2:], True))
    raw = raw[: _HEAD_1.size]
    if raw.startswith(_MARK_1) and len(raw) == _HEAD_1.size and raw[4:8] == _SIZE.pack(zlib.crc32(raw[8:])):
        return BlockHead(place, *_HEAD_1.unpack(raw)[2:])
    return None


def _next_mark(file: BinaryIO, place: int, end: int) -> int | None:
    while place < end:
        file.seek(place)
        at = file.read(_LOOKED_THROUGH + len(_MARKED)).find(_MARKED)
        if at >= 0:
            return place + at
        place += _LOOKED_THROUGH
    return None


def body_of(file: BinaryIO, head: BlockHead) -> bytes:
    """What a block holds, packed. Raises ValueError when it is not what was written."""
    file.seek(head.start)
    body = file.read(head.size)
    if zlib.crc32(body) != head.crc:
        raise ValueError(f"the block at byte {head.place:,} is damaged")
    return body[head.index_size :]


def is_tape(path: Path) -> bool:
    with path.open("rb") as file:
        return file.read(len(HEAD_LINE)) == HEAD_LINE


def head_line(fields: dict[str, object]) -> bytes:
    """The first line of a tape, with what it is of."""
    return HEAD_LINE + json.dumps(fields).encode() + b"\n"


def head_of(path: Path) -> dict[str, object]:
    """What the first line of a tape says; nothing where it cannot be read."""
    try:
        with path.open("rb") as file:
            fields = json.loads(file.readline(100_000)[len(HEAD_LINE) :])
    except (OSError, ValueError, RecursionError):
        return {}
    return fields if isinstance(fields, dict) else {}
