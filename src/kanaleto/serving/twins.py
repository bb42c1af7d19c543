"""Whether somebody else answers on a bus where devices stand in: a frame that is an answer to the last request, and was
not sent by us. A request looks otherwise, but for some of eight bytes, which tell nothing here."""

from kanaleto.wire.codes import Function
from kanaleto.wire.frames import Frame, Framing, Role

_MOST_BYTES = 600
_WITHIN_S = 3.0  # an answer that comes later belongs to nothing
_REQUEST_PDU = 5  # of a read: function, address, count
_BITS = (Function.READ_COILS, Function.READ_DISCRETE_INPUTS)
_REGISTERS = (Function.READ_HOLDING_REGISTERS, Function.READ_INPUT_REGISTERS)
_SPANS = (Function.WRITE_COILS, Function.WRITE_REGISTERS)


class TwinWatch:
    """Of one line. Times are loop times."""

    def __init__(self, framing: Framing) -> None:
        self._framing = framing
        self._unit_id, self._pdu, self._asked_s = -1, b"", 0.0
        self._came = self._sent = b""

    def note_sent(self, raw: bytes) -> None:
        """Our own answer, which may come back where an adapter repeats it."""
        self._sent = raw

    def note_request(self, unit_id: int, pdu: bytes, at_s: float, data: bytes) -> None:
        """A master has asked; `data` is what it came in, maybe with more behind it."""
        raw = self._framing.encode(unit_id, pdu)
        self._unit_id, self._pdu, self._asked_s = unit_id, pdu, at_s
        self._came = data.partition(raw)[2]

    def take(self, data: bytes, at_s: float) -> int | None:
        """Bytes that are not ours; the unit ID under which somebody else has answered."""
        if self._unit_id < 0 or not self._pdu or at_s - self._asked_s > _WITHIN_S:
            return None
        self._came = (self._came + data)[-_MOST_BYTES:]
        return self.look()

    def look(self) -> int | None:
        if not self._came:
            return None
        for event in self._framing.decoder(Role.ANSWERS).feed(self._came):
            if not isinstance(event, Frame) or event.raw == self._sent or event.unit_id != self._unit_id:
                continue
            if self._answers(event.pdu):
                return self._unit_id
        return None

    def _answers(self, pdu: bytes) -> bool:
        """Whether it answers the last request, and can be no request."""
        asked = self._pdu
        if len(pdu) == 2 and pdu[0] == asked[0] | 0x80:
            return True
        if not pdu or pdu[0] != asked[0]:
            return False
        if len(asked) == _REQUEST_PDU and pdu[0] in (*_BITS, *_REGISTERS):
            count = int.from_bytes(asked[3:5])
            expected = (count + 7) // 8 if pdu[0] in _BITS else 2 * count
            return len(pdu) == 2 + expected and pdu[1] == expected and len(pdu) != _REQUEST_PDU
        return pdu[0] in _SPANS and len(pdu) == _REQUEST_PDU and pdu == asked[:_REQUEST_PDU]
