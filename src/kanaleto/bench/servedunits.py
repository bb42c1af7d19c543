"""The simulated devices of one line, found by unit ID, and what is answered for units that nobody has."""

import random
from collections.abc import Callable, Collection, Mapping

from kanaleto.bench.comm import RequestEnd
from kanaleto.bench.device import SimulatedDevice
from kanaleto.bench.faults import ServedFault
from kanaleto.bench.masters import Masters, span_written
from kanaleto.serving.answerer import NOBODY, Answer, Answerer, Master, ShapedAnswer
from kanaleto.site.model import Line
from kanaleto.wire.codes import ExceptionCode
from kanaleto.wire.pdu import Refused

_LATE_S = 0.2  # an answer that is so much later than it might be is damaged


class Units(Answerer):
    """Devices of `line`. `is_serial` decides what units are that nobody has: silence on a serial line, exception 0B on
    TCP."""

    def __init__(self, line: Line, is_serial: bool, seed: int = 0) -> None:
        self.line = line
        self.request_end = RequestEnd(line.link.delimiter)
        self.devices = [SimulatedDevice(device, is_serial, self.request_end) for device in line.devices]
        self._by_unit = {simulated.device.unit_id: simulated for simulated in reversed(self.devices)}
        self._served: frozenset[str] | None = None
        self.silenced: set[int] = set()
        """Unit IDs under which somebody else answers: nothing is said there any more."""
        self._is_serial = is_serial
        self.masters: Masters | None = None  # notified of each request
        self.on_twin: Callable[[str], None] = lambda text: None
        """Told where somebody else answers under a unit ID of ours."""
        self.observer: Callable[[SimulatedDevice, bytes, bool], None] | None = None
        """Told of each request, and whether it was answered as it should be."""
        self._spoiled: dict[str, list[ServedFault]] = {}
        self._seed = seed
        self._draws: dict[str, random.Random] = {}
        self._set_behaviour()

    def _set_behaviour(self) -> None:
        devices = self.line.devices
        self._draws = {
            device.name: self._draws.get(device.name) or random.Random(f"{self._seed}/{device.name}/delay")
            for device in devices
        }
        self._behaves = {device.name for device in devices if device.simulated.behaves.answers_otherwise}
        self.is_strict = self._is_serial and any(device.simulated.is_strict for device in devices)

    @property
    def name(self) -> str:
        return self.line.name

    @property
    def is_serial(self) -> bool:
        return self._is_serial

    @property
    def delimiter(self) -> int:
        return self.request_end.now

    def readdress(self, old: int, new: int) -> bool:
        """A device has another unit ID from now on; whether that is free."""
        if new in self._by_unit or old not in self._by_unit:
            return False
        self._by_unit = {new if unit_id == old else unit_id: simulated for unit_id, simulated in self._by_unit.items()}
        return True

    @property
    def served(self) -> list[SimulatedDevice]:
        """The devices that answer here."""
        names = self._served
        return self.devices if names is None else [one for one in self.devices if one.device.name in names]

    def serve_only(self, names: Collection[str] | None) -> None:
        """Only these answer; all of them where none are named."""
        self._served = frozenset(names) if names else None
        self.silenced.clear()

    def unit_id_of(self, name: str) -> int:
        """The unit ID to which a device answers now. Raises StopIteration."""
        return next(unit_id for unit_id, simulated in self._by_unit.items() if simulated.device.name == name)

    def take_over(self, line: Line, made: Mapping[str, SimulatedDevice]) -> None:
        """An edit: the line as it is now, with the devices that were made again; all others go on as they are."""
        asked = {
            simulated.device.name: (simulated.device.unit_id, unit_id) for unit_id, simulated in self._by_unit.items()
        }
        before = {simulated.device.name: simulated for simulated in self.devices}
        devices = [made.get(device.name) or before[device.name] for device in line.devices]
        by_unit: dict[int, SimulatedDevice] = {}
        for simulated in reversed(devices):
            name, unit_id = simulated.device.name, simulated.device.unit_id
            noted, answered = asked.get(name, (unit_id, unit_id))
            by_unit[answered if noted == unit_id else unit_id] = simulated
        self.line, self.devices, self._by_unit = line, devices, by_unit
        self._set_behaviour()

    # Faults

    def set_faults(self, device: str, faults: list[ServedFault]) -> None:
        """The faults of its answers that a device has from now on."""
        spoiled = {name: served_faults for name, served_faults in self._spoiled.items() if name != device}
        self._spoiled = {**spoiled, device: faults} if faults else spoiled

    # Answers

    def answer(self, unit_id: int, pdu: bytes, master: Master = NOBODY) -> Answer:
        """The PDU that answers, more than that, or None for silence."""
        if self._is_serial:
            return self._answer_serial(unit_id, pdu, self.served, master)
        found = self._found(unit_id)
        if found is None and unit_id in (0, 255) and len(self.served) == 1:
            found = self.served[0]
        if found is not None:
            return self._of_device(found, unit_id, pdu, master)
        return Refused(pdu[0] & 0x7F, ExceptionCode.GATEWAY_TARGET_FAILED).encode() if pdu else None

    def _found(self, unit_id: int) -> SimulatedDevice | None:
        """The device that answers to that unit ID."""
        found = self._by_unit.get(unit_id)
        if found is None or (self._served is not None and found.device.name not in self._served):
            return None
        return found

    def _of_device(self, found: SimulatedDevice, unit_id: int, pdu: bytes, master: Master) -> Answer:
        """With all that the device is set to do beside what stands in its registers."""
        if self.masters is None and self.observer is None and not self._spoiled and not self._behaves:
            return found.answer(pdu)
        name = found.device.name
        old = self._standing(found, pdu) if self.masters is not None else None
        shaped: ShapedAnswer | None = None
        if name in self._behaves:
            shaped = self._behaving(found, unit_id, pdu)
        if shaped is None:
            shaped = ShapedAnswer(unit_id, found.answer(pdu))
            if name in self._behaves:
                low, high = found.device.simulated.behaves.delay_s
                shaped.delay_s = self._draws[name].uniform(low, high) if high else 0.0
                self._count_error(found, shaped.pdu)
        right, right_delay_s = shaped.pdu, shaped.delay_s
        for fault in self._spoiled.get(name, ()):
            fault.spoil(shaped, not self._is_serial)
        if self.observer is not None:
            is_good = (
                shaped.pdu == right and right is not None and shaped.shape is None and shaped.unit_id == unit_id
                and shaped.delay_s <= right_delay_s + _LATE_S
            )  # fmt: skip
            self.observer(found, pdu, is_good)
        if self.masters is not None:
            sent = right if shaped.pdu is not None or shaped.shape is not None else None
            sent = shaped.pdu if shaped.shape is None else sent
            self.masters.note(master.name, self.line.name, found.device, unit_id, pdu, sent, old)
        is_plain = not shaped.delay_s and shaped.shape is None and not shaped.hangs_up and shaped.unit_id == unit_id
        return shaped.pdu if is_plain else shaped

    def _behaving(self, found: SimulatedDevice, unit_id: int, pdu: bytes) -> ShapedAnswer | None:
        """What the device does with a request that is too long for it; None where it is not."""
        behaves, limits = found.device.simulated.behaves, found.device.limits
        if behaves.receive_bytes is not None and len(pdu) + 3 > behaves.receive_bytes:
            return ShapedAnswer(unit_id, None)
        is_read = len(pdu) == 5 and pdu[0] in (1, 2, 3, 4)
        most = limits.max_bits if is_read and pdu[0] in (1, 2) else limits.max_registers
        if not is_read or behaves.too_long == "exception" or int.from_bytes(pdu[3:5]) <= most:
            return None
        return ShapedAnswer(unit_id, bytes((pdu[0] | 0x80, 2)) if behaves.too_long == "02" else None)

    def _count_error(self, found: SimulatedDevice, answer: bytes | None) -> None:
        counter = found.device.simulated.behaves.errors_in
        if counter and answer is not None and answer[0] & 0x80 and counter in found.points:
            value = found.value(counter)
            found.put(counter, value + 1 if isinstance(value, int | float) else 1)

    @staticmethod
    def _standing(found: SimulatedDevice, pdu: bytes) -> list[int] | None:
        """What stands where a request writes."""
        span = span_written(pdu) if pdu else None
        return found.words(*span) if span is not None else None

    def answer_unclean(self, unit_id: int, pdu: bytes, master: Master = NOBODY) -> Answer:
        """To strict devices it is no frame; the others take it."""
        hearing = []
        for simulated in self.served:
            if simulated.device.simulated.is_strict:
                simulated.communication.note_garbled()
            else:
                hearing.append(simulated)
        return self._answer_serial(unit_id, pdu, hearing, master)

    def _answer_serial(self, unit_id: int, pdu: bytes, hearing: list[SimulatedDevice], master: Master) -> Answer:
        for simulated in hearing:
            simulated.communication.note_frame()
        if pdu[0] & 0x80:  # an exception that somebody answers, or our own come back: nobody's request
            return None
        if unit_id == 0:
            for simulated in hearing:
                simulated.answer(pdu, is_broadcast=True)
            return None
        found = self._found(unit_id)
        if found is None or unit_id in self.silenced or found not in hearing:
            return None
        return self._of_device(found, unit_id, pdu, master)

    def note_twin(self, unit_id: int) -> None:
        """Who stands in gives way at once."""
        found = self._found(unit_id)
        if found is None or unit_id in self.silenced:
            return
        self.silenced.add(unit_id)
        self.on_twin(
            f"{found.device.name}: somebody else answers as unit {unit_id} on {self.line.name}:"
            " nothing is said there any more"
        )

    def note_garbled(self) -> None:
        """Every device on a serial line counts it."""
        for simulated in self.served:
            simulated.communication.note_garbled()
