"""One outage is one event: whose it is, when it began and ended, what follows; and what is lost now and then."""

import asyncio
import unittest

from msgspec.structs import replace

from kanaleto.events.log import Event, EventKind
from kanaleto.wire.frames import Frame
from tests.outages import LineOutage
from tests.simulated import Fault, Pieces, SimulatedLine, device
from tests.test_polling import Running
from tests.virtual import run_virtual

_SEEDS = 20
_ONE = "name,table,address\nA,holding,0\n"


def each(count: int, instead: Fault) -> Fault:
    """Every so many answers something else comes."""
    number = 0

    def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
        nonlocal number
        number += 1
        return instead(frame, at, right) if number % count == 0 else right

    return fault


def told(running: Running) -> list[str]:
    return [f"{event.kind.value} {event.device or event.line}: {event.text}" for event in running.session.events.ring]


class Outages(unittest.TestCase):
    def test_as_many_events_as_outages_with_their_beginning_and_end(self) -> None:
        for seed in range(1, _SEEDS + 1):
            one = LineOutage(seed)
            self.assertEqual(one.run(), [], f"python -m tests.outages --lines --times 1 --seed {seed}: {one.told}")

    def test_one_pulled_cable_of_29_s_is_one_event_with_its_devices_under_it(self) -> None:
        devices = [replace(device(f"D{n}", n, _ONE, period_s=0.2), watchdog_s=2.0) for n in range(1, 5)]
        line = SimulatedLine(*devices)

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(5)
                line.is_deaf = lambda unit_id: True
                await running.for_s(29)
                line.is_deaf = lambda unit_id: False
                await running.for_s(60)
                (event,) = running.session.events.ring
                self.assertEqual((event.kind, event.device), (EventKind.LINE_DOWN, ""))
                self.assertAlmostEqual(event.lasted_s, 29, delta=1.5)
                self.assertRegex(
                    event.text, r"nobody answers: .*for \d+ s; with it D1, D2, D3, D4; tried: \d+ requests"
                )
                self.assertIn("longer than the watchdog of", event.text)

        run_virtual(work())

    def test_a_failure_that_its_retry_mends_is_no_event(self) -> None:
        line = SimulatedLine(device("D", 7, _ONE, period_s=0.5))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(5)
                line.fault = each(40, lambda frame, at, right: [])
                await running.for_s(120)
                self.assertEqual(told(running), [])

        run_virtual(work())

    def test_one_that_loses_every_seventh_answer_has_one_event_until_it_is_better(self) -> None:
        for retries in (0, 1):
            line = SimulatedLine(device("D", 7, _ONE, period_s=0.5, retries=retries), device("E", 8, _ONE))

            async def work(line: SimulatedLine = line, retries: int = retries) -> None:
                async with Running(line) as running:
                    await running.for_s(5)
                    spoils = each(7, lambda frame, at, right: [])
                    line.fault = lambda frame, at, right: spoils(frame, at, right) if frame.unit_id == 7 else right
                    await running.for_s(600)
                    (event,) = [one for one in running.session.events.ring if one.kind is EventKind.UNANSWERED]
                    self.assertRegex(event.text, r"1 in (6|7|8) unanswered")
                    self.assertIsNone(event.ended_wall_s)
                    others = [one for one in running.session.events.ring if one is not event]
                    self.assertLessEqual(len(others), 3 if not retries else 0, told(running))
                    line.fault = None
                    await running.for_s(60)
                    self.assertIsNotNone(event.ended_wall_s)
                    self.assertAlmostEqual(event.lasted_s, 600, delta=25)  # since the last that was lost

            run_virtual(work())

    def test_repeated_refusals_fold_into_one_event(self) -> None:
        line = SimulatedLine(device("D", 7, _ONE, period_s=0.5))
        busy = line.exchanger().framing.encode(7, b"\x83\x06")

        async def work() -> None:
            async with Running(line) as running:
                line.fault = each(3, lambda frame, at, right: [(at + 0.01, busy)])
                await running.for_s(300)
                (event,) = running.session.events.ring
                self.assertEqual((event.kind, event.ended_wall_s), (EventKind.EXCEPTION, None))
                self.assertRegex(event.text, r"exception 6: .*server device busy.*; \d+ of \d+ requests")

        run_virtual(work())

    def test_overruns_that_an_outage_causes_blame_no_load(self) -> None:
        rows = "name,table,address,type\nA,holding,0,text:120\n"
        line = SimulatedLine(*(device(f"D{n}", n, rows, period_s=0.25, timeout_s=0.5) for n in (1, 2)))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(10)
                self.assertEqual(told(running), [])
                line.is_deaf = lambda unit_id: unit_id == 2
                await running.for_s(120)
                line.is_deaf = lambda unit_id: False
                await running.for_s(30)
                kinds = [event.kind for event in running.session.events.ring]
                self.assertEqual(kinds, [EventKind.DEVICE_LOST], told(running))

        run_virtual(work())

    def test_a_network_line_is_soon_back_where_the_site_names_no_pause(self) -> None:
        for reconnect_s, longest_s in ((None, 5.0), (1.0, 30.0)):
            line = SimulatedLine(device("D", 7, _ONE), is_serial=False)
            line.line = replace(line.line, reconnect_s=reconnect_s)

            async def work(line: SimulatedLine = line, longest_s: float = longest_s) -> None:
                async with Running(line) as running:
                    await running.for_s(3)
                    line.channel.break_off("gone")
                    await running.for_s(200)
                    pauses = []
                    for _ in range(400):
                        await running.for_s(0.25)
                        now = asyncio.get_running_loop().time()
                        pauses.append(running.session.pollers[0].connection.next_connect_s - now)
                    self.assertAlmostEqual(max(pauses), longest_s, delta=0.5)

            run_virtual(work())

    def test_the_journal_is_told_when_a_device_becomes_its_line(self) -> None:
        line = SimulatedLine(device("D", 7, _ONE), device("E", 8, _ONE))

        async def work() -> None:
            async with Running(line) as running:
                heard: list[tuple[int, EventKind, str]] = []

                def follow(event: Event) -> None:
                    heard.append((event.number, event.kind, event.device))

                running.session.events.follow(follow)
                await running.for_s(3)
                line.is_deaf = lambda unit_id: True
                await running.for_s(10)
                (first, kind, name), (then, wider, nobody) = heard[0], heard[-1]
                self.assertEqual((kind, wider, nobody), (EventKind.DEVICE_LOST, EventKind.LINE_DOWN, ""))
                self.assertEqual((first, bool(name)), (then, True))

        run_virtual(work())
