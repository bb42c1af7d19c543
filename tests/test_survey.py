"""Find's surveys on a virtual clock: settings, units, registers, all by reading alone."""

import asyncio
import random
import unittest

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.opening import framing_of
from kanaleto.probing.portsettings import SettingsSurvey, likely_settings
from kanaleto.probing.registers import RegisterSurvey
from kanaleto.probing.units import UnitSurvey
from kanaleto.probing.unitstates import SurveyStopped, UnitState
from kanaleto.site.links.link import Link, Parity, SerialSettings
from kanaleto.site.links.serial import SerialLink
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame
from kanaleto.wire.pdu import Read, Refused, parse_request
from tests.simulated import Pieces, Wires, device, silent
from tests.virtual import run_virtual

READS = {1, 2, 3, 4, 7, 0x0B, 0x0C, 0x11, 0x14, 0x18, 0x2B}


def units_of(wires: Wires, **options: object) -> UnitSurvey:
    async def work() -> UnitSurvey:
        exchanger = wires.opener(wires.link)
        await exchanger.open()
        survey = UnitSurvey(exchanger, **options)  # type: ignore[arg-type]
        await survey.run()
        return survey

    return run_virtual(work())


class Settings(unittest.TestCase):
    def test_every_other_setting_that_is_wrong_leads_to_the_right_one(self) -> None:
        for framing, settings in likely_settings()[::2]:
            with self.subTest(settings=str(settings), framing=framing):
                wires = Wires(device("Pump", 2), settings=settings, framing=framing)
                survey = SettingsSurvey(SerialLink("/virtual"), opener=wires.opener)
                link = run_virtual(survey.run())
                self.assertEqual(link, SerialLink("/virtual", settings, framing))
                assert survey.found is not None
                self.assertEqual(survey.found.answered_by, 2)

    def test_a_rare_unit_at_a_rare_setting_is_found_in_a_later_round(self) -> None:
        wires = Wires(device("Pump", 173), settings=SerialSettings(2400, Parity.ODD, 1))
        survey = SettingsSurvey(SerialLink("/virtual"), opener=wires.opener)
        link = run_virtual(survey.run())
        assert link is not None
        self.assertEqual(
            (link.settings, survey.found and survey.found.answered_by), (SerialSettings(2400, Parity.ODD, 1), 173)
        )

    def test_an_exception_is_an_answer(self) -> None:
        wires = Wires(
            device("Pump", 1, "name,table,address\nFar,holding,4000\n"), settings=SerialSettings(9600, Parity.NONE, 1)
        )
        link = run_virtual(SettingsSurvey(SerialLink("/virtual"), opener=wires.opener).run())
        assert link is not None
        self.assertEqual(link.settings and link.settings.baud, 9600)

    def test_garbage_is_evidence_and_is_tried_first_in_the_next_round(self) -> None:
        wires = Wires(device("Pump", 9), settings=SerialSettings(4800, Parity.EVEN, 1))
        wires.noisy_at = {2400}
        survey = SettingsSurvey(SerialLink("/virtual"), opener=wires.opener)
        run_virtual(survey.run())
        noisy = [tried for tried in survey.tried if tried.garbled]
        self.assertEqual({tried.settings.baud for tried in noisy}, {2400})
        self.assertIn("garbled", noisy[0].verdict)
        quiet = [tried for tried in survey.tried if tried.asked and not tried.garbled and tried is not survey.found]
        self.assertGreater(min(tried.asked for tried in noisy[:1]), min(tried.asked for tried in quiet))

    def test_nobody_there_is_nothing_found_and_everything_asked(self) -> None:
        survey = SettingsSurvey(SerialLink("/virtual"), units=(1, 2), opener=Wires().opener)
        self.assertIsNone(run_virtual(survey.run()))
        self.assertTrue(all(tried.asked == 4 for tried in survey.tried))
        self.assertEqual(survey.left_s, 0)

    def test_it_only_reads_and_never_broadcasts(self) -> None:
        wires = Wires(device("Pump", 3))
        run_virtual(SettingsSurvey(SerialLink("/virtual"), opener=wires.opener).run())
        self.assertTrue(wires.requests)
        for frame, _ in wires.requests:
            self.assertIn(frame.pdu[0], READS)
            self.assertNotEqual(frame.unit_id, 0)
        with self.assertRaisesRegex(ValueError, "broadcast"):
            SettingsSurvey(SerialLink("/virtual"), units=(0, 1), opener=wires.opener)

    def test_a_line_on_which_somebody_talks_is_not_talked_over(self) -> None:
        wires = Wires(device("Pump", 3))

        def opener(link: Link) -> Exchanger:
            exchanger = wires.opener(link)

            async def chatter() -> None:
                await asyncio.sleep(0.1)
                wires.channels[-1]._deliver(wires.channels[-1]._generation, b"\x0d\x03\x00\x00\x00\x01\x84\xc6", 0.0)

            asyncio.get_running_loop().create_task(chatter())
            return exchanger

        with self.assertRaisesRegex(SurveyStopped, "somebody talks"):
            run_virtual(SettingsSurvey(SerialLink("/virtual"), opener=opener).run())
        self.assertEqual(wires.requests, [])

    def test_a_port_that_vanishes_midway_is_told(self) -> None:
        wires = Wires()
        survey = SettingsSurvey(SerialLink("/virtual"), opener=wires.opener)
        survey._on_step = lambda now: (
            wires.channels[-1].break_off("the far end hung up or was unplugged") if now.asked == 5 else None
        )
        with self.assertRaisesRegex(SurveyStopped, "the port was lost: .*unplugged"):
            run_virtual(survey.run())


class Units(unittest.TestCase):
    def test_twenty_units_are_found_whole_and_none_invented(self) -> None:
        for seed in range(5):
            chosen = sorted(random.Random(seed).sample(range(1, 248), 20))
            wires = Wires(*(device(f"Device {unit}", unit) for unit in chosen))
            survey = units_of(wires)
            self.assertEqual(sorted(survey.found), chosen, f"seed {seed}")
            self.assertTrue(all(found.state is UnitState.GOOD for found in survey.found.values()))
            self.assertEqual(sum(state is UnitState.SILENT for state in survey.states), 227)
            self.assertTrue(all(frame.pdu[0] in READS and frame.unit_id for frame, _ in wires.requests))

    def test_the_timeout_shrinks_to_what_the_line_shows(self) -> None:
        survey = units_of(Wires(device("Pump", 1)), timeout_s=0.3)
        self.assertLess(survey.pace.timeout_s, 0.1)
        self.assertGreater(survey.pace.timeout_s, survey.pace.slowest_s)

    def test_a_slow_unit_behind_a_quick_one_is_not_lost(self) -> None:
        wires = Wires(device("Quick", 1), device("Slow", 50))
        wires.fault = lambda frame, at, right: (
            [(when + 0.1, piece) for when, piece in right] if frame.unit_id == 50 else right
        )
        self.assertEqual(sorted(units_of(wires, timeout_s=0.3).found), [1, 50])

    def test_two_devices_with_one_unit_id_that_talk_at_once(self) -> None:
        wires = Wires(device("One", 7), device("Twin", 52), device("Last", 60))
        other = b"\x34\x03\x02\x55\xaa\x12"

        def at_once(frame: Frame, at: float, right: Pieces) -> Pieces:
            return [
                (when, bytes(a & b for a, b in zip(piece, other + piece, strict=False)) + other)
                for when, piece in right
            ]

        wires.fault = lambda frame, at, right: at_once(frame, at, right) if frame.unit_id == 52 else right
        survey = units_of(wires)
        states = {unit: found.state for unit, found in survey.found.items()}
        self.assertEqual(states, {7: UnitState.GOOD, 52: UnitState.SHARED, 60: UnitState.GOOD})
        self.assertIn("two devices may share this unit ID", survey.found[52].text)

    def test_two_devices_with_one_unit_id_that_talk_one_after_the_other(self) -> None:
        wires = Wires(device("Twin", 52), device("Last", 60))

        def twice(frame: Frame, at: float, right: Pieces) -> Pieces:
            return [*right, *((when + 0.012, piece) for when, piece in right)] if frame.unit_id == 52 else right

        wires.fault = twice
        survey = units_of(wires)
        self.assertEqual(survey.found[52].state, UnitState.SHARED)
        self.assertEqual(survey.found[60].state, UnitState.GOOD)

    def test_noise_is_told_and_ends_it(self) -> None:
        wires = Wires()
        wires.fault = lambda frame, at, right: [(at + 0.01, bytes((frame.unit_id, 3, 2, 9, 9, 9, 9, 9)))]
        with self.assertRaisesRegex(SurveyStopped, "full of noise"):
            units_of(wires)

    def test_a_lost_line_is_told(self) -> None:
        wires = Wires(device("Pump", 1))

        def lose(frame: Frame, at: float, right: Pieces) -> Pieces:
            if frame.unit_id == 30:
                asyncio.get_running_loop().call_later(
                    0.01, wires.channels[-1].break_off, "the far end hung up or was unplugged"
                )
            return right

        wires.fault = lose
        with self.assertRaisesRegex(SurveyStopped, "lost at unit 30: .*unplugged"):
            units_of(wires)

    def test_addresses_never_to_be_touched_are_not_knocked_at(self) -> None:
        wires = Wires(device("Pump", 1))
        units_of(wires, never=((Table.HOLDING, 0, 4),), asks_identity=False)
        self.assertTrue(all(frame.pdu == Read(Table.HOLDING, 5, 1).encode() for frame, _ in wires.requests))


def map_of(table: str, addresses: list[int]) -> str:
    return "name,table,address\n" + "".join(f"P{address},{table},{address}\n" for address in addresses)


class Registers(unittest.TestCase):
    def survey(
        self, wires: Wires, unit_id: int = 1, most_requests: int = 5000, once: bool = False, **options: object
    ) -> RegisterSurvey:
        async def work() -> RegisterSurvey:
            exchanger = wires.opener(wires.link)
            await exchanger.open()
            survey = RegisterSurvey(exchanger.ask, unit_id, **options)  # type: ignore[arg-type]
            while not await survey.run(most_requests) and not once:
                pass
            return survey

        return run_virtual(work())

    def test_forty_holes_are_found_exactly_and_within_the_bound(self) -> None:
        for seed in range(4):
            chance = random.Random(seed)
            missing: set[int] = set()
            at = 0
            for _ in range(40):
                at += chance.randint(3, 60)
                length = chance.choice((1, 1, 2, 5, 12))
                missing |= set(range(at, at + length))
                at += length
            last = at + 30
            there = [address for address in range(last + 1) if address not in missing]
            wires = Wires(device("Pump", 1, map_of("holding", there)))
            survey = self.survey(wires, tables=(Table.HOLDING,), last=last)
            runs = survey.tables[0].runs
            self.assertEqual(
                [address for first, end in runs for address in range(first, end + 1)], there, f"seed {seed}"
            )
            self.assertEqual(len(runs), 41)
            blocks = (last + 1) / 125 + 41  # each hole begins a block again
            # steps up and halving them, the address alone, how long a request may be, and every missing one
            bound = 1 + blocks + 40 * (7 + 2 + 4) + len(missing)
            self.assertLessEqual(survey.asked, bound, f"seed {seed}")

    def test_the_most_that_one_request_may_ask_is_learned(self) -> None:
        for most in (1, 7, 48, 124):
            wires = Wires(device("Winch", 1, map_of("holding", list(range(200)))))
            too_many = framing_of(wires.link).encode(1, Refused(3, 3).encode())
            wires.fault = lambda frame, at, right, most=most, no=too_many: (
                [(at + 0.01, no)] if int.from_bytes(frame.pdu[3:5]) > most else right
            )
            survey = self.survey(wires, tables=(Table.HOLDING,), last=199)
            self.assertEqual((survey.tables[0].most, survey.tables[0].runs), (most, [(0, 199)]))

    def test_far_islands_are_found_by_their_exact_ends(self) -> None:
        there = [*range(100, 180), *range(3000, 3100)]
        survey = self.survey(Wires(device("Pump", 1, map_of("input", there))), 1, 150, once=True, tables=(Table.INPUT,))
        self.assertEqual(survey.tables[0].runs, [(100, 179), (3000, 3099)])

    def test_a_table_without_a_function_is_told_at_once(self) -> None:
        wires = Wires(device("Pump", 1))
        wires.fault = lambda frame, at, right: (
            [(at + 0.01, framing_of(wires.link).encode(1, Refused(4, 1).encode()))] if frame.pdu[0] == 4 else right
        )
        survey = self.survey(wires, tables=(Table.HOLDING, Table.INPUT), last=50)
        self.assertIn("no function for input registers", survey.tables[1].why_none)

    def test_what_must_never_be_touched_is_never_touched(self) -> None:
        wires = Wires(device("Pump", 1, map_of("holding", list(range(100)))))
        survey = self.survey(
            wires, tables=(Table.HOLDING,), last=99, never=((Table.HOLDING, 40, 47), (Table.HOLDING, 0, 0))
        )
        for frame, _ in wires.requests:
            request = parse_request(frame.pdu)
            assert isinstance(request, Read)
            asked = range(request.address, request.address + request.count)
            self.assertFalse(set(asked) & {0, *range(40, 48)}, request)
        self.assertEqual(survey.tables[0].runs, [(1, 39), (48, 99)])

    def test_an_address_that_restarts_the_device_is_found_and_passed_by(self) -> None:
        wires = Wires(device("Pump", 1, map_of("holding", list(range(200)))))
        dead_until = [0.0]

        def restarts(frame: Frame, at: float, right: Pieces) -> Pieces:
            request = parse_request(frame.pdu)
            assert isinstance(request, Read)
            if at < dead_until[0]:
                return []
            if request.address <= 77 < request.address + request.count:
                dead_until[0] = at + 4.0
                return []
            return right

        wires.fault = restarts
        survey = self.survey(wires, tables=(Table.HOLDING,), last=199)
        self.assertEqual(survey.tables[0].dangerous, [(77, 77)])
        self.assertEqual(survey.tables[0].runs, [(0, 76), (78, 199)])
        self.assertLessEqual(survey.restarts, 4)

    def test_a_device_that_stays_away_ends_it_with_the_address(self) -> None:
        wires = Wires(device("Pump", 1, map_of("holding", list(range(100)))))
        dead: list[bool] = []

        def dies(frame: Frame, at: float, right: Pieces) -> Pieces:
            dead.extend([True] if int.from_bytes(frame.pdu[3:5]) > 1 else [])
            return [] if dead else right

        wires.fault = dies
        with self.assertRaisesRegex(SurveyStopped, "fell silent when asked for holding registers 1–4"):
            self.survey(wires, tables=(Table.HOLDING,), last=99)

    def test_it_stops_at_its_limit_and_goes_on(self) -> None:
        there = [*range(90), *range(120, 300), *range(1000, 1040)]
        wires = Wires(device("Pump", 1, map_of("holding", there)))
        once = self.survey(wires, tables=(Table.HOLDING,), last=1500)
        again = self.survey(wires, most_requests=15, tables=(Table.HOLDING,), last=1500)
        self.assertEqual(again.tables[0].runs, once.tables[0].runs)
        self.assertEqual(once.tables[0].runs, [(0, 89), (120, 299), (1000, 1039)])

    def test_functions_that_read_are_told_apart(self) -> None:
        wires = Wires(device("Pump", 1))

        async def work() -> dict[int, bool]:
            exchanger = wires.opener(wires.link)
            await exchanger.open()
            survey = RegisterSurvey(exchanger.ask, 1, tables=(Table.HOLDING,), last=10)
            await survey.run()
            return await survey.ask_functions()

        functions = run_virtual(work())
        self.assertTrue(functions[3] and functions[1])
        self.assertLessEqual(set(functions), READS)

    def test_a_unit_that_is_not_there_is_told(self) -> None:
        with self.assertRaisesRegex(SurveyStopped, "unit 9 does not answer"):
            self.survey(Wires(device("Pump", 1)), unit_id=9)
        wires = Wires(device("Pump", 1))
        wires.fault = silent(1)
        with self.assertRaisesRegex(SurveyStopped, "unit 1 does not answer"):
            self.survey(wires)
