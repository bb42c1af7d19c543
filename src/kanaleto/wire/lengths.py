"""How long an RTU frame is, known from its first bytes: by function and byte count (serial line 1.02, 2.5.1).

The standard's functions all tell, but for the loopback of diagnostics and encapsulated types other than identification;
a maker's own functions never do.
"""

from collections.abc import Callable

from kanaleto.wire.frames import Role

UNKNOWN = -1
MORE = 0

_Held = bytes | bytearray
_REQUEST_FIXED = {1: 8, 2: 8, 3: 8, 4: 8, 5: 8, 6: 8, 0x07: 4, 0x0B: 4, 0x0C: 4, 0x11: 4, 0x16: 10, 0x18: 6}
_REQUEST_COUNT_AT = {0x0F: 6, 0x10: 6, 0x14: 2, 0x15: 2, 0x17: 10}
_ANSWER_FIXED = {5: 8, 6: 8, 0x07: 5, 0x0B: 8, 0x0F: 8, 0x10: 8, 0x16: 10}
_ANSWER_COUNT_AT = {1: 2, 2: 2, 3: 2, 4: 2, 0x0C: 2, 0x11: 2, 0x14: 2, 0x15: 2, 0x17: 2}


def _diagnostics(held: _Held, start: int) -> int:
    if len(held) - start < 4:
        return MORE
    return 8 if held[start + 2] or held[start + 3] else UNKNOWN


def _fifo(held: _Held, start: int) -> int:
    if len(held) - start < 4:
        return MORE
    return 4 + int.from_bytes(held[start + 2 : start + 4]) + 2


def _identify(held: _Held, start: int) -> int:
    if len(held) - start < 3:
        return MORE
    return 7 if held[start + 2] == 0x0E else UNKNOWN


def _identity(held: _Held, start: int) -> int:
    if len(held) - start < 3:
        return MORE
    if held[start + 2] != 0x0E:
        return UNKNOWN
    if len(held) - start < 8:
        return MORE
    at = 8
    for _ in range(held[start + 7]):
        if start + at + 1 >= len(held):
            return MORE if at < 256 else at + 2
        at += 2 + held[start + at + 1]
    return at + 2


_REQUEST_OWN: dict[int, Callable[[_Held, int], int]] = {0x08: _diagnostics, 0x2B: _identify}
_ANSWER_OWN: dict[int, Callable[[_Held, int], int]] = {0x08: _diagnostics, 0x18: _fifo, 0x2B: _identity}


def frame_length(role: Role, held: _Held, start: int = 0) -> int:
    """Bytes of the RTU frame that begins at `held[start]`, check bytes included; MORE when that cannot be known yet,
    UNKNOWN when the function does not tell."""
    have = len(held) - start
    if have < 2:
        return MORE
    function = held[start + 1]
    if role is Role.REQUESTS:
        fixed, count_at, by_function = (
            _REQUEST_FIXED.get(function),
            _REQUEST_COUNT_AT.get(function),
            _REQUEST_OWN.get(function),
        )
    elif function & 0x80:
        fixed, count_at, by_function = 5, None, None
    else:
        fixed, count_at, by_function = (
            _ANSWER_FIXED.get(function),
            _ANSWER_COUNT_AT.get(function),
            _ANSWER_OWN.get(function),
        )
    if fixed is not None:
        return fixed
    if by_function is not None:
        return by_function(held, start)
    if count_at is None:
        return UNKNOWN
    if have <= count_at:
        return MORE
    return count_at + 1 + held[start + count_at] + 2
