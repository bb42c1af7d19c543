"""Frames decoded a second, RTU and TCP, and the cost of a CRC byte, against plain struct and a table loop on the same
bytes."""

import os
import statistics
import struct
import time
from collections.abc import Callable

from kanaleto.wire.checks import _BYTE, crc16
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Framing, Role
from kanaleto.wire.pdu import ReadAnswer, parse_answer
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from scripts.bench.figure import Figure

_FRAMES = 2000
_ROUNDS = 9


def _seconds(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def _pairs(work: Callable[[], object], floor: Callable[[], object]) -> list[tuple[float, float]]:
    return [(_seconds(work), _seconds(floor)) for _ in range(_ROUNDS)]


def _decoding(framing: Framing) -> Figure:
    raw = framing.encode(1, ReadAnswer(Table.HOLDING, bytes(range(250))).encode(), 1)

    def work() -> None:
        decoder = framing.decoder(Role.ANSWERS)
        for _ in range(_FRAMES):
            for event in decoder.feed(raw):
                parse_answer(event.pdu)  # type: ignore[union-attr]

    def floor() -> None:
        words = struct.Struct(">125H")
        for _ in range(_FRAMES):
            words.unpack(raw[-252:-2])

    pairs = _pairs(work, floor)
    rates = [statistics.median(_FRAMES / seconds for seconds in column) for column in zip(*pairs, strict=True)]
    ratio = statistics.median(plain / ours for ours, plain in pairs)
    what = (
        f"{framing.name.upper()} answers of 125 registers decoded and parsed "
        "a second, against struct.unpack of their words"
    )
    return Figure(what, f"{rates[0]:.0f}/s", f"{rates[1]:.0f}/s", ratio)


def _crc() -> Figure:
    data = os.urandom(255)

    def work() -> None:
        for _ in range(_FRAMES):
            crc16(data)

    def floor() -> None:
        for _ in range(_FRAMES):
            crc = 0xFFFF
            for byte in data:
                crc = (crc >> 8) ^ _BYTE[(crc ^ byte) & 0xFF]

    pairs = _pairs(work, floor)
    ours, loop = (statistics.median(column) / _FRAMES / len(data) * 1e9 for column in zip(*pairs, strict=True))
    ratio = statistics.median(ours / loop for ours, loop in pairs)
    return Figure(
        "CRC of 255 bytes, a byte, against a table of one byte a step", f"{ours:.1f} ns", f"{loop:.1f} ns", ratio, "< 1"
    )


def measure() -> list[Figure]:
    return [_decoding(Rtu()), _decoding(Tcp()), _crc()]
