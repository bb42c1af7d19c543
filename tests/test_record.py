"""The record: what is in it is what was, no more and no less; over gaps, clocks that are set, edits, and stores that
are old, new, damaged or taken."""

import asyncio
import math
import struct

from msgspec.structs import replace

from kanaleto.history.definition import definition_text, read_definition
from kanaleto.history.query import NOT_RECORDED
from kanaleto.history.renames import renamed
from kanaleto.history.standing import BEGIN, CHANGED, END, STILL
from kanaleto.site.model import Derived, Site
from tests.recorded import COUNTER, NEW, InFolder, Kept, counting
from tests.simulated import SimulatedLine, device, silent


class HalfADay(InFolder):
    def test_at_one_hertz_gaps_are_gaps_and_what_stands_still_is_unchanged(self) -> None:
        """43 200 seconds: a value that changes each minute, one that never does, an outage of ten minutes, an hour in
        which nobody recorded."""
        line = SimulatedLine(device("Device", 7, COUNTER))
        counting(line, 60)
        spoilt = line.fault

        async def day(kept: Kept) -> None:
            await kept.for_s(3 * 3600, 30)
            line.fault = silent(7)
            await kept.for_s(600, 30)
            line.fault = spoilt
            await kept.for_s(3 * 3600 - 600, 30)
            kept.break_off()
            kept.session.leave(kept.sink)
            await kept.running.for_s(3600)
            again = Kept(kept.running, self.url)
            await again.for_s(5 * 3600, 30)
            again.end()

        self.run_recorded(line, day)
        history = self.history()
        spans = history.spans()
        self.assertEqual(len(spans), 2)
        self.assertAlmostEqual((spans[0][1] - spans[0][0]) / 1e6, 6 * 3600, delta=2)
        self.assertAlmostEqual((spans[1][0] - spans[0][1]) / 1e6, 3600, delta=2)
        samples = list(history.samples(self.series(history, "Count")))
        start_s = spans[0][0] / 1e6
        good = [one for one in samples if one.quality == "good"]
        for one in good:  # each its own: it says what it was read at
            assert isinstance(one.value, int)
            if one.kind in (BEGIN, CHANGED):
                self.assertAlmostEqual(one.at_us / 1e6 - 1000, 60 * one.value, delta=61)
        minutes_seen = len({one.value for one in good})
        self.assertAlmostEqual(minutes_seen, 12 * 60 - 60 - 10, delta=1, msg="a minute is missing that was no gap")
        away = [one for one in samples if one.quality == "stale"]
        self.assertAlmostEqual(away[0].at_us / 1e6 - start_s, 3 * 3600 + 3, delta=3)
        gap = next(one for one in samples if one.reason == NOT_RECORDED)
        self.assertAlmostEqual(gap.at_us / 1e6, spans[0][1] / 1e6, delta=1)
        still = list(history.samples(self.series(history, "Still")))
        self.assertEqual({one.value for one in still if one.quality == "good"}, {4711})
        self.assertLess(len(still), 11 * 12 + 12, "a row each five minutes")
        self.assertGreater(len(still), 11 * 12 - 12)
        self.assertEqual(still[-1].kind, END)
        found = history.statistics(self.series(history, "Still"))
        self.assertAlmostEqual(found.recorded_s, 11 * 3600, delta=10)
        self.assertAlmostEqual(found.good_s, 11 * 3600 - 600, delta=15)
        self.assertEqual((found.least, found.most, found.mean), (4711, 4711, 4711))
        minutes = list(history.minutes(None, None))
        asked = sum(int(str(row["asked"])) for row in minutes if row["device"])
        silences = sum(int(str(row["silent"])) for row in minutes if row["device"])
        self.assertAlmostEqual(asked, 11 * 3600, delta=900)
        self.assertGreater(silences, 300)
        self.assertEqual(len([row for row in minutes if not row["device"]]), len({row["at"] for row in minutes}))


class Rows(InFolder):
    def test_a_row_at_its_begin_at_each_change_each_five_minutes_and_at_its_end(self) -> None:
        line = SimulatedLine(device("Device", 7, COUNTER))
        counting(line, 1000)

        async def work(kept: Kept) -> None:
            await kept.for_s(1500)
            kept.end()

        self.run_recorded(line, work)
        kinds = [kind for _, kind, _, _ in self.rows("Count")]
        self.assertEqual(kinds, [BEGIN, STILL, STILL, STILL, CHANGED, STILL, END])
        times = [at for at, kind, _, _ in self.rows("Count") if kind == STILL]
        self.assertAlmostEqual(times[1] - times[0], 300, delta=1.1)

    def test_a_deadband_of_its_own(self) -> None:
        rows = "name,table,address,type,deadband,factor\nCount,holding,0,uint16,1,0.1\nStill,holding,1,uint16,,\n"
        line = SimulatedLine(device("Device", 7, rows))
        counting(line, 2)

        async def work(kept: Kept) -> None:
            await kept.for_s(200)
            kept.end()

        self.run_recorded(line, work)
        values = [value for _, kind, quality, value in self.rows("Count") if kind in NEW and quality == "good"]
        self.assertEqual(values, [float(number) for number in range(10)])

    def test_quality_its_changes_and_their_reasons(self) -> None:
        rows = "name,table,address,type,no_value\nA,holding,0,uint16,7\n"
        line = SimulatedLine(device("Device", 7, rows))

        async def work(kept: Kept) -> None:
            await kept.for_s(5)
            line.fault = lambda frame, at, right: [
                (right[-1][0], line.exchanger().framing.encode(7, b"\x03\x02\x00\x07"))
            ]
            await kept.for_s(5)
            line.fault = silent(7)
            await kept.for_s(20)
            line.fault = None
            await kept.for_s(5)
            kept.end()

        self.run_recorded(line, work)
        self.assertEqual([quality for _, _, quality, _ in self.rows("A")],
                         ["good", "bad", "stale", "good", "good"])  # fmt: skip
        history = self.history()
        reasons = [one.reason for one in history.samples(self.series(history, "A"))]
        self.assertIn("means no value", reasons[1])
        self.assertIn("nothing came", reasons[2])

    def test_numbers_that_are_none_and_those_that_no_double_holds(self) -> None:
        rows = "name,table,address,type\nF,holding,0,float32\nU,holding,2,uint64\nT,holding,6,text:4\n"
        line = SimulatedLine(device("Device", 7, rows))
        words = [struct.pack(">f", value) + b"\xff" * 7 + bytes((number,)) + b"ab\0\0"
                 for number, value in enumerate((math.nan, math.inf, -math.inf, 1.5))]  # fmt: skip
        now = [0]

        def fault(frame, at, right):  # type: ignore[no-untyped-def]
            return [(right[-1][0], line.exchanger().framing.encode(7, b"\x03\x10" + words[now[0]]))]

        line.fault = fault

        async def work(kept: Kept) -> None:
            for number in range(len(words)):
                now[0] = number
                await kept.for_s(3)
            kept.end()

        self.run_recorded(line, work)
        qualities = [quality for _, kind, quality, _ in self.rows("F") if kind in NEW]
        self.assertEqual(qualities, ["bad", "bad", "bad", "good"])
        exact = [value for _, kind, _, value in self.rows("U") if kind in NEW]
        self.assertEqual(exact, [2**64 - 256 + number for number in range(4)], "all digits, from its words")
        self.assertEqual([value for _, kind, _, value in self.rows("T") if kind in NEW], ["ab"])

    def test_a_power_of_ten_in_another_register(self) -> None:
        rows = "name,table,address,type,exponent,group\nTotal,holding,0,uint16,Power,g\nPower,holding,1,int16,,g\n"
        line = SimulatedLine(device("Device", 7, rows))
        now = [b"\x00\x05\xff\xfe"]
        line.fault = lambda frame, at, right: [(right[-1][0], line.exchanger().framing.encode(7, b"\x03\x04" + now[0]))]

        async def work(kept: Kept) -> None:
            await kept.for_s(3)
            now[0] = b"\x00\x05\x00\x01"
            await kept.for_s(3)
            kept.end()

        self.run_recorded(line, work)
        values = [value for _, kind, quality, value in self.rows("Total") if kind in NEW and quality == "good"]
        self.assertEqual(values, [0.05, 50.0])

    def test_derived_points_at_the_time_of_what_they_are_made_of(self) -> None:
        line = SimulatedLine(device("Device", 7, COUNTER))
        counting(line, 10)
        derived = (Derived("Twice", "2 * [Device/Count]"), Derived("More", "[Twice] + [Device/Still]"))
        site = Site("Virtual", (line.line,), derived=derived)

        async def work(kept: Kept) -> None:
            await kept.for_s(100)
            kept.end()

        self.run_recorded(line, work, site)
        counts = {value: at for at, kind, _, value in self.rows("Count") if kind in NEW}
        for at, kind, quality, value in self.rows("Twice", ""):
            if kind in NEW and quality == "good":
                self.assertEqual(counts[value / 2], at)  # type: ignore[operator]
        mores = [value for _, kind, quality, value in self.rows("More", "") if kind in NEW and quality == "good"]
        self.assertEqual(mores[:3], [4711.0, 4713.0, 4715.0])

    def test_a_clock_that_is_set_begins_another_span_and_costs_nothing(self) -> None:
        line = SimulatedLine(device("Device", 7, COUNTER))
        counting(line, 5)
        ahead = [0.0]

        async def work(kept: Kept) -> None:
            loop = asyncio.get_running_loop()
            clock = kept.session.clock
            clock._wall, clock._with_sleep = lambda: 10_000 + ahead[0] + loop.time(), loop.time
            clock.anchor(loop.time)
            for jump in (0, 4000, -5000, 0.7):
                ahead[0] += jump
                await kept.for_s(50)
            kept.end()

        self.run_recorded(line, work)
        history = self.history()
        series = self.series(history, "Count")
        kept = {int(str(one.value)) for one in history.samples(series) if one.quality == "good"}
        self.assertEqual(kept, set(range(min(kept), max(kept) + 1)), "no value is missing")
        self.assertGreaterEqual(len(history.spans()), 3)

    def test_what_a_point_means_is_kept_with_its_words(self) -> None:
        line = SimulatedLine(device("Device", 7, COUNTER))
        counting(line, 1000)

        async def work(kept: Kept) -> None:
            await kept.for_s(5)
            scaled = device("Device", 7, COUNTER.replace("Still,holding,1,uint16", "Still,holding,1,int16"))
            kept.session.take_over(Site("Virtual", (replace(line.line, devices=(scaled,)),)))
            await kept.for_s(5)
            kept.end()

        self.run_recorded(line, work)
        history = self.history()
        definitions = [
            one.definition for one in history.samples(self.series(history, "Still")) if one.words is not None
        ]
        prints = {definition.fingerprint for definition in definitions if definition is not None}
        self.assertEqual(len(prints), 2)
        for definition in definitions:
            assert definition is not None
            self.assertEqual(
                definition.value_of(struct.pack(">H", 65535)), 65535 if '"uint16"' in definition.text else -1
            )

    def test_points_that_go_and_points_that_are_renamed(self) -> None:
        line = SimulatedLine(device("Device", 7, COUNTER))
        counting(line, 5)

        async def work(kept: Kept) -> None:
            await kept.for_s(20)
            named = device("Device", 7, COUNTER.replace("Count,", "Sluice count,"))
            edited = Site("Virtual", (replace(line.line, devices=(named,)),))
            renames = renamed(kept.session.site, edited)
            self.assertEqual(renames, [(("Device", "Count"), ("Device", "Sluice count"))])
            kept.sink.rename(renames)
            kept.session.take_over(edited)
            await kept.for_s(20)
            fewer = device("Device", 7, "name,table,address,type\nSluice count,holding,0,uint16\n")
            line.fault = None
            kept.session.take_over(Site("Virtual", (replace(line.line, devices=(fewer,)),)))
            await kept.for_s(5)
            kept.end()

        self.run_recorded(line, work)
        self.assertEqual({series.point for series in self.history().series()}, {"Sluice count", "Still"})
        values = [
            value
            for _, kind, quality, value in self.rows("Sluice count")
            if kind in (BEGIN, CHANGED) and quality == "good"
        ]
        self.assertEqual(values[:8], list(range(values[0], values[0] + 8)), "one series, before and after")  # type: ignore[call-overload, operator]
        self.assertEqual(self.rows("Still")[-1][1], END)

    def test_definitions_come_back_from_their_text(self) -> None:
        rows = (
            "name,table,address,type,order,factor,offset,curve,bit,labels,raw_low,raw_high,eng_low,eng_high,signal,clamp,no_value\n"
            "A,holding,0,int32,CDAB,0.1,-40,,,,,,,,,,0x8000\n"
            "B,holding,2,uint16,,,,0=0;800=12.5;4000=100,,,,,,,,yes,\n"
            "C,holding,3,uint16,,,,,4-7,0=Off;1=On,,,,,,,\n"
            "D,holding,4,uint16,,,,,,,4000,20000,0,16,4-20mA,,\n"
            "E,coil,5,,,,,,,,,,,,,,\nF,holding,6,text:8,,,,,,,,,,,,,\nG,holding,10,uint16[4],,2,,,,,,,,,,,\n"
        )
        for point in device("Device", 7, rows).points:
            again = read_definition(definition_text(point))
            for number in range(200):
                data = struct.pack(">Q", number * 0x0101010101010101 * 7 % 2**64)[: 2 * point.codec.registers] * 1
                if not point.table.is_bits:
                    data = data.ljust(2 * point.codec.registers, b"A")
                    self.assertEqual(again.value_of(data), point.codec.decode(data), point.name)
            self.assertEqual(again.labels, point.labels)
        with self.assertRaises(ValueError):
            read_definition('{"type": "uint16"}')
