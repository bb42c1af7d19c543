"""Registers that hold the unit ID of their device: what a master writes there holds at once, or after power off and
on."""

from collections.abc import Sequence

from msgspec import Struct

from kanaleto.bench.device import SimulatedDevice
from kanaleto.bench.servedunits import Units
from kanaleto.site.model import PortSetting


class _Setting(Struct):
    """A point that holds the unit ID of its device; `unit_id` is the one that it answers to."""

    units: Units
    simulated: SimulatedDevice
    name: str
    unit_id: int

    @property
    def is_at_once(self) -> bool:
        return self.simulated.device.simulated.behaves.settings_after == "at once"

    @property
    def wanted(self) -> int | None:
        """What it is to be, where that differs and is a unit ID."""
        value = self.simulated.value(self.name)
        return value if isinstance(value, int) and value != self.unit_id and 1 <= value <= 247 else None

    def take(self) -> None:
        wanted = self.wanted
        if wanted is not None and self.units.readdress(self.unit_id, wanted):
            self.unit_id = wanted


class UnitSettings:
    """Of all devices of a bench; the registers begin with what the devices answer to."""

    def __init__(self, lines: Sequence[Units], is_new: bool = True) -> None:
        self._settings = [
            _Setting(units, simulated, point.name, units.unit_id_of(simulated.device.name))
            for units in lines
            for simulated in units.devices
            for point in simulated.device.points
            if point.setting is PortSetting.UNIT_ID
        ]
        for setting in self._settings if is_new else ():
            setting.simulated.put(setting.name, setting.unit_id)

    @property
    def are_any(self) -> bool:
        return bool(self._settings)

    def step(self) -> None:
        """What holds at once."""
        for setting in self._settings:
            if setting.is_at_once:
                setting.take()

    def waiting(self) -> list[str]:
        """Devices whose new unit ID waits for power off and on."""
        return [
            setting.simulated.device.name
            for setting in self._settings
            if not setting.is_at_once and setting.wanted is not None
        ]

    def after_power(self, device: str) -> None:
        """Its power was off and on."""
        for setting in self._settings:
            if setting.simulated.device.name == device:
                setting.take()
