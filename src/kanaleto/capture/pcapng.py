"""A capture as pcapng, for the tools that read it: section, interface and enhanced packet blocks.

One interface a line. Network lines are of link type 1, Ethernet: each frame of theirs in a TCP segment (or a UDP
datagram) of a connection with made-up addresses of hardware, sound lengths and check sums, and sequence numbers that
go on, as if it had been taken from the network. Serial lines are of link type 147 (RTU) or 148 (ASCII), a user's own: a
packet holds the bytes of one frame as they went over the line. The packet's flags say the direction: 2 outbound, a
request, 1 inbound, an answer or what came instead. Packets stand in the order of their times, over all lines.
"""

import ipaddress
import json
from collections.abc import Iterator
from heapq import heappop, heappush
from struct import pack, unpack_from
from typing import NamedTuple

from kanaleto.capture.row import ExchangeRow, link_of
from kanaleto.site.links.link import FramingKind, Link

ETHERNET, USER0, USER1 = 1, 147, 148
_SECTION, _INTERFACE, _PACKET = 0x0A0D0D0A, 1, 6
_MAGIC = 0x1A2B3C4D
_IF_NAME, _IF_DESCRIPTION, _COMMENT, _FLAGS, _APPLICATION = 2, 3, 1, 2, 4
INBOUND, OUTBOUND = 1, 2
_TCP, _UDP = 6, 17
_OUR_HARDWARE, _THEIR_HARDWARE = bytes.fromhex("020000000001"), bytes.fromhex("020000000002")
_OWN_V4, _OTHER_V4 = "192.0.2.1", "192.0.2.2"  # for documentation (RFC 5737)
_OWN_V6 = "2001:db8::1"
_FIRST_OWN_PORT = 49152
_MOST_DATA = 16_000  # bytes of a packet; more came at once only where somebody babbles


def _block(kind: int, body: bytes) -> bytes:
    size = 12 + len(body)
    return pack("<II", kind, size) + body + pack("<I", size)


def _option(code: int, value: bytes) -> bytes:
    return pack("<HH", code, len(value)) + value + b"\0" * (-len(value) % 4)


def section() -> bytes:
    """The head of a file."""
    options = _option(_APPLICATION, b"kanaleto") + _option(0, b"")
    return _block(_SECTION, pack("<IHHq", _MAGIC, 1, 0, -1) + options)


class _Waiting(NamedTuple):
    """A packet that waits for those before it."""

    at_us: int
    number: int
    line: str
    link: str
    data: bytes
    direction: int
    comment: str


def comment_of(row: ExchangeRow, exchange: int) -> str:
    """What the bytes do not say, as JSON: with it our file read back gives the rows of the tape. It stands at the
    request's packet; at the answer's where nothing was asked."""
    fields = {
        "kanaleto": 1,
        "device": row.device,
        "attempt": row.attempt,
        "outcome": row.kind.value,
        "reason": row.reason,
        "origin": row.origin,
        "unit_id": row.unit_id,
        "sent_ms": row.sent_us / 1000,
        "first_ms": row.first_us / 1000,
        "last_ms": row.last_us / 1000,
        "answer_bytes": len(row.answer),
        "exchange": exchange,
        **({} if row.request else {"at_us": row.at_us}),
    }
    return json.dumps(fields, ensure_ascii=False, separators=(",", ":"))


def answer_comment(row: ExchangeRow, exchange: int) -> str:
    """Which exchange of the file a packet belongs to, and what was wrong with it."""
    return json.dumps({"kanaleto": 1, "exchange": exchange, "reason": row.reason}, ensure_ascii=False)


_MOST_COMMENT = 60_000
_ROUNDED_US = 2
"""Times of one moment may differ by so much, since each is of its own request."""


class PcapngWriter:
    """Makes the blocks of exchanges, in the order of the times of their packets."""

    def __init__(self) -> None:
        self._interfaces: dict[tuple[str, str], _WrittenInterface] = {}
        self._waiting: list[_Waiting] = []
        self._number = self._exchange = 0
        self._came_us: dict[tuple[str, str], int] = {}  # the last of what came in, by line

    def begin(self) -> bytes:
        """Of another file: its head; interfaces are reported again."""
        self._interfaces = {}
        return section()

    def take(self, row: ExchangeRow) -> None:
        """The packets of an exchange, which wait until `ready`."""
        is_serial = link_of(row.link).is_serial
        self._exchange += 1
        if row.request or not row.answer:  # one that could not be sent has a packet without bytes
            self._put(row.at_us, row, row.request, OUTBOUND, comment_of(row, self._exchange))
        if row.answer:
            at_us = row.at_us + (row.last_us if is_serial else max(row.first_us, row.sent_us))
            last_us = self._came_us.get((row.line, row.link), 0)
            if 0 < last_us - at_us <= _ROUNDED_US:  # of one read: it stays behind what stood before it
                at_us = last_us
            self._came_us[row.line, row.link] = at_us
            for start in range(0, len(row.answer), _MOST_DATA):
                is_first = not row.request and not start
                comment = comment_of(row, self._exchange) if is_first else answer_comment(row, self._exchange)
                self._put(at_us, row, row.answer[start : start + _MOST_DATA], INBOUND, comment)

    def _put(self, at_us: int, row: ExchangeRow, data: bytes, direction: int, comment: str) -> None:
        self._number += 1
        heappush(self._waiting, _Waiting(at_us, self._number, row.line, row.link, data, direction, comment))

    def ready(self, before_us: float) -> Iterator[bytes]:
        """What is of before that time, in its order; nothing earlier comes any more."""
        while self._waiting and self._waiting[0].at_us < before_us:
            yield self._packet(heappop(self._waiting))

    def _packet(self, waiting: _Waiting) -> bytes:
        """With its interface where that is new."""
        key = (waiting.line, waiting.link)
        interface = self._interfaces.get(key)
        blocks = b""
        if interface is None:
            interface = self._interfaces[key] = _WrittenInterface(len(self._interfaces), link_of(waiting.link))
            options = _option(_IF_NAME, waiting.line.encode()[:200])
            options += _option(_IF_DESCRIPTION, waiting.link.encode()[:400])
            blocks = _block(_INTERFACE, pack("<HHI", interface.linktype, 0, 0) + options + _option(0, b""))
        return blocks + interface.packet(waiting.at_us, waiting.data, waiting.direction, waiting.comment)


class _WrittenInterface:
    def __init__(self, number: int, link: Link) -> None:
        self.number = number
        self.is_serial = link.is_serial
        self.linktype = ETHERNET
        if self.is_serial:
            self.linktype = USER1 if link.framing is FramingKind.ASCII else USER0
        self._protocol = _UDP if link.scheme == "udp" else _TCP
        self._own_port = _FIRST_OWN_PORT + number % 10_000
        self._sequence = {OUTBOUND: 1, INBOUND: 1}
        self._identification = 0
        if link.address is not None:
            host, self._port = link.address
            try:
                other = ipaddress.ip_address(host)
            except ValueError:  # a name: nobody is asked whose it is
                other = ipaddress.ip_address(_OTHER_V4)
            our_address = ipaddress.ip_address(_OWN_V4 if other.version == 4 else _OWN_V6)
            self._is_v4, self._address, self._other = other.version == 4, our_address.packed, other.packed

    def packet(self, at_us: int, data: bytes, direction: int, comment: str) -> bytes:
        """An enhanced packet block."""
        frame = data if self.is_serial else self._ethernet(data, direction)
        head = pack("<IIIII", self.number, at_us >> 32 & 0xFFFFFFFF, at_us & 0xFFFFFFFF, len(frame), len(frame))
        options = _option(_FLAGS, pack("<I", direction))
        if comment:
            options += _option(_COMMENT, comment.encode()[:_MOST_COMMENT])
        return _block(_PACKET, head + frame + b"\0" * (-len(frame) % 4) + options + _option(0, b""))

    def _ethernet(self, data: bytes, direction: int) -> bytes:
        is_out = direction == OUTBOUND
        source, target = (self._address, self._other) if is_out else (self._other, self._address)
        ports = (self._own_port, self._port) if is_out else (self._port, self._own_port)
        segment = self._segment(data, direction, ports)
        at = 16 if self._protocol == _TCP else 6
        pseudo = (
            source
            + target
            + (
                pack(">BBH", 0, self._protocol, len(segment))
                if self._is_v4
                else pack(">II", len(segment), self._protocol)
            )
        )
        total = checksum(pseudo + segment) or (0xFFFF if self._protocol == _UDP else 0)
        segment = segment[:at] + pack(">H", total) + segment[at + 2 :]
        hardware = (_THEIR_HARDWARE, _OUR_HARDWARE) if is_out else (_OUR_HARDWARE, _THEIR_HARDWARE)
        if not self._is_v4:
            head = pack(">IHBB", 0x60000000, len(segment), self._protocol, 64) + source + target
            return b"".join((*hardware, b"\x86\xdd", head, segment))
        self._identification = self._identification + 1 & 0xFFFF
        head = pack(">BBHHHBBH", 0x45, 0, 20 + len(segment), self._identification, 0x4000, 64, self._protocol, 0)
        head += source + target
        head = head[:10] + pack(">H", checksum(head)) + head[12:]
        return b"".join((*hardware, b"\x08\x00", head, segment))

    def _segment(self, data: bytes, direction: int, ports: tuple[int, int]) -> bytes:
        if self._protocol == _UDP:
            return pack(">HHHH", *ports, 8 + len(data), 0) + data
        other = INBOUND if direction == OUTBOUND else OUTBOUND
        push_and_acknowledge = 0x18
        head = pack(
            ">HHIIBBHHH",
            *ports,
            self._sequence[direction],
            self._sequence[other],
            0x50,
            push_and_acknowledge,
            65535,
            0,
            0,
        )
        self._sequence[direction] = (self._sequence[direction] + len(data)) & 0xFFFFFFFF
        return head + data


def checksum(data: bytes) -> int:
    """The ones' complement sum of IPv4, TCP and UDP (RFC 1071)."""
    data += b"\0" * (len(data) % 2)
    total: int = sum(unpack_from(f">{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF
