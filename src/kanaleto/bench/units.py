"""The simulated devices of one line, found by unit ID, and what is answered for units that nobody has."""

from kanaleto.bench.device import SimulatedDevice
from kanaleto.site.model import Line
from kanaleto.wire.codes import ExceptionCode
from kanaleto.wire.pdu import Refused

_WRITES = {0x05, 0x06, 0x0F, 0x10}


class Units:
    """Devices of `line`. `is_serial` decides what units are that nobody has: silence on a serial line, exception 0B on TCP."""

    def __init__(self, line: Line, is_serial: bool) -> None:
        self.line = line
        self.devices = [SimulatedDevice(device) for device in line.devices]
        self._by_unit = {simulated.device.unit_id: simulated for simulated in reversed(self.devices)}
        self._is_serial = is_serial

    def answer(self, unit_id: int, pdu: bytes) -> bytes | None:
        """The PDU that answers, or None for silence."""
        if self._is_serial:
            if unit_id == 0:
                self._broadcast(pdu)
                return None
            found = self._by_unit.get(unit_id)
            return found.answer(pdu) if found is not None else None
        found = self._by_unit.get(unit_id)
        if found is None and unit_id in (0, 255) and len(self.devices) == 1:
            found = self.devices[0]
        if found is not None:
            return found.answer(pdu)
        return Refused(pdu[0] & 0x7F, ExceptionCode.GATEWAY_TARGET_FAILED).encode() if pdu else None

    def _broadcast(self, pdu: bytes) -> None:
        if pdu and pdu[0] in _WRITES:
            for simulated in self.devices:
                simulated.answer(pdu)
