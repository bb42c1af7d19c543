"""Outages drawn from a seed over what is owed, on a virtual clock: `python -m tests.outages --times 10000`;
of lines and devices, and their events: `--lines --times 1000`.

Each seed pulses a coil or a bit, or keeps a word alive, and takes the device, its answers or the whole line away for
0.1 s to 10 minutes. Within a minute of when it was due nothing is left on; later nothing is sent unasked and all is
marked as owed; nothing that was held is ever taken up by itself. `--seed N --times 1` replays one.
"""

import argparse
import asyncio
import random
import sys

from msgspec.structs import replace

from kanaleto.control.alive import Wish
from kanaleto.control.order import Result
from kanaleto.control.owed import OWED_S, OwedStage
from kanaleto.events.log import EventKind
from tests.controlled import DRIVE, Controlled
from tests.simulated import SimulatedLine, device
from tests.test_polling import Running
from tests.virtual import run_virtual

_SETTLES_S = 12.0
_LONGEST_S = 600.0


class Outage:
    """One seed. `wrong` is what a person at the machine would not have wanted."""

    def __init__(self, seed: int) -> None:
        pick = self.pick = random.Random(seed)
        self.wrong: list[str] = []
        self.way = pick.choice(("deaf", "mute", "gone"))
        self.length_s = 0.1 * (_LONGEST_S / 0.1) ** pick.random()
        self.what = pick.choice(("coil", "bit", "alive"))
        self.pulse_s = pick.choice((0.3, 1.0, 3.0))
        self.offset_s = pick.uniform(-0.2, self.pulse_s + 0.5) if self.what != "alive" else pick.uniform(0.4, 3)
        self.watchdog_s = pick.choice((None, 1.2, 5.0))
        self.period_s = pick.choice((0.2, 0.5))
        self.told = (
            f"{self.what}, {self.way} for {self.length_s:.2f} s from {self.offset_s:.2f} s, pulse {self.pulse_s:g} s, "
            f"watchdog {self.watchdog_s}, every {self.period_s:g} s"
        )

    def run(self) -> list[str]:
        run_virtual(self._run())
        return self.wrong

    def _check(self, is_so: object, wrong: str) -> None:
        if not is_so:
            self.wrong.append(wrong)

    async def _run(self) -> None:
        drive = replace(device("Drive", 7, DRIVE, 0.2), watchdog_s=self.watchdog_s)
        async with Controlled(drive) as rig:
            loop = asyncio.get_running_loop()
            began_s = loop.time()
            doing = asyncio.create_task(self._pulse(rig) if self.what != "alive" else self._keep(rig))
            if self.offset_s < 0:
                doing.cancel()
                doing = asyncio.create_task(self._late(rig, -self.offset_s))
            await rig.running.for_s(max(self.offset_s, 0.0))
            out_s = loop.time()
            await self._away(rig)
            back_s = loop.time()
            is_slow = self.way == "gone" and self.length_s > OWED_S - 5  # nothing hastens the next connect any more
            await rig.running.for_s(40.0 if is_slow else _SETTLES_S)
            if self.what == "alive":
                self._judge_alive(rig, out_s, back_s)
            else:
                self._judge_pulse(rig, began_s, back_s)
            doing.cancel()
            await asyncio.gather(doing, return_exceptions=True)

    async def _late(self, rig: Controlled, after_s: float) -> None:
        await asyncio.sleep(after_s)
        await self._pulse(rig)

    async def _pulse(self, rig: Controlled) -> Result:
        if self.what == "coil":
            order, back = rig.order("Horn", "on"), rig.order("Horn", "off")
        else:
            order, back = rig.order("Command word", "Acknowledge on"), rig.order("Command word", "Acknowledge off")
        return await rig.control.pulse(order, back, self.pulse_s, lambda half: None)

    async def _keep(self, rig: Controlled) -> None:
        order = rig.order("Command word", "Enable")
        order = replace(order, data=b"\0\1", mask=0xFFFF)
        await rig.control.alives.begin(Wish(order=order, period_s=self.period_s, safe=b"\0\0"))

    async def _away(self, rig: Controlled) -> None:
        line = rig.line
        if self.way == "gone":
            line.channel.break_off("the cable is out")
        elif self.way == "deaf":
            line.is_deaf = lambda unit_id: True
        else:
            line.fault = lambda frame, at, right: []
        await rig.running.for_s(self.length_s)
        line.channel.why_unreachable = None
        line.is_deaf = lambda unit_id: False
        line.fault = None

    def _stands(self, rig: Controlled) -> bool:
        if self.what == "coil":
            return bool(rig.value("Horn"))
        return bool(int(rig.value("Command word")) & (0x80 if self.what == "bit" else 0x01))  # type: ignore[call-overload]

    def _judge_pulse(self, rig: Controlled, began_s: float, back_s: float) -> None:
        owed = rig.control.owings.states
        due_s = began_s + self.pulse_s
        stands = self._stands(rig)
        if back_s - due_s < OWED_S - 3:
            self._check(not stands, "it was left on")
            self._check(not owed, f"it is owed still: {owed}")
        elif back_s - due_s > OWED_S + 3:
            late = [frame for at, frame in rig.line.heard if at > back_s - 0.001]
            self._check(not late, f"sent unasked: {late}")
            if stands:
                self._check(owed and owed[0].stage is OwedStage.ASKS, f"left on, and not marked: {owed}")
        if self.what == "bit":
            self._check(int(rig.value("Command word")) & ~0x80 == 0, "other bits were changed")  # type: ignore[call-overload]

    def _judge_alive(self, rig: Controlled, out_s: float, back_s: float) -> None:
        limit_s = self.watchdog_s or 3 * self.period_s + 0.5
        control = rig.control
        held_after = [at for at, frame in rig.line.heard if at > back_s and frame.pdu[-1] == 1]
        if self.length_s > limit_s + 3:  # after retries in the middle of which it went
            self._check(not control.alive, "it was taken up by itself")
            self._check(not held_after, f"the held value went out after the outage: {held_after}")
            self._check(control.alives.offers, "nothing is offered")
            texts = [event.text for event in rig.session.events.ring if event.kind is EventKind.KEPT_ALIVE]
            self._check(
                any("K takes it up again" in text and "was away" in text for text in texts), f"not told: {texts}"
            )
            if self.length_s - limit_s < OWED_S - 5:
                self._check(not self._stands(rig), "it was left on")
                self._check(not control.owings.states, "its safe value is owed still")
            elif self.length_s - limit_s > OWED_S + 5:
                late = [frame for at, frame in rig.line.heard if at > back_s]
                self._check(not late, f"sent unasked: {late}")
                if self._stands(rig):
                    self._check(
                        [s for s in control.owings.states if s.stage is OwedStage.ASKS], "left on, and not marked"
                    )
        elif self.length_s < limit_s - 0.6:
            self._check(control.alive, "it ended in a short outage")


class LineOutage:
    """One seed: a line of some devices that are polled, of which one, some or all go away; as many events as outages,
    each with its true beginning and end."""

    def __init__(self, seed: int) -> None:
        pick = self.pick = random.Random(f"line {seed}")
        self.wrong: list[str] = []
        self.count = pick.randint(1, 4)
        self.retries = pick.choice((0, 1))
        self.way = pick.choice(("deaf", "mute", "gone"))
        out = pick.randint(1, self.count) if self.way != "gone" else self.count
        self.out = set(range(1, out + 1))
        self.length_s = pick.uniform(8.0, 90.0)
        self.told = f"{out} of {self.count} {self.way} for {self.length_s:.1f} s, {self.retries} retries"

    def run(self) -> list[str]:
        run_virtual(self._run())
        return self.wrong

    async def _run(self) -> None:
        devices = [
            replace(device(f"D{n}", n, period_s=0.5, timeout_s=0.3, retries=self.retries), watchdog_s=2.0)
            for n in range(1, self.count + 1)
        ]
        line = SimulatedLine(*devices)
        async with Running(line) as running:
            for _ in range(2):
                await running.for_s(6.0 + self.pick.random())
                out_s, number = asyncio.get_running_loop().time(), running.session.count
                if self.way == "gone":
                    line.channel.break_off("the cable is out")
                elif self.way == "deaf":
                    line.is_deaf = lambda unit_id: unit_id in self.out
                else:
                    line.fault = lambda frame, at, right: [] if frame.unit_id in self.out else right
                await running.for_s(self.length_s)
                line.channel.why_unreachable, line.fault = None, None
                line.is_deaf = lambda unit_id: False
                back_s = asyncio.get_running_loop().time()
                await running.for_s(40.0)
                self._judge(running, number, out_s, back_s)

    def _judge(self, running: Running, number: int, out_s: float, back_s: float) -> None:
        at = running.session.clock.at
        events = [event for event in running.session.events.ring if event.wall_s > at(out_s) - 0.6]
        is_line = len(self.out) == self.count
        expected = [("line down", "")] if is_line else [("device lost", f"D{n}") for n in sorted(self.out)]
        found = sorted((event.kind.value, event.device) for event in events)
        if found != expected:
            texts = [f"{event.kind.value} {event.device}: {event.text}" for event in events]
            self.wrong.append(f"events: {texts}, expected {expected}")
            return
        rows = [row for row in running.session.exchanges if row.number > number and row.device is not None]
        for event in events:
            outcomes = [row.outcome for row in rows if is_line or (row.device and row.device.name == event.device)]
            failed_s = min((row.sent_at for row in outcomes if not row.is_answer), default=out_s)
            good_s = min((row.done_at for row in outcomes if row.is_good and row.done_at > back_s), default=0.0)
            if self.way == "gone":
                failed_s = min(failed_s, out_s)
            if abs(event.wall_s - at(failed_s)) > 0.05:
                self.wrong.append(f"{event.text}: begun {event.wall_s - at(failed_s):+.3f} s off")
            if abs((event.ended_wall_s or 0.0) - at(good_s)) > 0.05:
                self.wrong.append(f"{event.text}: ended {(event.ended_wall_s or 0.0) - at(good_s):+.3f} s off")


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--times", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--lines", action="store_true", help="outages of lines and devices, and their events")
    chosen = parser.parse_args()
    failed = 0
    for seed in range(chosen.seed, chosen.seed + chosen.times):
        one = LineOutage(seed) if chosen.lines else Outage(seed)
        wrong = one.run()
        failed += bool(wrong)
        if wrong:
            print(f"seed {seed}: {one.told}", *wrong, sep="\n  ", flush=True)
    print(f"{chosen.times} outages from seed {chosen.seed}: {failed} failed")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
