"""The simulated devices of one line, found by unit ID, and what is answered for units that nobody has."""

from kanaleto.bench.comm import RequestEnd
from kanaleto.bench.device import SimulatedDevice
from kanaleto.serving.answerer import NOBODY, Answerer, Master
from kanaleto.site.model import Line
from kanaleto.wire.codes import ExceptionCode
from kanaleto.wire.pdu import Refused


class Units(Answerer):
    """Devices of `line`. `is_serial` decides what units are that nobody has: silence on a serial line, exception 0B on
    TCP."""

    def __init__(self, line: Line, is_serial: bool) -> None:
        self.line = line
        self._request_end = RequestEnd(line.link.delimiter)
        self.devices = [SimulatedDevice(device, is_serial, self._request_end) for device in line.devices]
        self._by_unit = {simulated.device.unit_id: simulated for simulated in reversed(self.devices)}
        self._is_serial = is_serial
        self.is_strict = is_serial and any(device.simulated.is_strict for device in line.devices)

    @property
    def name(self) -> str:
        return self.line.name

    @property
    def delimiter(self) -> int:
        return self._request_end.now

    def readdress(self, old: int, new: int) -> bool:
        """A device has another unit ID from now on; whether that is free."""
        if new in self._by_unit or old not in self._by_unit:
            return False
        self._by_unit = {new if unit_id == old else unit_id: own for unit_id, own in self._by_unit.items()}
        return True

    def answer(self, unit_id: int, pdu: bytes, master: Master = NOBODY) -> bytes | None:
        """The PDU that answers, or None for silence."""
        if self._is_serial:
            return self._answer_serial(unit_id, pdu, self.devices)
        found = self._by_unit.get(unit_id)
        if found is None and unit_id in (0, 255) and len(self.devices) == 1:
            found = self.devices[0]
        if found is not None:
            return found.answer(pdu)
        return Refused(pdu[0] & 0x7F, ExceptionCode.GATEWAY_TARGET_FAILED).encode() if pdu else None

    def answer_unclean(self, unit_id: int, pdu: bytes, master: Master = NOBODY) -> bytes | None:
        """To strict devices it is no frame; the others take it."""
        hearing = []
        for simulated in self.devices:
            if simulated.device.simulated.is_strict:
                simulated.communication.note_garbled()
            else:
                hearing.append(simulated)
        return self._answer_serial(unit_id, pdu, hearing)

    def _answer_serial(self, unit_id: int, pdu: bytes, hearing: list[SimulatedDevice]) -> bytes | None:
        for simulated in hearing:
            simulated.communication.note_frame()
        if pdu[0] & 0x80:  # an exception that somebody answers, or our own come back: nobody's request
            return None
        if unit_id == 0:
            for simulated in hearing:
                simulated.answer(pdu, is_broadcast=True)
            return None
        found = self._by_unit.get(unit_id)
        return found.answer(pdu) if found in hearing and found is not None else None

    def note_garbled(self) -> None:
        """Every device on a serial line counts it."""
        for simulated in self.devices:
            simulated.communication.note_garbled()
