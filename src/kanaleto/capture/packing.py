"""Exchanges packed: a tape is a line that says what it is, and then blocks. A block stands for itself: its head says
how many exchanges it has, from when to when, and how they ended, so that it need not be unpacked where nothing in it is
wanted; its check sum tells when it was damaged or cut short. What stands behind such a block is still found.

    head of a block, little-endian: "KBLK", CRC-32 of the rest of the head, CRC-32 of what is packed, its size, count,
    first and last time (µs since 1970), outcomes as bits; then, packed by zlib: size of the names, names as JSON, rows
"""

import json
import zlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from struct import Struct, error
from typing import BinaryIO, NamedTuple

from kanaleto.capture.row import Row
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.polling.listener import Exchange
from kanaleto.site.model import Line

HEAD_LINE = b"kanaleto tape 1 "
_MARK = b"KBLK"
_HEAD = Struct("<4sIIIIqqI")
_ROW = Struct("<qIIIBBBHHHHH")
_SIZE = Struct("<I")
_KINDS = tuple(OutcomeKind)
_NUMBERS = {kind: number for number, kind in enumerate(_KINDS)}
_MOST_US, _MOST_S = 0xFFFFFFFF, 4294.0
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


def pack(rows: Iterable[Row]) -> bytes:
    """One block."""
    names = _Names()
    packed = bytearray()
    add, count, outcomes = _ROW.pack, 0, 0
    first_us, last_us = 2**62, -(2**62)
    for row in rows:
        at_us, line, link, origin, device, unit_id, kind, attempt, request, answer, sent, first, last, reason = row
        number = _NUMBERS[kind]
        packed += add(
            at_us, min(sent, _MOST_US), min(first, _MOST_US), min(last, _MOST_US), number, min(attempt, 255), unit_id,
            names.line(line, link, origin), names.device(device), names.reason(reason), len(request), len(answer),
        )  # fmt: skip
        packed += request
        packed += answer
        outcomes |= 1 << number
        count += 1
        first_us, last_us = min(first_us, at_us), max(last_us, at_us)
    return _block(names, packed, count, first_us, last_us, outcomes)


def pack_exchanges(exchanges: Sequence[Exchange], link_text: Callable[[Line], str], origin: str) -> bytes:
    """One block of exchanges as the engine tells them, the same as of their rows. For thousands a second, beside the
    engine: nothing is made on the way."""
    names = _Names()
    lines, devices, reasons = dict[int, int](), dict[int, int](), names.reasons
    packed = bytearray()
    add, outcomes = _ROW.pack, 0
    first_us, last_us = 2**62, -(2**62)
    for _, wall_s, line, device, _, outcome, attempt in exchanges:
        kind, unit_id, request, answer, _, asked_at, sent_at, first_at, done_at, reason = outcome
        line_number = lines.get(id(line))
        if line_number is None:
            line_number = lines[id(line)] = names.line(line.name, link_text(line), origin)
        device_number = devices.get(id(device))
        if device_number is None:
            device_number = devices[id(device)] = names.device(device.name if device is not None else "")
        number, at_us = _NUMBERS[kind], int(wall_s * 1e6 + 0.5)
        last = done_at - asked_at
        if attempt > 255 or not 0.0 <= last < _MOST_S:
            attempt, done_at = min(attempt, 255), asked_at + min(max(last, 0.0), _MOST_S)
        packed += add(
            at_us,
            int((sent_at - asked_at) * 1e6 + 0.5) if asked_at <= sent_at <= done_at else 0,
            int((first_at - asked_at) * 1e6 + 0.5) if answer and asked_at <= first_at <= done_at else 0,
            int((done_at - asked_at) * 1e6 + 0.5),
            number, attempt, unit_id, line_number, device_number, reasons.setdefault(reason, len(reasons)),
            len(request), len(answer),
        )  # fmt: skip
        packed += request
        packed += answer
        outcomes |= 1 << number
        if at_us > last_us:
            last_us = at_us
        if at_us < first_us:
            first_us = at_us
    return _block(names, packed, len(exchanges), first_us, last_us, outcomes)


class _Names:
    """Names of a block, each once."""

    def __init__(self) -> None:
        self.lines: dict[tuple[str, str, str], int] = {}
        self.devices: dict[str, int] = {}
        self.reasons: dict[str, int] = {}

    def line(self, name: str, link: str, origin: str) -> int:
        return self.lines.setdefault((name, link, origin), len(self.lines))

    def device(self, name: str) -> int:
        return self.devices.setdefault(name, len(self.devices))

    def reason(self, text: str) -> int:
        return self.reasons.setdefault(text, len(self.reasons))

    def as_json(self) -> bytes:
        return json.dumps(
            {"lines": list(self.lines), "devices": list(self.devices), "reasons": list(self.reasons)}
        ).encode()


def _block(names: _Names, packed: bytearray, count: int, first_us: int, last_us: int, outcomes: int) -> bytes:
    told = names.as_json()
    body = zlib.compress(b"".join((_SIZE.pack(len(told)), told, packed)), 1)
    rest = _HEAD.pack(_MARK, 0, zlib.crc32(body), len(body), count, first_us, last_us, outcomes)[8:]
    return b"".join((_MARK, _SIZE.pack(zlib.crc32(rest)), rest, body))


def unpack(body: bytes) -> Iterator[Row]:
    """The rows of a block. Raises ValueError where they are none."""
    try:
        inflate = zlib.decompressobj()
        data = inflate.decompress(body, MOST_RAW)
        (size,) = _SIZE.unpack_from(data)
        names = json.loads(data[4 : 4 + size])
        lines, devices, reasons = names["lines"], names["devices"], names["reasons"]
        place, take, width = 4 + size, _ROW.unpack_from, _ROW.size
        while place < len(data):
            at_us, sent, first, last, kind, attempt, unit_id, line, device, reason, asked, answered = take(data, place)
            place += width
            middle = place + asked
            name, link, origin = lines[line]
            yield Row(
                at_us, name, link, origin, devices[device], unit_id, _KINDS[kind], attempt, data[place:middle],
                data[middle : middle + answered], sent, first, last, reasons[reason],
            )  # fmt: skip
            place = middle + answered
    except (zlib.error, error, KeyError, IndexError, TypeError) as fault:
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
    except (OSError, ValueError):
        return {}
    return told if isinstance(told, dict) else {}
