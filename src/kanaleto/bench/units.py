"""The simulated devices of one line, found by unit ID, and what is answered for units that nobody has."""

from kanaleto.bench.device import SimulatedDevice
from kanaleto.site.model import Line
from kanaleto.wire.codes import BROADCAST, ExceptionCode
from kanaleto.wire.pdu import Refused


class Units:
    """Devices of `line`. `is_serial` decides what units are that nobody has: silence on a serial line, exception 0B on
    TCP."""

    def __init__(self, line: Line, is_serial: bool) -> None:
        self.line = line
        self.devices = [SimulatedDevice(device, is_serial) for device in line.devices]
        self._by_unit = {simulated.device.unit_id: simulated for simulated in reversed(self.devices)}
        self._is_serial = is_serial

    @property
    def name(self) -> str:
        return self.line.name

    def answer(self, unit_id: int, pdu: bytes) -> bytes | None:
        """The PDU that answers, or None for silence."""
        found = self._by_unit.get(unit_id)
        if self._is_serial:
            for simulated in self.devices:
                simulated.communication.note_frame()
            if unit_id == 0:
                self._broadcast(pdu)
                return None
            return found.answer(pdu) if found is not None else None
        if found is None and unit_id in (0, 255) and len(self.devices) == 1:
            found = self.devices[0]
        if found is not None:
            return found.answer(pdu)
        return Refused(pdu[0] & 0x7F, ExceptionCode.GATEWAY_TARGET_FAILED).encode() if pdu else None

    def note_garbled(self) -> None:
        """Bytes came that were no frame: every device on a serial line counts them."""
        for simulated in self.devices:
            simulated.communication.note_garbled()

    @property
    def delimiter(self) -> int:
        """What ends an ASCII request on this line; a master may have changed it."""
        return self.devices[0].communication.delimiter if self.devices else ord("\n")

    def _broadcast(self, pdu: bytes) -> None:
        if pdu and pdu[0] in BROADCAST:
            for simulated in self.devices:
                simulated.answer(pdu, is_broadcast=True)
