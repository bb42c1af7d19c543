"""ASCII framing (serial line 1.02, 2.5.2): ':' + hex pairs + LRC + CR LF, at most 513 characters.

A new ':' always begins a new frame; whatever stood before it without an end is garbled. Both letter cases are read.
Requests may end with another character than LF (diagnostics, sub-function 3); answers end with LF, and one that ends
with that character is read too.
"""

from kanaleto.wire.checks import lrc
from kanaleto.wire.codes import MOST_PDU_BYTES
from kanaleto.wire.frames import Event, Frame, Garbled, Role

LONGEST = 513
_START, LINE_FEED = ord(":"), ord("\n")
_NO_END = frozenset(b"0123456789ABCDEFabcdef:\r")


def may_end(delimiter: int) -> bool:
    """Whether a character can be the end of frames: not one that stands inside them."""
    return 0 <= delimiter <= 0xFF and delimiter not in _NO_END


class Ascii:
    """ASCII as a Framing, whose requests end with CR and `delimiter`."""

    name = "ascii"
    has_transactions = False

    def __init__(self, delimiter: int = LINE_FEED) -> None:
        self.delimiter = delimiter

    def encode(self, unit_id: int, pdu: bytes, transaction: int = 0) -> bytes:
        if not 1 <= len(pdu) <= MOST_PDU_BYTES:
            raise ValueError(f"a PDU of {len(pdu)} bytes does not fit a frame")
        body = bytes((unit_id,)) + pdu
        return b":" + (body + bytes((lrc(body),))).hex().upper().encode("ascii") + bytes((0x0D, self.delimiter))

    def decoder(self, role: Role) -> "AsciiDecoder":
        return AsciiDecoder(self.delimiter, role)


class AsciiDecoder:
    """Both directions look alike, but for what may end an answer. Holds at most 513 characters."""

    def __init__(self, delimiter: int, role: Role) -> None:
        self._held = bytearray()
        self._ends = frozenset((delimiter, LINE_FEED) if role is Role.ANSWERS else (delimiter,))

    @property
    def held(self) -> int:
        return len(self._held)

    @property
    def lacks_bytes(self) -> bool:
        return bool(self._held)

    def reset(self) -> None:
        self._held.clear()

    def drop(self) -> bytes:
        held = bytes(self._held)
        self.reset()
        return held

    def end_with(self, delimiter: int) -> list[Event]:
        ends = frozenset((delimiter,))
        if ends == self._ends:
            return []
        self._ends = ends
        held = bytes(self._held)
        self._held.clear()
        return self.feed(held)

    def silence(self) -> list[Event]:
        if not self._held:
            return []
        raw = bytes(self._held)
        self._held.clear()
        return [Garbled(raw, f"cut short: {len(raw)} characters without an end")]

    def feed(self, data: bytes) -> list[Event]:
        events: list[Event] = []
        held = self._held
        for piece in _pieces(data, self._ends):
            if piece[0] == _START and held:
                events.append(Garbled(bytes(held), "no end before the next ':'"))
                held.clear()
            held += piece
            if held[-1] in self._ends:
                events.append(_frame(bytes(held), self._ends))
                held.clear()
            elif len(held) > LONGEST:
                events.append(Garbled(bytes(held[:LONGEST]), f"more than {LONGEST} characters without an end"))
                del held[:LONGEST]
        return events


def _pieces(data: bytes, ends: frozenset[int]) -> list[bytes]:
    """Cut after every end and before every ':'; pieces are never longer than a frame."""
    pieces, start = [], 0
    for at, byte in enumerate(data):
        if (byte == _START or at - start >= LONGEST) and at > start:
            pieces.append(data[start:at])
            start = at
        if byte in ends:
            pieces.append(data[start : at + 1])
            start = at + 1
    if start < len(data):
        pieces.append(data[start:])
    return pieces


def _frame(raw: bytes, ends: frozenset[int]) -> Event:
    if raw[0] != _START or raw[-2:-1] != b"\r" or raw[-1] not in ends:
        return Garbled(raw, "no ':' at the start" if raw[0] != _START else "no CR before the end")
    if len(raw) > LONGEST:
        return Garbled(raw, f"{len(raw)} characters, {LONGEST} are possible")
    digits = raw[1:-2]
    try:
        text = digits.decode("ascii")
        body = bytes.fromhex(text) if not any(character.isspace() for character in text) else b""
    except ValueError:
        return Garbled(raw, "characters that are no hexadecimal digits")
    if len(body) < 3 or 2 * len(body) != len(digits):
        return Garbled(raw, f"{len(digits)} digits are no frame")
    due = lrc(body[:-1])
    if body[-1] != due:
        return Garbled(raw, f"LRC {body[-1]:02X} came, {due:02X} would be right")
    return Frame(body[0], body[1:-1], raw)
