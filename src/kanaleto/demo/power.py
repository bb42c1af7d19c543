"""Devices take a new unit ID only after their power was off and on: here that happens by itself, some seconds after it
was written."""

from collections.abc import Sequence
from dataclasses import dataclass

from kanaleto.bench.device import SimulatedDevice
from kanaleto.bench.units import Units
from kanaleto.site.model import PortSetting

POWER_S = 8.0


@dataclass
class _Setting:
    """A point that holds the unit ID of its device; `unit_id` is the one that it answers to."""

    units: Units
    simulated: SimulatedDevice
    name: str
    unit_id: int
    waited_s: float = 0.0


class PowerCycles:
    """Step it as often as you like."""

    def __init__(self, lines: Sequence[Units]) -> None:
        self._settings = [
            _Setting(units, simulated, point.name, simulated.device.unit_id)
            for units in lines
            for simulated in units.devices
            for point in simulated.device.points
            if point.setting is PortSetting.UNIT_ID
        ]

        for own in self._settings:
            own.simulated.put(own.name, own.unit_id)

    def step(self, dt_s: float) -> None:
        """Let `dt_s` seconds pass."""
        for own in self._settings:
            wanted = own.simulated.value(own.name)
            if not isinstance(wanted, int) or wanted == own.unit_id or not 1 <= wanted <= 247:
                own.waited_s = 0.0
                continue
            own.waited_s += dt_s
            if own.waited_s >= POWER_S and own.units.readdress(own.unit_id, wanted):
                own.unit_id, own.waited_s = wanted, 0.0
