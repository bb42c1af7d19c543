"""Exchanges for tests of what keeps them."""

import struct
import tempfile
import unittest
from collections.abc import Iterable
from pathlib import Path

from hypothesis import strategies as st

from kanaleto.board.listener import Exchange
from kanaleto.capture.row import ExchangeRow, row_of
from kanaleto.evidence.finding import WireFinding
from kanaleto.evidence.findings import findings_of
from kanaleto.evidence.gathered import Gathered
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from tests.simulated import SimulatedLine, device

TCP, SERIAL, UDP = "tcp://192.0.2.9:1502", "rtu:///dev/ttyX?baud=19200", "udp://192.0.2.9:502"
START_US = 1_700_000_000_000_000

rows = st.builds(
    ExchangeRow, st.integers(0, 2**50), st.text(max_size=20), st.just(TCP), st.sampled_from(["real", "stand-in"]),
    st.text(max_size=20), st.integers(0, 255), st.sampled_from(list(OutcomeKind)), st.integers(0, 20),
    st.binary(max_size=513), st.binary(max_size=513), st.integers(0, 2**32 - 1), st.integers(0, 2**32 - 1),
    st.integers(0, 2**32 - 1), st.text(max_size=60),
)  # fmt: skip


def exchange(
    number: int, link: str = TCP, kind: OutcomeKind = OutcomeKind.GOOD, value: int | None = None
) -> ExchangeRow:
    """A read of the register that has the exchange's number, and holds it; `kind` may spoil it."""
    address = number % 65536
    framing = Rtu() if link == SERIAL else Tcp()
    request = framing.encode(7, struct.pack(">BHH", 3, address, 1), number % 65536)
    pdu = struct.pack(">BBH", 3, 2, address if value is None else value)
    pdu = b"\x83\x02" if kind is OutcomeKind.EXCEPTION else pdu
    answer = b"" if kind is OutcomeKind.TIMEOUT else framing.encode(7, pdu, number % 65536)
    reason = {OutcomeKind.TIMEOUT: "no answer within 1 s", OutcomeKind.EXCEPTION: "exception 2"}.get(kind, "")
    return ExchangeRow(
        START_US + number * 10_000, "Line", link, "real", "Pump", 7, kind, 0, request, answer, 100, 2000, 3000, reason
    )


def told_by_the_engine(number: int, kind: OutcomeKind = OutcomeKind.GOOD) -> Exchange:
    """An exchange as sinks hear of it."""
    row = exchange(number, kind=kind)
    asked_at = 1000.0 + number
    outcome = Outcome(
        kind,
        7,
        row.request,
        row.answer,
        None,
        asked_at,
        asked_at + 0.0001,
        asked_at + 0.002,
        asked_at + 0.003,
        row.reason,
    )
    line = SimulatedLine(device("Pump", 7), is_serial=False).line
    return Exchange(number, row.at_us / 1e6, line, line.devices[0], Read(Table.HOLDING, number, 1), outcome, number % 3)


def kept(row: ExchangeRow) -> tuple[object, ...]:
    """What packets can tell of an exchange."""
    return row.at_us, row.request, row.answer, row.kind, row.line


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


def named(exchanges: Iterable[Exchange]) -> list[WireFinding]:
    """What is made of exchanges as the engine tells them."""
    gathered = Gathered()
    for each in exchanges:
        gathered.add(row_of(each, str(each.line.link), "real"))
    return findings_of(list(gathered.lines.values()))
