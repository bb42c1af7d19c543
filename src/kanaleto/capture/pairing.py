"""Packets of a network or a serial line to exchanges: streams put together, frames found in them, answers given to
their requests. All that is held is bounded, and what nobody answers is dropped after a while."""

import struct
from collections import OrderedDict
from collections.abc import Generator, Iterator
from struct import unpack
from typing import NamedTuple

from kanaleto.capture.commented import OURS, CommentedExchanges
from kanaleto.capture.packets import Packet
from kanaleto.capture.pcapng import ETHERNET, INBOUND, OUTBOUND, USER0, USER1
from kanaleto.capture.row import ExchangeRow, link_of
from kanaleto.lines.opening import framing_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.origin import Origin
from kanaleto.wire.codes import exception_text
from kanaleto.wire.frames import Decoder, Frame, Framing, Garbled, Role
from kanaleto.wire.pdu import PduError, Refused, mismatch, parse_answer, parse_request

_NULL, _RAW, _COOKED, _RAW_V4, _RAW_V6, _COOKED2 = 0, 101, 113, 228, 229, 276
KNOWN = frozenset((ETHERNET, USER0, USER1, _NULL, _RAW, _COOKED, _COOKED2, _RAW_V4, _RAW_V6))
_STANDARD_PORT = 502
_MOST_STREAMS, _MOST_WAITING = 2000, 1000
_GIVEN_UP_US = 10_000_000
_TCP, _UDP = 6, 17


class _Segment(NamedTuple):
    source: tuple[str, int]
    target: tuple[str, int]
    is_tcp: bool
    sequence: int
    data: bytes


class _Question(NamedTuple):
    at_us: int
    frame: Frame


class _Conversation:
    """One master with one slave or gateway: both directions, and what waits for an answer."""

    def __init__(self, line: str, link: str, framing: Framing) -> None:
        self.line, self.link, self.framing = line, link, framing
        self.decoders: dict[int, Decoder] = {
            OUTBOUND: framing.decoder(Role.REQUESTS), INBOUND: framing.decoder(Role.ANSWERS)
        }  # fmt: skip
        self.expected: dict[int, int | None] = {OUTBOUND: None, INBOUND: None}
        self.waiting: OrderedDict[int, _Question] = OrderedDict()
        self.count = 0
        self.last_direction, self.last_us = OUTBOUND, 0

    def take(self, at_us: int, direction: int, data: bytes, settle: bool) -> Iterator[ExchangeRow]:
        """Bytes of one direction; `settle` where a packet is all of a frame."""
        for number in [
            number_waiting for number_waiting, asked in self.waiting.items() if at_us - asked.at_us > _GIVEN_UP_US
        ]:
            yield self._unanswered(self.waiting.pop(number))
        if not self.framing.has_transactions and direction != self.last_direction:
            yield from self._settle(at_us, self.last_direction)
        self.last_direction, self.last_us = direction, at_us
        decoder = self.decoders[direction]
        events = [*decoder.feed(data), *(decoder.silence() if settle else [])]
        for event in events:
            yield from self._taken(at_us, direction, event)

    def _taken(self, at_us: int, direction: int, event: Frame | Garbled) -> Iterator[ExchangeRow]:
        return self._request(at_us, event) if direction == OUTBOUND else self._answer(at_us, event)

    def _settle(self, at_us: int, direction: int) -> Iterator[ExchangeRow]:
        """That direction has fallen silent: what is held of it is all that there is."""
        for event in self.decoders[direction].silence():
            yield from self._taken(at_us, direction, event)

    def _request(self, at_us: int, event: Frame | Garbled) -> Iterator[ExchangeRow]:
        if isinstance(event, Garbled):
            yield self._row(
                at_us, OutcomeKind.GARBLED, event.raw, b"", 0, f"the request is no frame: {event.reason}", 0
            )
            return
        number = event.transaction if event.transaction is not None else 0
        before = self.waiting.pop(number, None)
        if before is not None:
            yield self._unanswered(before)
        if len(self.waiting) >= _MOST_WAITING:
            yield self._unanswered(self.waiting.popitem(last=False)[1])
        self.waiting[number] = _Question(at_us, event)

    def _answer(self, at_us: int, event: Frame | Garbled) -> Iterator[ExchangeRow]:
        number = event.transaction if isinstance(event, Frame) and event.transaction is not None else 0
        asked = self.waiting.pop(number, None)
        if asked is None:
            why = event.reason if isinstance(event, Garbled) else "nobody asked for it"
            kind = OutcomeKind.GARBLED if isinstance(event, Garbled) else OutcomeKind.UNEXPECTED
            unit_id = event.unit_id if isinstance(event, Frame) else 0
            yield self._row(at_us, kind, b"", event.raw, 0, why, unit_id)
            return
        took_us = max(at_us - asked.at_us, 0)
        kind, reason = _judged(asked.frame, event)
        yield self._row(asked.at_us, kind, asked.frame.raw, event.raw, took_us, reason, asked.frame.unit_id)

    def rest(self) -> Iterator[ExchangeRow]:
        """The file is over: what still waits was never answered in it."""
        for direction in (OUTBOUND, INBOUND):
            yield from self._settle(self.last_us, direction)
        for asked in self.waiting.values():
            yield self._unanswered(asked)

    def _unanswered(self, asked: _Question) -> ExchangeRow:
        return self._row(
            asked.at_us, OutcomeKind.TIMEOUT, asked.frame.raw, b"", 0, "no answer in the capture", asked.frame.unit_id
        )

    def _row(
        self, at_us: int, kind: OutcomeKind, request: bytes, answer: bytes, took_us: int, reason: str, unit_id: int
    ) -> ExchangeRow:
        self.count += 1
        first_us = took_us if answer else 0
        return ExchangeRow(
            at_us,
            self.line,
            self.link,
            Origin.REAL.value,
            "",
            unit_id,
            kind,
            0,
            request,
            answer,
            0,
            first_us,
            took_us,
            reason,
        )


def _judged(request: Frame, event: Frame | Garbled) -> tuple[OutcomeKind, str]:
    """How an exchange ended, and why."""
    if isinstance(event, Garbled):
        return OutcomeKind.GARBLED, event.reason
    if event.unit_id != request.unit_id:
        return OutcomeKind.UNEXPECTED, f"unit {event.unit_id} answers for unit {request.unit_id}"
    try:
        answer = parse_answer(event.pdu)
        asked = parse_request(request.pdu)
    except PduError as error:
        return OutcomeKind.GARBLED, str(error)
    if isinstance(answer, Refused):
        return OutcomeKind.EXCEPTION, f"exception {answer.code}, {exception_text(answer.code)}"
    wrong = mismatch(asked, answer)
    return (OutcomeKind.UNEXPECTED, wrong) if wrong else (OutcomeKind.GOOD, "")


class Pairing:
    """Feed it packets; `unknown` counts those of link types that are not known, `others` those of other protocols."""

    def __init__(self) -> None:
        self.unknown: dict[int, int] = {}
        self.others = 0
        self.gaps = 0
        self._exchanges = CommentedExchanges()
        self._talks: OrderedDict[object, _Conversation] = OrderedDict()

    def take(self, packet: Packet) -> Iterator[ExchangeRow]:
        """What exchanges a packet ends."""
        if packet.linktype not in KNOWN:
            self.unknown[packet.linktype] = self.unknown.get(packet.linktype, 0) + 1
            return
        if packet.comment.startswith(OURS):
            row = self._exchanges.take(packet, _data_of(packet))
            if row is not None:
                yield row
            if self._exchanges.is_taken:
                return
        if packet.linktype in (USER0, USER1):
            yield from self._of_serial(packet)
            return
        segment = _segment_of(packet)
        if segment is None or not segment.data:
            return
        yield from self._of_network(packet, segment)

    def rest(self) -> Iterator[ExchangeRow]:
        yield from self._exchanges.rest()
        for talk in self._talks.values():
            yield from talk.rest()

    def _of_serial(self, packet: Packet) -> Iterator[ExchangeRow]:
        key = ("serial", packet.interface, packet.name)
        talk = self._talks.get(key)
        if talk is None:
            described = packet.description if "://" in packet.description else ""
            scheme = "ascii" if packet.linktype == USER1 else "rtu"
            link = described or f"{scheme}:///unknown"
            talk = yield from self._new(key, packet.name or "serial line", link)
        direction = packet.direction or (INBOUND if talk.waiting else OUTBOUND)
        if direction in (INBOUND, OUTBOUND):
            yield from talk.take(packet.at_us, direction, packet.data, settle=True)

    def _of_network(self, packet: Packet, segment: _Segment) -> Iterator[ExchangeRow]:
        described = link_of(packet.description) if "://" in packet.description else None
        port = described.address[1] if described is not None and described.address is not None else None
        key = (frozenset((segment.source, segment.target)), segment.is_tcp, packet.interface)
        talk = self._talks.get(key)
        server = _server_of(segment, port)
        if talk is None:
            if server is None:
                self.others += 1
                return
            scheme = "tcp" if segment.is_tcp else "udp"
            host = f"[{server[0]}]" if ":" in server[0] else server[0]
            link = packet.description if described is not None else f"{scheme}://{host}:{server[1]}"
            talk = yield from self._new(key, packet.name if described else f"{host}:{server[1]}", link)
            talk_server = server
        else:
            talk_server = server or segment.target
        direction = (
            packet.direction
            if described is not None and packet.direction
            else (OUTBOUND if segment.target == talk_server else INBOUND)
        )
        data = self._in_order(talk, segment, direction)
        if data:
            yield from talk.take(packet.at_us, direction, data, settle=not segment.is_tcp)

    def _in_order(self, talk: _Conversation, segment: _Segment, direction: int) -> bytes:
        """What is new of a segment: what was sent again is not taken twice, and where some is missing the stream is
        taken up again."""
        if not segment.is_tcp:
            return segment.data
        data, expected = segment.data, talk.expected[direction]
        if expected is not None:
            behind = expected - segment.sequence & 0xFFFFFFFF
            if 0 < behind < 1 << 30:
                data = data[behind:]
            elif behind:
                self.gaps += 1
                talk.decoders[direction].reset()
        if data:
            talk.expected[direction] = segment.sequence + len(segment.data) & 0xFFFFFFFF
        return data

    def _new(self, key: object, line: str, link: str) -> Generator[ExchangeRow, None, _Conversation]:
        if len(self._talks) >= _MOST_STREAMS:
            yield from self._talks.popitem(last=False)[1].rest()
        parsed = link_of(link)
        framing = framing_of(parsed)
        talk = self._talks[key] = _Conversation(line, link, framing)
        return talk


def _data_of(packet: Packet) -> bytes:
    if packet.linktype in (USER0, USER1):
        return packet.data
    segment = _segment_of(packet)
    return segment.data if segment is not None else b""


def _server_of(segment: _Segment, port: int | None) -> tuple[str, int] | None:
    """Which end is the slave's or the gateway's: the standard's port, or the one that the file tells; else the lower
    one, where the bytes look like a frame of TCP."""
    wanted = (port,) if port is not None else (_STANDARD_PORT,)
    for end in (segment.target, segment.source):
        if end[1] in wanted:
            return end
    data = segment.data
    if port is None and len(data) >= 8 and data[2:4] == b"\0\0" and int.from_bytes(data[4:6], "big") == len(data) - 6:
        return min(segment.source, segment.target, key=lambda end: end[1])
    return None


def _segment_of(packet: Packet) -> _Segment | None:
    """The TCP segment or UDP datagram in a packet; None where there is none, or it is cut."""
    data = _ip_of(packet)
    try:
        if data[:1] and data[0] >> 4 == 4:
            size, total, protocol = (data[0] & 15) * 4, int.from_bytes(data[2:4], "big"), data[9]
            if int.from_bytes(data[6:8], "big") & 0x3FFF:
                return None  # a fragment
            source, target = ".".join(map(str, data[12:16])), ".".join(map(str, data[16:20]))
            data = data[size : total or len(data)]
        elif data[:1] and data[0] >> 4 == 6:
            size, protocol = int.from_bytes(data[4:6], "big"), data[6]
            source, target = _v6(data[8:24]), _v6(data[24:40])
            data = data[40 : 40 + size]
        else:
            return None
        ports = unpack(">HH", data[:4])
        if protocol == _TCP:
            return _Segment(
                (source, ports[0]), (target, ports[1]), True, unpack(">I", data[4:8])[0], data[(data[12] >> 4) * 4 :]
            )
        if protocol == _UDP:
            return _Segment((source, ports[0]), (target, ports[1]), False, 0, data[8:])
    except (IndexError, ValueError, OverflowError, struct.error):
        return None
    return None


def _v6(raw: bytes) -> str:
    import ipaddress

    return str(ipaddress.IPv6Address(raw))


def _ip_of(packet: Packet) -> bytes:
    data, linktype = packet.data, packet.linktype
    if linktype == ETHERNET:
        at = 12
        while data[at : at + 2] in (b"\x81\x00", b"\x88\xa8"):  # tags of virtual networks
            at += 4
        return data[at + 2 :]
    skipped = {_NULL: 4, _COOKED: 16, _COOKED2: 20}.get(linktype, 0)
    return data[skipped:]
