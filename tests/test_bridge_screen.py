"""The view Bridge by keys: passing on begun and ended, routes tested, who asks, what went through; an edit is taken
over without cutting off who is connected; the lock stops what is passed on by itself."""

import asyncio
import socket
from typing import Any

from textual.pilot import Pilot

from kanaleto.control.holders import Hold
from kanaleto.tui.app import KanaletoApp
from kanaleto.wire.codes import Table
from tests.livesite import LiveCase
from tests.rawends import RawMaster
from tests.test_bench import free_port

App = KanaletoApp
READ = b"\x03\x00\x00\x00\x01"
MAP = """name,table,address,type,access
Level,holding,0,uint16,rw
Other,holding,1,uint16,rw
"""


class Bridges(LiveCase):
    def _drive(self, work: Any, more: str = "") -> None:
        self.port = free_port()
        bridge = (
            f'[[bridge]]\nname = "Room"\nlisten = "tcp://127.0.0.1:{self.port}"\n{more}'
            '[[bridge.route]]\nunits = "40-41"\nto = "L"\nthere = "1, 9"\n'
        )
        self.far.silent = {9}

        async def begun(case: Bridges, app: App, pilot: "Pilot[None]") -> None:
            await pilot.press("6")
            await case.shows(app, "nothing is passed on")
            await work(case, app, pilot)

        (self.folder / "m.csv").write_text(MAP)
        site = (
            '[site]\nname = "S"\nperiod_s = 0.1\n[[line]]\nname = "L"\ntimeout_s = 0.3\n'
            f'link = "tcp://127.0.0.1:{self.far.server_address[1]}"\n'
            '[[line.device]]\nname = "Meter 1"\nunit_id = 1\nmap = "m.csv"\n'
            '[[line.device]]\nname = "Meter 2"\nunit_id = 2\nmap = "m.csv"\n'
        )
        self.drive_site(site + bridge, "Level", begun)

    async def _asked(self, master: RawMaster, unit: int, pdu: bytes = READ) -> bytes | None:
        return await asyncio.to_thread(master.ask, unit, pdu)

    def test_passing_on_is_begun_seen_and_ended(self) -> None:
        async def work(case: Bridges, app: App, pilot: "Pilot[None]") -> None:
            case.far.values[1, 0] = 77
            await pilot.press("b")
            await case.shows(app, f"passing on, heard at tcp://127.0.0.1:{case.port}")
            await case.shows(app, "nobody has asked yet")
            master = RawMaster("tcp://x", case.port)
            case.assertEqual(await case._asked(master, 40), b"\x03\x02\x00\x4d")
            case.assertEqual(await case._asked(master, 41), b"\x83\x0b")
            case.assertEqual(await case._asked(master, 40, b"\x06\x00\x00\x00\x01"), b"\x86\x01", "the route reads")
            await case.shows(app, r"● +40 +→ L unit 1 .*reads +0\.\d/s")
            await case.shows(app, r"✕ +41 +→ L unit 9")
            await case.shows(app, r"127\.0\.0\.1:\d+ +0\.\d/s +waits \d+ ms at most +refused 2")
            await case.shows(app, r"asked +tcp +00 01 00 00 00 06 28 06 00 00 00 01")
            await case.shows(app, r"^ +tcp +00 01 00 00 00 06 01 06 00 00 00 01|tcp +00 01 00 00 00 06 01 06")
            await pilot.press("t")
            await case.shows(app, "1 of 2 routed units answer")
            await pilot.press("b")
            await case.shows(app, "nothing is passed on: b begins")
            with case.assertRaises((OSError, AssertionError)):
                RawMaster("tcp://x", case.port)
            master.close()

        self._drive(work)

    def test_an_edit_is_taken_over_and_nobody_is_cut_off(self) -> None:
        async def work(case: Bridges, app: App, pilot: "Pilot[None]") -> None:
            case.far.values[2, 0] = 88
            await pilot.press("b")
            await case.shows(app, "passing on")
            master = RawMaster("tcp://x", case.port)
            case.assertEqual(await case._asked(master, 42), b"\x83\x0a")
            path = case.folder / "site.toml"
            path.write_text(path.read_text() + '[[bridge.route]]\nunits = 42\nto = "L"\nthere = 2\n')
            await case.shows(app, r"42 +→ L unit 2")
            for _ in range(100):
                answer = await case._asked(master, 42)
                if answer == b"\x03\x02\x00\x58":
                    break
                await asyncio.sleep(0.1)
            case.assertEqual(answer, b"\x03\x02\x00\x58")
            master.close()

        self._drive(work)

    def test_a_place_that_is_taken_is_told_and_stays_to_be_seen(self) -> None:
        async def work(case: Bridges, app: App, pilot: "Pilot[None]") -> None:
            with socket.create_server(("127.0.0.1", case.port)):
                await pilot.press("b")
                await case.shows(app, f"127.0.0.1:{case.port} is in use by another program")
                await case.shows(app, "nothing is passed on")

        self._drive(work)

    def test_the_lock_stops_what_is_passed_on_by_itself(self) -> None:
        async def work(case: Bridges, app: App, pilot: "Pilot[None]") -> None:
            case.far.values[1, 0] = 5
            await pilot.press("b")
            await case.shows(app, "passing on")
            await asyncio.sleep(1.0)
            case.assertEqual(case.far.wrote, [], "it is locked")
            await case.unlocked(app, pilot)
            await case.until(lambda: bytes.fromhex("02060001" + "0005") in case.far.wrote, "the pass")
            await asyncio.sleep(0.3)
            await case.alone(pilot, "u")
            await case.until(lambda: not app.control.lock.is_unlocked(""), "the lock")
            await asyncio.sleep(0.5)
            wrote = len(case.far.wrote)
            await asyncio.sleep(1.0)
            case.assertEqual(len(case.far.wrote), wrote)

        self._drive(work, '[[bridge.pass]]\nfrom = "Meter 1/Level"\nto = "Meter 2/Other"\nevery_s = 0.2\n')

    def test_while_somebody_of_ours_holds_a_register_a_masters_write_is_busy(self) -> None:
        async def work(case: Bridges, app: App, pilot: "Pilot[None]") -> None:
            hold = Hold("L", 1, Table.HOLDING, 0, 1, "test", "a routine", lambda: None)
            await pilot.press("b")
            await case.shows(app, "passing on")
            master = RawMaster("tcp://x", case.port)
            case.assertEqual(await case._asked(master, 43, b"\x06\x00\x00\x00\x09"), b"\x06\x00\x00\x00\x09")
            app.engine.do(lambda session: app.control.orders.holders.take(hold)).result(5)
            case.assertEqual(await case._asked(master, 43, b"\x06\x00\x00\x00\x08"), b"\x86\x06")
            case.assertEqual(await case._asked(master, 43, b"\x06\x00\x01\x00\x08"), b"\x06\x00\x01\x00\x08")
            app.engine.do(lambda session: app.control.orders.holders.release("test")).result(5)
            case.assertEqual(await case._asked(master, 43, b"\x06\x00\x00\x00\x08"), b"\x06\x00\x00\x00\x08")
            master.close()

        self._drive(work, '[[bridge.route]]\nunits = 43\nto = "L"\nthere = 1\naccess = "write"\n')

    def test_routes_are_changed_added_and_taken_away_by_keys(self) -> None:
        async def work(case: Bridges, app: App, pilot: "Pilot[None]") -> None:
            path = case.folder / "site.toml"
            await pilot.press("b")
            await case.shows(app, "passing on")
            master = RawMaster("tcp://x", case.port)
            await pilot.press("a")
            await case.shows(app, "one more route of Room")
            await case.answer(app, pilot, "units=50 there=2 access=write")
            await case.shows(app, r"50 +→ L unit 2 .*reads, writes")
            case.far.values[2, 0] = 3
            await case.until(lambda: len(app.bridging.state.routes if app.bridging.state else ()) == 3, "the third")
            case.assertEqual(await case._asked(master, 50), b"\x03\x02\x00\x03", "on the same connection")
            await pilot.press("c")
            await case.shows(app, "route of Room")
            await case.answer(app, pilot, "acces=write")
            await case.shows(app, r"acces is no setting of a route \(did you mean 'access'\?\)")
            await pilot.press("escape")
            await pilot.press("c")
            await case.answer(app, pilot, "access=write")
            await case.shows(app, r"40 +→ L unit 1 .*reads, writes")
            case.assertIn('access = "write"', path.read_text())
            await pilot.press("end", "delete")
            await case.until(lambda: 'units = "50"' not in path.read_text(), "the end of the route")
            await pilot.press("ctrl+z")
            await case.shows(app, r"50 +→ L unit 2")
            master.close()

        self._drive(work)

    def test_a_first_bridge_is_made_by_one_line(self) -> None:
        async def work(case: Bridges, app: App, pilot: "Pilot[None]") -> None:
            await pilot.press("6")
            await case.shows(app, "Bridge passes on what masters ask")
            await pilot.press("a")
            await case.answer(app, pilot, f" listen=tcp://127.0.0.1:{free_port()}")
            await case.shows(app, r"1 +→ L unit 1 +reads")
            await pilot.press("b")
            await case.shows(app, "passing on, heard at")

        self.drive(work)

    def test_a_pass_is_seen_with_both_values_holds_its_target_and_is_stopped_by_a_key(self) -> None:
        async def work(case: Bridges, app: App, pilot: "Pilot[None]") -> None:
            case.far.values[1, 0] = 7
            await case.unlocked(app, pilot)
            await pilot.press("b")
            await case.until(lambda: bytes.fromhex("02060001" + "0007") in case.far.wrote, "the pass")
            await pilot.press("end")
            await case.shows(app, r"● Meter 1/Level +7 +0\.\d s +⇢ Meter 2/Other +7 0\.\d s ago ×\d+")
            await case.shows(app, r"written every 0\.2 s")
            master = RawMaster("tcp://x", case.port)
            write = b"\x06\x00\x01\x00\x09"
            case.assertEqual(await case._asked(master, 43, write), b"\x86\x06", "the pass holds its target")
            await pilot.press("s")
            await case.shows(app, r"◌ Meter 1/Level .*stopped")
            case.assertEqual(await case._asked(master, 43, write), write, "it holds nothing any more")
            count = len(case.far.wrote)
            await asyncio.sleep(0.6)
            case.assertEqual(len(case.far.wrote), count, "it writes nothing any more")
            await pilot.press("s")
            await case.shows(app, r"● Meter 1/Level .*ago ×")
            await pilot.press("c")
            await case.answer(app, pilot, "change=yes every_s=")
            await case.shows(app, "written when it changes")
            case.assertIn("change = true", (case.folder / "site.toml").read_text())
            master.close()

        more = '[[bridge.pass]]\nfrom = "Meter 1/Level"\nto = "Meter 2/Other"\nevery_s = 0.2\n'
        self._drive(work, more + '[[bridge.route]]\nunits = 43\nto = "L"\nthere = 2\naccess = "write"\n')

    def test_a_run_of_points_gets_a_run_of_registers_in_one_step(self) -> None:
        async def work(case: Bridges, app: App, pilot: "Pilot[None]") -> None:
            case.far.values[2, 1] = 12
            await pilot.press("b", "f")
            await case.shows(app, "points into registers of a new device of Room")
            await case.answer(app, pilot, ' from="Meter 1/*; Meter 2/Othr"')
            await case.shows(app, r"'Othr' is no point of Meter 2 \(did you mean 'Other'\?\)")
            await pilot.press("escape", "f")
            await case.answer(app, pilot, ' from="Meter 1/*; Meter 2/Other" unit_id=60 at="holding 100"')
            await case.shows(app, r"◆ +60 +composed of Meter 1, Meter 2")
            await case.shows(app, r"holding 102 +Meter 2 Other +12 +\d\.\d s +← Meter 2/Other +holding 1")
            master = RawMaster("tcp://x", case.port)
            answer = await case._asked(master, 60, b"\x03\x00\x66\x00\x01")
            for _ in range(50):  # an edit is taken over while it is asked
                if answer == b"\x03\x02\x00\x0c":
                    break
                await asyncio.sleep(0.1)
                answer = await case._asked(master, 60, b"\x03\x00\x66\x00\x01")
            case.assertEqual(answer, b"\x03\x02\x00\x0c")
            await pilot.press("3", "end", "B")
            await case.shows(app, "points into registers of a new device of Room")
            await pilot.press("escape", "end", "f")
            await case.shows(app, r"points into registers of unit 60, with from=.*at='holding 103'")
            await case.answer(app, pilot, " from=Meter\\ 2/Level at='holding 101'")
            await case.shows(app, r"Level would stand at holding 101, where .* stands already")
            await pilot.press("escape", "end", "delete")
            await case.until(lambda: "Meter 2" not in (case.folder / "maps/room-unit-60.csv").read_text(), "its end")
            master.close()

        self._drive(work)

    async def unlocked(self, app: App, pilot: "Pilot[None]") -> None:
        """The whole site: the second press unlocks it; none counts that comes with others."""
        for _ in range(20):
            await self.alone(pilot, "u")
            await asyncio.sleep(0.5)
            if app.control.lock.is_unlocked(""):
                return
