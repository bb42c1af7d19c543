"""Lines with habits of their own: garbage at wrong rates, hosts that are easily overrun. Judged by seeds that nobody
looked at while it was built."""

import asyncio
import random
import tempfile
import unittest
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from typing import NamedTuple
from unittest import mock

from kanaleto.cli.findeverything import _report
from kanaleto.files.loading import load_site
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.memorychannel import MemoryChannel
from kanaleto.lines.opening import framing_of
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.probing.gently import Gently
from kanaleto.probing.portsettings import SettingsSurvey
from kanaleto.site.links.link import Link, SerialSettings
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.links.tcp import TcpLink
from kanaleto.unknown.concluding import drafts_of
from kanaleto.unknown.everything import Everything
from kanaleto.unknown.folder import SITE, write_folder
from kanaleto.unknown.reopened import Reopened
from kanaleto.unknown.trial import MOST_LOAD, Changes, Proof, prove
from kanaleto.values.codec import Codec
from kanaleto.values.cutting import Cut, described_bits, explain
from kanaleto.values.types import ByteOrder, Kind, ValueType
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame, Role
from kanaleto.wire.pdu import Read
from tests.habits import KINDS, outcome_of
from tests.madeup import MadeDevice, MadeLine, Manners, Pieces, made_line
from tests.madevalues import MadePoint, range_of_points
from tests.virtual import run_virtual

FIRST_JUDGED = 1000


class Asked(NamedTuple):
    gently: Gently
    came: list[float]


def settings_found_s(seed: int, garbage_share: float) -> float | None:
    """How long until the settings of a made-up line were found at which something answers garbage at all other rates;
    None where others were found, or none."""
    line = made_line(seed, is_serial=True, tells_parity=False)
    line.garbage_share = garbage_share

    async def work() -> float | None:
        survey = SettingsSurvey(SerialLink("/virtual"), opener=line.opener)
        began_s = asyncio.get_running_loop().time()
        found = await survey.run()
        is_right = found is not None and found.settings is not None and line.link.settings is not None
        is_right = is_right and (found.settings.baud, found.framing) == (line.link.settings.baud, line.link.framing)  # type: ignore[union-attr]
        return asyncio.get_running_loop().time() - began_s if is_right else None

    with mock.patch("kanaleto.probing.portsettings.is_pseudo_terminal", lambda port: True):
        return run_virtual(work())


class HandedOver(unittest.TestCase):
    """What is drafted is polled before it is handed over."""

    def _proved(self, line: MadeLine, found: Everything, folder: Path, changes: Changes | None = None) -> Proof:
        write_folder(folder, [found], "", changes=changes)
        return run_virtual(prove(folder / SITE, 20.0, lambda own: line.opener(own.link)))

    def test_a_line_that_is_too_full_is_asked_less_often_and_late_answers_are_waited_for(self) -> None:
        points = [MadePoint(Table.HOLDING, at, Codec(ValueType(Kind.UINT16), ByteOrder.AB), lambda now: now % 900)
                  for at in range(120)]  # fmt: skip
        link = SerialLink("/virtual", SerialSettings(4800))
        line = MadeLine(link, [MadeDevice(unit, points, Manners(), 0) for unit in range(1, 9)], 1)
        found = Everything(line.link, True, 200.0, opener=line.opener)
        run_virtual(found.run())
        assert found.turns is not None
        with (
            tempfile.TemporaryDirectory() as folder,
            mock.patch("kanaleto.unknown.concluding._period_s", lambda _: 1.0),
        ):
            first = self._proved(line, found, Path(folder) / "first")
            self.assertEqual(set(first.changes), {f"Unit {unit}" for unit in range(1, 9)})
            late = {name: {"timeout_s": 0.2, **keys} for name, keys in first.changes.items()}
            second = self._proved(line, found, Path(folder) / "second", first.changes)
            self.assertEqual(second.changes, {})
            self.assertLessEqual(second.loads[line.link.title], MOST_LOAD)
            self.assertEqual(second.good, second.readings)
            self.assertGreater(second.readings, 8)
            for device in line.devices.values():
                device.manners.delay_s = 0.3
            third = self._proved(line, found, Path(folder) / "third", late)
            waits = {name: float(str(keys.get("timeout_s", 0))) for name, keys in third.changes.items()}
            self.assertEqual(len(waits), 8)
            self.assertTrue(all(wait_s > 0.2 for wait_s in waits.values()), waits)

    def test_a_site_that_cannot_be_loaded_is_told(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / SITE).write_text("[site\n", encoding="utf-8")
            self.assertIn("the site has faults", run_virtual(prove(Path(folder) / SITE, 1.0)).text(1.0))


class Halves(unittest.TestCase):
    """One of each kind that takes little time; `python -m tests.habits` runs all of both halves."""

    def test_a_gateway_that_closes_after_ten_requests_is_found_whole_all_the_same(self) -> None:
        came = outcome_of(len(KINDS) + 7)
        self.assertEqual((came.faults, came.missing, came.invented, came.is_reads_only), ([], 0, 0, True))
        self.assertGreater(came.found, 0.85 * came.addresses)
        self.assertEqual(came.answered, came.asked)

    def test_behind_a_gateway_that_says_0b_after_three_seconds_there_is_a_site_within_a_minute(self) -> None:
        came = outcome_of(len(KINDS) + 2)
        self.assertEqual((came.faults, came.missing, came.invented), ([], 0, 0))
        self.assertLessEqual(came.usable_s, 90.0)
        self.assertGreaterEqual(came.good, 0.99 * came.readings)


class Habits(unittest.TestCase):
    def test_garbage_at_wrong_rates_hides_no_settings(self) -> None:
        took = {seed: settings_found_s(seed, 0.3) for seed in range(FIRST_JUDGED, FIRST_JUDGED + 24)}
        late = {seed: took_s for seed, took_s in took.items() if took_s is None or took_s > 60}
        self.assertNotIn(None, took.values())
        self.assertLessEqual(len(late), 2, late)

    def test_counts_that_reading_takes_away_are_read_twice_at_most(self) -> None:
        for seed in (1001, 1002, 1004):
            line = made_line(seed)
            device = next(iter(line.devices.values()))
            codec = Codec(ValueType(Kind.UINT16), ByteOrder.AB)
            free = max((point.end for point in device.points), default=0) // 100 * 100 + 300
            device.points += [MadePoint(Table.HOLDING, free + at, codec, lambda now: 1) for at in range(6)]
            device.manners = replace(
                device.manners, counts_at=(free, free + 5), no_function=frozenset(), hole=2, walls=frozenset()
            )
            device.__post_init__()
            link = SerialLink("/virtual") if line.is_serial else line.link
            found = Everything(link, not line.is_serial, 300.0, opener=line.opener)
            run_virtual(found.run())
            assert found.turns is not None
            self.assertLessEqual(max(device.readings.values(), default=0), 2, (seed, free, device.readings))
            if not device.readings:
                continue  # it was not found within the time
            table = next(
                table_search
                for table_search in found.turns.units[device.unit_id].survey.tables
                if table_search.table is Table.HOLDING
            )
            left_alone = {at for low, high in table.resets for at in range(low, high + 1)}
            self.assertEqual(left_alone, set(device.readings), seed)
            draft = next(unit_draft for unit_draft in drafts_of(found) if unit_draft.unit_id == device.unit_id)
            never = dict(draft.keys)["never_read"]
            self.assertTrue(any(f"holding {free}" in text for text in never), never)  # type: ignore[attr-defined]
            row = next(
                draft_row for draft_row in draft.rows if (draft_row.table, draft_row.address) == (Table.HOLDING, free)
            )
            self.assertIn("zero right after it was read", row.note)

    def test_a_text_longer_than_a_request_is_drafted_in_pieces_that_can_be_read(self) -> None:
        device = MadeDevice(5, [], Manners(most=4, says_who=True), 0)
        text = MadePoint(
            Table.HOLDING, 0, Codec(ValueType(Kind.TEXT, 20), ByteOrder.AB), lambda now: "Gannet 77-A station"
        )
        counter = MadePoint(Table.HOLDING, 10, Codec(ValueType(Kind.UINT16), ByteOrder.AB), lambda now: int(now) % 900)
        device.points += [text, counter]
        device.__post_init__()
        line = MadeLine(TcpLink("192.0.2.1", 502), [device], 1)
        found = Everything(line.link, True, 60.0, opener=line.opener)
        run_virtual(found.run())
        (draft,) = drafts_of(found)
        self.assertEqual(dict(draft.keys)["max_registers"], 4)
        with tempfile.TemporaryDirectory() as folder:
            write_folder(Path(folder) / "found", [found], "")
            site, faults = load_site(Path(folder) / "found" / "site.toml")
        self.assertEqual(faults, [])
        points = site.lines[0].devices[0].points
        self.assertLessEqual(max(point.size for point in points), 4)
        self.assertTrue(any(point.codec.type.kind is Kind.TEXT for point in points))

    def test_each_device_waits_as_long_as_it_needs(self) -> None:
        devices = [
            MadeDevice(unit, [MadePoint(Table.HOLDING, at, Codec(ValueType(Kind.UINT16), ByteOrder.AB), lambda now: 7)
                              for at in range(8)], Manners(delay_s=delay_s), 0)
            for unit, delay_s in ((3, 0.01), (4, 0.4))
        ]  # fmt: skip
        line = MadeLine(SerialLink("/virtual"), devices, 1)
        found = Everything(line.link, True, 60.0, opener=line.opener)
        run_virtual(found.run())
        waits = {draft.unit_id: float(str(dict(draft.keys)["timeout_s"])) for draft in drafts_of(found)}
        self.assertTrue(0.3 < waits[3] < 0.4, "0.2 s, the longest frame on the line, and what an adapter holds back")
        self.assertTrue(0.6 < waits[4] < 0.75, "half as much again as its answers take")

    def test_what_must_never_be_read_stands_in_the_site_and_who_died_in_the_report(self) -> None:
        devices = [
            MadeDevice(unit, [MadePoint(Table.HOLDING, at, Codec(ValueType(Kind.UINT16), ByteOrder.AB), lambda now: 7)
                              for at in range(60)], Manners(), 0)
            for unit in (3, 4)
        ]  # fmt: skip
        line = MadeLine(SerialLink("/virtual"), devices, 1)
        line.unplugged = lambda unit, at: unit == 4 and at > 1035  # the virtual clock begins at 1000
        found = Everything(line.link, True, 60.0, ((Table.HOLDING, 40, 47),), line.opener)
        run_virtual(found.run())
        for draft in drafts_of(found):
            self.assertIn("holding 40-47", dict(draft.keys)["never_read"])  # type: ignore[arg-type]
        asked = {at for _, _, pdu in line.requests if pdu[0] == 3 for at in range(*_span(pdu))}
        self.assertTrue(asked.isdisjoint(range(40, 48)))
        report = "\n".join(_report([found]))
        self.assertRegex(report, r"unit 4:[^\n]*\n +silent since second 3\d:")
        self.assertNotRegex(report, r"unit 3:[^\n]*\n +silent since")

    def test_units_of_equal_extent_are_explained_together_only_where_that_is_shorter(self) -> None:
        """Right of two units: of one layout as many together as alone, of two layouts nearly all."""
        right = {True: 0, False: 0}
        points = {True: 0, False: 0}
        for seed in range(FIRST_JUDGED, FIRST_JUDGED + 6):
            for is_alike in (True, False):
                size = (16, 20, 24)[seed % 3]
                layouts = [layout_of(2 * seed, size), layout_of(2 * seed if is_alike else 2 * seed + 1, size)]
                units = [[b"".join(point.data(3000 + 7.3 * number + 77 * unit) for point in layout)
                          for number in range(20)] for unit, layout in enumerate(layouts)]  # fmt: skip
                joint, alone = described_bits([units]), sum(described_bits([[unit]]) for unit in units)
                cuts = explain([units])[1] * 2 if joint < alone else [explain([[unit]])[1][0] for unit in units]
                for layout, samples, own in zip(layouts, units, cuts, strict=True):
                    points[is_alike] += len(layout)
                    right[is_alike] += sum(_is_right(point, own, samples) for point in layout)
        self.assertGreater(right[True], 0.93 * points[True])
        self.assertGreater(right[False], 0.93 * points[False])


def _span(pdu: bytes) -> tuple[int, int]:
    first, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5])
    return first, first + count


def layout_of(seed: int, size: int) -> list[MadePoint]:
    """Values one behind the other that are as many registers together."""
    chance = random.Random(seed)
    while True:
        points: list[MadePoint] = []
        for point in range_of_points(
            chance, Table.HOLDING, 0, (ByteOrder.ABCD, 0.5), ("measured", "counter")[seed % 2]
        ):
            if point.address != (points[-1].end if points else 0) or point.end > size:
                break
            points.append(point)
            if point.end == size:
                return points


def _is_right(point: MadePoint, cuts: list[Cut], samples: list[bytes]) -> bool:
    """Or zero throughout, of which nothing is known."""
    data = [sample[2 * point.address : 2 * point.end] for sample in samples]
    cut = next((cut for cut in cuts if cut.at == point.address), None)
    if not any(map(any, data)):
        return True
    is_cut = cut is not None and cut.codec.registers == point.codec.registers
    return is_cut and cut is not None and all(cut.codec.decode(one) == point.codec.decode(one) for one in data)


class AskedGently(unittest.TestCase):
    """Hosts on the network, on a virtual clock: when each question reached them."""

    def _asked(self, per_s: float, seconds: float, answer_s: Callable[[float], float], closes_each: int = 0) -> Asked:
        framing = framing_of(TcpLink("192.0.2.1", 502))
        came: list[float] = []
        channels: list[MemoryChannel] = []

        def opener(link: Link) -> Exchanger:
            decoder = framing.decoder(Role.REQUESTS)

            def far_end(data: bytes, at: float) -> Pieces:
                pieces: Pieces = []
                for event in decoder.feed(data):
                    assert isinstance(event, Frame)
                    came.append(at)
                    raw = framing.encode(event.unit_id, b"\x03\x02\x00\x07", event.transaction or 0)
                    pieces.append((at + answer_s(at), raw))
                    if closes_each and len(came) % closes_each == 0:
                        channel.break_off("closed the connection")
                return pieces

            channel = MemoryChannel(far_end)
            channels.append(channel)
            return Exchanger(channel, framing)

        async def work() -> Gently:
            gently = Gently(TcpLink("192.0.2.1", 502), per_s)
            line = Reopened(TcpLink("192.0.2.1", 502), opener, lambda: None, gently)
            await line.exchanger.open()
            end_s = asyncio.get_running_loop().time() + seconds

            async def ask() -> None:
                while asyncio.get_running_loop().time() < end_s:
                    await line.ask(1, Read(Table.HOLDING, 0, 1), 2.0)

            await asyncio.gather(*(ask() for _ in range(8)))
            return gently

        gently = run_virtual(work())
        return Asked(gently, came)

    def test_no_faster_than_was_said_however_quick_the_answers(self) -> None:
        for per_s in (50.0, 10.0):
            asked = self._asked(per_s, 20.0, lambda at: 0.001)
            self.assertAlmostEqual(len(asked.came), 20 * per_s, delta=12)
            apart = min(later - sooner for sooner, later in pairwise(asked.came))
            self.assertGreater(apart, 0.99 / per_s)
        self.assertGreater(len(self._asked(0.0, 1.0, lambda at: 0.001).came), 5000)

    def test_who_becomes_slower_is_asked_a_tenth_of_the_time(self) -> None:
        asked = self._asked(50.0, 60.0, lambda at: 0.005 if at < 1010 else 0.4)
        lately = [at for at in asked.came if at > 1030]
        self.assertLess(len(lately) * 0.4, 0.25 * 30)
        self.assertEqual(asked.gently.slowed, {1})
        self.assertIn("unit 1 became slower", asked.gently.text(60.0))

    def test_who_waits_behind_what_was_not_answered_is_not_slower(self) -> None:
        """One by one behind a gateway: after a question that nobody answers the next one waits for the gateway."""

        def outcome(kind: OutcomeKind, unit_id: int, sent_s: float, done_s: float) -> Outcome:
            answer = b"\x03\x02\x00\x07" if kind is OutcomeKind.GOOD else b""
            return Outcome(kind, unit_id, b"", answer, None, sent_s, sent_s, 0.0, done_s)

        gently = Gently(TcpLink("192.0.2.1", 502))
        for at in range(9):
            gently.note(outcome(OutcomeKind.GOOD, 1, at, at + 0.02))
        for at in range(10, 100, 10):
            gently.note(outcome(OutcomeKind.TIMEOUT, 2, at, at + 1))
            gently.note(outcome(OutcomeKind.GOOD, 1, at + 1, at + 3))  # both waited for the gateway
            gently.note(outcome(OutcomeKind.GOOD, 1, at + 2, at + 3.02))
        self.assertEqual(gently.slowed, set())

    def test_who_is_asked_less_holds_up_no_other(self) -> None:
        """The other units of a gateway are asked as often as before; within the time that was given."""
        line = made_line(3, is_serial=False)
        points = [
            MadePoint(Table.HOLDING, at, Codec(ValueType(Kind.UINT16), ByteOrder.AB), lambda now: 1) for at in range(60)
        ]
        line.devices = {unit: MadeDevice(unit, points, Manners(), unit) for unit in (1, 2, 3)}
        asked: Counter[int] = Counter()
        line.slower = lambda unit, at: 0.5 if unit == 1 and at > 1060.0 else 0.0
        search = Everything(line.link, True, 120.0, opener=line.opener)
        noted = Gently.note

        def note(gently: Gently, outcome: Outcome, crowd: int) -> None:
            asked[outcome.unit_id] += outcome.asked_at > 1070.0
            noted(gently, outcome, crowd)

        async def work() -> float:
            began_s = asyncio.get_running_loop().time()
            await search.run()
            return asyncio.get_running_loop().time() - began_s

        with mock.patch.object(Gently, "note", note):
            took_s = run_virtual(work())
        self.assertEqual(search.gently.slowed, {1})
        self.assertLess(took_s, 121.0)
        self.assertLess(asked[1] * 10, asked[2])
        self.assertGreater(asked[2] + asked[3], 1500)

    def test_units_that_have_their_turn_later_are_asked_a_second_way_too(self) -> None:
        """Of this line two units say nothing where they have no register, and one of them is asked after the first
        registers."""
        line = made_line(34)
        search = Everything(line.link, not line.is_serial, 300.0, opener=line.opener)
        run_virtual(search.run())
        self.assertEqual(set(line.devices) - set(search.found), set())

    def test_a_quick_host_on_a_busy_machine_is_not_taken_for_slower(self) -> None:
        asked = self._asked(50.0, 30.0, lambda at: 0.001 if at < 1010 else 0.02)
        self.assertEqual(asked.gently.slowed, set())

    def test_each_connection_that_is_closed_halves_the_pace(self) -> None:
        asked = self._asked(50.0, 60.0, lambda at: 0.001, closes_each=40)
        self.assertEqual(asked.gently.per_s, 5.0)
        lately = [at for at in asked.came if at > 1040]
        self.assertLess(len(lately), 5.5 * 22)
        self.assertIn("it closed the connection", asked.gently.text(60.0))
