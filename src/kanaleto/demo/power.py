"""Devices take a new unit ID only after their power was off and on: here that happens by itself, some seconds after it
was written."""

from kanaleto.bench.units import Units
from kanaleto.site.model import PortSetting

POWER_S = 8.0


class PowerCycles:
    """Step it as often as you like."""

    def __init__(self, lines: list[Units]) -> None:
        self._settings = [
            (units, simulated, point.name)
            for units in lines
            for simulated in units.devices
            for point in simulated.device.points
            if point.setting is PortSetting.UNIT_ID
        ]
        self._unit_ids = {id(simulated): simulated.device.unit_id for _, simulated, _ in self._settings}
        self._waited_s = dict.fromkeys(self._unit_ids, 0.0)

    def step(self, dt_s: float) -> None:
        """Let `dt_s` seconds pass."""
        for units, simulated, name in self._settings:
            key, wanted = id(simulated), simulated.value(name)
            if not isinstance(wanted, int) or wanted == self._unit_ids[key] or not 1 <= wanted <= 247:
                self._waited_s[key] = 0.0
                continue
            self._waited_s[key] += dt_s
            if self._waited_s[key] >= POWER_S and units.readdress(self._unit_ids[key], wanted):
                self._unit_ids[key], self._waited_s[key] = wanted, 0.0
