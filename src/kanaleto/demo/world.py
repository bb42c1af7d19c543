"""The physics of Alder Lock: water, gates, a pump, weather. A step takes what masters wrote and sets what the devices
show.

Water runs from the upper pool through the upper sluice into the lower pool, and out through the lower sluice; what
leaks through the gates fills the sump, which the pump empties. A lock keeper works the sluices until a master writes a
target of its own, or enables a sluice by its command word: then it goes to its target with Open, shut with Close.
"""

import math
from collections.abc import Callable
from random import Random

from msgspec import Struct

from kanaleto.bench.device import SimulatedDevice

FindDevice = Callable[[str], SimulatedDevice]

_GATE_SPEED = 6.0  # per cent a second
_MASTER_RULES_S = 120.0  # how long the lock keeper leaves a sluice alone that a master moved
_WATCHDOG_S = 10.0
_OPEN, _CLOSED = 99.5, 0.5
_ENABLE, _ACKNOWLEDGE, _OPENS, _CLOSE, _HOLD_STILL = 1, 2, 4, 8, 16  # bits of the command word
_LEFT_ALONE_S = 5.0  # the lock keeper, once a master has let go


class _Sluice(Struct):
    device: SimulatedDevice
    position: float = 0.0
    target_seen: float = 0.0
    master_until_s: float = 0.0
    requests_seen: int = 0
    quiet_s: float = 0.0
    has_tripped: bool = False

    def step(self, now_s: float, dt_s: float, keeper_target: float, random: Random) -> None:
        device = self.device
        self._watch(dt_s)
        target, command = _number(device, "Position target"), int(_number(device, "Command word"))
        if command & _ENABLE:
            self.master_until_s = now_s + _LEFT_ALONE_S
        if abs(target - self.target_seen) > 0.005:
            self.master_until_s = now_s + _MASTER_RULES_S
        if now_s >= self.master_until_s:
            target = keeper_target
            device.put("Position target", target)
        self.target_seen = _number(device, "Position target")
        if command & _ENABLE:
            target = 0.0 if command & _CLOSE else target if command & _OPENS else self.position
        if command & _HOLD_STILL:
            target = self.position
        way = 0.0 if self.has_tripped else max(-_GATE_SPEED * dt_s, min(_GATE_SPEED * dt_s, target - self.position))
        self.position = max(0.0, min(100.0, self.position + way))
        is_moving = abs(way) > 0.01
        torque = 18 + 26 * math.sin(self.position / 100 * math.pi) + random.uniform(-1, 1) if is_moving else 0.0
        state = 3 if self.has_tripped else 0 if not is_moving else 2 if way > 0 else 1
        device.put("Gate position", self.position)
        device.put("Motor torque", torque)
        device.put("Run state", state)
        device.put(
            "Status word",
            (0 if self.has_tripped else 1)
            | (2 if is_moving else 0)
            | (8 if torque > 60 else 0)
            | (0x10 if abs(target - self.position) < 0.5 else 0)
            | (0x80 if self.has_tripped else 0),
        )

    def _watch(self, dt_s: float) -> None:
        """Trip when no master has asked for a while; an acknowledge (command bit 1) or a fresh start lets it run
        again."""
        device = self.device
        has_been_asked = device.requests != self.requests_seen
        self.requests_seen = device.requests
        self.quiet_s = 0.0 if has_been_asked else self.quiet_s + dt_s
        if self.quiet_s > _WATCHDOG_S and device.requests:
            self.has_tripped = True
        if int(_number(device, "Command word")) & _ACKNOWLEDGE:
            self.has_tripped = False


class DemoWorld:
    """Step it ten times a second or so. `seed` makes its weather."""

    def __init__(self, find: FindDevice, seed: int = 7) -> None:
        self._find = find
        self._random = Random(seed)
        self._now_s = 0.0
        self._upper_m, self._lower_m, self._sump_m = 2.2, 1.1, 0.37
        self._litres = 184_220_600.0
        self._is_pumping = False
        self._wind, self._gust, self._direction, self._air = 4.2, 5.8, 215.0, 11.4
        self._bollards = [6.1, 5.2, 7.7]
        self._rope_m, self._load_t = 12.5, 0.42
        self._grease_bar, self._cycles = 84.0, 1730
        self._upper = _Sluice(find("Upper sluice"))
        self._lower = _Sluice(find("Lower sluice"))
        for name in ("Upper pool level", "Lower pool level"):
            find(name).put("Unit number", find(name).device.unit_id)

    def step(self, dt_s: float) -> None:
        """Let `dt_s` seconds pass."""
        self._now_s += dt_s
        self._water(dt_s)
        self._pump_room(dt_s)
        self._weather(dt_s)
        self._cabinet(dt_s)

    def _water(self, dt_s: float) -> None:
        phase = self._now_s % 80
        self._upper.step(self._now_s, dt_s, 80.0 if 8 <= phase < 32 else 0.0, self._random)
        self._lower.step(self._now_s, dt_s, 65.0 if 44 <= phase < 70 else 0.0, self._random)
        head_m = max(self._upper_m - self._lower_m, 0.0)
        inflow = 0.018 + 0.004 * math.sin(self._now_s / 23)
        through = 0.085 * self._upper.position / 100 * math.sqrt(head_m)
        out = 0.075 * self._lower.position / 100 * math.sqrt(max(self._lower_m - 0.3, 0.0))
        self._upper_m = min(max(self._upper_m + (inflow - through) * dt_s, 1.2), 2.9)
        self._lower_m = min(max(self._lower_m + (0.9 * through - out) * dt_s, 0.3), 2.6)
        for name, level, warmth in (
            ("Upper pool level", self._upper_m, 18.3),
            ("Lower pool level", self._lower_m, 18.1),
        ):
            device = self._find(name)
            device.put("Pool level", level + self._random.gauss(0, 0.0008))
            device.put("Water temperature", warmth + 0.3 * math.sin(self._now_s / 97))
            device.put("Operating hours", 6412 + int(self._now_s / 3600))

    def _pump_room(self, dt_s: float) -> None:
        head_m = max(self._upper_m - self._lower_m, 0.0)
        flow = 6.0 + 9.0 * math.sqrt(head_m) + self._random.gauss(0, 0.08)
        self._litres += flow * dt_s / 3.6
        self._sump_m += flow * dt_s / 900
        by_hand = bool(self._find("Sump pump").value("Run by hand"))
        if self._sump_m > 0.9:
            self._is_pumping = True
        elif self._sump_m < 0.2:
            self._is_pumping = False
        runs = by_hand or self._is_pumping
        if runs:
            self._sump_m = max(self._sump_m - 0.05 * dt_s, 0.02)
        is_dry = runs and self._sump_m < 0.05
        pump = self._find("Sump pump")
        pump.put("Sump level", self._sump_m)
        pump.put("Motor current", (2.3 if is_dry else 4.1) + self._random.gauss(0, 0.06) if runs else 0.0)
        pump.put("Bearing temperature", 31 + 6 * math.sin(self._now_s / 61) + (4 if runs else 0))
        pump.put("Pump state", 2 if is_dry else int(runs))
        pump.put("Float switch", self._sump_m > 0.85)
        meter = self._find("Leakage flow")
        meter.put("Flow", flow)
        meter.put("Total", int(self._litres))
        self._grease_bar = self._grease_bar - 0.6 * dt_s if self._grease_bar > 40 else 120.0
        if self._grease_bar == 120.0:
            self._cycles += 1
        grease = self._find("Grease unit")
        grease.put("Grease pressure", self._grease_bar)
        grease.put("Cycles", self._cycles)

    def _weather(self, dt_s: float) -> None:
        random = self._random
        self._wind = max(0.0, self._wind + (4.5 - self._wind) * 0.02 * dt_s + random.gauss(0, 0.35) * math.sqrt(dt_s))
        self._gust = max(self._wind + 1.2, self._gust - 0.15 * dt_s)
        self._direction = (self._direction + random.gauss(0, 3) * math.sqrt(dt_s)) % 360
        self._air = 11.4 + 2 * math.sin(self._now_s / 181)
        mast = self._find("Weather mast")
        mast.put("Wind speed", self._wind)
        mast.put("Gust", self._gust)
        mast.put("Wind direction", self._direction)
        mast.put("Air temperature", self._air)
        mast.put("Air pressure", 1012.6 + math.sin(self._now_s / 211))
        mast.put("Humidity", 71 - 4 * math.sin(self._now_s / 181))

    def _cabinet(self, dt_s: float) -> None:
        heaters = self._find("Bollard heaters")
        wanted = _number(heaters, "Set point")
        state = int(_number(heaters, "Heater state"))
        for at, warmth in enumerate(self._bollards):
            if warmth < wanted - 0.5:
                state |= 1 << at
            elif warmth > wanted + 0.5:
                state &= ~(1 << at)
            heat = 0.18 + 0.03 * at if state >> at & 1 else 0.0
            self._bollards[at] = warmth + (heat - 0.012 * (warmth + 4)) * dt_s
            heaters.put(f"Bollard {at + 1} temperature", self._bollards[at])
        heaters.put("Heater state", state)
        lamps = self._find("Lamps and limits")
        for name, sluice in (("Upper", self._upper), ("Lower", self._lower)):
            lamps.put(f"{name} sluice closed", sluice.position < _CLOSED)
            lamps.put(f"{name} sluice open", sluice.position > _OPEN)
        lamps.put("Boat at upper gate", 20 < self._now_s % 90 < 45)
        lamps.put("Boat at lower gate", 60 < self._now_s % 90 < 80)
        phase = self._now_s % 60
        speed = 0.25 if 10 <= phase < 24 else -0.25 if 34 <= phase < 48 else 0.0
        self._rope_m = min(max(self._rope_m + speed * dt_s, 2.0), 27.0)
        winch = self._find("Crane winch")
        winch.put("Load", self._load_t * (1 + 0.02 * math.sin(self._now_s * 2)) if speed else self._load_t)
        winch.put("Rope out", self._rope_m)
        winch.put("Rope speed", speed)
        winch.put("Winch state", 0 if speed == 0 else 2 if speed > 0 else 1)
        winch.put("Drum temperature", 24.5 + (3 if speed else 0) + math.sin(self._now_s / 37))


def _number(device: SimulatedDevice, name: str) -> float:
    value = device.value(name)
    return float(value) if isinstance(value, int | float) else 0.0
