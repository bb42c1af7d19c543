"""The view Bench by keys: standing in beside a line and instead of it, by hand, faults; nothing of it is saved, and
what acts on a line ends before other devices answer there."""

import asyncio
import socket
import struct
import unittest
import unittest.mock
from typing import Any

from textual.pilot import Pilot

from kanaleto.bench import freeplaces as places
from kanaleto.tui.app import KanaletoApp
from tests.livesite import LiveCase
from tests.test_disturbed import painted

App = KanaletoApp
MAP = """name,table,address,type,access,factor,unit,range_low,range_high,labels,initial
Level,holding,0,uint16,r,0.1,m,0,10,,
Target,holding,1,uint16,rw,0.1,m,0,10,,3
Free,holding,2,uint16,r,,,,,,17
"""


def read(port: int, unit: int, address: int) -> int:
    """One register as a master of the test's own reads it."""
    with socket.create_connection(("127.0.0.1", port), 5) as link:
        link.settimeout(5)
        link.sendall(struct.pack(">HHHBBHH", 1, 0, 6, unit, 3, address, 1))
        return int.from_bytes(link.recv(11, socket.MSG_WAITALL)[9:])


class Benches(LiveCase):
    def _drive(self, work: Any, **more: Any) -> None:
        self.drive(work, units=2, map_text=MAP, **more)

    async def _stands(self, app: App) -> int:
        bench = app.bench
        try:
            await self.until(lambda: bench.served and bench.state is not None and bench.state.lines, "standing in")
        except AssertionError as error:
            raise AssertionError(f"{error}; {app.notice}") from None
        address = bench.served["L"].link.address
        assert address is not None
        return address[1]

    async def _press(self, pilot: "Pilot[None]", *keys: str) -> None:
        for key in keys:
            await asyncio.sleep(0.2)
            await pilot.press(key)

    async def _hold(self, app: App, pilot: "Pilot[None]") -> None:
        """The target of the first meter is kept alive at 5, with 1 as its safe value."""
        await pilot.press("slash", *"target", "enter")
        await self.shows(app, "^.. Target ")
        await self.alone(pilot, "u", "w")
        app.take_paste("5 every 2 s then 1")
        for _try in range(20):
            await asyncio.sleep(0.6)
            await pilot.press("enter")
            if app.control.alive:
                break
        await self.until(lambda: app.control.alive and self.far.values.get((1, 1)) == 50, "the hold")

    def test_three_keys_and_a_master_reads_it(self) -> None:
        async def work(case: Benches, app: App, pilot: "Pilot[None]") -> None:
            await pilot.press("2", "B", "5")
            port = await case._stands(app)
            case.assertEqual(await asyncio.to_thread(read, port, 1, 2), 17)
            await case.shows(app, r"● +1 Meter 1 .*/s")
            await case.shows(app, r"· +2 Meter 2")
            await case.shows(app, r"40003|^.*┏ 2 .*once")
            await case.shows(app, r"Free .* 17 +nothing")
            case.assertNotEqual(case.far.server_address[1], port)
            await case._press(pilot, "tab", "tab", "tab")  # round all panels
            await case._press(pilot, "B")
            await case.until(lambda: not app.bench.served, "the end")
            with case.assertRaises(OSError):
                await asyncio.to_thread(read, port, 1, 2)

        self._drive(work)

    def test_a_place_that_somebody_takes_in_the_same_moment_is_left_to_him(self) -> None:
        """As two programs do that look for a free port at once."""

        async def work(case: Benches, app: App, pilot: "Pilot[None]") -> None:
            with socket.create_server(("127.0.0.1", 0)) as other:
                taken = other.getsockname()[1]
                with (
                    unittest.mock.patch.object(places, "FIRST_PORT", taken),
                    unittest.mock.patch.object(
                        places, "_is_free", lambda port, kind: port == taken or free(port, kind)
                    ),
                ):
                    await pilot.press("2", "B", "5")
                    port = await case._stands(app)
                case.assertNotEqual(port, taken)
                case.assertEqual(await asyncio.to_thread(read, port, 1, 2), 17)

        free = places._is_free
        self._drive(work)

    def test_by_hand_and_faults_by_keys(self) -> None:
        async def work(case: Benches, app: App, pilot: "Pilot[None]") -> None:
            await pilot.press("5", "B")
            port = await case._stands(app)
            await case.shows(app, "Free .* 17 ")
            await case._press(pilot, "tab", "down", "down", "enter")
            await case.answer(app, pilot, "70000")
            await case.shows(app, "70000")
            case.assertEqual(await asyncio.to_thread(read, port, 1, 2), 17, "it was refused")
            await pilot.press("escape", "enter")
            await case.answer(app, pilot, "99")
            await case.shows(app, "Free .* 99 ")
            case.assertEqual(await asyncio.to_thread(read, port, 1, 2), 99)
            await case._press(pilot, "right_square_bracket")
            await case.shows(app, "Free .* 100 ")
            await case._press(pilot, "z", "z")
            await case.shows(app, "Free .* 17 ")
            await case._press(pilot, "tab")
            await case.shows(app, "enter switch it")
            await case._press(pilot, *["down"] * 6, "enter")
            await case.answer(app, pilot, "")
            await case.shows(app, "━━● refuses with an exception +code=4 · [0-9]")
            case.assertEqual((await asyncio.to_thread(read, port, 1, 2)), 0, "an exception, and no register")
            await case._press(pilot, "enter")
            await case.shows(app, "○── refuses with an exception")
            case.assertEqual(await asyncio.to_thread(read, port, 1, 2), 17)

        self._drive(work)

    def test_instead_of_the_line_what_acts_ends_first_and_nothing_is_saved(self) -> None:
        async def work(case: Benches, app: App, pilot: "Pilot[None]") -> None:
            before = (case.folder / "site.toml").read_text()
            case.far.values[1, 0] = 42
            await case._hold(app, pilot)
            await pilot.press("escape", "escape", "escape")
            await case._press(pilot, "2", "I")
            await case.shows(app, "Target is kept alive.*press I again")
            await case._press(pilot, "I")
            await case.until(lambda: app.bench.leads, "the lead")
            case.assertEqual(case.far.values[1, 1], 10, "its safe value came before anybody else answered there")
            case.assertFalse(app.control.alive)
            case.assertTrue(app.control.lock.why_not("Meter 1"))
            await case.shows(app, "L led to a stand-in")
            heard = len(case.far.wrote)
            await pilot.press("3", "escape")
            await case.shows(app, r"Free +17")
            await case.shows(app, r"Meter 1 +◇ stand-in · L · unit 1")
            case.assertFalse([row for row in painted(app) if "Level" in row and "4.2" in row])
            await case.alone(pilot, "u", "w")
            await pilot.press("escape", "2", "c")
            await case.answer(app, pilot, "unit=km")
            await case.until(lambda: "km" in (case.folder / "m.csv").read_text(), "the edit")
            case.assertEqual((case.folder / "site.toml").read_text(), before)
            await case.until(lambda: app.snapshot.site.lines[0].led_from is not None, "the lead, after the edit")
            await case._press(pilot, "I")
            await case.until(lambda: not app.bench.leads and not app.bench.served, "the way back")
            await case.until(lambda: app.snapshot.site.lines[0].led_from is None, "its own devices")
            await case.until(lambda: not app.control.lock.kept_shut, "the end of it")
            case.assertTrue(app.control.lock.why_not("Meter 1"))
            case.assertEqual(len(case.far.wrote), heard, "nothing was written there meanwhile")
            case.assertEqual((case.folder / "site.toml").read_text(), before)
            await pilot.press("3", "escape")
            await case.shows(app, r"Level +4\.2")

        self._drive(work)

    def test_a_line_that_is_renamed_stays_led_and_a_device_that_goes_stands_in_no_more(self) -> None:
        async def work(case: Benches, app: App, pilot: "Pilot[None]") -> None:
            path = case.folder / "site.toml"
            await case._press(pilot, "2", "I")
            await case.until(lambda: app.bench.leads and app.snapshot.site.lines[0].led_from, "the lead")
            path.write_text(path.read_text().replace('name = "L"', 'name = "Long line"'))
            await case.until(lambda: "Long line" in app.bench.leads and "Long line" in app.bench.served, "its new name")
            await case.until(lambda: app.snapshot.site.lines[0].name == "Long line", "the edit")
            case.assertIsNotNone(app.snapshot.site.lines[0].led_from)
            await pilot.press("3", "escape")
            await case.shows(app, r"Free +17")
            await case._press(pilot, "2", "I")
            await case.until(lambda: not app.bench.served, "the way back")
            await case._press(pilot, "5", "B")
            await case.until(lambda: app.bench.is_served("Long line", "Meter 1"), "one device")
            case.assertFalse(app.bench.is_served("Long line", "Meter 2"))
            path.write_text(path.read_text().replace('name = "Meter 1"', 'name = "Another"'))
            await case.until(lambda: not app.bench.served, "its end")

        self._drive(work)

    def test_what_is_owed_is_given_back_first(self) -> None:
        async def work(case: Benches, app: App, pilot: "Pilot[None]") -> None:
            await case._hold(app, pilot)
            case.far.silent = {1, 2}
            await pilot.press("escape", "escape", "escape")
            await case._press(pilot, "2", "I", "I")
            await case.shows(app, "L is not led elsewhere: .*Target is owed")
            case.assertFalse(app.bench.leads)
            case.assertFalse(app.control.lock.kept_shut)
            case.far.silent = set()
            await case.until(lambda: case.far.values.get((1, 1)) == 10, "what was owed")
            await case._press(pilot, "I")
            await case.until(lambda: app.bench.leads, "the lead")

        self._drive(work)


if __name__ == "__main__":
    unittest.main()
