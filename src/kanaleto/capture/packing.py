"""Exchanges packed: a tape is a line that says what it is, and then blocks. A block stands for itself: its head says
how many exchanges it has, from when to when, and how they ended, so that it need not be unpacked where nothing in it is
wanted; its check sum tells when it was damaged or cut short. What stands behind such a block is still found.

    head of a block, little-endian: "KBLK", CRC-32 of the rest of the head, CRC-32 of what is packed, its size, count,
    first and last time (µs since 1970), outcomes as bits; then, packed by zlib: size of the names, names as JSON,
    a column each of what rows have in common, all requests, all answers
"""

import json
import sys
import zlib
from array import array
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from struct import Struct, error
from typing import BinaryIO, NamedTuple

from kanaleto.board.listener import Exchange
from kanaleto.capture.row import ExchangeRow, row_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.model import Line

HEAD_LINE = b"kanaleto tape 1 "
_MARK = b"KBLK"
_HEAD = Struct("<4sIIIIqqI")
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

    @property
    def end(self) -> int:
        return self.place + _HEAD.size + self.size


def pack(rows: Sequence[ExchangeRow]) -> bytes:
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
    return _block(names, columns, [row.request for row in rows], [row.answer for row in rows])


def pack_exchanges(exchanges: Sequence[Exchange], come_from: Callable[[Line], tuple[str, str]]) -> bytes:
    """One block of exchanges as the engine tells them, the same as of their rows; `come_from` gives link and origin.
    For thousands a second, beside the engine: a column at a time."""
    names = _Names()
    outcomes = [exchange.outcome for exchange in exchanges]
    lines, devices = [exchange.line for exchange in exchanges], [exchange.device for exchange in exchanges]
    told = [outcome.reason for outcome in outcomes]
    requests, answers = [outcome.request for outcome in outcomes], [outcome.answer for outcome in outcomes]
    line_ids, device_ids = list(map(id, lines)), list(map(id, devices))
    line_of, device_of = dict[int, int](), dict[int, int]()
    for key, line in dict(zip(line_ids, lines, strict=True)).items():
        line_of[key] = names.lines.setdefault((line.name, *come_from(line)), len(names.lines))
    for key, device in dict(zip(device_ids, devices, strict=True)).items():
        device_of[key] = names.devices.setdefault(device.name if device is not None else "", len(names.devices))
    names.reasons = {reason: number for number, reason in enumerate(dict.fromkeys(told))}
    try:
        columns = _Columns(
            array("q", [int(exchange.wall_s * 1e6 + 0.5) for exchange in exchanges]),
            array("I", [int((outcome.sent_at - outcome.asked_at) * 1e6 + 0.5) for outcome in outcomes]),
            array("I", [int((outcome.first_at - outcome.asked_at) * 1e6 + 0.5) if outcome.answer else 0
                        for outcome in outcomes]),
            array("I", [int((outcome.done_at - outcome.asked_at) * 1e6 + 0.5) for outcome in outcomes]),
            bytes([_NUMBERS[outcome.kind] for outcome in outcomes]),
            bytes([exchange.attempt for exchange in exchanges]),
            bytes([outcome.unit_id for outcome in outcomes]),
            array("H", map(line_of.__getitem__, line_ids)),
            array("H", map(device_of.__getitem__, device_ids)),
            array("H", map(names.reasons.__getitem__, told)),
        )  # fmt: skip
    except (OverflowError, ValueError):  # out of what is usual: one by one
        return pack([row_of(exchange, *come_from(exchange.line)) for exchange in exchanges])
    return _block(names, columns, requests, answers)


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


def _block(names: _Names, columns: _Columns, requests: Sequence[bytes], answers: Sequence[bytes]) -> bytes:
    told = names.as_json()
    sizes = array("H", map(len, requests)), array("H", map(len, answers))
    parts = [_little(own) for own in (*columns, *sizes)]
    body = zlib.compress(b"".join((_SIZE.pack(len(told)), told, *parts, *requests, *answers)), 1)
    outcomes = sum(1 << number for number in set(columns.kinds))
    rest = _HEAD.pack(_MARK, 0, zlib.crc32(body), len(body), len(requests), min(columns.at), max(columns.at), outcomes)[
        8:
    ]
    return b"".join((_MARK, _SIZE.pack(zlib.crc32(rest)), rest, body))


def _little(column: "array[int] | bytes") -> bytes:
    if isinstance(column, bytes):
        return column
    if sys.byteorder == "big":
        column = column[:]
        column.byteswap()
    return column.tobytes()


def unpack(body: bytes, count: int) -> Iterator[ExchangeRow]:
    """The rows of a block, of which its head says how many there are. Raises ValueError where they are none."""
    try:
        data = zlib.decompressobj().decompress(body, MOST_RAW)
        (size,) = _SIZE.unpack_from(data)
        names = json.loads(data[4 : 4 + size])
        lines, devices, reasons = names["lines"], names["devices"], names["reasons"]
        place = 4 + size

        def column(code: str) -> "array[int]":
            nonlocal place
            found = array(code)
            found.frombytes(data[place : place + count * found.itemsize])
            place += count * found.itemsize
            if sys.byteorder == "big":
                found.byteswap()
            return found

        columns = [column(code) for code in "qIIIBBBHHHHH"]
        request_end = place + sum(columns[10])
        if any(len(own) != count for own in columns) or request_end + sum(columns[11]) != len(data):
            raise ValueError("the block holds another number of rows than it says")
        asked_at, answered_at = place, request_end
        for at_us, sent, first, last, kind, attempt, unit_id, line, device, reason, asked, answered in zip(
            *columns, strict=True
        ):
            name, link, origin = lines[line]
            request = data[asked_at : asked_at + asked]
            answer = data[answered_at : answered_at + answered]
            asked_at += asked
            answered_at += answered
            who, how, why = devices[device], _KINDS[kind], reasons[reason]
            yield ExchangeRow(
                at_us, name, link, origin, who, unit_id, how, attempt, request, answer, sent, first, last, why
            )
    except (zlib.error, error, KeyError, IndexError, TypeError, EOFError) as fault:
        raise ValueError(f"the block is none: {fault}") from None


def heads(file: BinaryIO, damaged: list[str], name: str) -> Iterator[BlockHead]:
    """Heads of the blocks of a tape, one behind the other; what is no block is passed over and told in `damaged`. The
    heads are only read, not the blocks."""
    file.seek(0, 2)
    end = file.tell()
    file.seek(0)
    file.readline(100_000)
    place = file.tell()
    while place < end:
        file.seek(place)
        raw = file.read(_HEAD.size)
        is_head = len(raw) == _HEAD.size and raw.startswith(_MARK) and raw[4:8] == _SIZE.pack(zlib.crc32(raw[8:]))
        head = BlockHead(place, *_HEAD.unpack(raw)[2:7]) if is_head else None
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


def _next_mark(file: BinaryIO, place: int, end: int) -> int | None:
    while place < end:
        file.seek(place)
        at = file.read(_LOOKED_THROUGH + len(_MARK)).find(_MARK)
        if at >= 0:
            return place + at
        place += _LOOKED_THROUGH
    return None


def body_of(file: BinaryIO, head: BlockHead) -> bytes:
    """What a block holds, packed. Raises ValueError when it is not what was written."""
    file.seek(head.place)
    raw = file.read(head.end - head.place)
    body = raw[_HEAD.size :]
    if zlib.crc32(body) != head.crc:
        raise ValueError(f"the block at byte {head.place:,} is damaged")
    return body


def is_tape(path: Path) -> bool:
    with path.open("rb") as file:
        return file.read(len(HEAD_LINE)) == HEAD_LINE


def head_line(told: dict[str, object]) -> bytes:
    """The first line of a tape, with what it is of."""
    return HEAD_LINE + json.dumps(told).encode() + b"\n"


def told_of(path: Path) -> dict[str, object]:
    """What the first line of a tape says; nothing where it cannot be read."""
    try:
        with path.open("rb") as file:
            told = json.loads(file.readline(100_000)[len(HEAD_LINE) :])
    except (OSError, ValueError, RecursionError):
        return {}
    return told if isinstance(told, dict) else {}
