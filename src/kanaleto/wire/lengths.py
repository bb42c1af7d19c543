"""How long an RTU frame is, told from its first bytes: by function and byte count (serial line 1.02, 2.5.1)."""

from kanaleto.wire.frames import Role

_REQUEST_FIXED = {0x01: 8, 0x02: 8, 0x03: 8, 0x04: 8, 0x05: 8, 0x06: 8}
_REQUEST_COUNT_AT = {0x0F: 6, 0x10: 6}
_ANSWER_FIXED = {0x05: 8, 0x06: 8, 0x0F: 8, 0x10: 8}
_ANSWER_COUNT_AT = {0x01: 2, 0x02: 2, 0x03: 2, 0x04: 2}

UNKNOWN = -1
MORE = 0


def frame_length(role: Role, held: bytes | bytearray, start: int = 0) -> int:
    """Bytes of the RTU frame that begins at `held[start]`, check bytes included; MORE when that cannot be told yet, UNKNOWN
    when the function does not tell."""
    have = len(held) - start
    if have < 2:
        return MORE
    function = held[start + 1]
    if role is Role.REQUESTS:
        fixed, count_at = _REQUEST_FIXED.get(function), _REQUEST_COUNT_AT.get(function)
    elif function & 0x80:
        fixed, count_at = 5, None
    else:
        fixed, count_at = _ANSWER_FIXED.get(function), _ANSWER_COUNT_AT.get(function)
    if fixed is not None:
        return fixed
    if count_at is None:
        return UNKNOWN
    if have <= count_at:
        return MORE
    return count_at + 1 + held[start + count_at] + 2
