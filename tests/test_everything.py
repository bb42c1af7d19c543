"""The search for all of a line, on made-up lines and a virtual clock: settings, units, registers and types, by reading
alone, within the time that is given, and whatever the line does meanwhile."""

import asyncio
import json
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from kanaleto.cli.findeverything import _write_so_far
from kanaleto.editing.userfiles import Places
from kanaleto.files.loading import load_site
from kanaleto.lines.exchange import Exchanger
from kanaleto.probing.rollcall import RollCall
from kanaleto.site.links.link import FramingKind, Link, Parity, SerialSettings
from kanaleto.site.links.serial import SerialLink
from kanaleto.unknown.concluding import drafts_of
from kanaleto.unknown.everything import Everything
from kanaleto.unknown.folder import SITE, STATE, copy_of, is_taken, keep_state, load_folder, write_folder
from kanaleto.unknown.knownmaps import KnownMaps
from kanaleto.values.codec import Codec
from kanaleto.values.types import ByteOrder, Kind, ValueType
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read
from tests.judged import judged
from tests.madeup import READS, MadeDevice, MadeLine, Manners, made_line
from tests.madevalues import MadePoint
from tests.virtual import run_virtual

WORDS = "holding"


def search(line: MadeLine, within_s: float | None = 300.0, **options: object) -> Everything:
    link = SerialLink("/virtual") if line.is_serial else line.link
    found = Everything(link, not line.is_serial, within_s, opener=line.opener, **options)  # type: ignore[arg-type]
    run_virtual(found.run())
    return found


class WithinFiveMinutes(unittest.TestCase):
    """`make bench` does it over forty lines; here are four of them, as pseudo-terminals are: without parity."""

    def test_lines_are_found_whole(self) -> None:
        there = found = right = points = 0
        with mock.patch("kanaleto.probing.portsettings.is_pseudo_terminal", lambda port: True):
            for seed in (1, 9, 14, 33):
                line = made_line(seed, tells_parity=False)
                result = judged(line, search(line))
                with self.subTest(seed=seed):
                    self.assertTrue(result.has_settings)
                    self.assertEqual((result.missing_units, result.invented_units), ([], []))
                    self.assertEqual(line.outside, [])
                there, found = there + result.addresses, found + result.found
                points, right = points + result.points, right + result.right
        self.assertGreaterEqual(found / there, 0.95)
        self.assertGreaterEqual(right / points, 0.9)

    def test_units_that_are_all_high_or_all_slow_cost_no_more_than_a_minute_of_settings(self) -> None:
        with mock.patch("kanaleto.probing.portsettings.is_pseudo_terminal", lambda port: True):
            for baud, delay_s in ((9600, 0.01), (2400, 0.02), (115200, 0.3), (19200, 0.4)):
                line = MadeLine(SerialLink("/virtual", SerialSettings(baud, Parity.NONE, 1)), [], 1, tells_parity=False)
                manners = Manners(delay_s=delay_s)
                line.devices = {unit: MadeDevice(unit, [], manners, 0) for unit in (171, 198, 203, 239)}
                found = Everything(SerialLink("/virtual"), False, 75.0, opener=line.opener)  # four fifths: settings
                run_virtual(found.run())
                with self.subTest(baud=baud):
                    self.assertTrue(found.knows_settings)
                    assert isinstance(found.link, SerialLink)
                    self.assertEqual(found.link.settings.baud, baud)


class WhateverTheLineDoes(unittest.TestCase):
    def test_another_master_is_not_talked_over(self) -> None:
        line = made_line(3)

        def opener(link: Link) -> Exchanger:
            exchanger = line.opener(link)

            async def chatter() -> None:
                while True:
                    await asyncio.sleep(1.4)
                    channel = line.channels[-1]
                    channel._deliver(channel._generation, b"\x0d\x03\x00\x00\x00\x01\x84\xc6", 0.0)

            chatters.append(asyncio.get_running_loop().create_task(chatter()))
            return exchanger

        chatters: list[asyncio.Task[None]] = []
        for knows in (False, True):
            found = Everything(line.link if knows else SerialLink("/virtual"), knows, 100.0, opener=opener)
            run_virtual(found.run())
            self.assertIn("somebody talks on this line already", found.stopped)
        self.assertEqual(line.requests, [])

    def test_a_master_that_begins_later_is_noticed_and_left_the_line(self) -> None:
        line = made_line(3)
        channel_of: list[asyncio.Task[None]] = []

        def opener(link: Link) -> Exchanger:
            exchanger = line.opener(link)

            async def chatter() -> None:
                await asyncio.sleep(120)
                while True:
                    await asyncio.sleep(0.7)
                    raw = exchanger.framing.encode(99, b"\x03\x02\x00\x07", 0)
                    line.channels[-1]._deliver(line.channels[-1]._generation, raw, asyncio.get_running_loop().time())

            channel_of.append(asyncio.get_running_loop().create_task(chatter()))
            return exchanger

        found = Everything(line.link, True, 300.0, opener=opener)
        run_virtual(found.run())
        self.assertIn("somebody else has begun to talk", found.stopped)
        self.assertTrue(drafts_of(found))

    def test_an_address_that_silences_a_unit_is_never_asked_again_and_the_unit_after_all_others(self) -> None:
        line = made_line(3)
        unit = max(line.devices, key=lambda unit: len(line.devices[unit].points))
        device = line.devices[unit]
        point = next(point for point in device.points if not point.table.is_bits and point.address > 4)
        device.manners = Manners(**{**device.manners.__dict__, "resets_at": (point.table, point.address)})
        found = search(line)
        function = 3 if point.table is Table.HOLDING else 4
        touching = [
            at for at, asked, pdu in line.requests
            if asked == unit and pdu[0] == function
            and 0 <= point.address - int.from_bytes(pdu[1:3]) < int.from_bytes(pdu[3:5])
        ]  # fmt: skip
        self.assertEqual(len(touching), 1)
        assert found.turns is not None
        turn = found.turns.units[unit]
        self.assertTrue(turn.is_there)
        self.assertIn("fell silent when asked for", turn.trouble)
        self.assertIn("and was back after", turn.trouble)
        draft = next(draft for draft in drafts_of(found) if draft.unit_id == unit)
        self.assertTrue(any(point.table.value in span for span in dict(draft.keys)["never_read"]))  # type: ignore[attr-defined]
        self.assertIn("fell silent", str(dict(draft.keys)["note"]))
        others = [other for other in line.devices if other != unit]
        self.assertTrue(all(found.turns.units[other].survey.items for other in others))
        self.assertTrue(any(f"unit {unit}: fell silent when asked for" in text for text in found.not_looked_at()))

    def test_a_unit_that_dies_is_told_as_gone_and_nobody_waits_for_it_for_ever(self) -> None:
        line = made_line(3)
        unit = max(line.devices, key=lambda unit: len(line.devices[unit].points))
        line.unplugged = lambda asked, at: asked == unit and at > 1150.0
        found = search(line, within_s=None)
        assert found.turns is not None
        turn = found.turns.units[unit]
        self.assertTrue(turn.is_left_alone)
        self.assertAlmostEqual(turn.away_since or 0.0, 1150.0, delta=15.0)
        keys = next(dict(draft.keys) for draft in drafts_of(found) if draft.unit_id == unit)
        self.assertIs(keys["enabled"], False)
        self.assertRegex(str(keys["note"]), r"gone since second 1[45]\d of the search")
        others = [line.devices[other] for other in line.devices if other != unit]
        for device in others:
            of_table = {one.table: one for one in found.turns.units[device.unit_id].survey.tables}
            for table in Table:
                self.assertTrue(all(of_table[table].reads(at) for at in device.addresses(table)), table)

    def test_a_second_outage_of_the_whole_line_leaves_nobody_alone(self) -> None:
        line = made_line(3)
        line.unplugged = lambda asked, at: 1090.0 < at < 1115.0 or 1160.0 < at < 1190.0
        found = search(line)
        assert found.turns is not None
        for unit, turn in found.turns.units.items():
            self.assertTrue(turn.is_there, unit)
            self.assertEqual(turn.falls, 0)
            for table in turn.survey.tables:
                self.assertEqual(table.restarting, [], f"unit {unit}: no address is to blame for what the line did")

    def test_an_outage_excuses_no_place_that_silenced_a_unit_before(self) -> None:
        line = made_line(3)
        unit = max(line.devices, key=lambda unit: len(line.devices[unit].points))
        device = line.devices[unit]
        point = next(point for point in device.points if not point.table.is_bits and point.address > 4)
        device.manners = Manners(**{**device.manners.__dict__, "resets_at": (point.table, point.address)})
        line.unplugged = lambda asked, at: 1160.0 < at < 1190.0
        found = search(line)
        function = 3 if point.table is Table.HOLDING else 4
        touched = [
            at for at, asked, pdu in line.requests
            if asked == unit and pdu[0] == function
            and 0 <= point.address - int.from_bytes(pdu[1:3]) < int.from_bytes(pdu[3:5])
        ]  # fmt: skip
        self.assertEqual(len(touched), 1)
        self.assertLess(touched[0], 1150.0)
        assert found.turns is not None
        turn = found.turns.units[unit]
        self.assertTrue(turn.is_there)
        turn.forgive()  # as the next outage would
        self.assertTrue(any(table.restarting for table in turn.survey.tables))

    def test_one_answer_that_is_lost_makes_nobody_left_alone(self) -> None:
        """Two in a row, the second to what the unit answered before: it is there again a moment later."""
        line = made_line(3)
        unit = max(line.devices, key=lambda unit: len(line.devices[unit].points))
        point = next(point for point in line.devices[unit].points if not point.table.is_bits and point.address > 4)
        lost: list[float] = []

        def loses(asked: int, pdu: bytes, at: float) -> bool:
            if asked == unit and int.from_bytes(pdu[1:3]) == point.address and pdu[0] in (3, 4) and not lost:
                lost.append(at)
            return bool(lost) and asked == unit and at < lost[0] + 1.0

        line.loses = loses
        found = search(line)
        self.assertTrue(lost)
        assert found.turns is not None
        self.assertFalse(found.turns.units[unit].is_left_alone)
        self.assertEqual([text for text in found.not_looked_at() if "fell silent" in text], [])
        table = next(one for one in found.turns.units[unit].survey.tables if one.table is point.table)
        self.assertTrue(table.reads(point.address), "it had another turn")

    def test_devices_that_want_a_rest_between_frames_are_found_whole(self) -> None:
        settings = SerialSettings(19200, Parity.EVEN, 1)
        for rest_s in (0.012, 0.03, 0.05):
            points = [
                MadePoint(Table.HOLDING, at, Codec(ValueType(Kind.UINT16), ByteOrder.ABCD), lambda at: 500)
                for at in range(40, 70)
            ]
            line = MadeLine(SerialLink("/virtual", settings), [], 1)
            line.devices = {unit: MadeDevice(unit, points, Manners(most=10), 0) for unit in (7, 8, 9, 30)}
            line.rest_s = rest_s
            with self.subTest(rest_s=rest_s):
                found = Everything(line.link, True, 120.0, opener=line.opener)
                run_virtual(found.run())
                assert found.turns is not None
                self.assertEqual(sorted(found.found), [7, 8, 9, 30])
                self.assertEqual([turn.survey.items for turn in found.turns.units.values()], [30] * 4)
                self.assertTrue(rest_s <= found.rest_s <= 2.5 * rest_s, found.rest_s)
                with tempfile.TemporaryDirectory() as folder:
                    write_folder(Path(folder), [found], "")
                    site, _ = load_site(Path(folder) / SITE)
                    self.assertEqual(site.lines[0].gap_s, found.rest_s)

    def test_units_that_go_together_are_asked_again_once_they_are_back(self) -> None:
        line = made_line(13)
        line.unplugged = lambda unit, at: 1100 < at < 1160
        result = judged(line, search(line))
        self.assertGreaterEqual(result.found / result.addresses, 0.9)

    def test_noise_is_lived_with(self) -> None:
        line = made_line(13)
        line.noise = lambda at: int(at * 1000) % 23 == 0
        result = judged(line, search(line))
        self.assertEqual(result.invented_units, [])
        self.assertGreaterEqual(result.found / result.addresses, 0.9)

    def test_registers_of_units_that_answer_come_before_another_way_of_asking_silent_ones(self) -> None:
        line = made_line(2, is_serial=True)
        found = search(line)
        asked = [(pdu[0], unit in line.devices, pdu[1:5]) for _, unit, pdu in line.requests]
        first_register = next(
            at for at, (code, is_there, span) in enumerate(asked)
            if is_there and code in (1, 2, 3, 4) and span != b"\0\0\0\1"
        )  # fmt: skip
        another_way = [at for at, (code, is_there, _) in enumerate(asked) if code == 0x2B and not is_there]
        self.assertGreater(len(another_way), 200, "they are asked in the end")
        self.assertLess(first_register, another_way[0])
        self.assertEqual(judged(line, found).missing_units, [])

    def test_several_at_a_time_are_used_where_they_bring_more(self) -> None:
        line = made_line(10)
        line.at_once = 8
        found = search(line, 60.0, per_s=0.0)
        assert found.turns is not None
        self.assertGreater(found.turns.at_once, 1)
        queue = search(made_line(10), 60.0, per_s=0.0)
        assert queue.turns is not None
        self.assertEqual(queue.turns.at_once, 1)

    def test_a_gateway_that_waits_long_for_each_unit_that_is_not_there(self) -> None:
        line = made_line(10)
        line.absent_s = 1.0
        found = search(line)
        result = judged(line, found)
        self.assertEqual((result.missing_units, result.invented_units), ([], []))
        self.assertGreater(len(found.asked_units), 140)
        self.assertGreaterEqual(result.found / result.addresses, 0.8)

    def test_a_budget_too_short_for_anything_leaves_what_was_found(self) -> None:
        for within_s in (0.1, 1.0, 3.0, 10.0):
            line = made_line(3)
            found = search(line, within_s)
            with self.subTest(within_s=within_s), tempfile.TemporaryDirectory() as folder:
                write_folder(Path(folder) / "out", [found], "")
                site, faults = load_site(Path(folder) / "out" / SITE)
                self.assertFalse([fault for fault in faults if not fault.is_warning])
                self.assertEqual(len(list(site.devices())), len(found.found))
                self.assertTrue(found.not_looked_at())
                self.assertTrue(found.next_minutes())


class Folders(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.out = Path(held.name) / "found"

    def make(self, line: MadeLine, within_s: float) -> object:
        return lambda link, knows: Everything(link, knows, within_s, opener=line.opener)

    def test_a_search_goes_on_where_it_stopped(self) -> None:
        line = made_line(10)
        first = search(line, 60.0)
        write_folder(self.out, [first], "")
        asked = [(unit, pdu) for _, unit, pdu in line.requests]
        line.requests.clear()
        (second,) = load_folder(self.out, self.make(line, 60.0))
        run_virtual(second.run())
        again = [pdu for _, unit, pdu in line.requests if (unit, pdu) in set(asked) and pdu[0] in (3, 4)]
        refused = sum(
            len(turn.survey.tables[0].refused()) for turn in (first.turns.units.values() if first.turns else ())
        )
        self.assertTrue(refused)
        before, now = judged(line, first), judged(line, second)
        self.assertGreaterEqual(now.found, before.found)
        probes = {pdu for pdu in again if int.from_bytes(pdu[3:5]) == 1}
        self.assertLess(len(probes), 120, "what was refused is not asked again")

    def test_a_unit_whose_answers_were_lost_is_found_when_the_search_goes_on(self) -> None:
        line = made_line(1, is_serial=True)
        unit = min(line.devices)
        line.loses = lambda asked, pdu, at: asked == unit
        first = Everything(line.link, True, 60.0, opener=line.opener)
        run_virtual(first.run())
        self.assertNotIn(unit, first.found)
        write_folder(self.out, [first], "")
        line.loses = lambda asked, pdu, at: False
        (second,) = load_folder(self.out, self.make(line, 60.0))
        run_virtual(second.run())
        self.assertIn(unit, second.found)
        assert second.turns is not None
        self.assertGreater(second.turns.units[unit].survey.items, 0)

    def test_a_copy_says_the_same(self) -> None:
        found = search(made_line(6), 30.0)
        self.assertEqual(
            [(draft.unit_id, draft.rows) for draft in drafts_of(copy_of(found))],
            [(draft.unit_id, draft.rows) for draft in drafts_of(found)],
        )

    def test_what_is_known_so_far_is_a_site_that_can_be_used(self) -> None:
        line = made_line(6)

        def make(link: Link, knows: bool) -> Everything:
            return Everything(link, knows, 60.0, opener=line.opener)

        for within_s in (0.1, 8.0, 40.0):  # as it stands at some moment of a search
            keep_state(self.out, [search(line, within_s)])
            _write_so_far(self.out, make)
            _, faults = load_site(self.out / SITE)
            self.assertEqual(faults, [])
        written = write_folder(self.out, [search(line, 60.0)], "")
        self.assertEqual(written.edited, [], "it takes the place of what was written before")
        self.assertEqual(load_site(self.out / SITE)[1], [])

    def test_nothing_is_lost_when_what_goes_on_is_stopped_at_once(self) -> None:
        line = made_line(10)
        before = write_folder(self.out, [search(line, 60.0)], "")
        text = {path.name: path.read_text() for path in self.out.glob("unit-*.csv")}
        (again,) = load_folder(self.out, self.make(line, 60.0))
        after = write_folder(self.out, [again], "")
        self.assertEqual((after.units, after.points), (before.units, before.points))
        self.assertEqual({path.name: path.read_text() for path in self.out.glob("unit-*.csv")}, text)
        (third,) = load_folder(self.out, self.make(line, 60.0))
        assert again.turns is not None and third.turns is not None
        self.assertEqual(third.turns.items, again.turns.items)

    def test_settings_that_were_tried_in_vain_are_not_tried_again(self) -> None:
        settings = SerialSettings(2400, Parity.NONE, 2)
        line = MadeLine(SerialLink("/virtual", settings), [], 1)
        line.devices = {unit: MadeDevice(unit, [], Manners(), 0) for unit in (190, 214)}
        with_settings, asked, took = Everything(SerialLink("/virtual"), False, 60.0, opener=line.opener), [], 0
        for _ in range(8):
            run_virtual(with_settings.run())
            assert with_settings.settings is not None
            asked.append(with_settings.settings.asked)
            if with_settings.knows_settings:
                break
            write_folder(self.out, [with_settings], "")
            (with_settings,) = load_folder(self.out, self.make(line, 60.0))
            took += 1
        self.assertEqual(with_settings.link, line.link)
        self.assertGreater(took, 1, "it was found in the second or a later part")

    def test_what_somebody_edited_stays_as_it_is(self) -> None:
        line = made_line(10)
        found = search(line, 40.0)
        written = write_folder(self.out, [found], "")
        self.assertEqual(written.edited, [])
        unit = next(iter(found.found))
        edited = self.out / f"unit-{unit}.csv"
        edited.write_text("name,table,address\nMine,holding,7\n")
        again = write_folder(self.out, [found], "")
        self.assertEqual(edited.read_text(), "name,table,address\nMine,holding,7\n")
        self.assertEqual([path.name for path, _ in again.edited], [edited.name])
        self.assertTrue((self.out / f"unit-{unit}-found.csv").exists())
        third = write_folder(self.out, [found], "")
        self.assertEqual([path.name for path, _ in third.edited], [edited.name])

    def test_a_folder_that_is_taken_or_no_search_is_told(self) -> None:
        self.assertEqual(is_taken(self.out), "")
        self.out.mkdir()
        (self.out / SITE).write_text("")
        self.assertIn("holds a site already", is_taken(self.out))
        make = self.make(made_line(10), 1.0)
        with self.assertRaisesRegex(ValueError, "holds no search to go on with"):
            load_folder(self.out, make)
        unit = '{"unit_id": 999, "state": "good", "took_s": 0, "answer": "", "text": "", "says": ""}'
        place = (
            f'{{"link": "tcp://192.0.2.1", "knows_settings": 1, "asked_units": [], "units": [{unit}], "registers": []}}'
        )
        hostile = f'{{"kanaleto_find": 1, "places": [{place}]}}'
        for text in (
            hostile,
            hostile.replace("999", '"x"'),
            hostile.replace("tcp://", "what"),
            "",
            "[]",
            "{}",
            '{"kanaleto_find": 1, "places": [{}]}',
            '{"kanaleto_find": 1, "places": 7}',
            "\0",
        ):
            (self.out / STATE).write_text(text)
            with self.subTest(text), self.assertRaisesRegex(ValueError, "no search|no JSON|JSON"):
                load_folder(self.out, make)
        (self.out / STATE).write_text(json.dumps({"kanaleto_find": 9}))
        with self.assertRaisesRegex(ValueError, "newer Kanaleto"):
            load_folder(self.out, make)
        self.assertIn("earlier search", is_taken(self.out))

    def test_the_site_can_be_opened_and_says_what_was_learned(self) -> None:
        line = made_line(3)
        found = search(line)
        write_folder(self.out, [found], "")
        site, faults = load_site(self.out / SITE)
        self.assertFalse([fault for fault in faults if not fault.is_warning])
        self.assertEqual(site.lines[0].link, line.link)
        for _, device in site.devices():
            made = line.devices[device.unit_id]
            if made.manners.most < 100:
                self.assertLessEqual(device.limits.max_registers, 125)
            self.assertTrue(all(point.sure is not None for point in device.points if not point.table.is_bits))


class KnownDevices(unittest.TestCase):
    def test_what_a_map_of_the_library_knows_is_looked_at_first(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            places = Places(Path(folder), Path(folder))
            (Path(folder) / "maps").mkdir()
            rows = "".join(f"P{at},holding,{at},uint16\n" for at in range(27341, 27349))
            places.map_path("Alder 700").write_text("name,table,address,type\n" + rows)
            places.map_path("Birch").write_text("what")
            maps = KnownMaps(places)
            self.assertEqual(maps.fitting("Alder, model 700, 2.1"), "Alder 700")
            self.assertEqual(maps.fitting("Alder, model 71"), "")
            self.assertEqual(maps.spans("A Birch 9"), [])
            self.assertEqual(maps.spans("Alder 700"), [(Table.HOLDING, 27341, 27348)])

            line = made_line(10)
            unit = min(line.devices)
            codec = Codec(ValueType(Kind.UINT16), ByteOrder.AB)
            points = [MadePoint(Table.HOLDING, at, codec, lambda now: 7) for at in range(27341, 27349)]
            line.devices = {unit: MadeDevice(unit, points, Manners(says_who=True), 0)}
            self.assertEqual(maps.fitting("Alder 700"), "Alder 700")
            found = search(line, 60.0, known_maps=_Always(places))
            assert found.turns is not None
            self.assertEqual(found.turns.units[unit].survey.tables[0].runs, [(27341, 27348)])


class _Always(KnownMaps):
    def fitting(self, says: str) -> str:
        return "Alder 700" if says else ""


class WhichOne(unittest.TestCase):
    def test_the_one_that_is_unplugged_is_known_by_its_number(self) -> None:
        line = made_line(13)
        units = sorted(line.devices)
        gone = units[2]
        line.unplugged = lambda unit, at: unit == gone and 1010 < at < 1030

        async def work() -> tuple[RollCall, list[int]]:
            exchanger = line.opener(line.link)
            await exchanger.open()
            roll = RollCall(exchanger.ask, units, Read(Table.HOLDING, 0, 1))
            task = asyncio.create_task(roll.run())
            seen = []
            for wait_s in (8.0, 8.0, 25.0):
                await asyncio.sleep(wait_s)
                seen.append(roll.latest if any(not one.is_there for one in roll.called) else 0)
            task.cancel()
            return roll, seen

        roll, seen = run_virtual(work())
        self.assertEqual(seen, [0, gone, 0])
        self.assertEqual(roll.latest, gone)
        self.assertTrue(all(pdu[0] in READS for _, _, pdu in line.requests))


class Ascii(unittest.TestCase):
    def test_a_line_of_ascii_is_found_by_itself(self) -> None:
        settings = SerialSettings(9600, Parity.EVEN, 1, 7)
        line = made_line(6)
        line.link = SerialLink("/virtual", settings, FramingKind.ASCII)
        found = search(line)
        self.assertEqual(found.link, line.link)
        self.assertEqual(set(found.found), set(line.devices))
