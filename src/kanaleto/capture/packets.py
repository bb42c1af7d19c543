"""Packets of capture files in the open formats pcapng and pcap, of any program. Read one behind the other: a file may
be as large as it likes. What is damaged or cut short is reported, and ends the reading there."""

from collections.abc import Iterator
from pathlib import Path
from struct import Struct, unpack
from typing import BinaryIO, NamedTuple

_SECTION, _INTERFACE, _SIMPLE, _PACKET = 0x0A0D0D0A, 1, 3, 6
_MAGIC = 0x1A2B3C4D
_PCAP = {0xA1B2C3D4: 1_000_000, 0xA1B23C4D: 1_000_000_000}
_MOST_BLOCK = 16 << 20
_MOST_INTERFACES = 10_000
_NAME, _DESCRIPTION, _RESOLUTION, _FLAGS, _COMMENT = 2, 3, 9, 2, 1


class Packet(NamedTuple):
    """`direction` is 1 inbound, 2 outbound, 0 unknown; `name` and `description` are the interface's."""

    at_us: int
    linktype: int
    interface: int
    name: str
    description: str
    direction: int
    data: bytes
    comment: bytes = b""


def is_packets(path: Path) -> bool:
    with path.open("rb") as file:
        raw = file.read(4)
    return len(raw) == 4 and (unpack("<I", raw)[0] in (_SECTION, *_PCAP) or unpack(">I", raw)[0] in _PCAP)


def read(file: BinaryIO, name: str, damaged: list[str]) -> Iterator[Packet]:
    """Every packet of a file."""
    raw = file.read(4)
    file.seek(0)
    if unpack("<I", raw)[0] == _SECTION:
        yield from _pcapng(file, name, damaged)
    else:
        yield from _pcap(file, name, damaged)


def _pcap(file: BinaryIO, name: str, damaged: list[str]) -> Iterator[Packet]:
    head = file.read(24)
    order = "<" if unpack("<I", head[:4])[0] in _PCAP else ">"
    if len(head) < 24:
        damaged.append(f"{name} is cut short in its head")
        return
    per_s = _PCAP[unpack(f"{order}I", head[:4])[0]]
    linktype = unpack(f"{order}I", head[20:24])[0] & 0xFFFF
    record = Struct(f"{order}IIII")
    place = 24
    while raw := file.read(16):
        size = record.unpack(raw)[2] if len(raw) == 16 else 0
        data = file.read(min(size, _MOST_BLOCK))
        if len(raw) < 16 or len(data) < size:
            damaged.append(f"{name} is cut short at byte {place:,}")
            return
        seconds, fraction, _, _ = record.unpack(raw)
        yield Packet(seconds * 1_000_000 + fraction * 1_000_000 // per_s, linktype, 0, "", "", 0, data)
        place += 16 + size


class _ReadInterface(NamedTuple):
    linktype: int
    name: str
    description: str
    per_s: int


def _pcapng(file: BinaryIO, name: str, damaged: list[str]) -> Iterator[Packet]:
    order, place = "<", 0
    interfaces: list[_ReadInterface] = []
    while raw := file.read(8):
        if len(raw) < 8:
            damaged.append(f"{name} is cut short at byte {place:,}")
            return
        kind, size = unpack(f"{order}II", raw)
        more = b""
        if kind == _SECTION:
            more = file.read(4)
            order = "<" if more == _MAGIC.to_bytes(4, "little") else ">"
            (size,) = unpack(f"{order}I", raw[4:])
            interfaces = []
            if more not in (_MAGIC.to_bytes(4, "little"), _MAGIC.to_bytes(4, "big")):
                size = 0
        if size % 4 or not 12 + len(more) <= size <= _MOST_BLOCK:
            damaged.append(f"{name} is damaged at byte {place:,}: no block is {size:,} bytes long")
            return
        body = more + file.read(size - 8 - len(more))
        if len(body) < size - 8:
            damaged.append(f"{name} is cut short at byte {place:,}")
            return
        if unpack(f"{order}I", body[-4:])[0] != size:
            damaged.append(f"{name} is damaged at byte {place:,}: the two lengths of the block differ")
            return
        try:
            if kind == _INTERFACE and len(interfaces) < _MOST_INTERFACES:
                interfaces.append(_interface(body[:-4], order))
            elif kind in (_PACKET, _SIMPLE):
                packet = _packet(body[:-4], order, interfaces, is_simple=kind == _SIMPLE)
                if packet is not None:
                    yield packet
        except (ValueError, IndexError) as error:
            damaged.append(f"{name}: the block at byte {place:,} was passed over: {error}")
        place += size


def _interface(body: bytes, order: str) -> _ReadInterface:
    if len(body) < 8:
        raise ValueError("an interface without its type")
    (linktype,) = unpack(f"{order}H", body[:2])
    options = _options(body[8:], order)
    resolution = options.get(_RESOLUTION, b"\x06")[0]
    power = resolution & 0x7F
    if power > 62:
        raise ValueError("times finer than can be reckoned with")
    per_s: int = 2**power if resolution & 0x80 else 10**power
    texts = [options.get(code, b"").decode("utf-8", "replace") for code in (_NAME, _DESCRIPTION)]
    return _ReadInterface(linktype, texts[0], texts[1], per_s)


def _packet(body: bytes, order: str, interfaces: list[_ReadInterface], is_simple: bool) -> Packet | None:
    if is_simple:
        interface = interfaces[0]
        return Packet(0, interface.linktype, 0, interface.name, interface.description, 0, body[4:])
    if len(body) < 20:
        raise ValueError("a packet without its head")
    number, high, low, taken, _ = unpack(f"{order}IIIII", body[:20])
    if number >= len(interfaces):
        raise ValueError(f"interface {number} was never described")
    if 20 + taken > len(body):
        raise ValueError(f"a packet of {taken:,} bytes in a block of {len(body):,}")
    interface = interfaces[number]
    options = _options(body[20 + taken + (-taken % 4) :], order)
    flags = options.get(_FLAGS, b"")
    direction = unpack(f"{order}I", flags)[0] & 3 if len(flags) == 4 else 0
    at_us = (high << 32 | low) * 1_000_000 // interface.per_s
    data, comment = body[20 : 20 + taken], options.get(_COMMENT, b"")
    return Packet(at_us, interface.linktype, number, interface.name, interface.description, direction, data, comment)


def _options(body: bytes, order: str) -> dict[int, bytes]:
    found: dict[int, bytes] = {}
    place = 0
    while place + 4 <= len(body):
        code, size = unpack(f"{order}HH", body[place : place + 4])
        if code == 0:
            break
        found[code] = body[place + 4 : place + 4 + size]
        place += 4 + size + (-size % 4)
    return found
