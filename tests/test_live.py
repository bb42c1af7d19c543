"""Live to its end, by keys: arranged, trended, compared, past limits, on paper."""

import asyncio
import re
import unittest
import unittest.mock
import xml.etree.ElementTree as ET
from operator import ne

from msgspec.structs import replace
from textual import events
from textual.geometry import Region
from textual.pilot import Pilot

from kanaleto.board.snapshot import Snapshot
from kanaleto.editing.deviceedit import change_device
from kanaleto.editing.pointedit import change_points
from kanaleto.events.log import EventKind
from kanaleto.planning.plan import AnyPlace, Place
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.live.detail import PointDetail
from kanaleto.tui.live.rows import LiveRow, LiveRows, PointRow
from kanaleto.tui.live.view import LiveView
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.prompt import Prompt
from kanaleto.tui.wire_view.view import WireView
from tests.livesite import MAP, LiveCase, rows_shown
from tests.test_disturbed import painted


class Live(LiveCase):
    def test_arranged(self) -> None:
        self.drive(_arranged)

    def test_trend(self) -> None:
        self.drive(_trend)

    def test_a_trend_stays_with_its_point_under_another_name(self) -> None:
        self.drive(_renamed)

    def test_what_moved(self) -> None:
        self.drive(_moved)

    def test_bare_words_that_are_read_along_move_too(self) -> None:
        self.drive(_along, map_text=MAP + "Far,holding,12,uint16\n", of_device="max_gap = 10\n")

    def test_compared(self) -> None:
        self.drive(_compared, units=5)

    def test_past_a_limit(self) -> None:
        self.drive(_past)

    def test_the_exchange_and_the_error_log(self) -> None:
        self.drive(_moments)

    def test_on_paper(self) -> None:
        self.drive(_paper)

    def test_another_map(self) -> None:
        self.drive(_another_map, more='[[derived]]\nname = "Twice"\nformula = "2 * [Meter 1/Level]"\n')

    def test_what_scrolls_is_not_drawn_again(self) -> None:
        rows = "".join(f"P{at},holding,{at % 20},uint16\n" for at in range(1996))
        self.drive(_scrolled, units=1, map_text="name,table,address,type,factor\nLevel,holding,0,uint16,0.1\n" + rows)

    def test_ages_take_turns_and_no_look_draws_all_rows(self) -> None:
        rows = "".join(f"P{at},holding,{at % 20},uint16\n" for at in range(60))
        self.drive(_in_turns, units=8, map_text="name,table,address,type,factor\nLevel,holding,0,uint16,0.1\n" + rows)

    def test_two_thousand_points(self) -> None:
        rows = "".join(f"P{at},holding,{at % 20},uint16\n" for at in range(1996))
        self.drive(_many, units=1, map_text="name,table,address,type,factor\nLevel,holding,0,uint16,0.1\n" + rows)


async def _scrolled(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    """What has scrolled by one row is drawn already, wherever it stands; what was drawn is kept within bounds."""
    view = app.query_one(LiveView)
    rows = app.query_one(LiveRows)
    await pilot.press("pagedown", "pagedown")
    await pilot.press("space")  # held: no value is new
    await pilot.pause(1.2)
    height, drawn = rows.size.height, []
    draw = LiveRows.draw

    def count(live_rows: LiveRows, row: LiveRow, width: int, ground: str) -> Cells:
        drawn.append(row)
        return draw(live_rows, row, width, ground)

    with unittest.mock.patch.object(LiveRows, "draw", count):
        rows._looked_s -= 10.0
        rows.refresh()
        await pilot.pause(0.3)
        test.assertGreaterEqual(len(drawn), height)
        for _ in range(20):
            with unittest.mock.patch.object(LiveRows, "show"):  # ages are another matter
                before, top = len(drawn), rows.scroll_offset.y
                app.post_message(events.Key("down", None))
                await asyncio.sleep(0.15)
                test.assertEqual(rows.scroll_offset.y, top + 1)
                test.assertLess(len(drawn) - before, 6)
        for _ in range(30):
            app.post_message(events.Key("pagedown", None))
            await asyncio.sleep(0.1)
        test.assertGreater(len(drawn), 1000)
    test.assertLessEqual(len(rows._made), 300)
    test.assertTrue(view.has_focus_within)


async def _in_turns(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    """Each row in sight once a second, a quarter of the blocks at a look; what stands on the screen is the very line
    that was drawn, so that the terminal's codes for it are made once."""
    rows = app.query_one(LiveRows)
    await pilot.press("pagedown", "pagedown", "space")  # held: no value is new
    await pilot.pause(1.2)
    looks: list[list[LiveRow]] = []
    draw, show = LiveRows.draw, LiveRows.show

    def count(live_rows: LiveRows, row: LiveRow, width: int, ground: str) -> Cells:
        looks[-1].append(row)
        return draw(live_rows, row, width, ground)

    def look(live_rows: LiveRows, snapshot: Snapshot) -> None:
        looks.append([])
        show(live_rows, snapshot)

    with unittest.mock.patch.object(LiveRows, "draw", count), unittest.mock.patch.object(LiveRows, "show", look):
        await test.until(lambda: len(looks) > 20, "twenty looks")
    in_sight = rows.size.height
    by_block: dict[int, list[AnyPlace]] = {}
    for row in rows.rows:
        if isinstance(row, PointRow) and isinstance(row.place, Place) and row.place.block is not None:
            by_block.setdefault(row.place.block.index, []).append(row.place)

    def seconds(at_s: float) -> list[set[int]]:
        rows._looked_s = at_s
        return [{rows._second_of(place) for place in places} for places in by_block.values()]

    turns = [sum(map(ne, seconds(at / 4), seconds((at + 1) / 4))) for at in range(8)]
    test.assertEqual({len(ages) for at in range(8) for ages in seconds(at / 4)}, {1}, "one request, one age")
    test.assertEqual(sum(turns), 2 * len(by_block))
    test.assertLess(max(turns), len(by_block) // 2)
    seen = {rows.identity(row) for drawn in looks for row in drawn}
    test.assertGreaterEqual(len(seen), in_sight)
    crop = rows.size.region
    lines = rows.render_lines(crop)
    test.assertTrue(all(line is again for line, again in zip(lines, rows.render_lines(crop), strict=True)))
    test.assertTrue(all(line is rows._on_screen[y] for y, line in enumerate(lines)))
    test.assertEqual([line.crop(3, 9) for line in lines[2:5]], rows.render_lines(Region(3, 2, 6, 3)))
    detail = app.query_one(PointDetail)
    await pilot.press("enter")
    await test.until(lambda: len(detail._lines) > 10, "the detail of a point")
    lines_then = dict(detail._lines)
    detail.redraw()
    same = [at for at, (row, *_) in lines_then.items() if row == detail._lines[at][0]]
    test.assertGreater(len(same), detail.size.height // 2)
    test.assertTrue(all(detail._lines[at][2] is lines_then[at][2] for at in same))


async def _arranged(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    await pilot.press("f")
    await test.shows(app, r"Meter 1 +4 points folded")
    await pilot.press("enter", "F")
    test.assertEqual(len(rows_shown(app, r"(4 points folded)")), 3)
    await pilot.press("F", "s")
    await test.shows(app, r"by name: 12 of 12 points")
    test.assertEqual(rows_shown(app, r"(Level) · Meter")[:3], ["Level"] * 3)
    test.far.values[2, 1] = 7
    await pilot.press("s")
    await test.until(lambda: rows_shown(app, r"Torque · (Meter \d)")[:1] == ["Meter 2"], "what moved first")
    await pilot.press("s", "s")
    test.far.values[3, 0] = 49
    await test.until(lambda: rows_shown(app, r"Level · (Meter \d)")[:1] == ["Meter 3"], "the nearest to its limit")
    await pilot.press("escape", "o")
    await test.shows(app, r"only what changed in the last minute: 2 of 12 points")
    test.far.silent.add(2)
    await pilot.press("o")
    await test.shows(app, r"only what is not good: 4 of 12 points")
    await pilot.press("o")
    await test.shows(app, r"nothing to show: only what is past a limit")
    test.far.values[1, 0] = 81
    await test.shows(app, r"▲ +Level +8\.1")
    await pilot.press("escape")
    test.assertEqual(len(rows_shown(app, r"(Torque) ")), 3)


async def _trend(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    parts = app.query_one(LiveView).parts
    await pilot.press("v", "v", "down", "v")
    await test.shows(app, r"3 marked")
    await pilot.press("p", "t")
    await test.shows(app, r"Trend +3 points .* from memory(?: and tape)? · live · each on its own scale")
    curves = parts.data.curves
    await test.until(
        lambda: curves.value_at(("Meter 1", "Level"), parts.data.now - 4).value is not None,
        "what the cursor goes back to, however quick the keys are",
    )
    test.far.values[1, 0], test.far.values[1, 2] = 20, 1
    await test.shows(app, r"a Level")
    for value in (20, 60):  # each for a while, so that the cursor finds it
        test.far.values[1, 0] = value
        due = value / 10
        await test.until(
            lambda due=due: curves.value_at(("Meter 1", "Level"), parts.data.now - 1).value == due,  # type: ignore[misc]
            "the value, a second long",
        )
    state = parts.data.state
    test.assertLess(state.span_s, 600)  # as much time as there is
    state.fits, state.span_s = False, 600.0
    await pilot.press(*["plus"] * 4)
    test.assertAlmostEqual(state.span_s, 600 / 16)
    for _ in range(4):
        await pilot.press("left")
    await test.shows(app, r"AT \d")
    await pilot.press("v")
    for _ in range(150):  # how far back the others lie depends on how busy the machine was
        await pilot.press("left")
        if any(re.search(r" [024]\.0 m", row) for row in painted(app)):
            break
    await test.shows(app, r"to mark")
    await test.shows(app, r"mark at \d\d:\d\d:\d\d")
    await test.shows(app, r" [024]\.0 m")
    test.assertIsNotNone(state.end)
    moment = state.cursor
    assert moment is not None
    found = curves.value_at(("Meter 1", "Level"), moment).value
    test.assertTrue(any(f"{found:.1f} m" in row for row in painted(app)), found)
    await pilot.press("right_square_bracket", "left_square_bracket", "minus", "percent_sign")
    await test.shows(app, r"in per cent of range")
    await pilot.press("g")
    await test.until(lambda: state.is_live, "live again")
    test.far.silent.add(1)
    await test.until(lambda: curves.value_at(("Meter 1", "Level"), parts.data.now).quality != 0, "old")
    await test.shows(app, r"old|not read")
    await pilot.press("up", "p", "p", "p")
    await test.until(lambda: parts.current is None, "the list, once nothing is pinned")


async def _renamed(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    parts = app.query_one(LiveView).parts
    test.far.values[1, 0] = 33
    await test.shows(app, r"Level +3\.3")
    await pilot.press("p")
    curves = parts.data.curves

    async def seen(device: str, name: str, for_s: float) -> None:
        def is_long() -> bool:
            at = curves.curve((device, name)).at
            return len(at) > 1 and at[-1] - at[0] > for_s

        await test.until(lambda: parts.data.pins == [(device, name)] and is_long(), f"{name} for {for_s} s")

    await seen("Meter 1", "Level", 1.0)
    app.edit(change_device("Meter 1", {"name": "North"}))
    await test.until(lambda: app.snapshot.place_of(("North", "Level")) is not None, "the device's name")
    await seen("North", "Level", 1.5)
    app.edit(change_points("North", ["Level"], {"name": "Height"}))
    await test.until(lambda: app.snapshot.place_of(("North", "Height")) is not None, "the point's name")
    await seen("North", "Height", 2.0)
    curve = curves.curve(("North", "Height"))
    test.assertIn(3.3, curve.value.tolist())
    test.assertNotIn("is no more", app.notice)


async def _moved(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    await asyncio.sleep(3)
    await pilot.press("m")
    await asyncio.sleep(1)
    test.far.values[2, 1] = 40
    await test.until(lambda: rows_shown(app, r"^ (\w+) +Meter 2 .*0 → 40 Nm +\(had been still\)"), "what was touched")
    test.assertEqual(rows_shown(app, r"^ (\w+) +Meter \d .*×")[0], "Torque")
    await pilot.press("b")
    await test.answer(app, pilot, "")
    await test.shows(app, r"holding 0 … 99 of Meter 2 as bare words: 20 read, 80 refused")
    await pilot.press("escape", "home", "m", "b")
    prompt = app.query_one(Prompt)
    await test.until(lambda: prompt.is_open, "the question")
    await pilot.press("ctrl+u")
    await test.answer(app, pilot, "holding 10-24")
    watched = r"holding 10 … 24 of Meter (\d) as bare words: 10 read, 5 refused"  # the one whose row the cursor was on
    await test.shows(app, watched)
    unit = int(rows_shown(app, watched)[0])
    await asyncio.sleep(3)
    await pilot.press("m")
    await asyncio.sleep(1)
    test.far.values[unit, 14] = 321
    await test.shows(app, rf"holding 14 +0x000E +Meter {unit} .*0 → 321")
    await pilot.press("home", "a")
    await test.until(lambda: app.snapshot.place_of((f"Meter {unit}", "Register 14")) is not None, "the point")
    await pilot.press("escape")
    await test.shows(app, r"Register 14 +321")


async def _along(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    await asyncio.sleep(3)
    await pilot.press("m")
    await asyncio.sleep(1)
    test.far.values[2, 7] = 77
    await test.shows(app, r"holding 7 +0x0007 +Meter 2 .*0 → 77")
    test.assertEqual(len(rows_shown(app, r"(0 → 77)")), 1)


async def _compared(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    for unit in range(1, 6):
        test.far.values[unit, 0] = 30
    test.far.values[2, 0], test.far.values[4, 2] = 34, 2
    await test.shows(app, r"Level +3\.4")
    await pilot.press("c")
    await test.shows(app, r"with another device of its map · 1 of 4 differ")
    await test.shows(app, r"Level +3\.0 m +3\.4 m +\+0\.4 +≠")
    await pilot.press("greater_than_sign")
    await test.shows(app, r"Meter 1 +Meter 3")
    await pilot.press("c", "c", "e")
    await test.answer(app, pilot, "nonsense")
    await test.until(lambda: "answer" in app.troubles, "the refusal")
    await pilot.press("ctrl+u")
    await test.answer(app, pilot, "2.5")
    await test.shows(app, r"Level +2\.5 m +3\.0 m +\+0\.5 +≠")
    await pilot.press("escape", "a")
    await test.shows(app, r"5 devices like Meter 1 · the worst first · 2 differ from most")
    await test.shows(app, r"LEVEL · LAST 60 s")
    await test.shows(app, r"Meter 4 +[▁▂▃▄▅▆▇█]")
    test.assertEqual(rows_shown(app, r"^ . (Meter \d) .*≠")[:2], ["Meter 4", "Meter 2"])
    await pilot.press("escape", "down", "v", "down", "v", "c")
    await test.shows(app, r"with each other")


async def _past(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    test.far.values[2, 0], test.far.values[3, 2] = 85, 2
    await test.shows(app, r"▲ 2 past a limit")
    await pilot.press("1")
    await test.shows(app, r"▲ 2 past a limit")
    await pilot.press("3", "b")
    await test.shows(app, r"▲ Level +Meter 2 +8\.5 m above 8 m +alarm .*not seen yet")
    await test.shows(app, r"▲ Pump +Meter 3 +is fault +alarm")
    await pilot.press("home", "s")
    await test.answer(app, pilot, "crane is down")
    await test.shows(app, r"seen .* by .*: crane is down")
    await pilot.press("home", "enter")
    await test.shows(app, r"Trend +1 point .* held")
    test.assertIsNotNone(app.moment)
    await test.shows(app, r"by the minute")
    await pilot.press("g")
    await test.until(lambda: app.moment is None, "live")
    test.far.values.clear()
    await test.until(lambda: not app.snapshot.past, "back inside")
    kinds = [event.kind for event in app.engine.session.events.ring]
    await pilot.press("escape", "b")
    await test.shows(app, r"nothing now · \d over that nobody has seen")
    await test.shows(app, r"WHAT WAS BEFORE")
    await test.shows(app, r"Meter 3 +Pump: is fault \(alarm\) +for ")
    test.assertEqual(rows_shown(app, r"(Level: 8\.5 m above 8 m)"), [])  # it stands in the list above
    test.assertEqual(kinds.count(EventKind.LIMIT), 3)
    test.assertIn(EventKind.SEEN, kinds)


async def _moments(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    wire = app.query_one(WireView)
    await pilot.press("down", "i")
    await test.until(lambda: app.current_digit == "4" and wire._list.current is not None, "its exchange")
    exchange = wire._list.current
    assert exchange is not None
    test.assertEqual(exchange.row.device, "Meter 1")
    ring = app.engine.session.exchanges
    first = ring[0]
    outcome = replace(ring[-1].outcome, asked_at=first.outcome.asked_at - 1.0)
    early = replace(ring[-1], number=10**6, wall_s=first.wall_s - 1.0, outcome=outcome)
    app.engine.do(lambda session: session.exchanges.append(early)).result(10)  # it began first, and ended last
    await pilot.press("f")
    early_us = round(early.wall_s * 1e6)
    await test.until(
        lambda: (row := wire._list.rows[0]) is not None and row.row.at_us == early_us, "the first that was asked"
    )
    asked = [row.row.at_us for row in wire._list.rows if row is not None]
    test.assertEqual(asked, sorted(asked))
    await pilot.press("f")
    wire.stand_at(exchange.row.at_us / 1e6)
    await pilot.press("t")
    await test.shows(app, r"Trend +1 point")
    test.assertEqual(app.moment, exchange.row.at_us / 1e6)
    await pilot.press("g", "3", "escape")
    test.far.silent.add(2)
    await test.until(lambda: any(e.kind is EventKind.DEVICE_LOST for e in app.engine.session.events.ring), "the loss")
    await pilot.press("E")
    await test.shows(app, r"ERROR LOG")
    await test.shows(app, r"device lost +Meter 2 .*goes on")
    await pilot.press("f", "slash", *"lost", "enter", "end", "y")
    await test.until(lambda: app.current_digit == "4" and app.moment is not None, "the exchanges then")
    await pilot.press("less_than_sign", "greater_than_sign", "greater_than_sign", "g", "E", "E", "escape")
    await test.until(lambda: app.moment is None, "live")


async def _paper(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    async def export(name: str) -> bytes:
        await pilot.press("x")
        prompt = app.query_one(Prompt)
        await test.until(lambda: prompt.is_open, "the question")
        await pilot.press("ctrl+u")
        await test.answer(app, pilot, str(test.folder / name))
        await test.until(lambda: not prompt.is_open and (test.folder / name).exists(), name)
        return (test.folder / name).read_bytes()

    root = ET.fromstring(await export("values.svg"))
    text = " ".join(root.itertext())
    for wanted in ("S: values", "Meter 2 · unit 2", "Torque", "alarm above 8 m", "local time"):
        test.assertIn(wanted, text)
    await pilot.press("p", "t")
    await asyncio.sleep(1)
    text = " ".join(ET.fromstring(await export("trend.svg")).itertext())
    for wanted in ("S: trend", "Meter 1 · Level", "[m]", "least"):
        test.assertIn(wanted, text)
    test.assertTrue((await export("trend.pdf")).startswith(b"%PDF"))
    await pilot.press("escape", "a")
    test.assertIn("S: comparison", " ".join(ET.fromstring(await export("across.svg")).itertext()))
    await pilot.press("x")
    await test.until(lambda: app.query_one(Prompt).is_open, "the question")
    await pilot.press("ctrl+u")
    await test.answer(app, pilot, "nowhere/at/all.svg")
    await test.until(lambda: "its folder does not exist" in app.troubles.get("answer", ""), "the refusal")
    await pilot.press("ctrl+u")
    await test.answer(app, pilot, str(test.folder / "x.doc"))
    await test.until(lambda: "end it in .svg or .pdf" in app.troubles.get("answer", ""), "the refusal")
    await pilot.press("escape", "2", "x")
    await test.answer(app, pilot, str(test.folder / "map.svg"))
    await test.until((test.folder / "map.svg").exists, "the map")


async def _another_map(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    other = test.folder / "other.csv"
    other.write_text(
        "name,table,address,type,factor,unit\nLevel of water,holding,1,int16,0.1,m\ntorque,holding,0,int16,,Nm\n"
        "Flow,holding,5,uint16,,l/s\n"
    )
    await pilot.press("2")
    await test.shows(app, r"its map serves 3 devices")
    (test.folder / "torn.csv").write_text("name,table,address\nA,holding,x\n")
    await pilot.press("M")
    for bad, text in (("none", "there is no such file"), (str(test.folder), "is a folder"),
                      (str(test.folder / "torn.csv"), "torn.csv:2"), ("/dev/zero", "is no ordinary file")):  # fmt: skip
        await test.answer(app, pilot, bad)
        await test.until(lambda: text in app.troubles.get("answer", ""), text)  # noqa: B023
        await pilot.press("ctrl+u")
    await test.answer(app, pilot, str(other))
    await test.shows(app, r"2 of 4 points found again, 2 lost, 1 new · Meter 2, Meter 3 keep the map of now")
    await test.shows(app, r"Level m +→ +Level of water m")
    await pilot.press("home", "delete", "enter")
    await test.until(lambda: "the derived point Twice" in app.notice, "what needs it")
    await pilot.press("greater_than_sign", "enter")
    await test.until(lambda: app.snapshot.place_of(("Meter 1", "Flow")) is not None, "the other map")
    place = app.snapshot.place_of(("Meter 1", "Level"))
    assert place is not None
    test.assertEqual((place.point.address, place.point.limits.alarm_high, place.point.limits.hysteresis), (1, 8, 0.5))
    test.assertIsNotNone(app.snapshot.place_of(("Meter 1", "Torque")))
    test.assertIsNone(app.snapshot.place_of(("Meter 1", "Pump")))
    test.assertIsNotNone(app.snapshot.place_of(("Meter 2", "Pump")), "the others keep theirs")
    await pilot.press("ctrl+z")
    await test.until(lambda: app.snapshot.place_of(("Meter 1", "Pump")) is not None, "taken back")


async def _many(test: Live, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    await pilot.press("V", "p")
    await test.until(lambda: "1997 points are too many to be distinguished in one trend: 8 at most" in app.notice, "no")
    test.assertEqual(app.query_one(LiveView).parts.data.pins, [])
    await pilot.press(
        "V", "p", "m", "end", "escape", "a", "right", "right", "escape", "c", "o", "escape", "s", "s", "s"
    )
    await asyncio.sleep(2)


if __name__ == "__main__":
    unittest.main()
