"""Exchanges of a packet capture that Kanaleto wrote: comments of its packets tell what bytes do not say, so that the
rows read back are the rows of the tape, outcome by outcome. Which packet belongs to which exchange is known by its
number."""

import json
from collections import OrderedDict
from collections.abc import Iterator
from typing import Any

from msgspec import Struct

from kanaleto.capture.packets import Packet
from kanaleto.capture.pcapng import OUTBOUND
from kanaleto.capture.row import ExchangeRow
from kanaleto.lines.outcome import OutcomeKind

OURS = b'{"kanaleto":'
_MOST_WAITING = 10_000
_MOST_US = 1 << 40


class _WaitingRow(Struct):
    row: ExchangeRow
    lacks: int
    answer: bytearray


class CommentedExchanges:
    """Feed it packets that have a comment of ours. `is_taken` says whether the last one was understood."""

    def __init__(self) -> None:
        self.is_taken = False
        self._waiting: OrderedDict[tuple[int, int], _WaitingRow] = OrderedDict()

    def take(self, packet: Packet, data: bytes) -> ExchangeRow | None:
        """The exchange that a packet ends."""
        self.is_taken = False
        try:
            comment = json.loads(packet.comment)
            key = (packet.interface, int(comment["exchange"]))
            row = self._begun(packet, data, comment) if "outcome" in comment else self._waiting.pop(key, None)
        except (ValueError, KeyError, TypeError, OverflowError, RecursionError):
            return None
        if row is None:
            return None  # the packet of its request is in another file
        self.is_taken = True
        if packet.direction != OUTBOUND:
            row.answer += data
            row.lacks -= len(data)
        if row.lacks <= 0:
            return row.row._replace(answer=bytes(row.answer))
        self._waiting[key] = row
        return self._unanswered(self._waiting.popitem(last=False)[1]) if len(self._waiting) > _MOST_WAITING else None

    def _begun(self, packet: Packet, data: bytes, comment: dict[str, Any]) -> _WaitingRow:
        if "://" not in packet.description:
            raise ValueError("its link is not named")
        unit_id, lacks = int(comment["unit_id"]), int(comment["answer_bytes"])
        if not 0 <= unit_id <= 255:
            raise ValueError("no unit ID")
        sent_us, first_us, last_us = (_micros(comment[name]) for name in ("sent_ms", "first_ms", "last_ms"))
        is_asked = packet.direction == OUTBOUND
        at_us = packet.at_us if is_asked else int(comment.get("at_us", packet.at_us))
        row = ExchangeRow(
            at_us, packet.name, packet.description, str(comment["origin"]), str(comment["device"]), unit_id,
            OutcomeKind(comment["outcome"]), int(comment["attempt"]), data if is_asked else b"", b"", sent_us, first_us,
            last_us, str(comment["reason"]),
        )  # fmt: skip
        return _WaitingRow(row, lacks, bytearray())

    def rest(self) -> Iterator[ExchangeRow]:
        """The file is over: answers that still lack were cut off."""
        for row in self._waiting.values():
            yield self._unanswered(row)

    def _unanswered(self, row: _WaitingRow) -> ExchangeRow:
        reason = f"{row.lacks} bytes of its answer are not in the capture"
        return row.row._replace(kind=OutcomeKind.TIMEOUT, answer=bytes(row.answer), reason=reason)


def _micros(milliseconds: object) -> int:
    if isinstance(milliseconds, bool) or not isinstance(milliseconds, int | float):
        raise ValueError("no time")
    found = round(milliseconds * 1000)
    if not 0 <= found < _MOST_US:
        raise ValueError("no time")
    return found
