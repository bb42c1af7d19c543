"""A bench that runs: the servers of a site, what moves its registers step by step, faults and who asks what."""

import asyncio
import math
import random
from collections.abc import Callable, Sequence

from kanaleto.bench.compiledmoves import Movement
from kanaleto.bench.device import SimulatedDevice
from kanaleto.bench.faults import FaultWanted, ServedFault
from kanaleto.bench.hands import Hands
from kanaleto.bench.masters import Masters
from kanaleto.bench.servedunits import Units
from kanaleto.bench.server import SiteServer, StandIn, is_as_serial
from kanaleto.bench.statements import STEP_S
from kanaleto.bench.unitsettings import UnitSettings
from kanaleto.serving.admission import OnClient
from kanaleto.serving.network import NetworkServer
from kanaleto.serving.port import PortServer
from kanaleto.serving.servers import Server
from kanaleto.serving.terminal import TerminalServer
from kanaleto.site.filefaults import suggestion
from kanaleto.site.model import Site
from kanaleto.supervision.owned import each_of, owned_task

MOST_STEPS = 10
"""What a bench that is late makes up at once; what lies further back is left out."""
_TELL_EVERY_S = 60.0
_SHUT = ("refuse", "cable")  # faults that shut a port
OF_LINE = (*_SHUT, "noise")
"""Faults of a line as a whole."""


class Bench:
    """`start`, then `run` until it is cancelled, then `stop`. `tell` receives sentences."""

    def __init__(
        self, site: Site, listen: str | None = None, on_client: OnClient | None = None, seed: int | None = None,
        masters: Masters | None = None, tell: Callable[[str], None] = lambda text: None,
        stands: Sequence[StandIn] | None = None, clients: Sequence[str] = (),
    ) -> None:  # fmt: skip
        self.site = site
        self.seed = seed if seed is not None else site.bench_seed
        self.server = SiteServer(site, listen, on_client, self.seed, stands, clients)
        self.masters = masters
        self.left_out = 0  # steps, since it began
        self._reported_left_out = 0
        self.faults: list[tuple[FaultWanted, list[ServedFault]]] = []
        self._tell = tell
        for units in self.units:
            units.masters, units.on_twin = masters, tell
        self.movement = Movement(self.devices, site.lines, self.seed)
        self._said_s = 0.0
        self._is_up = False
        self._cutting: dict[Server, asyncio.Task[None]] = {}  # servers that are about to be gone
        self._noise: dict[str, random.Random] = {}
        self.settings = UnitSettings(self.units)
        self.hands = Hands(lambda: self.movement, self.server.device)

    @property
    def left_out_s(self) -> float:
        """Bench time that this machine was too slow for."""
        return self.left_out * STEP_S

    @property
    def units(self) -> Sequence[Units]:
        return self.server.units

    @property
    def devices(self) -> list[SimulatedDevice]:
        return [simulated for units in self.units for simulated in units.devices]

    async def take_over(self, site: Site) -> list[str]:
        """An edit while it runs: what still exists goes on as it stands. What could not go on, in words."""
        before = {simulated.device.name: simulated for simulated in self.devices}
        was_serial = {device.name: is_as_serial(line) for line, device in self.site.devices()}
        made: dict[str, SimulatedDevice] = {}
        units_of = {units.line.name: units for units in self.units}
        for line, device in site.devices():
            old = before.get(device.name)
            if old is None or was_serial[device.name] is not is_as_serial(line) or old.device != device:
                end = units_of[line.name].request_end if line.name in units_of else None
                made[device.name] = SimulatedDevice(device, is_as_serial(line), end)
        devices = [made.get(device.name) or before[device.name] for _, device in site.devices()]
        movement = await asyncio.to_thread(Movement, devices, site.lines, self.seed, self.movement)
        for name, simulated in made.items():
            if name in before:
                simulated.take_over(before[name])
        messages = await self.server.take_over(site, made)
        movement.take_over()
        self.site, self.movement = site, movement
        for units in self.units:
            units.masters, units.on_twin = self.masters, self._tell
        self.forget_settings()
        names = {line.name for line in site.lines} | {device.name for _, device in site.devices()}
        self.faults = [(wanted, self._served_by(wanted)) for wanted, _ in self.faults if wanted.target in names]
        self._set_faults()
        return messages

    def forget_settings(self) -> None:
        """Registers and unit IDs were set from elsewhere: settings begin from there."""
        self.settings = UnitSettings(self.units, is_new=False)

    def _served_by(self, wanted: FaultWanted) -> list[ServedFault]:
        if wanted.name in OF_LINE:
            return []
        return [ServedFault(wanted, f"{self.seed}/{one.device.name}") for one in self.targets(wanted.target)]

    async def start(self) -> None:
        """Bind and open all, and shut what a fault from the start keeps shut. Raises CannotServe."""
        await self.server.start()
        self._is_up = True
        for wanted, _ in self.faults:
            if wanted.name in _SHUT:
                self._shut(wanted, cuts_off=True)

    async def stop(self) -> None:
        if self.masters is not None:
            self.masters.flush()
        await self.server.stop()

    async def run(self, *steps: Callable[[], object]) -> None:
        """Ten steps a second, and whatever else belongs to each, until cancelled. What fails is reported, and goes
        on."""
        loop = asyncio.get_running_loop()
        next_s = loop.time()
        while True:
            next_s += STEP_S
            behind = int((loop.time() - next_s) / STEP_S)
            if behind > MOST_STEPS:
                self.left_out += behind - MOST_STEPS
                next_s += (behind - MOST_STEPS) * STEP_S
            each_of(
                "the bench",
                self.movement.step,
                self.hands.step,
                self.settings.step,
                self._make_noise,
                self._clean_up,
                self._look_around,
                *steps,
            )
            await asyncio.sleep(max(next_s - loop.time(), 0.0))

    def _clean_up(self) -> None:
        """Once a second: connections that nobody uses, reads that nobody repeats."""
        if self.movement.steps % 10 == 0:
            self.server.drop_idle()
            if self.masters is not None:
                self.masters.end_old()

    def _look_around(self) -> None:
        """Once a minute: what did not fit, what could not be reckoned, what was left out."""
        now_s = self.movement.now_s
        if now_s - self._said_s < _TELL_EVERY_S:
            return
        self._said_s = now_s
        movement = self.movement
        for (device, name), count in movement.clamped.items():
            self._tell(f"{device}: {name} went beyond what it can hold, {count} times; it stays at its end")
        for (device, name), why in movement.wrong.items():
            self._tell(f"{device}: {name} cannot be reckoned now ({why}); it stays as it stands")
        left_out, self._reported_left_out = self.left_out - self._reported_left_out, self.left_out
        if left_out:
            self._tell(f"this machine is too slow for the bench: {left_out * STEP_S:.1f} s of it were left out")
        movement.clamped.clear()
        movement.wrong.clear()

    # Faults

    def begin_fault(self, wanted: FaultWanted) -> None:
        """From now on. Raises ValueError where its target is no device and no line, or it cannot be done there."""
        self.require(wanted)
        found = self.targets(wanted.target)
        if wanted.name == "jump":
            for simulated in found:
                self._jump(simulated, wanted)
            return
        if wanted.name in OF_LINE:
            self.faults.append((wanted, []))
            if wanted.name in _SHUT and self._is_up:
                self._shut(wanted, cuts_off=wanted.name == "cable")
            return
        self.faults.append((wanted, self._served_by(wanted)))
        self._set_faults()

    def is_of_line(self, wanted: FaultWanted, line: str) -> bool:
        """Whether a fault is of that line, or of a device on it."""
        names = [one.device.name for units in self.units if units.line.name == line for one in units.devices]
        return wanted.target in (line, *names)

    def forget_fault(self, wanted: FaultWanted) -> None:
        """It is over because nobody stands in there any more."""
        self.faults = [(fault, served) for fault, served in self.faults if fault != wanted]
        self._set_faults()

    def require(self, wanted: FaultWanted) -> None:
        """Raises ValueError where its target is none or does not stand in, or it cannot be done there."""
        found = self.targets(wanted.target)
        here = [
            simulated for units in self.units if self.server.stand_of(units.line.name) for simulated in units.served
        ]
        if not any(simulated in here for simulated in found):
            raise ValueError(f"{wanted.target} does not stand in here")
        server = self._server_of(wanted) if wanted.name in OF_LINE else None
        if wanted.name == "refuse" and not isinstance(server, NetworkServer):
            raise ValueError(f"refuse is for lines over TCP, and that of {wanted.target} is none")
        if wanted.name == "noise" and not isinstance(server, TerminalServer | PortServer):
            raise ValueError(f"noise is for serial lines, and that of {wanted.target} is none")
        point = wanted.numbers.get("point")
        for simulated in found if point is not None else ():
            if point not in simulated.points:
                raise ValueError(
                    f"{simulated.device.name} has no point {point!r}{suggestion(str(point), list(simulated.points))}"
                )
            if wanted.name == "jump" and not isinstance(simulated.value(point), int | float):
                raise ValueError(f"{point} of {simulated.device.name} is no number, and cannot jump")

    async def end_fault(self, wanted: FaultWanted) -> None:
        """All is well again. Raises CannotServe where a port is gone meanwhile."""
        self.faults = [(fault, served) for fault, served in self.faults if fault != wanted]
        if wanted.name in OF_LINE:
            server = self._server_of(wanted)
            is_shut = any(fault.name in _SHUT and self._server_of(fault) is server for fault, _ in self.faults)
            if wanted.name in _SHUT and not is_shut:
                if server in self._cutting:
                    await asyncio.wait([self._cutting.pop(server)])
                await (server.let_in_again() if isinstance(server, NetworkServer) else server.start())
            return
        if wanted.name == "power":
            for simulated in self.targets(wanted.target):
                simulated.begin_again()
                self.movement.begin_again(simulated.device.name)
                self.settings.after_power(simulated.device.name)
        self._set_faults()

    def _shut(self, wanted: FaultWanted, cuts_off: bool) -> None:
        """Nobody is let in; where it `cuts_off`, nobody is there any more either."""
        server = self._server_of(wanted)
        if isinstance(server, NetworkServer):
            server.let_nobody_in(cuts_off)
        else:
            self._cutting[server] = owned_task("bench: a cable is out", server.stop())

    def _make_noise(self) -> None:
        """What stands in the bytes between frames."""
        for wanted, _ in self.faults:
            if wanted.name != "noise":
                continue
            draw = self._noise.setdefault(wanted.target, random.Random(f"{self.seed}/{wanted.target}/noise"))
            try:
                server = self._server_of(wanted)
            except ValueError:  # nobody stands in there any more
                continue
            if isinstance(server, TerminalServer | PortServer):
                for _ in range(_drawn_count(draw, wanted.numbers["a_second"] * STEP_S)):
                    server.noise(bytes(draw.randrange(256) for _ in range(draw.randrange(1, 5))))

    def _server_of(self, wanted: FaultWanted) -> Server:
        """The server of the line that a fault is of. Raises ValueError."""
        for units in self.units:
            if wanted.target in (units.line.name, *(one.device.name for one in units.devices)):
                try:
                    return self.server.server_of(units.line.name)
                except KeyError:
                    raise ValueError(f"nobody stands in on {units.line.name} yet") from None
        self.targets(wanted.target)
        raise AssertionError("a device without a line")

    def targets(self, target: str) -> list[SimulatedDevice]:
        """The devices of that name, or of the line of that name. Raises ValueError."""
        for units in self.units:
            if units.line.name == target:
                return list(units.devices)
            for simulated in units.devices:
                if simulated.device.name == target:
                    return [simulated]
        names = [simulated.device.name for simulated in self.devices]
        raise ValueError(f"{target!r} is no device and no line; there are {', '.join(names[:20])}")

    def _set_faults(self) -> None:
        frozen: set[tuple[str, str]] = set()
        for units in self.units:
            for simulated in units.devices:
                name, served_faults = simulated.device.name, list[ServedFault]()
                for wanted, served in self.faults:
                    if wanted.target not in (name, units.line.name):
                        continue
                    if wanted.name == "frozen":
                        frozen.add((name, str(wanted.numbers.get("point", ""))))
                        continue
                    at = [one.device.name for one in self.targets(wanted.target)].index(name)
                    served_faults.append(served[at])
                units.set_faults(name, served_faults)
        self.movement.freeze(frozen)

    def _jump(self, simulated: SimulatedDevice, wanted: FaultWanted) -> None:
        self.movement.jump(simulated.device.name, wanted.numbers["point"], wanted.numbers.get("by", 1.0))


def _drawn_count(draw: random.Random, mean: float) -> int:
    """How often something happens that does so independently, `mean` times on average."""
    left, count = draw.random(), 0
    least = math.exp(-mean)
    while left > least:
        left *= draw.random()
        count += 1
    return count
