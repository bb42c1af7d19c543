"""Bridges: turns, sharing, what passes, what is answered where; between ends that share nothing with ours; and masters
by chance on a virtual clock."""

import asyncio
import random
import ssl
import tempfile
import unittest
from collections.abc import Awaitable, Callable
from pathlib import Path

from msgspec.structs import replace

from kanaleto.bridge.bridging import Bridging
from kanaleto.bridge.masterturns import MasterTurns, Waiter
from kanaleto.bridge.passing import refusal
from kanaleto.files.bridgetables import units_of
from kanaleto.files.loading import load_site
from kanaleto.polling.session import Session
from kanaleto.serving.answerer import Master
from kanaleto.site.bridges import Bridge, BridgeTarget, Route, RouteAccess, TlsServing
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.links.parse import parse_link
from kanaleto.site.model import Line, Site, Writing
from kanaleto.wire.codes import Table
from kanaleto.wire.reach import only_reads
from tests.bridged import FarEnd, bridging_of, masters_by_chance, site_of
from tests.rawends import RawMaster, RawSlave, settings_of
from tests.standard_rows import SLAVE
from tests.test_rows import EveryLink
from tests.virtual import run_virtual

READ, WRITE = b"\x03\x00\x00\x00\x01", b"\x06\x00\x00\x00\x07"


def asked(turns: MasterTurns, master: str, pdu: bytes = READ, unit: int = 1, until_s: float = 10.0, most: int = 8,
          shares: bool = False) -> list[bytes | None]:  # fmt: skip
    """A request of that master; the list has its answer once it is there."""
    came: list[bytes | None] = []
    waiter = Waiter(master, until_s, 0.0, lambda pdu, is_shared: came.append(pdu))
    turns.ask(unit, pdu, waiter, pdu[0] != 6, shares, most)
    return came


class Turns(unittest.TestCase):
    def order(self, turns: MasterTurns) -> list[object]:
        found = []
        while (turn := turns.take(0.0)) is not None:
            found.append(turn.waiters[0].master)
            turns.done(turn, b"")
        return found

    def test_masters_take_turns_whoever_asks_more(self) -> None:
        turns = MasterTurns()
        for master in ("A", "A", "A", "A", "B", "C", "B"):
            asked(turns, master)
        self.assertEqual(self.order(turns), ["A", "B", "C", "A", "B", "A", "A"])

    def test_who_asks_seldom_waits_for_one_of_each_other(self) -> None:
        turns, chance = MasterTurns(), random.Random(7)
        for _ in range(300):
            for master in "ABC":
                while turns.waiting_of(master) < 3:
                    asked(turns, master, chance.choice((READ, WRITE)))
            asked(turns, "seldom")
            before = []
            while (turn := turns.take(0.0)) is not None and turn.waiters[0].master != "seldom":
                before.append(turn.waiters[0].master)
                asked(turns, str(turn.waiters[0].master), chance.choice((READ, WRITE)))
            self.assertLessEqual(len(before), 3)
            self.assertEqual(len(set(before)), len(before), "one of each at most")

    def test_a_write_moves_its_master_first_once_a_round(self) -> None:
        turns = MasterTurns()
        for master, pdu in (("A", READ), ("B", READ), ("C", WRITE), ("C", WRITE), ("A", READ)):
            asked(turns, master, pdu)
        self.assertEqual(self.order(turns), ["C", "A", "B", "C", "A"])

    def test_the_same_read_is_asked_once_until_somebody_writes_there(self) -> None:
        turns = MasterTurns()
        first, second = asked(turns, "A", shares=True), asked(turns, "B", shares=True)
        asked(turns, "C", WRITE)
        third = asked(turns, "D", shares=True)
        self.assertEqual(len(turns), 3)
        turn = turns.take(0.0)
        while turn is not None and turn.pdu == WRITE:
            turns.done(turn, WRITE)
            turn = turns.take(0.0)
        assert turn is not None
        turns.done(turn, b"\x03\x02\x00\x07")
        self.assertEqual((first, second, third), ([b"\x03\x02\x00\x07"], [b"\x03\x02\x00\x07"], []))

    def test_one_who_waits_for_something_else_shares_nothing_that_would_overtake_it(self) -> None:
        turns = MasterTurns()
        asked(turns, "A", shares=True)
        asked(turns, "B", b"\x03\x00\x09\x00\x01", shares=True)
        asked(turns, "B", shares=True)
        self.assertEqual(len(turns), 3)

    def test_too_many_and_too_long_are_answered_busy_and_never_sent(self) -> None:
        turns = MasterTurns()
        kept = [asked(turns, "A", until_s=1.0, most=2) for _ in range(3)]
        self.assertEqual(kept, [[], [], [b"\x83\x06"]])
        turns.expire(1.5)
        self.assertEqual(kept, [[b"\x83\x06"]] * 3)
        self.assertIsNone(turns.take(2.0))

    def test_masters_that_connect_for_each_request_are_not_remembered_for_ever(self) -> None:
        turns = MasterTurns()
        for number in range(3000):
            asked(turns, f"127.0.0.1:{number}")
            turn = turns.take(0.0)
            assert turn is not None
            turns.done(turn, b"")
        self.assertLess(len(turns._masters), 150)


class Passing(unittest.TestCase):
    def test_what_a_route_for_reading_passes(self) -> None:
        for text in (
            "01",
            "02",
            "03",
            "04",
            "07",
            "0B",
            "0C",
            "11",
            "14",
            "18",
            "2B 0E",
            "08 0000",
            "08 0002",
            "08 000B",
        ):
            self.assertTrue(only_reads(bytes.fromhex(text)), text)
        for text in (
            "05",
            "06",
            "0F",
            "10",
            "15",
            "16",
            "17",
            "08 0001",
            "08 0004",
            "08 000A",
            "08 0014",
            "2B 0D",
            "41",
        ):
            self.assertFalse(only_reads(bytes.fromhex(text)), text)

    def test_refusals_with_their_codes(self) -> None:
        route = Route((1,), (BridgeTarget("L", 1),), RouteAccess.WRITE, (3, 6, 23), ((Table.HOLDING, 100, 119),))
        cases = {
            "03 0064 0014": None, "03 0063 0002": 2, "03 0077 0002": 2, "04 0064 0001": 1, "06 0064 0001": None,
            "06 0078 0001": 2, "10 0064 0001 02 0000": 1, "17 0064 0001 0065 0001 02 0000": None,
            "17 0064 0001 0078 0001 02 0000": 2, "17 0064 0001 0065": 2,
        }  # fmt: skip
        for text, code in cases.items():
            self.assertEqual(refusal(route, bytes.fromhex(text)), code, text)
        self.assertEqual(refusal(replace(route, access=RouteAccess.READ), bytes.fromhex("06 0064 0001")), 1)
        self.assertEqual(refusal(route, bytes.fromhex("06 0064 0001"), no_writes=True), 1)


class Bridged(unittest.TestCase):
    """On a virtual clock, with lines whose registers hold unit and address."""

    def ask(
        self, *ends: FarEnd, work: "Callable[[Bridging, Callable[..., asyncio.Task[bytes]]], Awaitable[None]]",
        **options: float,
    ) -> None:  # fmt: skip
        async def run() -> None:
            bridging = bridging_of(site_of(*ends, **options), *ends)
            masters: dict[str, Master] = {}
            loop = asyncio.get_running_loop()
            tasks = [loop.create_task(bridging.session.run()), loop.create_task(bridging.run())]
            await asyncio.sleep(0.5)

            def ask(unit: int, pdu: bytes, master: str = "A", is_serial: bool = False) -> "asyncio.Task[bytes]":
                own = masters.setdefault(master, Master(master, "Bridge"))
                return loop.create_task(bridging.ask(bridging.bridges[0], unit, pdu, own, is_serial))  # type: ignore[arg-type]

            try:
                await work(bridging, ask)
            finally:
                for task in tasks:
                    task.cancel()
                await asyncio.gather(*tasks, return_exceptions=True)

        run_virtual(run())

    def test_units_are_renumbered_and_unknown_ones_have_no_path(self) -> None:
        async def work(bridging: Bridging, ask: Callable[..., "asyncio.Task[bytes]"]) -> None:
            self.assertEqual(await ask(13, READ), b"\x03\x02\x03\x00")
            self.assertEqual(await ask(22, READ), b"\x03\x02\x02\x00")
            self.assertEqual(await ask(77, READ), b"\x83\x0a")
            self.assertIsNone(await ask(77, READ, is_serial=True))

        self.ask(FarEnd("East", True), FarEnd("West", False), work=work)

    def test_a_silent_target_costs_nobody_its_timeout_twice(self) -> None:
        async def work(bridging: Bridging, ask: Callable[..., "asyncio.Task[bytes]"]) -> None:
            loop = asyncio.get_running_loop()
            began_s = loop.time()
            first, second = ask(15, READ), ask(15, WRITE, "B")
            self.assertEqual((await first, await second), (b"\x83\x0b", b"\x86\x0b"))
            self.assertLess(loop.time() - began_s, 0.6)
            began_s = loop.time()
            for _ in range(5):
                self.assertEqual(await ask(15, READ), b"\x83\x0b")
            self.assertIsNone(await ask(15, READ, is_serial=True))
            self.assertLess(loop.time() - began_s, 0.01)
            self.assertEqual(sum(unit == 5 for _, unit, _ in end.sent), 1)
            await asyncio.sleep(2.5)
            await ask(15, READ)
            self.assertEqual(sum(unit == 5 for _, unit, _ in end.sent), 2, "one in two seconds is tried")

        end = FarEnd("East", True)
        self.ask(end, work=work)

    def test_a_line_that_is_down_is_answered_for_at_once_and_the_other_goes_on(self) -> None:
        async def work(bridging: Bridging, ask: Callable[..., "asyncio.Task[bytes]"]) -> None:
            channel = bridging.session.named("East").exchanger.channel
            channel.break_off("the cable is out")  # type: ignore[attr-defined]
            await asyncio.sleep(0.01)
            began_s = asyncio.get_running_loop().time()
            self.assertEqual(await ask(11, READ), b"\x83\x0b")
            self.assertEqual(await ask(21, READ), b"\x03\x02\x01\x00")
            self.assertLess(asyncio.get_running_loop().time() - began_s, 0.05)
            await asyncio.sleep(65)  # its pause between two tries has grown
            channel.why_unreachable = None  # type: ignore[attr-defined]
            self.assertEqual(await ask(11, READ), b"\x83\x0b")
            await asyncio.sleep(0.5)
            self.assertEqual(await ask(11, READ), b"\x03\x02\x01\x00", "that somebody asked has brought it back")

        self.ask(FarEnd("East", True), FarEnd("West", False), work=work)

    def test_one_way_out_that_is_dead_costs_the_others_no_rate(self) -> None:
        counts: list[int] = []

        async def work(bridging: Bridging, ask: Callable[..., "asyncio.Task[bytes]"]) -> None:
            loop = asyncio.get_running_loop()

            async def master(name: str, unit: int, end_s: float) -> int:
                asked = 0
                while loop.time() < end_s:
                    asked += (await ask(unit, READ, name))[0] == 3
                    await asyncio.sleep(0.001)
                return asked

            for is_dead in (False, True):
                end.is_dead = is_dead
                end_s = loop.time() + 30
                _, other = await asyncio.gather(master("A", 11, end_s), master("B", 21, end_s))
                counts.append(other)

        end = FarEnd("East", True)
        self.ask(end, FarEnd("West", True), work=work)
        self.assertGreaterEqual(counts[1], 0.9 * counts[0])

    def test_the_second_master_waits_for_the_exchange_that_runs_and_one_of_the_first(self) -> None:
        async def work(bridging: Bridging, ask: Callable[..., "asyncio.Task[bytes]"]) -> None:
            loop = asyncio.get_running_loop()

            async def greedy() -> None:
                at = 0
                while True:
                    at += 1
                    await asyncio.gather(
                        *(ask(11, b"\x03" + (at % 90 + one).to_bytes(2) + b"\0\1") for one in range(6))
                    )

            task = loop.create_task(greedy())
            one_s = 0.005 + (8 + 7) * 11 / 19200 + 0.008
            for number in range(20):
                await asyncio.sleep(1.0 + 0.013 * number)
                began_s = loop.time()
                self.assertEqual(await ask(12, READ, "B"), b"\x03\x02\x02\x00")
                self.assertLess(loop.time() - began_s, 3.2 * one_s)
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

        self.ask(FarEnd("East", True), work=work)

    def test_what_waits_too_long_is_answered_busy_and_never_sent(self) -> None:
        async def work(bridging: Bridging, ask: Callable[..., "asyncio.Task[bytes]"]) -> None:
            end.delay_s = 0.25
            answers = [ask(11, b"\x06" + number.to_bytes(2) + b"\0\1") for number in range(6)]
            came = await asyncio.gather(*answers)
            sent = {pdu for _, _, pdu in end.sent}
            await asyncio.sleep(5)
            self.assertEqual({pdu for _, _, pdu in end.sent}, sent)
            for number, answer in enumerate(came):
                self.assertEqual(answer == b"\x86\x06", b"\x06" + number.to_bytes(2) + b"\0\1" not in sent)
            self.assertIn(b"\x86\x06", came)

        end = FarEnd("East", False)
        self.ask(end, work=work, patience_s=0.6)

    def test_what_a_master_no_longer_waits_for_is_not_sent(self) -> None:
        async def work(bridging: Bridging, ask: Callable[..., "asyncio.Task[bytes]"]) -> None:
            first, gone = ask(11, READ), ask(11, WRITE, "B")
            await asyncio.sleep(0)
            gone.cancel()
            await first
            await asyncio.sleep(1)
            self.assertNotIn(WRITE, [pdu for _, _, pdu in end.sent])

        end = FarEnd("East", True)
        self.ask(end, work=work)

    def test_what_the_site_forbids_to_write_no_bridge_writes(self) -> None:
        end = FarEnd("East", True)
        end.line = replace(end.line, writing=Writing.NEVER)

        async def work(bridging: Bridging, ask: Callable[..., "asyncio.Task[bytes]"]) -> None:
            self.assertEqual(await ask(11, WRITE), b"\x86\x01")
            self.assertEqual(await ask(11, READ), b"\x03\x02\x01\x00")
            self.assertEqual([pdu for _, _, pdu in end.sent], [READ])

        self.ask(end, work=work)

    def test_masters_by_chance(self) -> None:
        for seed in (1, 2, 3):
            came = run_virtual(masters_by_chance(100.0, seed))
            told = (came.wrong, came.twice, came.late_writes, came.out_of_order)
            self.assertEqual(told, (0, 0, 0, 0), f"python -m tests.bridged 100 {seed}")
            self.assertGreater(came.outcomes["good"], 1000)


ODD = [("41 01 02 03", "41 0A 0B"), ("64", "64 01"), ("6E FF", "6E"), ("42 0000", "C2 04")]
"""Four functions of no standard, with what a slave says."""


class BetweenRawEnds(EveryLink):
    """Between ends that share nothing with ours: a raw master, the bridge, a raw slave."""

    def setUp(self) -> None:
        super().setUp()
        answers = {bytes.fromhex(request): bytes.fromhex(answer) for _, request, answer in SLAVE if answer and request}
        answers |= {bytes.fromhex(request): bytes.fromhex(answer) for request, answer in ODD}
        self.answers = answers

    def _through(self, listen: str, out: str) -> tuple[int, int]:
        """Every request by that way in and that way out; how many there were, and came back byte for byte."""
        _, carrier_in = settings_of(listen)
        kind_out, carrier_out = settings_of(out)
        path = str(self.folder / f"far-{random.random()}") if carrier_out == "serial" else ""
        slave = RawSlave(out, path)
        slave.handler = lambda unit, pdu: self.answers.get(pdu) if unit == 9 else None
        place = (
            f"{kind_out}://{path}?baud=115200"
            if carrier_out == "serial"
            else f"{out.partition('://')[0]}://127.0.0.1:{slave.port}"
        )
        line = Line("Far", parse_link(place), (), timeout_s=2.0)
        serving = TlsServing(self.folder / "server.pem", self.folder / "server.key", self.folder / "ca.pem")
        route = Route((40,), (BridgeTarget("Far", 9),), RouteAccess.WRITE)
        bridge = Bridge(
            "Way", (parse_link(listen),), (route,), patience_s=5.0, tls_serving=serving if carrier_in == "tls" else None
        )
        session = Session(Site("S", (line,), bridges=(bridge,)))
        bridging = Bridging(session, (bridge,))
        tasks: list[asyncio.Task[None]] = []

        async def start() -> None:
            tasks.append(asyncio.create_task(session.run()))
            await bridging.start()
            tasks.append(asyncio.create_task(bridging.run()))
            await asyncio.sleep(0.5)

        async def stop() -> None:
            await bridging.stop()
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)

        self.thread.run(start())
        link = parse_link(listen)
        master_path, port = (link.place, 0) if carrier_in == "serial" else ("", int(link.place.rpartition(":")[2]))
        context = self.context(ssl.PROTOCOL_TLS_CLIENT) if carrier_in == "tls" else None
        master = RawMaster(listen, port, master_path, 115200 if carrier_in == "serial" else 0, context)
        right = 0
        try:
            for request, answer in self.answers.items():
                came = master.ask(40, request)
                right += came == answer
                self.assertEqual((came or b"").hex(), answer.hex(), f"{listen} to {out}: {request.hex()}")
            if carrier_in != "serial" and settings_of(listen)[0] == "tcp":
                self.assertEqual(master.ask(41, READ), b"\x83\x0a")
        finally:
            master.close()
            self.thread.run(stop())
            slave.close()
        return len(self.answers), right

    def test_every_function_and_four_of_no_standard_byte_for_byte(self) -> None:
        outs = {text.partition("://")[0]: text for text in self.links()}
        ways = [("tcp", "rtu"), ("rtu", "tcp"), ("ascii", "rtu"), ("tls", "tcp"), ("udp", "ascii"), ("rtu+tcp", "tcp")]
        for way_in, way_out in ways:
            with self.subTest(f"{way_in} to {way_out}"):
                links = {text.partition("://")[0]: text for text in self.links()}
                count, right = self._through(links[way_in], outs[way_out])
                self.assertEqual(right, count)


SITE = """
[site]
name = "S"
[[line]]
name = "East"
link = "rtu:///dev/null-east?baud=19200"
[[line]]
name = "Cabinet"
link = "tcp://127.0.0.1:15020"
{more}
"""
ROUTE = '[[bridge]]\nname = "B"\nlisten = "{listen}"\n[[bridge.route]]\nunits = {units}\nto = {to}\n{more}'


class Files(unittest.TestCase):
    def loaded(self, text: str) -> tuple[Site, list[str]]:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "s.toml"
            path.write_text(SITE.format(more=text), encoding="utf-8")
            site, warnings = load_site(path)
            return site, [warning.text for warning in warnings]

    def test_a_route_reads_as_it_stands(self) -> None:
        route = ROUTE.format(
            listen="tcp://127.0.0.1:15502", units='"40-43"', to='["East", "East", "Cabinet", "Cabinet"]',
            more='there = "1, 1, 3, 9"\naccess = "write"\naddresses = ["holding 100-119"]\nfunctions = [3, 6]\n',
        )  # fmt: skip
        site, _ = self.loaded(route)
        (bridge,) = site.bridges
        self.assertEqual(bridge.route_of(42), (bridge.routes[0], BridgeTarget("Cabinet", 3)))
        self.assertEqual(bridge.routes[0].addresses, ((Table.HOLDING, 100, 119),))
        self.assertEqual(units_of("1-3, 7"), (1, 2, 3, 7))

    def test_each_fault_is_told_in_one_sentence_at_its_place(self) -> None:
        here = "tcp://127.0.0.1:15502"
        cases = {
            ROUTE.format(listen=here, units=1, to='"West"', more=""): "'West' is no line of this site",
            ROUTE.format(listen=here, units='"1-3"', to='["East"]', more=""): "to names 1 lines for 3 unit IDs",
            ROUTE.format(listen=here, units=1, to='"East"', more='there = "1, 2"'): "there names 2 unit IDs for 1",
            ROUTE.format(listen=here, units=0, to='"East"', more=""): "unit ID 0 is not in 1…247",
            ROUTE.format(listen=here, units='"4-1"', to='"East"', more=""): "'4-1' is no unit ID",
            ROUTE.format(listen="tcp://127.0.0.1:15020", units=1, to='"East"', more=""): "in a circle",
            ROUTE.format(listen="tls://127.0.0.1:1802", units=1, to='"East"', more=""): "needs serve_cert and",
            ROUTE.format(listen="nowhere", units=1, to='"East"', more=""): "nowhere",
            ROUTE.format(listen=here, units=1, to='"East"', more='functons = [3]'): "'functons' is not known",
            ROUTE.format(listen=here, units=1, to='"East"', more='[[bridge.route]]\nunits = 1\nto = "Cabinet"\n'):
                "unit ID 1 has a route in bridge 'B' already",
            2 * ROUTE.format(listen=here, units=1, to='"East"', more="\n"): "is a way in of bridge 'B' already",
        }  # fmt: skip
        for text, message in cases.items():
            with self.subTest(message), self.assertRaises(FaultyFile) as caught:
                self.loaded(text)
            faults = [fault for fault in caught.exception.faults if message in fault.text]
            self.assertTrue(faults, [fault.text for fault in caught.exception.faults])
            self.assertGreater(faults[0].line or 0, 8)

    def test_beyond_loopback_without_clients_a_bridge_only_reads_and_check_says_so(self) -> None:
        route = ROUTE.format(listen="tcp://192.0.2.9:502", units=1, to='"East"', more='access = "write"\n')
        _, warnings = self.loaded(route)
        self.assertTrue(any("it only reads, whatever its routes say" in text for text in warnings), warnings)
