"""The engine on a virtual clock: learning, silent devices within a tenth, overruns, enabling, watchdogs, asking now,
edits; and soak."""

import asyncio
import unittest

from msgspec.structs import replace

from kanaleto.board.board import Quality
from kanaleto.events.log import EventKind
from kanaleto.polling.schedule import SILENT_SHARE
from kanaleto.site.model import DeviceLimits, Site
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame
from kanaleto.wire.pdu import Read, WriteRegister
from tests.simulated import Pieces, SimulatedLine, device, silent
from tests.soak import soak
from tests.test_polling import Running
from tests.virtual import run_virtual

LONG = "name,table,address\n" + "".join(f"P{n},holding,{n}\n" for n in range(20))


def kinds(running: Running) -> list[EventKind]:
    return [event.kind for event in running.session.events.ring]


class Learning(unittest.TestCase):
    def test_a_limit_that_nobody_wrote_down(self) -> None:
        line = SimulatedLine(device("Device", 7, LONG))
        line.units.devices[0].device = replace(line.line.devices[0], limits=DeviceLimits(max_registers=6))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(60)
                self.assertEqual([running.reading("Device", f"P{n}").quality for n in (0, 10, 19)], [Quality.GOOD] * 3)
                learned = [event.text for event in running.session.events.ring if event.kind is EventKind.LEARNED]
                self.assertEqual(learned, ["reads at most 6 registers in one request: 7 were refused"])
                self.assertEqual(running.session.learned(), {"Device": {"max_registers": 6}})
                before = running.tally("Device").failed
                await running.for_s(60)
                self.assertEqual(running.tally("Device").failed, before)

        run_virtual(work())

    def test_a_long_block_that_is_never_answered(self) -> None:
        line = SimulatedLine(device("Device", 7, LONG + "Other,input,0\n"))
        line.fault = lambda frame, at, right: [] if frame.pdu[4] > 8 else right

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(120)
                self.assertEqual([running.reading("Device", f"P{n}").quality for n in (0, 10, 19)], [Quality.GOOD] * 3)
                self.assertEqual(running.reading("Device", "Other").quality, Quality.GOOD)

        run_virtual(work())


class Silent(unittest.TestCase):
    def test_silent_devices_take_at_most_a_tenth_while_others_want_the_line(self) -> None:
        rows = "name,table,address,type\nA,holding,0,text:200\n"
        line = SimulatedLine(*(device(f"D{n}", n, rows, period_s=0.2, timeout_s=1.0) for n in range(1, 7)))
        line.fault = lambda frame, at, right: [] if frame.unit_id > 2 else right

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(60)
                before = sum(running.tally(f"D{n}").timeouts for n in range(3, 7))
                await running.for_s(600)
                timeouts = sum(running.tally(f"D{n}").timeouts for n in range(3, 7)) - before
                self.assertGreater(timeouts, 4)
                self.assertLess(timeouts * 1.3, SILENT_SHARE * 600 + 3)
                (status,) = running.session.status(asyncio.get_running_loop().time())
                promised = max(one.notice_within_s for one in status.silent)
                line.fault = None
                await running.for_s(promised)
                self.assertEqual(running.session.status(asyncio.get_running_loop().time())[0].silent, ())

        run_virtual(work())

    def test_alone_on_its_line_it_is_asked_as_usual(self) -> None:
        line = SimulatedLine(device("Device", 7, "name,table,address\nA,holding,0\n", timeout_s=0.2))
        line.fault = silent(7)

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(100)
                self.assertGreater(running.tally("Device").timeouts, 95)
                self.assertEqual(kinds(running), [EventKind.LINE_DOWN])  # nobody answers on it
                self.assertIsNone(running.session.events.ring[0].ended_wall_s)
                line.fault = None
                await running.for_s(1.5)
                (lost,) = running.session.events.ring
                self.assertAlmostEqual((lost.ended_wall_s or 0) - lost.wall_s, 100, delta=1.5)

        run_virtual(work())

    def test_asked_now_whatever_its_back_off(self) -> None:
        line = SimulatedLine(device("Dead", 7), device("Alive", 8))
        line.fault = silent(7)

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(100)
                line.fault = None
                running.session.ask_device("Dead")
                await running.for_s(0.3)
                self.assertEqual(running.reading("Dead", "Level").quality, Quality.GOOD)

        run_virtual(work())


class Told(unittest.TestCase):
    def test_overruns(self) -> None:
        rows = "name,table,address,type\nA,holding,0,text:240\n"
        line = SimulatedLine(device("Device", 7, rows, period_s=0.05))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(10)
                (late,) = running.session.lateness()
                self.assertEqual(late.asked_s, 0.05)
                self.assertAlmostEqual(late.reached_s, 0.157, delta=0.01)
                self.assertGreater(running.session.plan.load(line.line), 2.5)

        run_virtual(work())

    def test_an_exception_is_one_event_with_a_count(self) -> None:
        line = SimulatedLine(device("Device", 7, "name,table,address\nA,holding,0\n"))
        broken = line.exchanger().framing.encode(7, b"\x83\x04")
        line.fault = lambda frame, at, right: [(at + 0.01, broken)]

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(10.5)
                (event,) = running.session.events.ring
                self.assertEqual((event.kind, event.count), (EventKind.EXCEPTION, 11))
                line.fault = None
                await running.for_s(2)
                line.fault = lambda frame, at, right: [(at + 0.01, broken)]
                await running.for_s(2)
                self.assertEqual(len(running.session.events.ring), 1)  # it was not over
                self.assertRegex(event.text, r"exception 4.*; 13 of 15 requests")
                line.fault = None
                await running.for_s(70)
                self.assertAlmostEqual(event.lasted_s, 14, delta=1.1)  # since it came last
                line.fault = lambda frame, at, right: [(at + 0.01, broken)]
                await running.for_s(2)
                self.assertEqual(len(running.session.events.ring), 2)

        run_virtual(work())

    def test_a_slow_device_and_a_late_gateway(self) -> None:
        line = SimulatedLine(device("Device", 7, timeout_s=0.5), is_serial=False, delay_s=0.4)

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(5)
                self.assertEqual(kinds(running), [EventKind.DEVICE_SLOW])

                def late(frame: Frame, at: float, right: Pieces) -> Pieces:
                    return [
                        (
                            at + 0.9,
                            line.exchanger().framing.encode(
                                7, bytes((frame.pdu[0] | 0x80, 0x0B)), frame.transaction or 0
                            ),
                        )
                    ]

                line.fault = late
                await running.for_s(5)
                event = next(event for event in running.session.events.ring if event.kind is EventKind.GATEWAY)
                self.assertIn("gave up 0.90 s after the request: raise timeout_s", event.text)

        run_virtual(work())

    def test_a_watchdog_at_risk(self) -> None:
        each_device = replace(device("Device", 7), watchdog_s=5.0)
        line = SimulatedLine(each_device)

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(3)
                self.assertEqual(running.session.at_risk(), [each_device])
                running.session.hold(True)
                await running.for_s(10)
                running.session.hold(False)
                await running.for_s(1)
                self.assertEqual(kinds(running), [EventKind.WATCHDOG])

        run_virtual(work())


class Changing(unittest.TestCase):
    def test_a_device_that_is_enabled_by_a_point(self) -> None:
        rows = "name,table,address,access\nOn,coil,0,rw\nA,holding,0,r\n"
        line = SimulatedLine(replace(device("Device", 7, rows), enabled_by="On"))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(5)
                self.assertEqual({frame.pdu[0] for frame in line.requests}, {1})
                line.units.devices[0].put("On", 1)
                await running.for_s(3)
                self.assertEqual(running.reading("Device", "A").quality, Quality.GOOD)

        run_virtual(work())

    def test_a_single_cycle_while_held(self) -> None:
        line = SimulatedLine(device("Device", 7))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(2.5)
                running.session.hold(True)
                await running.for_s(1)
                before = running.session.count
                running.session.cycle()
                await running.for_s(10)
                self.assertEqual(running.session.count - before, 3)

        run_virtual(work())

    def test_points_devices_and_lines_switched_off_and_on(self) -> None:
        line = SimulatedLine(device("One", 7), device("Two", 8))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(2)
                running.session.switch_points("One", False, {"Far"})
                running.session.switch_points("Two", False)
                left = running.reading("One", "Far")
                self.assertIn("switched off", left.reason)
                line.requests.clear()
                await running.for_s(5)
                self.assertEqual({(frame.unit_id, frame.pdu[2]) for frame in line.requests}, {(7, 0)})
                off = running.reading("One", "Far")
                self.assertEqual((off.quality, off.value, off.data), (Quality.STALE, left.value, left.data))
                assert off.age_s is not None and left.age_s is not None
                self.assertAlmostEqual(off.age_s - left.age_s, 5.0, delta=0.01)
                running.session.switch_points("One", True)
                self.assertEqual(running.reading("One", "Far").quality, Quality.NEVER)
                running.session.switch_points("One", False, {"Far"})
                self.assertEqual(running.reading("One", "Far").quality, Quality.NEVER)  # it was not read in between
                running.session.switch_points("Two", True)
                await running.for_s(2)
                self.assertEqual(running.reading("Two", "Far").quality, Quality.GOOD)
                running.session.switch_line("Line", False)
                line.requests.clear()
                await running.for_s(60)
                self.assertEqual(line.requests, [])
                running.session.switch_line("Line", True)
                await running.for_s(2)
                self.assertEqual(running.reading("Two", "Far").quality, Quality.GOOD)

        run_virtual(work())

    def test_one_off_requests_go_first_and_starve_nobody(self) -> None:
        line = SimulatedLine(
            replace(
                device("Device", 7, "name,table,address,access\nA,holding,0,rw\n", period_s=0.1),
                pause_after_write_s=0.5,
            )
        )

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(0.05)
                poller, each_device = running.session.pollers[0], line.line.devices[0]
                asked = [poller.ask(7, Read(Table.HOLDING, 0, 1), 0.5, each_device) for _ in range(400)]
                await running.for_s(6)
                polled = running.tally("Device").good - sum(future.done() for future in asked)
                self.assertGreater(polled, 50)
                await asyncio.gather(*asked)
                await running.for_s(1)
                await poller.order(7, WriteRegister(0, 5), 0.5, each_device, lambda: "")
                line.requests.clear()
                await running.for_s(0.45)
                self.assertEqual(line.requests, [])  # it rests after a write
                await running.for_s(1)
                self.assertEqual(running.reading("Device", "A").value, 5)

        run_virtual(work())

    def test_reconnect_now(self) -> None:
        line = SimulatedLine(device("Device", 7))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(2)
                line.channel.break_off("the cable is out")
                await running.for_s(300)
                line.channel.why_unreachable = None
                running.session.reconnect("Line")
                await running.for_s(1.2)
                self.assertEqual(running.reading("Device", "Level").quality, Quality.GOOD)
                self.assertEqual(kinds(running), [EventKind.LINE_DOWN])
                self.assertIsNotNone(running.session.events.ring[0].ended_wall_s)

        run_virtual(work())

    def test_an_edited_site_keeps_connections_and_records(self) -> None:
        line = SimulatedLine(device("One", 7), device("Two", 8))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(2.4)
                exchanger, connects = running.session.pollers[0].exchanger, line.channel._generation
                one = line.line.devices[0]
                edited = replace(line.line, devices=(one, device("Three", 8), device("Four", 9)))
                running.session.take_over(Site("Edited", (edited,)))
                self.assertIs(running.session.pollers[0].exchanger, exchanger)
                self.assertEqual(running.reading("One", "Level").quality, Quality.GOOD)
                # the same unit, whatever its name
                self.assertEqual(running.reading("Three", "Level").quality, Quality.GOOD)
                self.assertGreater(running.tally("Three").good, 0)
                self.assertEqual(running.reading("Four", "Level").quality, Quality.NEVER)
                await running.for_s(1.2)
                self.assertEqual(running.reading("Three", "Level").quality, Quality.GOOD)
                self.assertEqual(line.channel._generation, connects)
                running.session.take_over(Site("Empty", ()))
                line.requests.clear()
                await running.for_s(5)
                self.assertEqual(line.requests, [])

        run_virtual(work())


class Soaked(unittest.TestCase):
    def test_a_sample_of_seeds(self) -> None:
        for seed in range(1, 16):
            with self.subTest(replay=f"python -m tests.soak --seed {seed}"):
                self.assertGreater(soak(seed, span_s=120).exchanges, 100)
