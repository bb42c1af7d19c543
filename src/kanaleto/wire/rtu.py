"""RTU framing (serial line 1.02, 2.5.1): unit ID, PDU, CRC low byte first; at most 256 bytes.

The decoder delimits by length where the function tells it, and by a valid CRC followed by silence where it does not.
When the bytes at its head make no sound frame it keeps them until the line is silent or the buffer is full. All that
came up to a silence is a frame if its CRC is right, whatever its function says of its length: what it holds is then
wrong in a way that can be known. Otherwise a frame is looked for at every later byte: a stream re-synchronises by CRC,
and a stray byte before an answer costs nothing but a Garbled event. A slave hears what others answer too: that is no
noise.
"""

from kanaleto.wire.checks import crc16, crc_bytes
from kanaleto.wire.codes import MOST_PDU_BYTES
from kanaleto.wire.frames import Event, Frame, Garbled, Role
from kanaleto.wire.lengths import MORE, UNKNOWN, frame_length

SHORTEST, LONGEST = 4, 256
_MOST_HELD = 2 * LONGEST
_MOST_LOOKED_THROUGH = 2048  # bytes without a frame, of requests


class Rtu:
    """RTU as a Framing."""

    name = "rtu"
    has_transactions = False

    def encode(self, unit_id: int, pdu: bytes, transaction: int = 0) -> bytes:
        if not 1 <= len(pdu) <= MOST_PDU_BYTES:
            raise ValueError(f"a PDU of {len(pdu)} bytes does not fit a frame")
        body = bytes((unit_id,)) + pdu
        return body + crc_bytes(body)

    def decoder(self, role: Role) -> "RtuDecoder":
        return RtuDecoder(role)


def _is_sound(data: bytes | bytearray) -> bool:
    return crc16(data) == 0  # a CRC over a frame with its own check bytes leaves nothing


def _shortest_sound(held: bytearray, at: int) -> int:
    """Bytes from `at` to the first place where the CRC comes out right; 0 when it never does."""
    for length in range(SHORTEST, min(len(held) - at, LONGEST) + 1):
        if _is_sound(held[at : at + length]):
            return length
    return 0


class RtuDecoder:
    """See the head of this file. Holds at most 512 bytes."""

    def __init__(self, role: Role) -> None:
        self._role = role
        self._held = bytearray()
        self._noise = 0
        self._hopeless = False  # the frame at the head is complete and wrong: only silence can help

    @property
    def held(self) -> int:
        return len(self._held)

    @property
    def lacks_bytes(self) -> bool:
        if not self._held or self._hopeless:
            return False
        length = frame_length(self._role, self._held)
        return (length == MORE or length > len(self._held)) and not self._is_whole()

    def _is_whole(self) -> bool:
        return SHORTEST <= len(self._held) <= LONGEST and _is_sound(self._held)

    def reset(self) -> None:
        self._held.clear()
        self._hopeless = False

    def feed(self, data: bytes) -> list[Event]:
        held = self._held
        held += data
        events: list[Event] = []
        while held and not self._hopeless:
            length = frame_length(self._role, held)
            if length in (MORE, UNKNOWN) or len(held) < length:
                events += self._behind_noise()
                break
            raw = bytes(held[:length])
            if length > LONGEST or not _is_sound(raw):
                length = self._answered_length(0)
                if not length:
                    events += self._behind_noise()
                    self._hopeless = bool(held)
                    break
                raw = bytes(held[:length])
            del held[:length]
            events.append(Frame(raw[0], raw[1:-2], raw))
        if len(held) > _MOST_HELD:
            events += self._settle(keep=LONGEST) if self._noise < _MOST_LOOKED_THROUGH else self._discard()
        if self._role is Role.REQUESTS and events:
            is_noise = all(isinstance(event, Garbled) for event in events)
            self._noise = self._noise + sum(len(event.raw) for event in events) if is_noise else 0
        return events

    def _discard(self) -> list[Event]:
        """Much noise in a row: nobody asks like that, and looking for a frame at each byte of it would cost others."""
        noise = bytes(self._held[:-LONGEST])
        del self._held[:-LONGEST]
        return [Garbled(noise, f"{len(noise)} bytes of much that is no frame")]

    def _behind_noise(self) -> list[Event]:
        """A request that ends with what is held, behind a few bytes that belong to nothing: a master waits for its
        answer, and sends no more."""
        held = self._held
        for at in range(1, SHORTEST if self._role is Role.REQUESTS else 1):
            if frame_length(self._role, held, at) == len(held) - at <= LONGEST and _is_sound(held[at:]):
                noise, raw = bytes(held[:at]), bytes(held[at:])
                held.clear()
                return [self._garbled(noise), Frame(raw[0], raw[1:-2], raw)]
        return []

    def _answered_length(self, at: int) -> int:
        """Bytes of what another slave answered, sound, from `at`; 0 where that is none, or answers are read anyway."""
        if self._role is Role.ANSWERS:
            return 0
        length = frame_length(Role.ANSWERS, self._held, at)
        is_there = SHORTEST <= length <= min(LONGEST, len(self._held) - at)
        return length if is_there and _is_sound(self._held[at : at + length]) else 0

    def drop(self) -> bytes:
        held = bytes(self._held)
        self.reset()
        return held

    def end_with(self, delimiter: int) -> list[Event]:
        """Nothing ends a frame here but its length."""
        return []

    def silence(self) -> list[Event]:
        return self._settle(keep=0) if self._held else []

    def _settle(self, keep: int) -> list[Event]:
        """Find the frames in what is held; the rest is garbled, but for the last `keep` bytes, which may still grow."""
        held, start, scan = self._held, 0, 0
        events: list[Event] = []
        if keep == 0 and self._is_whole():
            whole = bytes(held)
            self.reset()
            return [Frame(whole[0], whole[1:-2], whole)]
        while scan < len(held) - keep:
            raw = self._frame_at(scan, is_silent=keep == 0, may_be_merged=scan == start)
            if raw is None:
                scan += 1
                continue
            if scan > start:
                events.append(self._garbled(bytes(held[start:scan])))
            events.append(Frame(raw[0], raw[1:-2], raw))
            scan = start = scan + len(raw)
        if scan > start:
            events.append(self._garbled(bytes(held[start:scan])))
        del held[:scan]
        self._hopeless = False
        return events

    def _frame_at(self, at: int, is_silent: bool, may_be_merged: bool) -> bytes | None:
        """The sound frame that begins there. Where the function does not tell its length it must end with the silence,
        or, behind something that is settled already, where the CRC first comes out right."""
        length = frame_length(self._role, self._held, at)
        if length == UNKNOWN and is_silent:
            length = len(self._held) - at
            if may_be_merged and not (length <= LONGEST and _is_sound(self._held[at:])):
                length = _shortest_sound(self._held, at)
        if SHORTEST <= length <= min(LONGEST, len(self._held) - at):
            raw = bytes(self._held[at : at + length])
            if _is_sound(raw):
                return raw
        length = self._answered_length(at)
        return bytes(self._held[at : at + length]) if length else None

    def _garbled(self, raw: bytes) -> Garbled:
        length = frame_length(self._role, raw)
        if length == MORE or (length > len(raw) and length <= LONGEST):
            due = f", {length} were due" if length > 0 else ""
            return Garbled(raw, f"cut short: {len(raw)} byte{'s' if len(raw) != 1 else ''}{due}")
        if length == UNKNOWN or length > LONGEST:
            length = len(raw)
        if length < SHORTEST:
            return Garbled(raw, f"{len(raw)} bytes are too few for a frame")
        came, due_crc = raw[length - 2 : length], crc_bytes(raw[: length - 2])
        return Garbled(raw, f"CRC {came.hex(' ').upper()} came, {due_crc.hex(' ').upper()} would be right")
