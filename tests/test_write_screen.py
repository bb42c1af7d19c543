"""Writing on the screen, by keys, over a far end that says what it heard: unlocked on purpose, seen before it goes,
never by accident."""

import asyncio
import random
import sqlite3
import unittest
from typing import Any

from textual import events
from textual.pilot import Pilot

from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.shared.presses import Presses
from kanaleto.tui.write.confirming import Confirming
from tests.livesite import LiveCase, rows_shown
from tests.test_disturbed import painted

MAP = """name,table,address,type,factor,unit,access,labels,range_low,range_high,role,feedback
Level,holding,0,uint16,0.1,m,r,,,,,
Target,holding,1,uint16,0.1,m,rw,,0,10,setpoint,Level
Command,holding,2,bits,,,rw,0=Run;3=Reset,,,command,
Status,holding,3,bits,,,r,0=Running;2=Fault,,,status,
Lamp,coil,4,,,,rw,0=off;1=on,,,,
"""
App = KanaletoApp
_READ = 0.5  # a moment to read what a key would confirm, on a busy machine too
_TOO_SOON = "look first, then press the key"


class Writes(LiveCase):
    def _drive(self, work: Any, **more: Any) -> None:
        self.drive(work, units=2, map_text=MAP, **more)

    async def _at(self, app: App, pilot: "Pilot[None]", name: str) -> None:
        await pilot.press("slash", *name.lower(), "enter")
        await self.shows(app, f"^.. {name} ")

    async def _kept_alive(self, app: App, pilot: "Pilot[None]", text: str) -> None:
        """It is kept alive; on a busy machine it may have to wait longer than its period, and is wanted anyhow."""
        await self.shows(app, f"{text}|y begins as it is")
        if any("y begins as it is" in row for row in painted(app)):
            await self._press(app, pilot, "y")
        await self.shows(app, text)

    async def _press(self, app: App, pilot: "Pilot[None]", *keys: str) -> None:
        """As somebody does who reads what stands there, and who looks longer where the screen is told to be late."""
        for key in keys:
            for _try in range(20):
                await asyncio.sleep(_READ)
                app.notice = ""
                await pilot.press(key)
                if not any(_TOO_SOON in text for text in (app.notice, *painted(app))):
                    break

    def test_a_coil_on_and_off_with_four_keys(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Lamp")
            await pilot.press("w")
            await case.shows(app, "writing is locked")
            await case.alone(pilot, "u", "w")
            await case.shows(app, r"becomes on")
            await case.shows(app, r"01 05 00 04 FF 00 +write one coil \(05\), coil 4")
            await case._press(app, pilot, "enter")
            await case.shows(app, "written, read back, equal")
            case.assertEqual(case.far.coils[1, 4], 1)
            await case._press(app, pilot, "enter")
            await case.until(lambda: case.far.coils[1, 4] == 0, "the way back")
            case.assertEqual(len(case.far.wrote), 2)
            await case.shows(app, "the way back stands above: on")
            case._compare_with_journal()

        self._drive(work)

    def _compare_with_journal(self) -> None:
        """Each request that was heard has its row, and no row is without one."""
        db = sqlite3.connect(self.folder / "site.kanaleto" / "journal.db")
        try:
            (count,) = db.execute("SELECT COALESCE(SUM(count), 0) FROM event WHERE kind = 'write'").fetchone()
        finally:
            db.close()
        self.assertEqual(count, len(self.far.wrote))

    def test_a_value_and_what_is_refused(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Target")
            await case.alone(pilot, "u", "w", *"14")
            await case.shows(app, "above 10 m, the end of its range; the nearest is 10")
            await case._press(app, pilot, "enter")
            await pilot.press("backspace", "backspace", *"6.5")
            await case.shows(app, r"word 0041 +.*06 00 01 00 41")
            await case._press(app, pilot, "enter")
            await case.shows(app, "written, read back, equal")
            case.assertEqual(case.far.wrote, [b"\x01\x06\x00\x01\x00\x41"])
            case.far.values[1, 1] = 20  # another master
            await case.shows(app, "Target is at 0014 after .* s: another master writes it")
            await pilot.press("escape")
            await case._at(app, pilot, "Level")
            await pilot.press("w")
            await case.shows(app, "read-only")
            line = app.writing.line
            case.assertTrue(line is not None and not line.is_open)

        self._drive(work)

    def test_what_changed_meanwhile_is_told_before_it_goes(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Target")
            await case.alone(pilot, "u", "w", *"5")
            await case.shows(app, "now 0.0 m")  # what is compared with later
            case.far.values[1, 1] = 70
            await case.shows(app, "has changed meanwhile: 7.0 m stands there now")
            await case._press(app, pilot, "enter")
            await case.shows(app, "changed meanwhile: 7.0 m .0046. stands there now")
            case.assertEqual(case.far.wrote, [])
            await case._press(app, pilot, "y")
            await case.shows(app, "written, read back, equal")

        self._drive(work)

    def test_keys_that_came_too_early_held_and_pasted_confirm_nothing(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Lamp")
            await case.alone(pilot, "u")
            await pilot.press("w", "enter", "enter", "enter")  # typed ahead, and held
            await pilot.press("enter")  # a closed row or an open line: it is too soon
            app.take_paste("on\non\n")
            await asyncio.sleep(1)
            case.assertEqual(case.far.wrote, [])
            await pilot.press("escape", "enter", "enter")
            await asyncio.sleep(0.5)
            case.assertEqual(case.far.wrote, [])

        self._drive(work)

    def test_several_at_once_and_a_copy(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Target")
            await case.alone(pilot, "v", "v", "u", "u", "w", *"3")
            await case.shows(app, "Target and 1 more .* 2 devices")
            await case._press(app, pilot, "enter")
            await case.shows(app, "2 of 2 written")
            case.assertEqual([case.far.values[unit, 1] for unit in (1, 2)], [30, 30])
            case.far.silent.add(2)
            await pilot.press("ctrl+u", *"4")
            await case._press(app, pilot, "enter")
            await case.shows(app, "1 of 2 written; Target: it may have been written or not")
            case.far.silent.clear()
            await pilot.press("escape", "escape", "escape")
            await case._at(app, pilot, "Target")
            await pilot.press("home", "w")
            app.take_paste("= meter 2")
            await case.shows(app, r"becomes 3\.0 m")
            await case._press(app, pilot, "enter")
            await case.until(lambda: case.far.values[1, 1] == 30, "the copy")

        self._drive(work)

    def test_the_pad_switches_and_keeps_alive(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Command")
            await case.alone(pilot, "u", "W")
            await case.shows(app, "COMMAND .*STATUS")
            await pilot.press("down", "w")
            await case.shows(app, "bit 3 Reset")
            await case.shows(app, r"Reset on")
            await case._press(app, pilot, "enter")
            await case.until(lambda: case.far.values.get((1, 2)) == 8, "the bit")
            case.assertEqual(case.far.wrote, [b"\x01\x16\x00\x02\xff\xf7\x00\x08"])
            await pilot.press("escape")
            await case.shows(app, "COMMAND +0008")
            await pilot.press("K")
            await case.shows(app, r"repeated every 0\.5 s until it is stopped")
            await case._press(app, pilot, "enter")
            await case._kept_alive(app, pilot, "kept alive every 0.5 s until it is stopped")
            await pilot.press("escape")
            await case.shows(app, "KEPT ALIVE")
            await case.until(lambda: len(case.far.wrote) > 5, "repeats")
            await pilot.press("up", "w")
            await case.shows(app, "bit 0 Run")
            await case._press(app, pilot, "enter")
            await case.until(lambda: case.far.values[1, 2] == 9, "the holder's bit")
            await pilot.press("escape", "end", "k", "K")
            for _ in range(6):
                if rows_shown(app, "(Stop keeping it alive)"):
                    break
                await pilot.press("escape", "down", "K")
                await asyncio.sleep(0.2)
            await case.shows(app, "Stop keeping it alive")
            await case._press(app, pilot, "y")
            await case.until(lambda: case.far.values[1, 2] == 0, "the safe value")
            count = len(case.far.wrote)
            await asyncio.sleep(1.2)
            case.assertEqual(len(case.far.wrote), count)
            case._compare_with_journal()

        self._drive(work)

    def test_what_an_outage_ended_is_offered_and_k_takes_it_up(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Target")
            await case.alone(pilot, "u", "w")
            app.take_paste("5 every 0.8 s then 1")
            await case._press(app, pilot, "enter")
            await case.shows(app, "^ kanaleto .*▲ 1 held")
            case.far.silent.add(1)
            await case.shows(app, "owed Meter 1 .*the safe value 000A owed since")
            await pilot.press("escape", "escape", "4")
            await case.shows(app, "^ kanaleto .*▲ .*1 lost")
            case.far.silent.clear()
            await case.until(lambda: case.far.values[1, 1] == 10, "the safe value")
            await case.shows(app, r"Target was held until .*; Meter 1 was away for .*; K")
            count = len(case.far.wrote)
            await asyncio.sleep(1.8)
            case.assertEqual(len(case.far.wrote), count)  # nothing is taken up by itself
            await case.alone(pilot, "K")
            await case.shows(app, r"new value +5 every 0\.8 s then 1 ")
            await case.shows(app, "the longest wait on L is")
            await case._press(app, pilot, "enter")
            await case.until(lambda: case.far.values[1, 1] == 50, "taken up again")
            await pilot.press("escape")
            await case.alone(pilot, "u", "H")
            await case.shows(app, "held +Meter 1 +Target at 0032 every 0.8 s, 000A at the end")
            await pilot.press("X")  # also while writing is locked
            await case.shows(app, "nothing is held, pulsing, owed or running")
            await case.until(lambda: case.far.values[1, 1] == 10, "the safe value")

        self._drive(work)

    def test_keys_behind_a_refused_w_and_read_only_points_made_writable(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Level")
            await pilot.press("w", "6", "1", "enter")
            await case.shows(app, "its map says access r .A makes it writable.; what is typed does nothing")
            case.assertEqual(app.current_digit, "3")
            await asyncio.sleep(1.6)
            await pilot.press("A")
            await case.answer(app, pilot, "y")
            await case.until(lambda: "Level,holding,0,uint16,0.1,m,rw" in (case.folder / "m.csv").read_text(), "rw")
            case.assertEqual(case.far.wrote, [])

        self._drive(work)

    def test_quitting_sends_the_safe_value(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Target")
            await case.alone(pilot, "u", "w")
            app.take_paste("5 every 0.2 s then 1")
            await case._press(app, pilot, "enter")
            await case._kept_alive(app, pilot, "kept alive every 0.2 s")
            await pilot.press("escape", "q")
            await case.shows(app, "Target is kept alive: quitting ends that")
            await asyncio.to_thread(app.writing.stop)
            case.assertEqual(case.far.values[1, 1], 10)

        self._drive(work)

    def test_confirm_and_never_of_the_site(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Target")
            await case.alone(pilot, "u", "w", *"5")
            await case._press(app, pilot, "enter")
            await case.shows(app, "wants each write confirmed: Target to 5.0 m")
            await pilot.press("escape")
            await case.shows(app, "nothing was sent")
            await case._press(app, pilot, "enter")
            await case.shows(app, "wants each write confirmed: Target to 5.0 m")
            await case._press(app, pilot, "y")
            await case.shows(app, "written, read back, equal")

        self._drive(work, of_device='writing = "confirm"\n')

        async def never(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Target")
            await case.alone(pilot, "u")
            await case.shows(app, "is never written")

        self.far.wrote.clear()
        self._drive(never, of_device='writing = "never"\n')
        self.assertEqual(self.far.wrote, [])

    def test_another_device_is_agreed_to_in_words(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Lamp")
            await case.alone(pilot, "u", "w")
            await case.shows(app, "becomes on")
            await case._press(app, pilot, "enter")
            await case.shows(app, "written, read back, equal")
            case.far.values[1, 0] = 77
            app.do(lambda session: session.reconnect("L"))
            await asyncio.sleep(1.5)
            await case._press(app, pilot, "enter")
            await case.shows(app, "its tag reads 004D, it was 0000 — type yes, then enter")
            await case._press(app, pilot, "enter", "y", "enter")
            await asyncio.sleep(0.5)
            case.assertEqual(len(case.far.wrote), 1)
            await case._press(app, pilot, *"yes")
            await asyncio.sleep(1.3)
            await case._press(app, pilot, "enter")
            await case.until(lambda: len(case.far.wrote) == 2, "the write")

        self._drive(work, of_device='tag = "Level"\n')

    def test_a_journal_that_cannot_be_written_sends_nothing(self) -> None:
        (self.folder / "site.kanaleto").write_text("in the way")

        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Lamp")
            await case.alone(pilot, "u", "w")
            await case.shows(app, "becomes on")
            await case._press(app, pilot, "enter")
            await case.shows(app, "not sent: the journal cannot be written")
            case.assertEqual(case.far.wrote, [])

        self._drive(work)

    def test_an_edit_of_what_is_kept_alive_is_wanted_twice(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            await case._at(app, pilot, "Target")
            await case.alone(pilot, "u", "w")
            app.take_paste("5 every 0.2 s then 1")
            await case._press(app, pilot, "enter")
            await case._kept_alive(app, pilot, "kept alive every 0.2 s")
            await pilot.press("escape", "escape", "2", "c")
            await case.answer(app, pilot, "unit=km")
            await case.shows(
                app, "Target is kept alive: it goes on as it began, unless its point moves: do it again if you mean it"
            )
            case.assertNotIn("km", (case.folder / "m.csv").read_text())
            await pilot.press("enter")
            await case.until(lambda: "km" in (case.folder / "m.csv").read_text(), "the edit")
            before = len(case.far.wrote)
            await case.until(lambda: len(case.far.wrote) > before + 3, "repeats")

        self._drive(work)

    def test_no_key_and_no_thousand_keys_pass_the_lock(self) -> None:
        """Locked, every key is tried in every view, and then thousands at random, all but the one that unlocks."""

        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            async def press(*keys: str) -> None:
                for key in keys:
                    await app.on_event(events.Key(key, key if len(key) == 1 else None))

            letters = [*"abcdefghijklmnoprstvwxyzABCDEFGHIJKLMNOPSTUVWXYZ0123456789"]
            named = [
                "enter",
                "escape",
                "up",
                "down",
                "left",
                "right",
                "tab",
                "space",
                "home",
                "end",
                "backspace",
                "ctrl+k",
            ]
            for digit in "1234":
                for key in (*letters, *named):
                    if key not in "qQR":
                        await press("escape", digit, key)
            pick = random.Random(17)
            for _ in range(1500):
                await press(pick.choice((*letters, *named, "w", "W", "enter", "3", "y")))
                if pick.random() < 0.1:
                    await press("escape")
                    await asyncio.sleep(0)
            case.assertIsNone(app.crash)
            case.assertEqual(case.far.wrote, [])
            case.assertIn("locked", app.writing.lock.why_not("Meter 1"))

        self._drive(work)

    def test_read_only(self) -> None:
        async def work(case: Writes, app: App, pilot: "Pilot[None]") -> None:
            app.writing.lock.is_read_only = True
            await case._at(app, pilot, "Lamp")
            await case.alone(pilot, "u", "u", "w", "enter")
            await case.shows(app, "--read-only: nothing is written")
            await case.shows(app, "^ kanaleto .*read-only")
            case.assertEqual(case.far.wrote, [])

        self._drive(work)


class Pressed(unittest.TestCase):
    """Which press confirms, on a clock of the test's own."""

    def setUp(self) -> None:
        self.due: list[Any] = []
        self.confirmed = 0
        self.expected = "a"
        self.presses = Presses()
        self.one = Confirming(lambda delay_s, what: self.due.append(what), lambda: self.presses, lambda: self.expected)
        self._paint("a", 10.0)

    def _paint(self, what: str, at: float) -> None:
        self.expected = what
        self.one.is_new()
        self.one.painted(what, at)

    def _press(self, at: float, key: str = "enter") -> str:
        self.presses.note_key(key, at)
        return self.one.pressed(at, self._confirm)

    def _confirm(self) -> None:
        self.confirmed += 1

    def _time_passes(self) -> None:
        due, self.due = self.due, []
        for what in due:
            what()

    def test_only_what_was_painted(self) -> None:
        self.assertIn("look first", self._press(10.2))
        self.assertEqual(self.confirmed, 0)
        self._press(12.0)
        self.assertEqual(self.confirmed, 1)

    def test_something_else_that_was_not_drawn_yet_confirms_nothing(self) -> None:
        """The second line, and every later one: what was painted before is not what stands there now."""
        self._press(12.0)
        self.expected = "b"
        self.assertIn("look first", self._press(14.0))
        self.assertEqual(self.confirmed, 1)

    def test_a_held_key(self) -> None:
        """The press confirms; its first repeat, half a second later, and the thirty behind it do not."""
        self._press(11.0)
        self.assertEqual(self.confirmed, 1)
        self._paint("b", 11.05)
        at = 11.5
        for _ in range(30):
            self._press(at)
            at += 0.033
            if at < 11.7:
                continue
        self._time_passes()
        self._press(at + 0.1)
        self._time_passes()
        self.assertEqual(self.confirmed, 1)
        self._press(at + 2)
        self.assertEqual(self.confirmed, 2)

    def test_a_key_that_opened_the_line_and_is_still_held(self) -> None:
        self.presses.note_key("enter", 9.95)  # it opened what is painted at 10
        self._press(10.45)
        self._press(10.48)
        self._time_passes()
        self.assertEqual(self.confirmed, 0)

    def test_a_second_press_soon_counts_once_no_more_come(self) -> None:
        self._press(11.0)
        self._paint("b", 11.05)
        self._press(11.9)
        self.assertEqual(self.confirmed, 1)
        self._time_passes()
        self.assertEqual(self.confirmed, 2)

    def test_something_else_stands_there_by_then(self) -> None:
        self._press(11.0)
        self._paint("b", 11.05)
        self._press(11.9)
        self.expected = "c"
        self._time_passes()
        self.assertEqual(self.confirmed, 1)

    def test_a_burst_and_a_paste_confirm_nothing(self) -> None:
        self.presses.note_key("5", 11.0)
        self.assertIn("burst", self._press(11.03))
        self.presses.note_paste(12.0)
        self.assertIn("pasted", self._press(12.2))
        self.assertEqual(self.confirmed, 0)
        self.assertEqual(self._press(14.0), "")
        self.assertEqual(self.confirmed, 1)

    def test_what_unlocked_is_taken_back_where_text_follows_at_once(self) -> None:
        back: list[str] = []
        presses = Presses(lambda: back.append("back"))
        for follow, expected in ((3, 0), (4, 1)):
            presses.note_key("u", 20.0 + follow)
            presses.counted()
            for at in range(follow):
                presses.note_key("x", 20.0 + follow + 0.0001 * (at + 1))
            self.assertEqual(len(back), expected)
