"""Check bytes: CRC-16 of RTU frames (serial line 1.02, 6.2.2) and LRC of ASCII frames (6.2.1)."""

from struct import unpack_from

_POLYNOMIAL = 0xA001
_START = 0xFFFF


def _one_byte_table() -> list[int]:
    table = []
    for value in range(256):
        crc = value
        for _ in range(8):
            crc = (crc >> 1) ^ _POLYNOMIAL if crc & 1 else crc >> 1
        table.append(crc)
    return table


_BYTE = _one_byte_table()
_PAIR: list[int] = []  # 65 536 entries, made when the first long frame comes: two bytes a step


def _two_byte_table() -> list[int]:
    """The register is as wide as two bytes, so one look-up can take both. The table is linear: double it bit by bit."""
    table = [0]
    for bit in range(16):
        first = _BYTE[(1 << bit) & 0xFF] ^ ((1 << bit) >> 8)
        single = (first >> 8) ^ _BYTE[first & 0xFF]
        table += [entry ^ single for entry in table]
    return table


def crc16(data: bytes | bytearray | memoryview) -> int:
    """CRC-16 of `data`; it goes on the wire low byte first."""
    length = len(data)
    crc = _START
    if length < 32:
        for byte in data:
            crc = (crc >> 8) ^ _BYTE[(crc ^ byte) & 0xFF]
        return crc
    if not _PAIR:
        _PAIR.extend(_two_byte_table())
    pair = _PAIR
    for word in unpack_from(f"<{length // 2}H", data):
        crc = pair[crc ^ word]
    if length & 1:
        crc = (crc >> 8) ^ _BYTE[(crc ^ data[-1]) & 0xFF]
    return crc


def crc_bytes(data: bytes | bytearray | memoryview) -> bytes:
    """The two check bytes that follow `data` in an RTU frame."""
    return crc16(data).to_bytes(2, "little")


def lrc(data: bytes | bytearray | memoryview) -> int:
    """LRC of the binary bytes from unit to last data byte: the two's complement of their 8-bit sum."""
    return -sum(data) & 0xFF
