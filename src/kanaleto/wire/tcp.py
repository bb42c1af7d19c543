"""TCP framing (messaging guide 1.0b, 3.1): transaction, protocol id 0, length, unit ID, PDU; at most 260 bytes.

A wrong protocol id with a believable length costs that frame; a length that cannot be is fatal, since nothing in the
stream tells where the next frame begins: the connection must be closed.
"""

from struct import Struct

from kanaleto.wire.codes import MOST_PDU_BYTES
from kanaleto.wire.frames import Event, Frame, Garbled, Role

_HEAD = Struct(">HHHB")
HEAD_BYTES = 7
LONGEST = 260


class Tcp:
    """TCP as a Framing; UDP carries one such frame a datagram."""

    name = "tcp"
    has_transactions = True

    def encode(self, unit_id: int, pdu: bytes, transaction: int = 0) -> bytes:
        if not 1 <= len(pdu) <= MOST_PDU_BYTES:
            raise ValueError(f"a PDU of {len(pdu)} bytes does not fit a frame")
        return _HEAD.pack(transaction, 0, len(pdu) + 1, unit_id) + pdu

    def decoder(self, role: Role) -> "TcpDecoder":
        return TcpDecoder()


class TcpDecoder:
    """Both directions look alike. Holds at most one frame and what came with it in one piece."""

    def __init__(self) -> None:
        self._held = b""
        self._broken = False

    @property
    def held(self) -> int:
        return len(self._held)

    @property
    def lacks_bytes(self) -> bool:
        return bool(self._held)

    def reset(self) -> None:
        self._held, self._broken = b"", False

    def drop(self) -> bytes:
        held = self._held
        self.reset()
        return held

    def end_with(self, delimiter: int) -> list[Event]:
        """Nothing ends a frame here but its length."""
        return []

    def silence(self) -> list[Event]:
        return []

    def feed(self, data: bytes) -> list[Event]:
        if self._broken:
            return []
        held = self._held + data if self._held else data
        events: list[Event] = []
        at, have = 0, len(held)
        while have - at >= HEAD_BYTES:
            transaction, protocol, length, unit_id = _HEAD.unpack_from(held, at)
            end = at + 6 + length
            if not 2 <= length <= MOST_PDU_BYTES + 1:
                self._broken = True
                events.append(Garbled(held[at:], f"length {length} in the header, 2…254 are possible", fatal=True))
                self._held = b""
                return events
            if end > have:
                break
            raw = held[at:end]
            if protocol:
                events.append(Garbled(raw, f"protocol id {protocol} in the header, 0 is due"))
            else:
                events.append(Frame(unit_id, raw[HEAD_BYTES:], raw, transaction))
            at = end
        self._held = held[at:] if at else held
        return events
