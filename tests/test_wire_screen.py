"""Wire, by keys: the whole list, a filter, failures, marks, a capture in the same view, and what is handed on."""

import asyncio
import json
import zipfile

from textual.pilot import Pilot

from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.jsonlines import CapturedLine
from kanaleto.capture.reading import Capture
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.wire_view.view import WireView
from tests.exchanges import TCP, InFolder, exchange
from tests.livesite import LiveCase
from tests.terminal import KANALETO, Terminal
from tests.test_disturbed import painted


class Wire(LiveCase):
    def test_the_list_its_filter_and_its_failures(self) -> None:
        self.drive(_listed)

    def test_a_capture_in_the_same_view(self) -> None:
        self.drive(_capture)

    def test_saved_for_others(self) -> None:
        self.drive(_saved)

    def test_what_it_looks_like_leads_to_its_rows(self) -> None:
        self.drive(_findings)

    def test_what_was_written_stands_in_the_line_that_writes(self) -> None:
        rows = (
            "name,table,address,type,access,factor,unit",
            "Level,holding,0,uint16,r,0.1,m",
            "Target,holding,1,uint16,rw,0.1,m",
        )
        self.drive(_written, units=1, map_text="\n".join(rows))


def _wire(app: KanaletoApp) -> WireView:
    return app.query_one(WireView)


def _kinds(app: KanaletoApp) -> set[OutcomeKind]:
    return {row.row.kind for row in _wire(app)._list.rows if row is not None}


async def _listed(test: Wire, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    wire = _wire(app)
    await pilot.press("4")
    await test.until(lambda: len(wire._list.rows) > 30, "some exchanges")
    await test.until(lambda: app.keeping.seam.number > 30, "a tape")
    test.far.silent.add(2)
    await test.until(lambda: any(row.outcome.kind is OutcomeKind.TIMEOUT for row in app.engine.session.exchanges), "it")
    test.far.silent.clear()
    await pilot.press("e")
    await test.until(lambda: _kinds(app) == {OutcomeKind.TIMEOUT}, "only what failed")
    await test.shows(app, r"Meter 2 .*silent")
    await pilot.press("e", "f")
    await test.until(lambda: OutcomeKind.GOOD in _kinds(app), "all of them")
    # the failure before, the next one, and what is between them
    await pilot.press("left_square_bracket")
    await test.until(lambda: (row := wire._row) is not None and row.kind is OutcomeKind.TIMEOUT, "the failure before")
    first = wire._list.cursor
    test.assertFalse(wire._follows)
    await pilot.press("v", "down", "down", "v")
    await test.shows(app, r"\d ms between the marks|\d s between the marks")
    await pilot.press("left_square_bracket")
    await test.until(lambda: wire._list.cursor <= first, "back there")
    await pilot.press("escape")
    # a filter by key, and one that is none
    await pilot.press("slash", *"unit:3", "enter")
    await test.until(lambda: {row.row.unit_id for row in wire._list.rows if row is not None} == {3}, "unit 3 alone")
    await pilot.press("slash", *"outcom:x")
    await test.shows(app, r"at 1: 'outcom' is no key.*did you mean 'outcome'")
    await pilot.press("escape")
    await test.until(lambda: len({row.row.unit_id for row in wire._list.rows if row is not None}) == 3, "all again")
    # none twice, none missing, in order, over tape and memory
    await pilot.press("f")
    await test.until(lambda: wire._follows, "it follows")
    session = app.engine.session
    rows = [row for row in wire._list.rows if row is not None]
    keys = [row.key for row in rows]
    test.assertEqual(keys, sorted(keys))
    test.assertEqual(len(set(rows)), len(rows))
    wire.source.reel.look(5)
    test.assertGreaterEqual(len(wire.source.reel.newest), session.exchanges[0].number)
    # the point that it served, in Live
    await pilot.press("up", "d")
    await test.until(lambda: app.current_digit == "3", "the point")
    await pilot.press("4", "up", "s")
    await test.until(lambda: app.current_digit == "1", "the scratch reading")


async def _capture(test: Wire, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    wire, path = _wire(app), test.folder / "strange.jsonl"
    capture = CaptureFile(path, "S", [CapturedLine("Far line", TCP)])
    capture.put([exchange(n, kind=OutcomeKind.TIMEOUT if n % 100 == 7 else OutcomeKind.GOOD) for n in range(5000)])
    capture.close()
    await pilot.press("4", "o")
    await test.answer(app, pilot, str(path))
    await test.until(lambda: len(wire._list.rows) == 5000, "all of it")
    await test.shows(app, r"◇ reading strange\.jsonl")
    test.assertEqual(wire._list.cursor, 0)
    await pilot.press("right_square_bracket")
    await test.until(lambda: wire._list.cursor == 7, "its first failure")
    await pilot.press("right_square_bracket")
    await test.until(lambda: wire._list.cursor == 107, "its second")
    await pilot.press("s", "t", "f")
    test.assertIsNotNone(wire.source.capture)
    test.assertEqual(app.current_digit, "4")
    await pilot.press("e")
    await test.until(lambda: len(wire._list.rows) == 50, "only what failed")
    await pilot.press("escape", "escape")
    await test.until(lambda: wire.source.capture is None and wire._follows, "back to the site")
    await test.until(lambda: any("Meter" in row for row in painted(app)), "its exchanges")
    await pilot.press("o")
    await test.answer(app, pilot, str(test.folder / "m.csv"))
    await test.shows(app, r"is none of these")
    await pilot.press("escape")


async def _saved(test: Wire, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    await pilot.press("4")
    await test.until(lambda: len(_wire(app)._list.rows) > 60, "some exchanges")
    await pilot.press("slash", *"unit:2", "enter")
    await test.until(lambda: _wire(app).source.is_narrowed and len(_wire(app)._list.rows) > 5, "those of unit 2")
    for name in ("some.jsonl", "some.pcapng", "case.zip", "one.svg"):
        path = test.folder / name
        await pilot.press("x")
        await test.answer(app, pilot, str(path))
        await test.until(path.exists, name)
    for name in ("some.jsonl", "some.pcapng"):
        rows = list(Capture(test.folder / name))
        test.assertEqual({row.unit_id for row in rows}, {2})
        test.assertGreater(len(rows), 5)
    first = json.loads((test.folder / "some.jsonl").read_text().splitlines()[0])
    test.assertEqual(first["lines"][0]["origin"], "stand-in")
    with zipfile.ZipFile(test.folder / "case.zip") as archive:
        test.assertIn("rules.csv", archive.namelist())
        test.assertIn("timeout 0.3 s", archive.read("settings.txt").decode())
    await pilot.press("x")
    before = (test.folder / "some.jsonl").read_bytes()
    await test.answer(app, pilot, str(test.folder / "some.jsonl"))
    await test.shows(app, r"is there already")
    test.assertEqual((test.folder / "some.jsonl").read_bytes(), before)
    await pilot.press("escape")


async def _findings(test: Wire, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    wire, path = _wire(app), test.folder / "strange.jsonl"
    capture = CaptureFile(path, "S", [CapturedLine("Line", TCP)])
    told = [exchange(n) for n in range(400)]
    for n in range(100, 400, 10):
        told[n] = exchange(n, kind=OutcomeKind.TIMEOUT)._replace(device="Gate", unit_id=9)
    capture.put(told)
    capture.close()
    await pilot.press("4", "o")
    await test.answer(app, pilot, str(path))
    await test.shows(app, r"Gate .*its neighbour still answers")
    await pilot.press("tab", "tab", "enter")
    await test.until(lambda: wire.source.shown_rows, "its rows")
    await test.until(lambda: _kinds(app) == {OutcomeKind.TIMEOUT}, "its rows alone")
    await test.shows(app, r"rows that show: silent-one")
    await pilot.press("escape")
    await test.until(lambda: OutcomeKind.GOOD in _kinds(app), "all again")
    await pilot.press("y")
    await test.shows(app, r"WHAT WAS ASKED FOR")
    await test.until(lambda: wire._beside.looking.when not in ([], ["looking …"]), "an answer")


async def _written(test: Wire, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    await pilot.press("slash", *"target", "enter")
    await test.shows(app, "^.. Target ")
    await test.alone(pilot, "u", "w")
    app.take_paste("1.5")
    for _try in range(20):
        await asyncio.sleep(0.6)
        await pilot.press("enter")
        if test.far.values.get((1, 1)):
            break
    test.assertEqual(test.far.values.get((1, 1)), 15)
    await pilot.press("escape", "4", "slash", *"function:6", "enter")
    await test.until(lambda: len(_wire(app)._list.rows) == 1, "the write alone")
    heard = len(test.far.wrote)
    await test.alone(pilot, "s")
    await test.shows(app, r"new value +1\.5 ")
    await test.shows(app, "nothing goes out before enter")
    await pilot.press("escape")
    test.assertEqual(len(test.far.wrote), heard, "nothing is written by that")


class Alone(InFolder):
    """`kanaleto CAPTURE`, in a terminal of its own."""

    def test_a_capture_by_itself(self) -> None:
        path = self.folder / "night.jsonl"
        capture = CaptureFile(path, "S", [CapturedLine("Far line", TCP)])
        capture.put([exchange(n, kind=OutcomeKind.TIMEOUT if n == 700 else OutcomeKind.GOOD) for n in range(3000)])
        capture.close()
        with Terminal((140, 40)) as terminal:
            terminal.run(f"{KANALETO} {path}; echo ended $?")
            terminal.wait_for("reading night.jsonl")
            terminal.wait_for("read 1 holding from 0 ")
            terminal.type("End")
            terminal.wait_for("read 1 holding from 2999")
            terminal.type("Home", "]")
            terminal.wait_for("silent")
            terminal.type("space", "3", "R", "u", "s", "i")
            terminal.wait_for("in sight")
            terminal.type("?")
            terminal.wait_for("EVERYWHERE")
            terminal.type("Escape", "q")
            terminal.wait_for("ended 0")
        with Terminal((80, 24)) as terminal:
            terminal.run(f"{KANALETO} {self.folder / 'none.jsonl'}; echo ended $?")
            terminal.wait_for("ended 2")
