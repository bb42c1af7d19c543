"""Where a garbled answer is damaged, as far as its bytes prove it. Nothing is claimed that would fit random bytes more
than once in a hundred: with check bytes of 16 bits that rules out the place of a missing byte, and a flipped bit in an
answer of more than 40 bytes."""

from msgspec import Struct

from kanaleto.capture.row import ExchangeRow, framing_name, link_of
from kanaleto.evidence.rate import other_settings
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.wire.checks import crc16
from kanaleto.wire.pdu import Read

_MOST_BITS = 327  # of the 32 768 check sums that an odd number of flipped bits may have: one in a hundred
_SHORTEST = 4
_HEAD = 3
_HEXADECIMAL = b"0123456789ABCDEF"


class Damage(Struct, frozen=True):
    """`kind` is one word; `start` to `end` are the bytes that are damaged, both 0 where their place is not proved;
    `right` is what should stand there, where that is proved."""

    kind: str
    text: str
    start: int = 0
    end: int = 0
    right: bytes = b""


def damage_of(row: ExchangeRow) -> Damage | None:
    """Of a garbled or strange answer; None where nothing is proved."""
    answer, request = row.answer, row.request
    if not answer or row.kind not in (OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED):
        return None
    asked = row.asked()
    if request and answer.startswith(request) and isinstance(asked, Read):
        more = f", {len(answer) - len(request)} bytes behind it" if len(answer) > len(request) else ""
        return Damage("echo", f"the request itself came back{more}", 0, len(request))
    match framing_name(row.link):
        case "tcp":
            return _of_tcp(answer)
        case "ascii":
            return _of_ascii(answer)
    other = other_settings(row)
    if other is not None:
        settings = link_of(row.link).settings
        return Damage("rate", f"it was {other.text(settings)}" if settings is not None else "", 0, len(answer))
    return _of_rtu(answer, request, asked)


def _of_rtu(answer: bytes, request: bytes, asked: object) -> Damage | None:
    due = asked.answer_bytes + 5 if isinstance(asked, Read) else 0
    sizes = sorted({size for size in (due, 5) if size})
    unit_function = request[:2]
    for size in sizes:
        if len(answer) <= size:
            continue
        if _is_answer(answer[:size], unit_function):
            rest = answer[size:]
            if _is_frame(rest) or any(_is_answer(rest[:other], unit_function) for other in sizes):
                return Damage("two", f"two answers in one: the second begins at byte {size + 1}", size, len(answer))
            text = f"a whole answer, and {len(rest)} byte{'s' if len(rest) > 1 else ''} too many behind it"
            return Damage("many", text, size, len(answer))
        if _is_answer(answer[-size:], unit_function):
            count = len(answer) - size
            text = f"{count} byte{'s' if count > 1 else ''} too many before a whole answer"
            return Damage("many", text, 0, count)
    if due and _has_head(answer, unit_function, due):
        apart = len(answer) - due
        if apart:
            count = abs(apart)
            text = f"{count} byte{'s' if count > 1 else ''} too {'many' if apart > 0 else 'few'}: {due} are due"
            return Damage("many" if apart > 0 else "few", f"{text}; where is not to be told")
    if len(answer) in sizes:
        return _flipped(answer, unit_function)
    return None


def _is_frame(raw: bytes) -> bool:
    return len(raw) >= _SHORTEST and crc16(raw) == 0


def _is_answer(raw: bytes, unit_function: bytes) -> bool:
    """Whether these bytes are a sound answer to such a request, be it a refusal."""
    alike = raw[:1] == unit_function[:1] and len(raw) > 1 and raw[1] & 0x7F == unit_function[1]
    return alike and _is_frame(raw)


def _has_head(answer: bytes, unit_function: bytes, due: int) -> bool:
    return answer[:2] == unit_function and len(answer) >= _HEAD and answer[2] == due - 5


def _flipped(answer: bytes, unit_function: bytes) -> Damage | None:
    """One bit that was turned over, where the check bytes prove which."""
    if 8 * len(answer) > _MOST_BITS:
        return None
    data = bytearray(answer)
    for place in range(len(data)):
        for bit in range(8):
            data[place] ^= 1 << bit
            if _is_answer(bytes(data), unit_function):
                right = bytes(data[place : place + 1])
                text = (
                    f"one bit flipped: bit {bit} of byte {place + 1}, {right.hex().upper()} became {answer[place]:02X}"
                )
                return Damage("bit", text, place, place + 1, right)
            data[place] ^= 1 << bit
    return None


def _of_tcp(answer: bytes) -> Damage | None:
    if len(answer) < 8:
        return Damage("few", f"{len(answer)} bytes are too few for a frame: 8 is the least", 0, len(answer))
    protocol, length, follow = answer[2:4], int.from_bytes(answer[4:6]), len(answer) - 6
    if protocol != b"\0\0":
        return Damage("protocol", "the protocol field is not 0", 2, 4, b"\0\0")
    if length != follow:
        return Damage("length", f"the length field says {length}, {follow} bytes follow", 4, 6, follow.to_bytes(2))
    return None


def _of_ascii(answer: bytes) -> Damage | None:
    """What is no digit is damaged for sure; with check bytes of 8 bits nothing else is proved."""
    begin = answer.find(b":")
    if begin < 0:
        return None
    body = answer[begin + 1 :].rstrip(b"\r\n")
    for place, character in enumerate(body):
        if character not in _HEXADECIMAL:
            at = begin + 1 + place
            shown = chr(character) if 32 < character < 127 else f"0x{character:02X}"
            return Damage("digit", f"character {at + 1} ({shown}) is no hexadecimal digit", at, at + 1)
    if len(body) % 2:
        return Damage("few", "an odd number of digits: one is missing, or there is one too many")
    return None
